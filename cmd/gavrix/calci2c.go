package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

type countersJSON struct {
	Low   int     `json:"low"`
	High  int     `json:"high"`
	Rate  float64 `json:"rate_bit_s"`
	Error float64 `json:"error_percent"`
}

type i2cJSON struct {
	Class    string         `json:"class"`
	Least    float64        `json:"pull_up_least_ohm"`
	Most     float64        `json:"pull_up_most_ohm"`
	Rise     float64        `json:"rise_ns,omitempty"`
	Findings []string       `json:"findings,omitempty"`
	Counters []countersJSON `json:"counters,omitempty"`
	Bytes    float64        `json:"us_for_3_bytes"`
}

// i2cAsked is what `calc i2c` is asked for.
type i2cAsked struct {
	rate, supply, load, pullUp, clock, fall string
	devices                                 []string
	counters                                i2c.Counters
	asJSON, explain                         bool
}

func calcI2C() *cobra.Command {
	o := i2cAsked{counters: i2c.Counters{Least: 0, Most: 255, LowPlus: 1, HighPlus: 1}}
	cmd := &cobra.Command{
		Use:   "i2c",
		Short: "Find pull-ups, rise time and clock counters of an I2C bus",
		Example: `  gavrix calc i2c --rate 400k --supply 3.3V --load 200pF --pull-up 3.9k
  gavrix calc i2c --rate 400k --supply 3.3V --load 120pF --pull-up 2.2k --clock 16MHz --device 'log-memory 400k' --device 'slow 100k'`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return o.run(cmd) },
	}
	fl := cmd.Flags()
	fl.StringVar(&o.rate, "rate", "", "bit rate, as 400k")
	fl.StringVar(&o.fall, "fall", "", "time in which a line falls, as 20ns; absent: what the class allows")
	fl.StringVar(&o.supply, "supply", "3.3V", "supply of the lines")
	fl.StringVar(&o.load, "load", "100pF", "capacitance of a line")
	fl.StringVar(&o.pullUp, "pull-up", "", "pull-up to be judged, as 2.2k")
	fl.StringArrayVar(&o.devices, "device", nil, "a device and the most that it stands, as 'tilt 400k' (repeatable)")
	fl.StringVar(&o.clock, "clock", "", "clock of the bus controller, for its counters")
	c := &o.counters
	fl.IntVar(&c.Most, "most", c.Most, "largest counter")
	fl.IntVar(&c.LowPlus, "low-plus", c.LowPlus, "clocks that the unit adds to the low counter")
	fl.IntVar(&c.HighPlus, "high-plus", c.HighPlus, "clocks that it adds to the high counter")
	fl.IntVar(&c.Filter, "filter", 0, "clocks by which its input filter delays an edge")
	fl.BoolVar(&o.asJSON, "json", false, "print JSON")
	fl.BoolVar(&o.explain, "explain", false, "show how the numbers came about")
	_ = cmd.MarkFlagRequired("rate")
	return cmd
}

func (o *i2cAsked) run(cmd *cobra.Command) error {
	if o.clock == "" {
		if err := idle(cmd, "without --clock", "fall", "filter", "high-plus", "low-plus", "most"); err != nil {
			return err
		}
	}
	rate, err := quantity.ParseRate(o.rate)
	if err != nil {
		return fmt.Errorf("--rate: %w", err)
	}
	if plain := strings.TrimSpace(o.rate); rate.Bd() < 10_000 && strings.Trim(plain, "0123456789._") == "" {
		return fmt.Errorf("--rate: %s without a unit is %s, which no I2C bus is run at; did you mean %sk? With its unit it is taken as it is, as 400bit/s", plain, rate.BitRate(), plain)
	}
	class, err := i2c.ClassFor(rate)
	if err != nil {
		return err
	}
	out := i2cJSON{Class: class.Name, Bytes: i2c.Duration(quantity.PeriodOf(rate).Times(1), 3).Seconds() * 1e6}
	rise, pull, err := o.pull(class, &out)
	if err != nil {
		return err
	}
	ds := []finding.Derivation{pull}
	for _, d := range o.devices {
		name, most, _ := strings.Cut(strings.TrimSpace(d), " ")
		r, err := quantity.ParseRate(strings.TrimSpace(most))
		if err != nil {
			return fmt.Errorf("--device %q: write a name and its most rate, as 'tilt 400k'", d)
		}
		if rate > r {
			out.find("%s stands %s, the bus is to run at %s", name, r.BitRate(), rate.BitRate())
		}
	}
	if o.clock != "" {
		d, err := o.count(rate, class, min(rise, class.Rise), &out)
		if err != nil {
			return err
		}
		ds = append(ds, d)
	}
	if !o.explain {
		ds = nil
	}
	return printI2C(&out, rate, o.asJSON, ds)
}

