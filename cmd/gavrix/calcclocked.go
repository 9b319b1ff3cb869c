package main

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gavrix/core/bus/i2c"
	"gavrix/core/bus/spi"
	"gavrix/core/clock"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

var scaled = regexp.MustCompile(`^([0-9.]+) ?([pnumkM]?)(V|F|Ohm|Ω|)$`)

// parseScaled reads a value with a prefix and a unit of an ohm, a farad or a volt.
func parseScaled(text, unit string) (float64, error) {
	m := scaled.FindStringSubmatch(strings.TrimSpace(text))
	v := 0.0
	var err error
	if m != nil {
		v, err = strconv.ParseFloat(m[1], 64)
	}
	if m == nil || err != nil || v <= 0 || m[3] != "" && m[3] != unit && unit != "Ohm" {
		return 0, fmt.Errorf("%q: write a value above 0 in %s, as 200p%s or 2.2k%s", text, unit, unit, unit)
	}
	return v * map[string]float64{"p": 1e-12, "n": 1e-9, "u": 1e-6, "m": 1e-3, "": 1, "k": 1e3, "M": 1e6}[m[2]], nil
}

type i2cJSON struct {
	Class    string   `json:"class"`
	Least    float64  `json:"pull_up_least_ohm"`
	Most     float64  `json:"pull_up_most_ohm"`
	Rise     float64  `json:"rise_ns,omitempty"`
	Findings []string `json:"findings,omitempty"`
	Counters []struct {
		Low   int     `json:"low"`
		High  int     `json:"high"`
		Rate  float64 `json:"rate_bit_s"`
		Error float64 `json:"error_percent"`
	} `json:"counters,omitempty"`
	Bytes float64 `json:"us_for_3_bytes"`
}

func calcI2C() *cobra.Command {
	var rateText, supply, load, pullUp, clockText string
	var devices []string
	c := i2c.Counters{Least: 0, Most: 255, LowPlus: 1, HighPlus: 1}
	var asJSON, explain bool
	cmd := &cobra.Command{
		Use:   "i2c",
		Short: "Find pull-ups, rise time and clock counters of an i2c bus",
		Example: `  gavrix calc i2c --rate 400k --supply 3.3V --load 200pF --pull-up 3.9k
  gavrix calc i2c --rate 400k --supply 3.3V --load 120pF --pull-up 2.2k --clock 16MHz --device 'log-memory 400k' --device 'slow 100k'`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			rate, err := quantity.ParseRate(rateText)
			if err != nil {
				return fmt.Errorf("--rate: %w", err)
			}
			class, err := i2c.ClassFor(rate)
			if err != nil {
				return err
			}
			v, err := parseScaled(supply, "V")
			if err != nil {
				return fmt.Errorf("--supply: %w", err)
			}
			farad, err := parseScaled(load, "F")
			if err != nil {
				return fmt.Errorf("--load: %w", err)
			}
			out := i2cJSON{Class: class.Name, Bytes: i2c.Duration(quantity.PeriodOf(rate).Times(1), 3).Seconds() * 1e6}
			var ds []finding.Derivation
			p, err := i2c.PullUpFor(v, farad, class)
			if err != nil {
				out.Findings = append(out.Findings, err.Error())
			}
			out.Least, out.Most = p.Least, p.Most
			ds = append(ds, i2c.PullUpDerivation(v, farad, class, p))
			if farad > class.Load {
				out.Findings = append(out.Findings, fmt.Sprintf("%g pF is more than the %g pF that class %s allows", farad*1e12, class.Load*1e12, class.Name))
			}
			rise := class.Rise
			if pullUp != "" {
				ohm, err := parseScaled(pullUp, "Ohm")
				if err != nil {
					return fmt.Errorf("--pull-up: %w", err)
				}
				rise = i2c.RiseTime(ohm, farad)
				out.Rise = rise.Seconds() * 1e9
				switch {
				case ohm > p.Most:
					out.Findings = append(out.Findings, fmt.Sprintf("%s is too slow: the lines rise in %s, %s allows %s", pullUp, rise.Round(3), class.Name, class.Rise))
				case ohm < p.Least:
					out.Findings = append(out.Findings, fmt.Sprintf("%s is too strong: outputs must sink more than %g mA", pullUp, class.Sink*1e3))
				}
			}
			for _, d := range devices {
				name, most, _ := strings.Cut(strings.TrimSpace(d), " ")
				r, err := quantity.ParseRate(strings.TrimSpace(most))
				if err != nil {
					return fmt.Errorf("--device %q: write a name and its most rate, as 'tilt 400k'", d)
				}
				if rate > r {
					out.Findings = append(out.Findings, fmt.Sprintf("%s stands %s, the bus is to run at %s", name, bitRates(r), bitRates(rate)))
				}
			}
			if clockText != "" {
				f, err := quantity.ParseClock(clockText)
				if err != nil {
					return fmt.Errorf("--clock: %w", err)
				}
				ts, err := c.SolveCounters(f, rate, class, min(rise, class.Rise), class.Fall, 4)
				if err != nil {
					return err
				}
				ds = append(ds, ts[0].Derivation(min(rise, class.Rise), class.Fall))
				for _, t := range ts {
					out.Counters = append(out.Counters, struct {
						Low   int     `json:"low"`
						High  int     `json:"high"`
						Rate  float64 `json:"rate_bit_s"`
						Error float64 `json:"error_percent"`
					}{t.Low, t.High, t.Rate.Bd(), 100 * t.Error})
				}
			}
			if !explain {
				ds = nil
			}
			return printI2C(&out, rate, asJSON, ds)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&rateText, "rate", "", "bit rate, as 400k")
	fl.StringVar(&supply, "supply", "3.3V", "supply of the lines")
	fl.StringVar(&load, "load", "100pF", "capacitance of a line")
	fl.StringVar(&pullUp, "pull-up", "", "pull-up to be judged, as 2.2k")
	fl.StringArrayVar(&devices, "device", nil, "a device and the most that it stands, as 'tilt 400k' (may be given again)")
	fl.StringVar(&clockText, "clock", "", "clock of the bus controller, for its counters")
	fl.IntVar(&c.Most, "most", c.Most, "largest counter")
	fl.IntVar(&c.LowPlus, "low-plus", c.LowPlus, "clocks that the unit adds to the low counter")
	fl.IntVar(&c.HighPlus, "high-plus", c.HighPlus, "clocks that it adds to the high counter")
	fl.IntVar(&c.Filter, "filter", 0, "clocks by which its input filter delays an edge")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = cmd.MarkFlagRequired("rate")
	return cmd
}

