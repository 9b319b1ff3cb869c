package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/textlog"
)

// planForms says how transactions are planned on each bus.
func planForms() string {
	var out strings.Builder
	for _, k := range all.Kinds {
		fmt.Fprintf(&out, "  %-6s %s\n", k.Name, k.PlanHelp)
	}
	return out.String()
}

// held is a plan with what was held against it.
type held struct {
	*intent.Plan
	link         string
	agree, parts int
}

// comparing is a sink that holds records against plans.
type comparing struct {
	meta   *capture.Meta
	levels *capture.Snapshot
	links  []decode.Link
	plans  [][]*held // by link
	json   bool
	err    error
}

// Open implements record.Sink.
func (c *comparing) Open(*record.Record) {}

// Put implements record.Sink.
func (c *comparing) Put(r *record.Record) {
	if r.Seen != record.Tap || c.err != nil {
		return
	}
	for _, p := range c.plans[r.Link] {
		_, ds, meant := p.Against(c.levels, r, c.links[r.Link].Settings)
		switch {
		case !meant:
		case len(ds) == 0:
			p.agree++
		default:
			p.parts++
			c.print(p, r, ds)
		}
	}
}

// differenceJSON is the form of a difference, one object a line.
type differenceJSON struct {
	Link   string        `json:"link"`
	Plan   string        `json:"plan"`
	Record quantity.Time `json:"record_start_ps"`
	At     quantity.Time `json:"at_ps"`
	Line   string        `json:"line"`
	Bit    int           `json:"bit"`
	Name   string        `json:"name,omitempty"`
	Field  string        `json:"field,omitempty"`
	Text   string        `json:"text"`
}

func (c *comparing) print(p *held, r *record.Record, ds []intent.Difference) {
	if !c.json {
		fmt.Fprint(stdout, textlog.Line(c.meta, nil, r))
	}
	for i := range ds {
		d := &ds[i]
		line := p.Kind.Lines[d.Line].Name
		if c.json {
			var b []byte
			b, c.err = json.Marshal(differenceJSON{p.link, p.Text, r.Start, d.From, line, d.Index + 1, d.Want.Name, d.Want.Field, d.String()})
			fmt.Fprintln(stdout, string(safe.JSON(b)))
			continue
		}
		fmt.Fprintf(stdout, "    %s  %s: %s\n", picture.TimeLabel(d.From, quantity.Nanosecond), line, safe.Text(d.String()))
	}
}

// compare holds the records of a file against plans.
func (o *decodeOptions) compare(ctx context.Context, src decode.Source, links []decode.Link, opts decode.Options, path string) error {
	if o.asCSV {
		return errors.New("--csv has no form for differences; leave it out, or take --json")
	}
	meta := decode.Meta(links)
	store := capture.NewStore(meta)
	c := &comparing{meta: &meta, levels: store.Snapshot(), links: links, plans: make([][]*held, len(links)), json: o.asJSON}
	for _, text := range o.plans {
		name, plan, ok := strings.Cut(text, ":")
		if !ok {
			return fmt.Errorf("--plan %q: write the link, a colon and the transaction", text)
		}
		at := -1
		for i := range links {
			if links[i].Name == strings.TrimSpace(name) {
				at = i
			}
		}
		if at < 0 {
			return fmt.Errorf("--plan: there is no link %q", strings.TrimSpace(name))
		}
		p, err := intent.New(links[at].Kind, links[at].Settings, strings.TrimSpace(plan), quantity.Microsecond)
		if err != nil {
			return fmt.Errorf("--plan: %w", err)
		}
		c.plans[at] = append(c.plans[at], &held{Plan: p, link: links[at].Name})
	}
	opts.Levels = decode.Keep(store)
	if err := decode.Run(ctx, src, links, opts, c); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if opts.Progress != nil {
		fmt.Fprint(os.Stderr, "\r\x1b[K")
	}
	return errors.Join(c.err, c.verdict())
}

// verdict says what became of each plan.
func (c *comparing) verdict() error {
	bad := false
	for _, ps := range c.plans {
		for _, p := range ps {
			bad = bad || p.parts > 0 || p.agree == 0
			if !c.json {
				fmt.Fprintf(stdout, "%s: %d as planned, %d not\n", p.link, p.agree, p.parts)
			}
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

func drawPlan() *cobra.Command {
	o := &frameOptions{}
	var settings, bit string
	c := &cobra.Command{
		Use:   "plan BUS TRANSACTION",
		Short: "Draw the levels of a transaction before anything is sent",
		Long:  "Draws what a transaction will be on the wire. What is written as .. stays open.\n\n" + planForms(),
		Example: `  gavrix draw plan i2c 'start 3A ack 07 ack restart 3B ack .. nack stop' --bit 2.5us
  gavrix draw plan uart 'mcu "SNAP\r"' --settings 'rate=28.8k frame=7E1' --out ask.svg`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			k := all.ByName(args[0])
			if k == nil {
				return fmt.Errorf("there is no bus %q; known are %s", args[0], strings.Join(all.Names(), ", "))
			}
			s, err := settingsOf(k, settings)
			if err != nil {
				return fmt.Errorf("--settings: %w", err)
			}
			unit, err := quantity.ParseTime(bit)
			if err != nil || unit < 8 || unit > 1000*quantity.Second {
				return fmt.Errorf("--bit %s: write the time of a bit, as 2.5 us", bit)
			}
			p, err := intent.New(k, []bus.Settings{s}, args[1], unit)
			if err != nil {
				return err
			}
			if err := columns(o.columnsWide); err != nil {
				return err
			}
			across := o.columnsWide - 19
			if o.out != "" {
				across = 8 * o.columnsWide
			}
			return o.write(picture.Plan(p, across))
		},
	}
	fl := c.Flags()
	fl.StringVar(&settings, "settings", "", "frame settings, as after decode --link: rate=28.8k frame=7E1")
	fl.StringVar(&bit, "bit", "1 us", "bit time of a bus that a clock drives")
	fl.StringVar(&o.out, "out", "", "file to write, .svg or .pdf; without it the picture is printed as text")
	fl.IntVar(&o.columnsWide, "columns", 140, "width of the text picture")
	return c
}