// pull judges the pull-up, and gives the time in which the lines rise.
func (o *i2cAsked) pull(class i2c.Class, out *i2cJSON) (rise quantity.Time, d finding.Derivation, err error) {
	v, err := quantity.ParseScaled(o.supply, "V")
	if err != nil {
		return 0, d, fmt.Errorf("--supply: %w", err)
	}
	farad, err := quantity.ParseScaled(o.load, "F")
	if err != nil {
		return 0, d, fmt.Errorf("--load: %w", err)
	}
	p, err := i2c.PullUpFor(v, farad, class)
	if err != nil {
		out.find("%v", err)
	}
	out.Least, out.Most = p.Least, p.Most
	if farad > class.Load {
		out.find("%g pF is more than the %g pF that class %s allows", farad*1e12, class.Load*1e12, class.Name)
	}
	rise, d = class.Rise, i2c.PullUpDerivation(v, farad, class, p)
	if o.pullUp == "" {
		return rise, d, nil
	}
	ohm, err := quantity.ParseScaled(o.pullUp, "Ω")
	if err != nil {
		return 0, d, fmt.Errorf("--pull-up: %w", err)
	}
	rise = i2c.RiseTime(ohm, farad)
	out.Rise = rise.Seconds() * 1e9
	switch {
	case ohm > p.Most:
		out.find("%s is too slow: the lines rise in %s, %s allows %s", o.pullUp, rise.Round(3), class.Name, class.Rise)
	case ohm < p.Least:
		out.find("%s is too strong: outputs must sink more than %g mA", o.pullUp, class.Sink*1e3)
	}
	return rise, d, nil
}

// count finds the counters of the controller's clock.
func (o *i2cAsked) count(rate quantity.Rate, class i2c.Class, rise quantity.Time, out *i2cJSON) (finding.Derivation, error) {
	f, err := quantity.ParseClock(o.clock)
	if err != nil {
		return finding.Derivation{}, fmt.Errorf("--clock: %w", err)
	}
	falls := class.Fall
	if o.fall != "" {
		if falls, err = quantity.ParseSpan(o.fall); err != nil {
			return finding.Derivation{}, fmt.Errorf("--fall: %w", err)
		}
		if falls > class.Fall {
			out.find("the lines fall in %s, %s allows %s", falls.Round(3), class.Name, class.Fall)
		}
	}
	ts, err := o.counters.SolveCounters(f, rate, class, rise, falls, 4)
	if err != nil {
		return finding.Derivation{}, err
	}
	for _, t := range ts {
		out.Counters = append(out.Counters, countersJSON{t.Low, t.High, t.Rate.Bd(), 100 * t.Error})
	}
	return ts[0].Derivation(rise, falls), nil
}

func (out *i2cJSON) find(format string, args ...any) {
	out.Findings = append(out.Findings, fmt.Sprintf(format, args...))
}

func printI2C(out *i2cJSON, rate quantity.Rate, asJSON bool, ds []finding.Derivation) error {
	if asJSON {
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout, "%s is class %s; 3 bytes on the wire take %.1f µs\n", rate.BitRate(), out.Class, out.Bytes)
		fmt.Fprintf(stdout, "pull-up %.0f to %.0f Ω\n", out.Least, out.Most)
		if out.Rise > 0 {
			fmt.Fprintf(stdout, "rise time %.0f ns\n", out.Rise)
		}
		for i, c := range out.Counters {
			mark := " "
			if i == 0 {
				mark = "*"
			}
			fmt.Fprintf(stdout, " %s low %d, high %d: %s bit/s, %+.2f %%\n", mark, c.Low, c.High, quantity.Group(c.Rate, 0), c.Error)
		}
		for _, f := range out.Findings {
			fmt.Fprintln(stdout, "▲ "+f)
		}
		printDerivations(ds)
	}
	if len(out.Findings) > 0 {
		return exitStatus(found)
	}
	return nil
}
