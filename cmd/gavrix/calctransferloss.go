package main

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

func calcTransferLoss() *cobra.Command {
	s := stringsOf{}
	f := lineFlags{s: s}
	var depth, level int
	var all, asJSON bool
	c := &cobra.Command{
		Use:   "loss interrupt|look",
		Short: "Run a reader against bursts on a line and name each lost word",
		Long: `Lets words come in bursts, each as 0*48 (time of the first bit, words), into
a unit that holds --depth of them, and reads them by an interrupt or by looks of the
main loop at --phase + k × --every. --all: one run of the handler, or one look, reads
all that wait. Exit status 1 if words are lost.`,
		Example: `  gavrix calc transfer loss look --rate 57600 --bursts 0*40 --every 400us --depth 1
  gavrix calc transfer loss interrupt --rate 115200 --bursts 0*20 --core 16MHz --cycles entry=12,read=10,next=20,exit=12 --all --depth 8 --level 4 --blocked 100us-900us`,
		Args:      cobra.ExactArgs(1),
		ValidArgs: []string{"interrupt", "look"},
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := lossReader(cmd, args[0], s, transfer.Reader{Way: transfer.AtLevel, Depth: depth, Level: level, All: all})
			if err != nil {
				return err
			}
			l, _, err := f.line(cmd)
			if err != nil {
				return err
			}
			bursts, err := burstsOf("bursts", s.get("bursts"))
			if err != nil {
				return err
			}
			var ends []quantity.Time
			for _, b := range bursts {
				for k := range b.Bytes {
					ends = append(ends, b.Start+quantity.Time(float64(k+1)*l.Word()*1e12+0.5))
				}
			}
			return printLoss(transfer.LossOf(ends, r, 0), r, len(ends), asJSON)
		},
	}
	fl := c.Flags()
	f.add(c)
	s.add(c, "bursts", "", "bytes on the line, as 0*48 12ms*20")
	s.add(c, "core", "", "clock of the core")
	s.add(c, "cycles", "", cyclesHelp)
	s.add(c, "every", "", "look: period of the looks")
	s.add(c, "phase", "", "look: time of the first")
	s.add(c, "blocked", "", "interrupt: times in which none comes, as 10us-20us")
	s.add(c, "on-full", "keep-oldest", "what is lost when the unit is full: keep-oldest, keep-newest, replace-last")
	fl.IntVar(&depth, "depth", 1, "bytes that the unit holds beside the one that comes in")
	fl.IntVar(&level, "level", 1, "interrupt: bytes that raise it")
	fl.BoolVar(&all, "all", false, "one run or look reads all that wait")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("rate")
	_ = c.MarkFlagRequired("bursts")
	return c
}

// lossReader is what reads the words, by the flags.
func lossReader(cmd *cobra.Command, kind string, s stringsOf, r transfer.Reader) (transfer.Reader, error) {
	var err error
	switch kind {
	case "interrupt":
		err = idle(cmd, "with interrupt", "every", "phase")
	case "look":
		r.Way = transfer.Look
		err = idle(cmd, "with look", "level", "blocked")
	default:
		err = fmt.Errorf("%q is none of interrupt, look", kind)
	}
	if err != nil {
		return r, err
	}
	if r.Depth < 1 || r.Level < 1 || r.Level > r.Depth || r.Depth > 1<<16 {
		return r, fmt.Errorf("--depth %d, --level %d: the unit holds 1 to 65536 words, and the level is from 1 to the depth", r.Depth, r.Level)
	}
	if r.OnFull, err = s.policy(); err != nil {
		return r, err
	}
	if kind == "look" && s.get("cycles") == "" {
		if err := idle(cmd, "without --cycles", "core"); err != nil {
			return r, err
		}
	}
	r.Core = quantity.FromHz(1e9)
	if kind == "interrupt" || s.get("core") != "" {
		if r.Core, err = s.core(); err != nil {
			return r, err
		}
	}
	if r.Cycles, err = cyclesOf(s.get("cycles"), r.Core); err != nil {
		return r, err
	}
	if r.Period, err = span("every", s.get("every")); err != nil {
		return r, err
	}
	if r.Phase, err = span("phase", s.get("phase")); err != nil {
		return r, err
	}
	if r.Way == transfer.Look && r.Period <= 0 {
		return r, fmt.Errorf("look needs --every")
	}
	if r.Blocked, err = windows("blocked", s.get("blocked")); err != nil {
		return r, err
	}
	return r, nil
}

func printLoss(l transfer.Loss, r transfer.Reader, total int, asJSON bool) error {
	if asJSON {
		lost := l.Lost
		if lost == nil {
			lost = []int{}
		}
		if err := printJSON(struct {
			Busy      float64 `json:"processor_us"`
			Lost      []int   `json:"lost_indices"`
			Delivered int     `json:"delivered"`
			Left      int     `json:"left_in_register"`
			High      int     `json:"most_waiting"`
			Runs      int     `json:"runs"`
		}{microseconds(l.Busy), lost, l.Delivered, l.Left, l.High, l.Count}); err != nil {
			return err
		}
	} else {
		once := "one word"
		if r.All {
			once = "all that wait"
		}
		fmt.Fprintf(stdout, "each run reads %s; the processor was busy for %s\n", once, l.Busy.Round(4))
		fmt.Fprintf(stdout, "%d words came, %d were read in %d runs, %d lost; at most %d waited\n", total, l.Delivered, l.Count, len(l.Lost), l.High)
		if len(l.Lost) > 0 {
			var names []string
			for _, n := range l.Lost[:min(len(l.Lost), 20)] {
				names = append(names, strconv.Itoa(n))
			}
			more := ""
			if len(l.Lost) > 20 {
				more = " …"
			}
			fmt.Fprintf(stdout, "lost, counted from 0: %s%s\n", strings.Join(names, ", "), more)
		}
		if l.Left > 0 {
			fmt.Fprintf(stdout, "%d wait in the unit: too few to raise the interrupt\n", l.Left)
		}
	}
	if len(l.Lost) > 0 {
		return exitStatus(found)
	}
	return nil
}
