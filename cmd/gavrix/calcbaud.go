package main

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// generatorOptions describe a rate generator on the command line.
type generatorOptions struct {
	clock, plusMinus string
	oversampling     []int
	least            int
	most, bits       int
	width, before    int
	factors          []int
	plusOne, packed  bool
	formula          string
	ranges           []string
}

func (o *generatorOptions) flags(fl *pflag.FlagSet) {
	fl.StringVar(&o.clock, "clock", "", "frequency at the peripheral, as 40MHz")
	fl.StringVar(&o.plusMinus, "plus-minus", "", "uncertainty of a measured clock, as 0.01MHz")
	fl.IntVar(&o.least, "least", 1, "smallest divider, or count, that the register takes")
	fl.IntSliceVar(&o.oversampling, "oversampling", []int{16}, "receiver samples per bit that the peripheral can take")
	fl.IntVar(&o.most, "most", 65535, "largest divider")
	fl.BoolVar(&o.plusOne, "plus-one", false, "the register holds the divider less one")
	fl.IntVar(&o.bits, "fraction-bits", 0, "a fractional divider with this many bits of fraction")
	fl.BoolVar(&o.packed, "packed", false, "whole part and fraction stand in one register")
	fl.IntVar(&o.width, "reload-width", 0, "a timer of this many bits that counts up from a reload value; --factors are its overflows a bit")
	fl.IntVar(&o.before, "before", 1, "what a fixed stage in front of the timer divides by")
	fl.StringVar(&o.formula, "formula", "", "any other generator: the bit rate by an expression, as 'clock / (16 * (n + 1))'; --oversampling is its samples per bit")
	fl.StringArrayVar(&o.ranges, "range", nil, "a variable of the formula, as n=0..255 (repeatable)")
	fl.IntSliceVar(&o.factors, "factors", nil, "a counter chain: what the receiver divides by; of a timer, overflows a bit, the second one with doubling")
}

// idle refuses flags that have no effect on the kind of generator.
func (o *generatorOptions) idle(cmd *cobra.Command) error {
	switch {
	case o.formula != "":
		return idle(cmd, "beside --formula", "most", "least", "plus-one", "fraction-bits", "packed", "reload-width", "before", "factors")
	case o.bits > 0:
		return idle(cmd, "beside --fraction-bits", "plus-one", "before", "factors", "range")
	case o.width > 0:
		return idle(cmd, "beside --reload-width", "most", "least", "oversampling", "packed", "plus-one", "range")
	case len(o.factors) > 0:
		return idle(cmd, "beside --factors alone", "before", "oversampling", "packed", "plus-one", "range")
	}
	return idle(cmd, "on a generator that divides by whole numbers", "before", "packed", "range")
}

// generator gives the rate generator, its clock and the clock's uncertainty.
func (o *generatorOptions) generator(cmd *cobra.Command) (g clock.Generator, f quantity.Freq, plusMinus float64, err error) {
	if f, err = quantity.ParseClock(o.clock); err != nil {
		return nil, 0, 0, fmt.Errorf("--clock: %w", err)
	}
	if o.bits < 0 || o.width < 0 {
		return nil, 0, 0, errors.New("--fraction-bits and --reload-width are numbers of bits, above 0")
	}
	if o.bits > 0 && o.width > 0 {
		return nil, 0, 0, errors.New("--fraction-bits and --reload-width are two kinds of generators: give one")
	}
	if err := o.idle(cmd); err != nil {
		return nil, 0, 0, err
	}
	if o.plusMinus != "" {
		pm, err := quantity.ParseFreq(o.plusMinus)
		if err != nil {
			return nil, 0, 0, fmt.Errorf("--plus-minus: %w", err)
		}
		if pm < 0 || pm >= f {
			return nil, 0, 0, fmt.Errorf("--plus-minus %s: give 0 or more, less than the clock", o.plusMinus)
		}
		plusMinus = float64(pm) / float64(f)
	}
	switch {
	case o.formula != "":
		g, err = o.byFormula()
		return g, f, plusMinus, err
	case o.bits > 0:
		g = clock.Fractional{Oversampling: o.oversampling, Least: o.least, Most: o.most, Bits: o.bits, Packed: o.packed}
	case o.width > 0:
		g = clock.Reload{Width: o.width, Before: o.before, Factor: o.factors}
	case len(o.factors) > 0:
		g = clock.Chain{Factors: o.factors, Least: o.least, Most: o.most}
	default:
		g = clock.Divider{Oversampling: o.oversampling, Least: o.least, Most: o.most, PlusOne: o.plusOne}
	}
	return g, f, plusMinus, g.Check()
}