// bitRates prints a rate in bits.
func bitRates(r quantity.Rate) string { return strings.ReplaceAll(r.String(), "Bd", "bit/s") }

func printI2C(out *i2cJSON, rate quantity.Rate, asJSON bool, ds []finding.Derivation) error {
	if asJSON {
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		fmt.Printf("%s is class %s; 3 bytes on the wire take %.1f µs\n", bitRates(rate), out.Class, out.Bytes)
		fmt.Printf("pull-up %.0f to %.0f Ω\n", out.Least, out.Most)
		if out.Rise > 0 {
			fmt.Printf("rise time %.0f ns\n", out.Rise)
		}
		for i, c := range out.Counters {
			mark := " "
			if i == 0 {
				mark = "*"
			}
			fmt.Printf(" %s low %d, high %d: %s bit/s, %+.2f %%\n", mark, c.Low, c.High, quantity.Group(c.Rate, 0), c.Error)
		}
		for _, f := range out.Findings {
			fmt.Println("▲ " + f)
		}
		printDerivations(ds)
	}
	if len(out.Findings) > 0 {
		return exitStatus(found)
	}
	return nil
}

// parsePart reads a device: NAME MOST, then valid=, set-up= and hold=.
func parsePart(text string) (spi.Part, error) {
	w := strings.Fields(text)
	if len(w) < 2 {
		return spi.Part{}, fmt.Errorf("%q: write a name and the most that its clock stands, as 'encoder 5MHz valid=90ns'", text)
	}
	p := spi.Part{Name: w[0]}
	var err error
	if p.Most, err = quantity.ParseFreq(w[1]); err != nil {
		return p, fmt.Errorf("%q: %w", text, err)
	}
	for _, x := range w[2:] {
		key, value, _ := strings.Cut(x, "=")
		to, ok := map[string]*quantity.Time{"valid": &p.Valid, "set-up": &p.SetUp, "hold": &p.Hold}[key]
		if !ok {
			return p, fmt.Errorf("%q: %q is none of valid=, set-up=, hold=", text, x)
		}
		if *to, err = quantity.ParseTime(value); err != nil || *to < 0 {
			return p, fmt.Errorf("%q: %s is no time", text, x)
		}
	}
	return p, nil
}

func calcSPIClock() *cobra.Command {
	var clockText, setUp string
	var dividers []int
	var powers int
	var parts []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "spi-clock",
		Short: "Choose the clock divider for each device on an spi bus",
		Long: `Lists the dividers for each device: the fastest that it stands, what is refused and
why, and what is left of half a period in both directions. A device is given as
'NAME MOST', behind it valid= (from the edge to its answer), set-up= and hold=.`,
		Example: `  gavrix calc spi-clock --clock 48MHz --powers 256 --part 'encoder 5MHz valid=60ns' --part 'valves 10MHz'`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			u := spi.Unit{Clock: f, Dividers: dividers}
			if len(dividers) == 0 {
				u.Dividers = spi.PowersOfTwo(powers)
			}
			if u.SetUp, err = quantity.ParseTime(setUp); err != nil {
				return fmt.Errorf("--set-up: %w", err)
			}
			return spiClock(u, parts, asJSON)
		},
	}
	fl := c.Flags()
	fl.StringVar(&clockText, "clock", "", "clock of the unit")
	fl.IntSliceVar(&dividers, "dividers", nil, "dividers that it has")
	fl.IntVar(&powers, "powers", 256, "without --dividers: the powers of two from 2 up to this one")
	fl.StringVar(&setUp, "set-up", "0 ns", "how long the MCU's input must stand still before its sampling edge")
	fl.StringArrayVar(&parts, "part", nil, "a device (may be given again)")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.MarkFlagRequired("clock")
	_ = c.MarkFlagRequired("part")
	return c
}

