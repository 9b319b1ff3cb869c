package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/values"
)

// pickFlags say which records are wanted.
type pickFlags struct {
	filter, until, trigger string
	depth                  int
	values                 []string
}

func (o *pickFlags) add(c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&o.filter, "filter", "", "only records that fit this, as 'pump errors' (gavrix help filters)")
	fl.StringVar(&o.until, "until", "", "stop behind the first record that fits this")
	fl.StringVar(&o.trigger, "trigger", "", "print only what is around the first record that fits this, and stop")
	fl.IntVar(&o.depth, "depth", 20, "with --trigger: how many records before and behind it")
	fl.StringSliceVar(&o.values, "values", nil, "print samples of these values in place of records; all for every one")
}

// pickNames are the flags.
var pickNames = []string{"filter", "until", "trigger", "depth", "values"}

// picker runs the wishes over the records of a capture.
type picker struct {
	o                      *pickFlags
	meta                   *capture.Meta
	meanings               *bench.Meanings // what print asks
	filter, until, trigger *filter.Matcher
	reader                 *values.Reader
	short                  map[*values.Name]string // short names, as long as there are `named` values
	named                  int
	shown                  func(r *record.Record) bool // nil: all are
	wanted                 map[*values.Name]bool       // nil: all
	before                 []record.Record
	after                  int
	fired                  bool
	done                   bool
}

// filterError is a mistake in a filter that was given by a flag.
type filterError struct {
	flag string
	bad  *filter.Error
}

func (e *filterError) Error() string { return e.flag + ": " + e.bad.Error() }

// lines shows the filter, with the place of the mistake below it.
func (e *filterError) lines() []string {
	text, caret := e.bad.Lines()
	return []string{safe.Text(text), caret}
}

// errDone says that nothing more is wanted.
var errDone = errors.New("done")

// picker reads the wishes for a capture whose meaning a bench tells; nil tells nothing.
func (o *pickFlags) picker(cmd *cobra.Command, b *bench.Bench, meanings *bench.Meanings, m *capture.Meta) (*picker, error) {
	p := &picker{o: o, meta: m, meanings: meanings}
	if o.trigger == "" && cmd.Flags().Lookup("depth") != nil {
		if err := idle(cmd, "without --trigger", "depth"); err != nil {
			return nil, err
		}
	}
	if o.depth < 0 || o.depth > 1_000_000 {
		return nil, fmt.Errorf("--depth %d: write 0 to 1000000", o.depth)
	}
	nouns := filter.NounsOf(b, m)
	for _, x := range []struct {
		flag, text string
		to         **filter.Matcher
	}{{"--filter", o.filter, &p.filter}, {"--until", o.until, &p.until}, {"--trigger", o.trigger, &p.trigger}} {
		if x.text == "" {
			if cmd.Flags().Changed(x.flag[2:]) {
				return nil, fmt.Errorf("%s: nothing is asked for", x.flag)
			}
			continue
		}
		f, bad := filter.Parse(x.text, nouns)
		if bad != nil {
			return nil, &filterError{x.flag, bad}
		}
		*x.to = f.Matcher(b, m)
	}
	if len(o.values) > 0 {
		p.reader = values.NewReader(b, m)
		if !slices.Contains(o.values, "all") {
			p.wanted = map[*values.Name]bool{}
			for _, name := range o.values {
				n, err := p.reader.Find(name)
				if err != nil {
					return nil, fmt.Errorf("--values: %w", err)
				}
				p.wanted[n] = true
			}
		}
	}
	return p, nil
}