// byFormula reads a generator that is given by an expression.
func (o *generatorOptions) byFormula() (clock.Generator, error) {
	var vs []clock.Variable
	for _, r := range o.ranges {
		name, span, _ := strings.Cut(r, "=")
		from, to, ok := strings.Cut(span, "..")
		least, errLeast := strconv.Atoi(from)
		most, errMost := strconv.Atoi(to)
		if !ok || errLeast != nil || errMost != nil {
			return nil, fmt.Errorf("--range %s: write NAME=LEAST..MOST, as n=0..255", r)
		}
		vs = append(vs, clock.Variable{Name: name, Least: least, Most: most})
	}
	f, err := clock.NewFormula(o.formula, o.oversampling[0], vs)
	if err != nil {
		return nil, fmt.Errorf("--formula: %w", err)
	}
	return f, nil
}

type baudRow struct {
	Oversampling int     `json:"oversampling"`
	Divider      int     `json:"divider"`
	Fraction     string  `json:"fraction,omitempty"`
	Values       []int   `json:"values"`
	Rate         float64 `json:"rate_baud"`
	Wanted       float64 `json:"wanted_baud"`
	Error        float64 `json:"error_percent"`
	PlusMinus    float64 `json:"plus_minus_percent,omitempty"`
	Shift        float64 `json:"edge_shift_percent_of_bit,omitempty"`
	Tie          bool    `json:"tie,omitempty"`
	ExactClock   float64 `json:"exact_with_hz"`
	Workable     bool    `json:"workable"`
}

func rowOf(s clock.Setting) baudRow {
	r := baudRow{
		Oversampling: s.Oversampling, Divider: s.N, Rate: s.Rate.Bd(), Wanted: s.Wanted.Bd(), Error: 100 * s.Error, PlusMinus: 100 * s.PlusMinus,
		Shift: 100 * s.Shift, Tie: s.Tie, ExactClock: s.ExactClock().Hz(), Workable: math.Abs(s.Error) <= clock.Workable,
	}
	if s.Steps > 0 {
		r.Fraction = fmt.Sprintf("%d/%d", s.Fraction, s.Steps)
	}
	for _, v := range s.Values {
		r.Values = append(r.Values, v.Value)
	}
	return r
}

// written gives the values to write in hex.
func written(s clock.Setting) string {
	var out []string
	for _, v := range s.Values {
		out = append(out, fmt.Sprintf("0x%0*X", (v.Bits+3)/4, v.Value))
	}
	return strings.Join(out, " ")
}

