package main

import (
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransferSize() *cobra.Command {
	s := stringsOf{}
	var bits float64
	var count, level int
	var spare, asJSON bool
	c := &cobra.Command{
		Use:   "size ring|drain|burst|queue",
		Short: "Calculate the smallest safe buffer for a consumer that is late",
		Long: `The smallest buffer that loses nothing, in words:

  ring   DMA fills a ring; each half is done at most --late after its event
  drain  emptied every --period, at most --late late
  burst  a burst of --count words; the first is taken --late after it is complete,
         then one every --work
  queue  read within --late after --level words wait`,
		Example: `  gavrix calc transfer size ring --rate 115200 --word-bits 10 --late 2.1ms
  gavrix calc transfer size drain --rate 921600 --word-bits 10 --period 500us --late 25us --spare`,
		Args:      cobra.ExactArgs(1),
		ValidArgs: []string{"ring", "drain", "burst", "queue"},
		RunE: func(cmd *cobra.Command, args []string) error {
			used := map[string][]string{"ring": {"late"}, "drain": {"late", "period", "spare"}, "burst": {"late", "work", "count", "spare"}, "queue": {"late", "level"}}
			own, known := used[args[0]]
			if !known {
				return fmt.Errorf("%q is none of ring, drain, burst, queue", args[0])
			}
			if err := active(cmd, "with "+args[0], append(own, "rate", "word-bits", "sizes", "json")...); err != nil {
				return err
			}
			t, err := wordTime(s, bits)
			if err != nil {
				return err
			}
			sizes, err := word[transfer.Sizes]("sizes", s.get("sizes"), transfer.SizeWords)
			if err != nil {
				return err
			}
			times := map[string]float64{}
			for _, name := range []string{"late", "period", "work"} {
				v, err := span(name, s.get(name))
				if err != nil {
					return err
				}
				times[name] = v.Seconds()
			}
			if args[0] == "drain" && times["period"] <= 0 {
				return fmt.Errorf("drain needs --period")
			}
			if most := (times["late"] + times["period"]) / t; most > 1e9 {
				return fmt.Errorf("more than 1e9 words come in that time")
			}
			z, err := sizeFor(args[0], t, times, count, level, spare, sizes)
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(explained{map[string]int{"words": z.Least}, []finding.Derivation{z.Why}})
			}
			fmt.Fprintf(stdout, "%d words\n", z.Least)
			printDerivations([]finding.Derivation{z.Why})
			return nil
		},
	}
	fl := c.Flags()
	s.add(c, "rate", "", "bit rate")
	fl.Float64Var(&bits, "word-bits", 10, "bits of a word on the line")
	s.add(c, "late", "", "how late the consumer is at most")
	s.add(c, "period", "", "drain: period of the consumer")
	s.add(c, "work", "", "burst: time that the consumer takes for each word")
	s.add(c, "sizes", "any", "which sizes are allowed: any, even, power-of-two")
	fl.IntVar(&count, "count", 0, "burst: words")
	fl.IntVar(&level, "level", 1, "queue: words that raise the flag")
	fl.BoolVar(&spare, "spare", false, "one place can't be used, because full would look like empty")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	return c
}

// sizeFor is the smallest buffer of a kind, for words of t seconds and times in seconds.
func sizeFor(kind string, t float64, times map[string]float64, count, level int, spare bool, sizes transfer.Sizes) (transfer.Size, error) {
	switch kind {
	case "ring":
		return transfer.RingSize(t, times["late"], sizes), nil
	case "drain":
		return transfer.DrainSize(t, times["period"], times["late"], spare, sizes), nil
	case "burst":
		if count < 1 || count > 10_000_000 {
			return transfer.Size{}, fmt.Errorf("--count %d: a burst has 1 to 10 million words", count)
		}
		return transfer.BurstSize(t, count, times["late"], times["work"], spare, sizes), nil
	}
	if err := positive("level", level, 1); err != nil {
		return transfer.Size{}, err
	}
	return transfer.DepthFor(t, level, times["late"], sizes), nil
}

// wordTime is the time of a word, in seconds.
func wordTime(s stringsOf, bits float64) (float64, error) {
	r, err := s.rate()
	if err != nil {
		return 0, err
	}
	if !(bits > 0) || bits > 1e4 {
		return 0, fmt.Errorf("--word-bits %g: write a number of bits from 1 to 10000", bits)
	}
	return bits / r.Bd(), nil
}