// take hands a record on to print where it is wanted; errDone: no more are.
func (p *picker) take(r *record.Record, asJSON bool, print func(r *record.Record) error) error {
	if p.done {
		return errDone
	}
	if p.reader != nil {
		samples := p.reader.Take(r)
		print = func(*record.Record) error { return p.samples(samples, asJSON) }
	}
	if p.meanings != nil && int(r.Link) < len(p.meta.Links) {
		p.meanings.Of(p.meta.Links[r.Link].Name, r) // in order, whatever is printed
	}
	shown := p.shown == nil || p.shown(r)
	wanted := (p.filter == nil || p.filter.Take(r)) && (shown || p.reader != nil)
	fires := p.trigger != nil && p.trigger.Take(r) && shown
	stops := p.until != nil && p.until.Take(r) && shown
	switch {
	case p.trigger == nil:
		if wanted {
			if err := print(r); err != nil {
				return err
			}
		}
	case fires && !p.fired:
		p.fired, p.after = true, p.o.depth
		for i := range p.before {
			if err := print(&p.before[i]); err != nil {
				return err
			}
		}
		p.before = nil
		fmt.Fprintf(os.Stderr, "gavrix: %s fits at %s\n", safe.Text(p.o.trigger), r.Start)
		if err := print(r); err != nil {
			return err
		}
		p.done = p.after == 0
	case p.fired:
		if wanted {
			if err := print(r); err != nil {
				return err
			}
			p.after--
			p.done = p.after == 0
		}
	case wanted && p.o.depth > 0:
		if len(p.before) >= p.o.depth {
			p.before = slices.Delete(p.before, 0, 1)
		}
		p.before = append(p.before, r.Clone())
	}
	if stops {
		p.done = true
	}
	if p.done {
		return errDone
	}
	return nil
}

// sampleRow is a sample as JSON has it.
type sampleRow struct {
	At     int64    `json:"at_ps"`
	Name   string   `json:"name"`
	Text   string   `json:"text"`
	Number *float64 `json:"number,omitempty"`
	Unit   string   `json:"unit,omitempty"`
}

// called gives the short name of a value. One that is new may make those of others longer.
func (p *picker) called(n *values.Name) string {
	if all := len(p.reader.All); all != p.named {
		p.short, p.named = map[*values.Name]string{}, all
	}
	name, known := p.short[n]
	if !known {
		name = p.reader.Short(n)
		p.short[n] = name
	}
	return name
}

func (p *picker) samples(list []values.Sample, asJSON bool) error {
	for _, s := range list {
		if p.wanted != nil && !p.wanted[s.Name] {
			continue
		}
		name := p.called(s.Name)
		if !asJSON {
			if _, err := fmt.Fprintf(stdout, "%14.6f s  %-34s %s\n", s.At.Seconds(), name, safe.Text(s.Text)); err != nil {
				return err
			}
			continue
		}
		row := sampleRow{At: int64(s.At), Name: name, Text: s.Text, Unit: s.UnitText()}
		if s.Numeric {
			row.Number = &s.Number
		}
		b, err := json.Marshal(row)
		if err != nil {
			return err
		}
		if _, err := stdout.Write(append(b, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// ended says what became of the wishes when the traffic is over.
func (p *picker) ended(now quantity.Time) error {
	if p.trigger != nil && !p.fired {
		fmt.Fprintf(os.Stderr, "gavrix: %s fitted nothing up to %s\n", safe.Text(p.o.trigger), now)
		return exitStatus(found)
	}
	if p.filter != nil && p.filter.Matches == 0 {
		fmt.Fprintf(os.Stderr, "gavrix: %s fits none of %s\n", safe.Text(p.o.filter), quantity.Count(p.filter.Seen, "record"))
		for i, c := range p.filter.Clauses() {
			fmt.Fprintf(os.Stderr, "   %-40s %d\n", safe.Text(c.Text), p.filter.Hits[i])
		}
	}
	return nil
}

// filtersHelp is a page of the help about filters.
func filtersHelp() *cobra.Command {
	return &cobra.Command{
		Use:   "filters",
		Short: "The language of filters",
		Long: `Filters are made of clauses, in the nouns of the bench; names with blanks are written
with dashes. Of a capture that carries no bench only links are known by name.

  ` + strings.Join(filter.Help(), "\n  ") + `

Examples: lower-gauge answers later than 5 ms
          leaf-tilt.tilt changes, then pump errors within 20 ms
          identifier 1A0 to 1AF and not from pump-drive`,
	}
}