func calcBaud() *cobra.Command {
	o := &generatorOptions{}
	var rateText string
	var values []int
	var asJSON, explain, reaches bool
	c := &cobra.Command{
		Use:   "baud",
		Short: "Find the divider for a rate, or the meaning of given register values",
		Long: `Finds the settings of a rate generator for a rate, best first, or says what given
register values mean. Without other flags the generator divides by whole numbers;
with --fraction-bits it has a fraction, with --reload-width it is a timer, with
--factors a counter in front of a receiver that divides once more.`,
		Example: `  gavrix calc baud --clock 20MHz --rate 57600 --oversampling 16,8
  gavrix calc baud --clock 22MHz --rate 57600 --fraction-bits 5
  gavrix calc baud --clock 14.7456MHz --rate 9600 --reload-width 8 --before 12 --factors 32,16
  gavrix calc baud --clock 3.9MHz --plus-minus 0.01MHz --rate 14400 --factors 1,8,32
  gavrix calc baud --clock 1.5MHz --register 5 --rate 14400    what a copied value means
  gavrix calc baud --clock 16MHz --reaches                     the usual rates that it reaches`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			g, f, plusMinus, err := o.generator(cmd)
			switch {
			case err != nil:
				return err
			case reaches:
				err = idle(cmd, "beside --reaches", "rate", "register", "explain", "plus-minus", "plus-one")
			case cmd.Flags().Changed("register"):
				err = idle(cmd, "beside --register", "plus-minus", "least")
			}
			if err != nil {
				return err
			}
			var rate quantity.Rate
			if rateText != "" {
				if rate, err = quantity.ParseRate(rateText); err != nil {
					return fmt.Errorf("--rate: %w", err)
				}
			}
			switch {
			case reaches:
				return printReaches(g, f, asJSON)
			case cmd.Flags().Changed("register"):
				return explainRegister(g, values, f, rate, asJSON, explain)
			case rate == 0:
				return errors.New("give --rate for the divider, --register for what values mean, or --reaches")
			}
			var other clock.Generator
			if !cmd.Flags().Changed("oversampling") {
				other = o.halved(g)
			}
			return solveBaud(g, other, f, plusMinus, rate, asJSON, explain)
		},
	}
	fl := c.Flags()
	o.flags(fl)
	fl.StringVar(&rateText, "rate", "", "rate wanted, or claimed for register values")
	fl.IntSliceVar(&values, "register", nil, "explain these register values, in the order in which settings give them")
	fl.BoolVar(&reaches, "reaches", false, "list the usual rates that the clock reaches")
	fl.BoolVar(&asJSON, "json", false, "print JSON")
	fl.BoolVar(&explain, "explain", false, "show how the numbers came about")
	_ = c.MarkFlagRequired("clock")
	return c
}

func printReaches(g clock.Generator, f quantity.Freq, asJSON bool) error {
	settings := clock.Reaches(g, f)
	if asJSON {
		out := []baudRow{}
		for _, s := range settings {
			out = append(out, rowOf(s))
		}
		return printJSON(out)
	}
	for _, s := range settings {
		fmt.Fprintf(stdout, "%-12s ×%-3d divider %-14s %s\n", s.Wanted, s.Oversampling, s.Divisor(), clock.Percent(s.Error))
	}
	if len(settings) == 0 {
		fmt.Fprintln(stdout, "none of the usual rates")
	}
	return nil
}

// halved is the generator with half the samples per bit, as many units can have it; nil where that
// makes none.
func (o *generatorOptions) halved(g clock.Generator) clock.Generator {
	half := []int{o.oversampling[0] / 2}
	switch d := g.(type) {
	case clock.Divider:
		d.Oversampling = half
		return d
	case clock.Fractional:
		d.Oversampling = half
		return d
	}
	return nil
}

// inReserve is the best setting of another generator for a rate, where it is workable.
func inReserve(other clock.Generator, f quantity.Freq, plusMinus float64, rate quantity.Rate) (s clock.Setting, ok bool) {
	if other == nil {
		return s, false
	}
	settings, err := other.Solve(f, rate)
	if err != nil {
		return s, false
	}
	s = clock.Known(settings, plusMinus)[0]
	return s, math.Abs(s.Error) <= clock.Workable
}

func solveBaud(g, other clock.Generator, f quantity.Freq, plusMinus float64, rate quantity.Rate, asJSON, explain bool) error {
	settings, err := g.Solve(f, rate)
	if err != nil {
		return err
	}
	settings = clock.Known(settings, plusMinus)
	workable := math.Abs(settings[0].Error) <= clock.Workable
	near := clock.Nearby(g, f, rate, 5)
	reserve, has := inReserve(other, f, plusMinus, rate)
	var ds []finding.Derivation
	if explain {
		ds = append(ds, settings[0].Derivation())
	}
	if asJSON {
		out := struct {
			Settings []baudRow `json:"settings"`
			Nearby   []baudRow `json:"nearest_workable,omitempty"`
			Other    *baudRow  `json:"with_half_the_samples,omitempty"`
		}{}
		for _, s := range settings {
			out.Settings = append(out.Settings, rowOf(s))
		}
		if !workable {
			for _, s := range near {
				out.Nearby = append(out.Nearby, rowOf(s))
			}
			if has {
				row := rowOf(reserve)
				out.Other = &row
			}
		}
		if err := printJSON(explained{out, ds}); err != nil {
			return err
		}
	} else {
		printSettings(g, settings, near, workable)
		if !workable && has {
			fmt.Fprintf(stdout, "with ×%d, where the unit can: divider %s, %s to write, %s off: --oversampling %d\n", reserve.Oversampling, reserve.Divisor(), written(reserve), clock.Percent(reserve.Error), reserve.Oversampling)
		}
		printDerivations(ds)
	}
	if !workable {
		return exitStatus(found)
	}
	return nil
}

