package main

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

// lineKind says what a word of one kind of bus is on the line.
type lineKind struct {
	name string
	own  []string // its flags
	add  func(*lineFlags, *cobra.Command)
	// read gives the bits of a word on the line, its bytes, and whether the line waits for
	// a late reader.
	read func(*lineFlags) (bits float64, bytes int, held bool, err error)
}

var lineKinds = []lineKind{uartLine, spiLine, i2cLine, canLine}

// lineFlags are the flags of all of them, and how many words come.
type lineFlags struct {
	s                 stringsOf
	bits, gap, bytes  int
	extended, stuffed bool
	perSecond, bursts float64
	burst             int
}

func (f *lineFlags) add(c *cobra.Command) {
	var names []string
	for _, k := range lineKinds {
		names = append(names, k.name)
		k.add(f, c)
	}
	f.s.add(c, "bus", names[0], strings.Join(names, ", "))
	f.s.add(c, "rate", "", "bit rate")
}

// line reads the words of a line: their bits, bytes and rate.
func (f *lineFlags) line(cmd *cobra.Command) (l transfer.Line, held bool, err error) {
	i := slices.IndexFunc(lineKinds, func(k lineKind) bool { return k.name == f.s.get("bus") })
	if i < 0 {
		return l, false, fmt.Errorf("--bus: %q is none that words are known of; gavrix calc transfer cost --help lists them", f.s.get("bus"))
	}
	for k, other := range lineKinds {
		if k != i {
			if err := idle(cmd, "with --bus "+lineKinds[i].name, other.own...); err != nil {
				return l, false, err
			}
		}
	}
	if l.Rate, err = f.s.rate(); err != nil {
		return l, false, err
	}
	l.WordBits, l.Bytes, held, err = lineKinds[i].read(f)
	return l, held, err
}

// costRow is one method's line of the table.
type costRow struct {
	Method     string   `json:"method"`
	Interrupts float64  `json:"interrupts_per_s"`
	Share      float64  `json:"processor_percent"`
	Deadline   *float64 `json:"deadline_us"`
	Response   *float64 `json:"response_us"`
	Keeps      bool     `json:"keeps_up"`
}

func micros(v float64) *float64 {
	if math.IsNaN(v) {
		return nil
	}
	v *= 1e6
	return &v
}

func calcTransferCost() *cobra.Command {
	f := lineFlags{s: stringsOf{}}
	var depth, level, ring int
	var timeout, quiet, explain, asJSON bool
	c := &cobra.Command{
		Use:   "cost",
		Short: "Compare what polling, interrupts and DMA cost at a rate, and whether they keep up",
		Long: `Gives the processor's share, the interrupts a second, and the time within which a
word must be read against the time that it takes at worst. The traffic is words evenly
spaced (--bytes-per-s; without it the line is full) or bursts. --method all compares
all that the given costs suffice for. Exit status 1 if a method does not keep up.

Methods: spin (the processor does nothing else), wait (it waits from the first bit of
a burst to the last), look (the main loop looks every --every), each-word (an
interrupt for each), at-level (one for each --level words), dma (a ring of --ring words
with interrupts at half and full).`,
		Example: `  gavrix calc transfer cost --rate 57600 --core 80MHz --method all --cycles handler=25us,read=1us,look=20,entry=12,exit=10 --every 400us --depth 1 --ring 64
  gavrix calc transfer cost --bus spi --word 16 --rate 2M --core 64MHz --method dma --ring 128 --cycles entry=12,handler=300,exit=10`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, held, err := f.line(cmd)
			if err != nil {
				return err
			}
			if err := lineTraffic(cmd, &f, &l); err != nil {
				return err
			}
			m := transfer.Method{Depth: depth, Level: level, Timeout: timeout, Ring: ring, Idle: quiet}
			if m.Core, err = f.s.core(); err != nil {
				return err
			}
			if m.Cycles, err = cyclesOf(f.s.get("cycles"), m.Core); err != nil {
				return err
			}
			if m.Period, err = span("every", f.s.get("every")); err != nil {
				return err
			}
			if m.Blocked, err = span("blocked", f.s.get("blocked")); err != nil {
				return err
			}
			ways, err := costWays(cmd, f.s.get("method"), m)
			if err != nil {
				return err
			}
			if err := costIdle(cmd, f.s.get("method"), l.Burst > 0); err != nil {
				return err
			}
			return printCosts(l, m, ways, held, explain, asJSON)
		},
	}
	f.add(c)
	fl := c.Flags()
	f.s.add(c, "core", "", "clock of the core")
	f.s.add(c, "method", "all", "spin, wait, look, each-word, at-level, dma or all")
	f.s.add(c, "cycles", "", cyclesHelp)
	f.s.add(c, "every", "", "look: period of the looks")
	f.s.add(c, "blocked", "", "longest time that interrupts are held off")
	fl.IntVar(&depth, "depth", 1, "words that the unit holds beside the one that comes in")
	fl.IntVar(&level, "level", 1, "at-level: words that raise the interrupt")
	fl.BoolVar(&timeout, "rest-interrupt", false, "at-level: one more for what a burst leaves below the level")
	fl.IntVar(&ring, "ring", 0, "dma: words of the ring")
	fl.BoolVar(&quiet, "idle-interrupt", false, "dma: one more when the line goes quiet")
	fl.Float64Var(&f.perSecond, "bytes-per-s", 0, "bytes a second, evenly spaced")
	fl.IntVar(&f.burst, "burst", 0, "words of a burst")
	fl.Float64Var(&f.bursts, "bursts-per-s", 0, "bursts a second")
	fl.BoolVar(&explain, "explain", false, "show the calculations")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	_ = c.MarkFlagRequired("core")
	return c
}