func spiClock(u spi.Unit, parts []string, asJSON bool) error {
	type row struct {
		Divider int     `json:"divider"`
		Rate    float64 `json:"rate_hz"`
		Refused string  `json:"refused,omitempty"`
		Read    float64 `json:"read_margin_ns"`
		Write   float64 `json:"write_margin_ns"`
	}
	type result struct {
		Part   string `json:"part"`
		Chosen int    `json:"chosen,omitempty"`
		Rows   []row  `json:"dividers"`
	}
	var out []result
	bad := false
	for _, text := range parts {
		p, err := parsePart(text)
		if err != nil {
			return fmt.Errorf("--part %w", err)
		}
		ms, err := u.Margins(p)
		if err != nil {
			return err
		}
		r := result{Part: p.Name}
		for _, m := range ms {
			if m.Refused == "" && r.Chosen == 0 {
				r.Chosen = m.Divider
			}
			r.Rows = append(r.Rows, row{m.Divider, m.Rate.Hz(), m.Refused, m.Read.Seconds() * 1e9, m.Write.Seconds() * 1e9})
		}
		bad = bad || r.Chosen == 0
		out = append(out, r)
	}
	if asJSON {
		if err := printJSON(out); err != nil {
			return err
		}
	} else {
		for _, r := range out {
			fmt.Println(r.Part)
			for _, m := range r.Rows {
				mark := " "
				if m.Divider == r.Chosen {
					mark = "*"
				}
				why := fmt.Sprintf("left when reading %.1f ns, when writing %.1f ns", m.Read, m.Write)
				if m.Refused != "" {
					mark, why = "✗", m.Refused
				}
				fmt.Printf(" %s ÷%-5d %10s  %s\n", mark, m.Divider, quantity.FromHz(m.Rate).Round(4), why)
			}
			if r.Chosen == 0 {
				fmt.Println("   no divider serves")
			}
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}

func calcCounter() *cobra.Command {
	var clockText, freq, duty string
	w := clock.Counter{}
	var asJSON, explain bool
	c := &cobra.Command{
		Use:   "counter",
		Short: "Find the reload value of a counter for a square wave or pulses",
		Example: `  gavrix calc counter --clock 2.6MHz --width 10 --up --toggles --frequency 1.9kHz
  gavrix calc counter --clock 1MHz --width 16 --frequency 50Hz --duty 7.5%`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			want, err := quantity.ParseFreq(freq)
			if err != nil {
				return fmt.Errorf("--frequency: %w", err)
			}
			share := 0.0
			if duty != "" {
				p, err := quantity.ParsePPM(duty)
				if err != nil || p <= 0 {
					return fmt.Errorf("--duty %s: write a share above 0, as 25%%", duty)
				}
				share = float64(p) / 1e6
			}
			r, err := w.Solve(f, want, share)
			if err != nil {
				return err
			}
			var ds []finding.Derivation
			if explain {
				ds = append(ds, r.Derivation(w.Toggles))
			}
			if asJSON {
				return printJSON(explained{struct {
					Counts  int     `json:"counts"`
					Reload  int     `json:"reload"`
					Compare int     `json:"compare,omitempty"`
					Real    float64 `json:"real_hz"`
					Error   float64 `json:"error_percent"`
					Step    float64 `json:"step_percent"`
					Duty    float64 `json:"duty_percent,omitempty"`
				}{r.Counts, r.Reload, r.Compare, r.Real.Hz(), 100 * r.Error, 100 * r.Step, 100 * r.Duty}, ds})
			}
			fmt.Printf("%d counts, reload 0x%0*X (%d): %s, %s; one count is %.2f %%\n", r.Counts, (w.Width+3)/4, r.Reload, r.Reload, r.Real.Round(6), clock.Percent(r.Error), 100*r.Step)
			if r.Compare > 0 {
				fmt.Printf("compare %d: high %.2f %% of the time\n", r.Compare, 100*r.Duty)
			}
			printDerivations(ds)
			if math.Abs(r.Error) > 0.05 {
				return exitStatus(found)
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&clockText, "clock", "", "clock of the counter")
	fl.StringVar(&freq, "frequency", "", "frequency wanted")
	fl.StringVar(&duty, "duty", "", "share of the time for which the output is high, as 25%")
	fl.IntVar(&w.Width, "width", 16, "bits of the counter")
	fl.BoolVar(&w.Up, "up", false, "it counts up to its end; else down to 0")
	fl.BoolVar(&w.Toggles, "toggles", false, "each overflow turns the output round")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = c.MarkFlagRequired("clock")
	_ = c.MarkFlagRequired("frequency")
	return c
}