func printSettings(g clock.Generator, settings, near []clock.Setting, workable bool) {
	first := settings[0]
	fmt.Fprintf(stdout, "%s from %s\n   OS  divider         to write        real rate Bd      error\n", first.Wanted, first.Clock)
	for i, s := range settings {
		mark := " "
		switch {
		case i == 0 && workable:
			mark = "*"
		case s.Tie && workable:
			mark = "="
		}
		note := ""
		if s.PlusMinus > 0 {
			note = fmt.Sprintf("  ± %.2f %%", 100*s.PlusMinus)
		}
		if s.Shift > 0 {
			note += fmt.Sprintf("  an edge up to %.1f %% of a bit off", 100*s.Shift)
		}
		if math.Abs(s.Error) > clock.Workable {
			note += fmt.Sprintf("  not within %.1f %%; exact with %s", 100*clock.Workable, s.ExactClock().Round(7))
		}
		fmt.Fprintf(stdout, " %s ×%-3d %-14s  %-14s  %12s  %9s%s\n", mark, s.Oversampling, s.Divisor(), written(s), s.Rate.Grouped(), clock.Percent(s.Error), note)
	}
	for _, os := range g.Samples() {
		if os == 1 {
			fmt.Fprintln(stdout, "   "+clock.ErrSynchronous.Error())
		}
	}
	if settings[0].Tie {
		fmt.Fprintln(stdout, "   = is as near as the first; the one with more samples per bit stands first")
	}
	if workable {
		return
	}
	fmt.Fprintf(stdout, "refused: the best is %s off; more than %.1f %% leaves the other end too little\n", clock.Percent(first.Error), 100*clock.Workable)
	fmt.Fprintln(stdout, "nearest workable rates:")
	for _, s := range near {
		fmt.Fprintf(stdout, "   %-10s divider %-5s ×%-3d %s\n", s.Wanted, s.Divisor(), s.Oversampling, clock.Percent(s.Error))
	}
	if len(near) == 0 {
		fmt.Fprintln(stdout, "   none of the usual ones")
	}
}

func explainRegister(g clock.Generator, values []int, f quantity.Freq, claimed quantity.Rate, asJSON, explain bool) error {
	type meaning struct {
		Setting  baudRow  `json:"setting"`
		MeantFor float64  `json:"meant_for_hz,omitempty"`
		Exact    []string `json:"exact_with,omitempty"`
	}
	var all []meaning
	var ds []finding.Derivation
	worst := 0.0
	for _, os := range g.Samples() {
		m, err := clock.Explain(g, f, claimed, os, values...)
		if err != nil {
			return err
		}
		out := meaning{Setting: rowOf(m.Setting), MeantFor: m.MeantFor.Hz()}
		for _, e := range m.Exact {
			out.Exact = append(out.Exact, fmt.Sprintf("%s for %s", e.Clock, e.Rate))
		}
		all = append(all, out)
		worst = max(worst, math.Abs(m.Setting.Error))
		ds = append(ds, m.Setting.Derivation())
		if asJSON {
			continue
		}
		if claimed > 0 {
			fmt.Fprintf(stdout, "%s at ×%d, said to mean %s: meant for %s; with %s it gives %s Bd, %s\n",
				written(m.Setting), m.Setting.Oversampling, claimed, m.MeantFor, f, m.Setting.Rate.Grouped(), clock.Percent(m.Setting.Error))
		} else {
			fmt.Fprintf(stdout, "%s at ×%d with %s gives %s Bd\n", written(m.Setting), m.Setting.Oversampling, f, m.Setting.Rate.Grouped())
		}
		if len(out.Exact) > 0 {
			fmt.Fprintf(stdout, "   exact with %s\n", strings.Join(out.Exact, ", "))
		}
	}
	if !explain {
		ds = nil
	}
	if asJSON {
		if err := printJSON(explained{all, ds}); err != nil {
			return err
		}
	} else {
		printDerivations(ds)
	}
	if worst > clock.Workable {
		return exitStatus(found)
	}
	return nil
}