// lineTraffic reads how many words come.
func lineTraffic(cmd *cobra.Command, f *lineFlags, l *transfer.Line) error {
	switch {
	case f.burst < 0 || f.bursts < 0 || f.perSecond < 0:
		return fmt.Errorf("--burst, --bursts-per-s and --bytes-per-s can't be less than 0")
	case (f.burst > 0) != (f.bursts > 0):
		return fmt.Errorf("bursts need both --burst and --bursts-per-s")
	case f.burst > 0:
		if err := idle(cmd, "with --burst", "bytes-per-s"); err != nil {
			return err
		}
		l.Burst, l.Bursts = f.burst, f.bursts
	case f.perSecond > 0:
		l.PerSecond = f.perSecond / float64(max(l.Bytes, 1))
	default:
		l.PerSecond = 1 / l.Word()
	}
	if load := l.Words() * l.Word(); load > 1.0000001 {
		return fmt.Errorf("the line carries at most %.6g words a second, not %.6g", 1/l.Word(), l.Words())
	}
	return nil
}

// costUses are the flags that have an effect on each method.
var costUses = map[transfer.Way][]string{
	transfer.Spin: {}, transfer.Wait: {"cycles"}, transfer.Look: {"cycles", "every", "depth"}, transfer.EachWord: {"cycles", "depth", "blocked"},
	transfer.AtLevel: {"cycles", "depth", "level", "blocked", "rest-interrupt"}, transfer.HalfFull: {"cycles", "ring", "blocked", "idle-interrupt"},
}

// costIdle refuses flags that have no effect on a method, or on words without pauses.
func costIdle(cmd *cobra.Command, method string, bursts bool) error {
	if !bursts {
		if err := idle(cmd, "without --burst: words that never pause leave no rest and are never quiet", "rest-interrupt", "idle-interrupt"); err != nil {
			return err
		}
	}
	for w, own := range costUses {
		if w.String() != method {
			continue
		}
		for _, f := range []string{"cycles", "every", "depth", "level", "blocked", "rest-interrupt", "ring", "idle-interrupt"} {
			if !slices.Contains(own, f) {
				if err := idle(cmd, "with --method "+method, f); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// costWays chooses the methods; all leaves out those that a number is missing for.
func costWays(cmd *cobra.Command, text string, m transfer.Method) ([]transfer.Way, error) {
	need := func(w transfer.Way) string {
		switch {
		case w == transfer.Look && m.Period <= 0:
			return "every"
		case w == transfer.HalfFull && m.Ring < 2:
			return "ring"
		case w == transfer.AtLevel && !cmd.Flags().Changed("level"):
			return "level"
		}
		return ""
	}
	if m.Ring < 0 || m.Ring > 1<<24 {
		return nil, fmt.Errorf("--ring %d: write 2 to %d words", m.Ring, 1<<24)
	}
	if m.Depth < 1 || m.Level < 1 || m.Level > m.Depth && cmd.Flags().Changed("level") {
		return nil, fmt.Errorf("--depth %d, --level %d: the unit holds at least 1 word, and the level is from 1 to the depth", m.Depth, m.Level)
	}
	if text != "all" {
		w, err := word[transfer.Way]("method", text, transfer.Ways)
		if err != nil {
			return nil, err
		}
		if n := need(w); n != "" {
			return nil, fmt.Errorf("--method %s needs --%s", text, n)
		}
		return []transfer.Way{w}, nil
	}
	var out []transfer.Way
	for i := range transfer.Ways {
		if w := transfer.Way(i); need(w) == "" {
			out = append(out, w)
		}
	}
	return out, nil
}

func printCosts(l transfer.Line, m transfer.Method, ways []transfer.Way, held, explain, asJSON bool) error {
	var rows []costRow
	var why []finding.Derivation
	var first transfer.Cost
	keeps := true
	for _, w := range ways {
		m.Way = w
		c := transfer.CostOf(l, m, held)
		first = c
		rows = append(rows, costRow{w.String(), c.Interrupts, 100 * c.Share, micros(c.Deadline), micros(c.Response), c.Keeps()})
		for _, d := range c.Why {
			d.Name = w.String() + ": " + d.Name
			why = append(why, d)
		}
		keeps = keeps && c.Keeps()
	}
	if asJSON {
		out := struct {
			WordBits float64   `json:"word_bits"`
			Word     float64   `json:"word_us"`
			Most     float64   `json:"line_bytes_per_s"`
			Load     float64   `json:"line_percent"`
			Methods  []costRow `json:"methods"`
		}{l.WordBits, first.WordTime * 1e6, first.LineBytes, 100 * first.Load, rows}
		var ds []finding.Derivation
		if explain {
			ds = why
		}
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout, "a word of %g bits takes %s; the line carries %.0f bytes/s and is %.1f %% full\n", l.WordBits, quantity.Time(first.WordTime*1e12).Round(5), first.LineBytes, 100*first.Load)
		fmt.Fprintln(stdout, "   method      interrupts/s   processor   must be read within   is read within")
		for _, r := range rows {
			deadline, response, mark := "no limit", "", ""
			if r.Deadline != nil {
				deadline, response = fmt.Sprintf("%.1f µs", *r.Deadline), fmt.Sprintf("%.1f µs", *r.Response)
			}
			switch {
			case r.Share > 100:
				mark = "   more than the processor has"
			case !r.Keeps:
				mark = "   loses words"
			}
			fmt.Fprintf(stdout, "   %-10s  %12.1f   %7.2f %%   %19s   %14s%s\n", r.Method, r.Interrupts, r.Share, deadline, response, mark)
		}
		if explain {
			printDerivations(why)
		}
	}
	if !keeps || slices.ContainsFunc(rows, func(r costRow) bool { return r.Share > 100 }) {
		return exitStatus(found)
	}
	return nil
}
