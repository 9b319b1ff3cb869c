package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/quantity"
)

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
		Short: "Choose the clock divider for each device on an SPI bus",
		Long: `Lists the dividers for each device: the fastest that it stands, what is refused and
why, and what is left of half a period in both directions. A device is given as
'NAME MOST', after it valid= (from the edge to its answer), set-up= and hold=.`,
		Example: `  gavrix calc spi-clock --clock 48MHz --powers 256 --part 'encoder 5MHz valid=60ns' --part 'valves 10MHz'`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, err := quantity.ParseClock(clockText)
			if err != nil {
				return fmt.Errorf("--clock: %w", err)
			}
			u := spi.Unit{Clock: f, Dividers: dividers}
			if len(dividers) == 0 {
				if powers < 2 || powers > 1<<20 {
					return fmt.Errorf("--powers %d: give 2 to %d", powers, 1<<20)
				}
				u.Dividers = spi.PowersOfTwo(powers)
			}
			if u.SetUp, err = quantity.ParseSpan(setUp); err != nil {
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
	fl.StringArrayVar(&parts, "part", nil, "a device (repeatable)")
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
	var margins [][]spi.Margin
	for _, text := range parts {
		p, err := parsePart(text)
		if err != nil {
			return fmt.Errorf("--part %w", err)
		}
		ms, err := u.Margins(p)
		if err != nil {
			return err
		}
		margins = append(margins, ms)
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
	all, serves := spi.OneForAll(margins...)
	if asJSON {
		if err := printJSON(struct {
			Parts []result `json:"parts"`
			All   int      `json:"one_for_all,omitempty"`
		}{out, all.Divider}); err != nil {
			return err
		}
	} else {
		for _, r := range out {
			fmt.Fprintln(stdout, r.Part)
			for _, m := range r.Rows {
				mark := " "
				if m.Divider == r.Chosen {
					mark = "*"
				}
				why := fmt.Sprintf("left when reading %.1f ns, when writing %.1f ns", m.Read, m.Write)
				if m.Refused != "" {
					mark, why = "✗", m.Refused
				}
				fmt.Fprintf(stdout, " %s ÷%-5d %10s  %s\n", mark, m.Divider, quantity.FromHz(m.Rate).Round(4), why)
			}
			if r.Chosen == 0 {
				fmt.Fprintln(stdout, "   no divider serves")
			}
		}
		switch {
		case len(parts) == 1:
		case !serves:
			fmt.Fprintln(stdout, "one divider for all: none serves each of them")
		default:
			fmt.Fprintf(stdout, "one divider for all: ÷%d, %s, 8 bits in %s\n", all.Divider, all.Rate.Round(4), quantity.Time(8e12/all.Rate.Hz()).Round(4))
		}
	}
	if bad {
		return exitStatus(found)
	}
	return nil
}
