package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// phaseOptions describe one phase of a can bit.
type phaseOptions struct {
	rate, sample string
	jump         int
	limits       can.Segments
}

// solve gives the best timings of the phase.
func (o *phaseOptions) solve(f quantity.Freq, flag string) ([]can.BitTiming, error) {
	rate, err := quantity.ParseRate(o.rate)
	if err != nil {
		return nil, fmt.Errorf("--%srate: %w", flag, err)
	}
	sample, err := quantity.ParsePercent(o.sample)
	if err != nil {
		return nil, fmt.Errorf("--%ssample: %w", flag, err)
	}
	limits := o.limits
	if o.jump > 0 { // what is asked for outright is bound by the segments alone
		limits.Jump = max(min(limits.Seg1, limits.Seg2), 1)
	}
	ts, err := can.SolveTiming(f, rate, sample, limits, o.jump, 6)
	if err != nil {
		return nil, fmt.Errorf("--%srate %s: %w", flag, o.rate, err)
	}
	return ts, nil
}

type timingJSON struct {
	Prescaler int     `json:"prescaler"`
	Seg1      int     `json:"seg1"`
	Seg2      int     `json:"seg2"`
	Jump      int     `json:"jump"`
	Quanta    int     `json:"quanta"`
	Rate      float64 `json:"rate_bit_s"`
	Error     float64 `json:"error_percent"`
	Sample    float64 `json:"sample_percent"`
}

func timingsJSON(ts []can.BitTiming) []timingJSON {
	var out []timingJSON
	for _, t := range ts {
		out = append(out, timingJSON{t.Prescaler, t.Seg1, t.Seg2, t.Jump, t.Quanta(), t.Rate.Bd(), 100 * t.Error, 100 * t.Sample})
	}
	return out
}

type canTimingJSON struct {
	Nominal    []timingJSON       `json:"nominal"`
	Data       []timingJSON       `json:"data,omitempty"`
	Conditions map[string]float64 `json:"tolerance_conditions_percent"`
	Limit      float64            `json:"tolerance_percent"`
	Conforms   []bool             `json:"conforms,omitempty"`
	Pair       bool               `json:"pair_decodes"`
	Length     float64            `json:"greatest_length_m"`
	Offset     int                `json:"delay_compensation_offset,omitempty"`
	Needed     bool               `json:"delay_compensation_needed"`
}

func calcCANTiming() *cobra.Command {
	n := phaseOptions{limits: can.UsualSegments}
	d := phaseOptions{limits: can.Segments{Prescaler: 32, Seg1: 32, Seg2: 16, Jump: 16}}
	var clockText, loop, node, metre string
	var errs []string
	var prop int
	var asJSON, explain bool
	c := &cobra.Command{
		Use:   "can-timing",
		Short: "Find a CAN node's bit timing, what its clock may be off, and how long the bus may be",
		Long: `Lists timings for a bit rate: the exact rate first, then the sample point nearest to
the wanted one, then most quanta. For the first one follow the conditions on the
clock of a node, with --error the verdict on one or two nodes, and the greatest
length of the bus. With --data-rate the data phase joins in, with its conditions
and the transmitter delay compensation.`,
		Example: `  gavrix calc can-timing --clock 24MHz --rate 250k --sample 87.5% --jump 1 --error 0.5% --error 0.01%
  gavrix calc can-timing --clock 40MHz --rate 500k --data-rate 2M --seg1 256 --seg2 128 --most-jump 128 --loop 255ns`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if d.rate == "" {
				if err := idle(cmd, "without --data-rate", "data-sample", "data-jump", "loop"); err != nil {
					return err
				}
			}
			if n.jump > 0 {
				if err := idle(cmd, "beside --jump", "most-jump"); err != nil {
					return err
				}
			}
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			ns, err := n.solve(f, "")
			if err != nil {
				return err
			}
			var data []can.BitTiming
			if d.rate != "" {
				if data, err = d.solve(f, "data-"); err != nil {
					return err
				}
			}
			delays := [3]quantity.Time{}
			for i, t := range []struct{ text, flag string }{{loop, "--loop"}, {node, "--node-delay"}, {metre, "--per-metre"}} {
				if delays[i], err = quantity.ParseTime(t.text); err != nil || delays[i] < 0 {
					return fmt.Errorf("%s %s: write a time, as 250ns", t.flag, t.text)
				}
			}
			if delays[2] == 0 {
				return errors.New("--per-metre: no cable is without delay; usual is 5 ns")
			}
			return canTiming(ns, data, prop, delays, errs, asJSON, explain)
		},
	}
	fl := c.Flags()
	fl.StringVar(&clockText, "clock", "", "frequency at the unit, as 24MHz")
	fl.StringVar(&n.rate, "rate", "", "nominal bit rate")
	fl.StringVar(&n.sample, "sample", "87.5%", "sample point wanted")
	fl.IntVar(&n.jump, "jump", 0, "synchronisation jump width in quanta; 0 for the largest")
	fl.IntVar(&n.limits.Prescaler, "most-prescaler", n.limits.Prescaler, "largest prescaler")
	fl.IntVar(&n.limits.Seg1, "seg1", n.limits.Seg1, "most quanta between the first one and the sample point")
	fl.IntVar(&n.limits.Seg2, "seg2", n.limits.Seg2, "most quanta after the sample point")
	fl.IntVar(&n.limits.Jump, "most-jump", n.limits.Jump, "largest jump width")
	fl.IntVar(&prop, "propagation", 0, "quanta of the propagation segment; 0: what the phase segments leave")
	fl.StringVar(&d.rate, "data-rate", "", "bit rate of the data phase")
	fl.StringVar(&d.sample, "data-sample", "75%", "sample point wanted in the data phase")
	fl.IntVar(&d.jump, "data-jump", 0, "jump width in the data phase; 0 for the largest")
	fl.StringArrayVar(&errs, "error", nil, "clock error of a node, as 0.5 % (of two nodes give it twice)")
	fl.StringVar(&loop, "loop", "0 ns", "delay of a node's own loop, for the delay compensation")
	fl.StringVar(&node, "node-delay", "100 ns", "delay of a node, out and in together, for the length")
	fl.StringVar(&metre, "per-metre", "5 ns", "delay of the cable a metre")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = c.MarkFlagRequired("clock")
	_ = c.MarkFlagRequired("rate")
	return c
}