func calcTransferRate() *cobra.Command {
	s := stringsOf{}
	var bits float64
	var depth, level, ring, beat int
	var all, asJSON bool
	c := &cobra.Command{
		Use:   "rate interrupt|look|dma",
		Short: "Calculate the greatest rate that a method carries, and what limits it",
		Long: `Gives the greatest bit rate at which nothing is lost, which of the bounds sets it,
and the greatest of --rates that fits:

  interrupt  --core, --cycles, --depth, --level, --blocked (rare: the reader has
             caught up before the next one)
  look       --every, --depth; --all: a look reads all that wait
  dma        --ring, --busy (processor time for each half), --done (from the event
             until the half is done), --beat-cycles of the --engine's bus`,
		Example: `  gavrix calc transfer rate interrupt --core 16MHz --cycles entry=16,read=15,exit=254 --depth 1 --blocked 3us --word-bits 11
  gavrix calc transfer rate dma --ring 128 --busy 450us --done 1.1ms --engine 48MHz --beat-cycles 12`,
		Args:      cobra.ExactArgs(1),
		ValidArgs: []string{"interrupt", "look", "dma"},
		RunE: func(cmd *cobra.Command, args []string) error {
			used := map[string][]string{"interrupt": {"core", "cycles", "depth", "level", "blocked"}, "look": {"every", "depth", "all"}, "dma": {"ring", "busy", "done", "engine", "beat-cycles"}}
			own, known := used[args[0]]
			if !known {
				return fmt.Errorf("%q is none of interrupt, look, dma", args[0])
			}
			if err := active(cmd, "with "+args[0], append(own, "word-bits", "rates", "json")...); err != nil {
				return err
			}
			if !(bits > 0) {
				return fmt.Errorf("--word-bits %g: write a number of bits", bits)
			}
			l, err := limitFor(s, args[0], bits, depth, level, ring, beat, all)
			if err != nil {
				return err
			}
			return printLimit(l, bits, listed(s.get("rates")), asJSON)
		},
	}
	fl := c.Flags()
	fl.Float64Var(&bits, "word-bits", 10, "bits of a word on the line")
	s.add(c, "core", "", "interrupt: clock of the core")
	s.add(c, "cycles", "", cyclesHelp)
	s.add(c, "blocked", "", "longest time that interrupts are held off")
	s.add(c, "every", "", "look: period of the main loop")
	fl.BoolVar(&all, "all", false, "look: reads all that wait")
	fl.IntVar(&depth, "depth", 1, "words that the unit holds")
	fl.IntVar(&level, "level", 1, "interrupt: words that raise it")
	fl.IntVar(&ring, "ring", 0, "dma: words of the ring")
	s.add(c, "busy", "", "dma: processor time for each half")
	s.add(c, "done", "", "dma: time from the event until the half is done")
	s.add(c, "engine", "", "dma: clock of the engine's bus")
	fl.IntVar(&beat, "beat-cycles", 0, "dma: cycles of that bus for each word")
	s.add(c, "rates", "", "rates to choose from, separated by spaces or commas")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// printLimit prints a limit, and the greatest of some rates that it carries.
func printLimit(l transfer.Limit, bits float64, rates []string, asJSON bool) error {
	best := 0.0
	for _, w := range rates {
		r, err := quantity.ParseRate(w)
		if err != nil {
			return fmt.Errorf("--rates: %w", err)
		}
		if l.Carries(bits, r.Bd()) {
			best = math.Max(best, r.Bd())
		}
	}
	if asJSON {
		out := map[string]any{"bit_rate": l.Rate, "word_us": l.Word * 1e6, "limited_by": l.By}
		if len(rates) > 0 {
			out["listed"] = best
		}
		return printJSON(explained{out, l.Why})
	}
	fmt.Fprintf(stdout, "%s, limited by %s: a word takes at least %s\n", quantity.FromBd(l.Rate).Round(6), l.By, quantity.Time(l.Word*1e12).Round(6))
	switch {
	case best > 0:
		fmt.Fprintf(stdout, "greatest of the rates that fits: %s\n", quantity.FromBd(best).Round(7))
	case len(rates) > 0:
		fmt.Fprintln(stdout, "none of the rates fits")
	}
	printDerivations(l.Why)
	return nil
}

func limitFor(s stringsOf, method string, bits float64, depth, level, ring, beat int, all bool) (transfer.Limit, error) {
	m := transfer.Method{Way: transfer.AtLevel, Depth: depth, Level: level}
	if depth < 1 || level < 1 || level > depth {
		return transfer.Limit{}, fmt.Errorf("--depth %d, --level %d: the unit holds at least 1 word, and the level is from 1 to the depth", depth, level)
	}
	var err error
	switch method {
	case "interrupt":
		if m.Core, err = s.core(); err != nil {
			return transfer.Limit{}, err
		}
		if m.Cycles, err = cyclesOf(s.get("cycles"), m.Core); err != nil {
			return transfer.Limit{}, err
		}
		if m.Blocked, err = span("blocked", s.get("blocked")); err != nil {
			return transfer.Limit{}, err
		}
		l := transfer.LimitOf(bits, m, false)
		if l.Word == 0 {
			return l, fmt.Errorf("no cost is given: --cycles says what a handler takes")
		}
		return l, nil
	case "look":
		m.Way = transfer.Look
		if m.Period, err = span("every", s.get("every")); err != nil {
			return transfer.Limit{}, err
		}
		if m.Period <= 0 {
			return transfer.Limit{}, fmt.Errorf("look needs --every")
		}
		return transfer.LimitOf(bits, m, all), nil
	}
	busy, err := span("busy", s.get("busy"))
	if err != nil {
		return transfer.Limit{}, err
	}
	done, err := span("done", s.get("done"))
	if err != nil {
		return transfer.Limit{}, err
	}
	if err := positive("beat-cycles", beat, 0); err != nil {
		return transfer.Limit{}, err
	}
	beatTime := 0.0
	if beat > 0 {
		hz, err := quantity.ParseClock(s.get("engine"))
		if err != nil {
			return transfer.Limit{}, fmt.Errorf("--engine: %w", err)
		}
		beatTime = float64(beat) / hz.Hz()
	}
	if ring < 2 {
		return transfer.Limit{}, fmt.Errorf("dma needs --ring, at least 2 words")
	}
	l := transfer.RingLimit(bits, ring, busy.Seconds(), done.Seconds(), beatTime)
	if l.Word == 0 {
		return l, fmt.Errorf("no time is given: --busy, --done or --beat-cycles")
	}
	return l, nil
}