func canTiming(ns, data []can.BitTiming, prop int, delays [3]quantity.Time, errs []string, asJSON, explain bool) error {
	first := ns[0]
	if prop == 0 {
		prop = first.Propagation()
	}
	if first.Seg1 > 1 && (prop < 1 || prop >= first.Seg1) {
		return fmt.Errorf("--propagation %d: the segment before the sample point has %s, one of them at least is the first phase segment's", prop, quantity.Quanta(first.Seg1))
	}
	var d *can.BitTiming
	dataProp := 0
	if len(data) > 0 {
		d = &data[0]
		dataProp = d.Propagation()
	}
	cs := can.Tolerances(first, prop, d, dataProp)
	limit := can.Tightest(cs)
	out := canTimingJSON{Nominal: timingsJSON(ns), Data: timingsJSON(data), Conditions: map[string]float64{}, Limit: 100 * limit.Limit, Pair: true}
	for _, c := range cs {
		out.Conditions[c.Name] = 100 * c.Limit
	}
	out.Length = can.MostLength(first, prop, delays[1], delays[2])
	shares := []float64{0, 0}
	for i, e := range errs {
		p, err := quantity.ParsePPM(e)
		if err != nil || i > 1 {
			return fmt.Errorf("--error %s: give the clock error of one or two nodes, as 0.5 %%", e)
		}
		shares[i] = float64(p) / 1e6
	}
	verdict := can.JudgeTolerance(limit.Limit, shares[0], shares[1])
	out.Pair = verdict.Decodes
	bad := !verdict.Decodes
	for i := range errs {
		out.Conforms = append(out.Conforms, verdict.Conforms[i])
		bad = bad || !verdict.Conforms[i]
	}
	var comp can.Compensation
	if d != nil {
		comp = can.Compensate(*d, delays[0])
		out.Offset, out.Needed = comp.Offset, comp.Needed
	}
	var ds []finding.Derivation
	if explain {
		ds = append(ds, first.Derivation(), can.ToleranceDerivation(cs))
	}
	if asJSON {
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		printTimings("nominal", ns)
		if d != nil {
			printTimings("data", data)
		}
		fmt.Fprintln(stdout, "\nwhat a node's clock may be off, with the first timing:")
		for _, c := range cs {
			mark := " "
			if c == limit {
				mark = "*"
			}
			fmt.Fprintf(stdout, " %s %6.3f %%  %s\n", mark, 100*c.Limit, c.Name)
		}
		for i, e := range errs {
			fmt.Fprintf(stdout, "a node at %s %s: the standard asks for at most %.3f %%\n", e, map[bool]string{true: "conforms", false: "does not conform"}[verdict.Conforms[i]], 100*limit.Limit)
		}
		if len(errs) == 2 {
			fmt.Fprintf(stdout, "the pair: %.3f %% of %.3f %%, %s\n", 100*verdict.Sum, 100*verdict.Pair, map[bool]string{true: "decodes", false: "does not decode"}[verdict.Decodes])
		}
		fmt.Fprintf(stdout, "greatest length with %s of propagation and %s a node: %.1f m\n", quantity.Quanta(prop), delays[1], out.Length)
		if d != nil && delays[0] > 0 {
			need := "not needed: its own bits are back before the sample point"
			if comp.Needed {
				need = "needed: its own bits come back after the sample point"
			}
			fmt.Fprintf(stdout, "transmitter delay compensation %s; offset %d clocks\n", need, comp.Offset)
		}
		printDerivations(ds)
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

func printTimings(name string, ts []can.BitTiming) {
	fmt.Fprintf(stdout, "%s: %s from %s\n   prescaler  segments    jump  quanta  sample    real rate bit/s     error\n", name, ts[0].Wanted.BitRate(), ts[0].Clock)
	for i, t := range ts {
		mark := " "
		if i == 0 {
			mark = "*"
		}
		fmt.Fprintf(stdout, " %s %6d     %-10s %5d  %6d  %6.2f %%  %14s  %+8.3f %%\n", mark, t.Prescaler, t.Split(), t.Jump, t.Quanta(), 100*t.Sample, t.Rate.Grouped(), 100*t.Error)
	}
}
