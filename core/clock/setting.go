package clock

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Workable is the largest rate error, as a share, with which a setting counts
// as workable: half of what the usual frames stand leaves the other half to
// the other end.
const Workable = 0.025

// Generator makes a bit rate from a clock. Each kind is described by its limits;
// what it is called in which part does not matter.
type Generator interface {
	// Check says what is wrong with the description.
	Check() error
	// Solve lists the settings worth choosing for a wanted rate, best first: the
	// smallest error, then the highest oversampling, then the smallest edge
	// shift. Settings that are as good as the first one are marked as ties.
	Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error)
	// Read gives the setting that register values mean, in the order in which
	// Solve gives them.
	Read(clock quantity.Freq, want quantity.Rate, oversampling int, values ...int) (Setting, error)
	// With gives the setting for a divider that somebody chose.
	With(clock quantity.Freq, want quantity.Rate, oversampling int, divisor float64) (Setting, error)
	// Samples are the receiver samples a bit that can be chosen.
	Samples() []int
	// Only gives the generator held to one of Samples.
	Only(oversampling int) Generator
}

// whole checks a divisor that must be a whole number in a range.
func whole(divisor float64, least, most int) (int, error) {
	n := int(divisor)
	switch {
	case divisor != math.Trunc(divisor):
		return 0, fmt.Errorf("divisor %g is no whole number, and this generator has no fraction", divisor)
	case n < least || n > most:
		return 0, fmt.Errorf("divisor %d is outside %d to %d", n, least, most)
	}
	return n, nil
}

// ParseDivisor reads a divisor: 87, or 21 + 22/32.
func ParseDivisor(text string) (float64, error) {
	whole, fraction, plus := strings.Cut(text, "+")
	n, err := strconv.ParseInt(strings.TrimSpace(whole), 0, 32)
	if err == nil && !plus {
		return float64(n), nil
	}
	top, bottom, ok := strings.Cut(fraction, "/")
	a, errA := strconv.Atoi(strings.TrimSpace(top))
	b, errB := strconv.Atoi(strings.TrimSpace(bottom))
	if err != nil || !ok || errA != nil || errB != nil || b < 1 || a < 0 || a >= b {
		return 0, fmt.Errorf("%q is no divisor: write 87, or 21 + 22/32", text)
	}
	return float64(n) + float64(a)/float64(b), nil
}

// Value is what is written to a field of a register.
type Value struct {
	Register, Field string // where they are known
	Value           int
	Bits            int // width of the field
}

// Setting is one choice of a Generator.
type Setting struct {
	Clock        quantity.Freq
	Wanted       quantity.Rate
	Oversampling int
	N            int // whole part of the divider
	Fraction     int // numerator of its fraction
	Steps        int // and the denominator; 0 without one
	// Terms are a formula's variables with their values, Formula its text; empty
	// for the other kinds.
	Terms, Formula string
	Before         int // what a fixed stage divides by in front; 0 without one
	Register       int // first value to write
	Values         []Value
	Rate           quantity.Rate
	Error          float64 // Rate / Wanted - 1
	// PlusMinus is the uncertainty of Rate as a share, from a measured clock.
	PlusMinus float64
	// Shift is how far a single edge is from where the mean rate has it, at
	// most, as a share of a bit.
	Shift float64
	Tie   bool // as good as the best

	exact float64 // Rate without rounding, in baud
}

// rated fills in what follows from the rate in baud.
func (s Setting) rated(bd float64) Setting {
	s.exact = bd
	s.Rate = quantity.FromBd(bd)
	s.Error = bd/s.Wanted.Bd() - 1
	return s
}

// ExactClock is the clock with which the setting gives the wanted rate exactly.
func (s Setting) ExactClock() quantity.Freq {
	return quantity.FromHz(s.Clock.Hz() * s.Wanted.Bd() / s.exact)
}

// Divisor gives the divider as a sum: 87, or 21 + 22/32; of a formula its
// variables.
func (s Setting) Divisor() string {
	if s.Terms != "" {
		return s.Terms
	}
	if s.Steps > 0 {
		return fmt.Sprintf("%d + %d/%d", s.N, s.Fraction, s.Steps)
	}
	return fmt.Sprint(s.N)
}

// At gives settings as they are at another clock than that for which g solved them. What
// is written to the registers stays.
func At(g Generator, ss []Setting, clock quantity.Freq) ([]Setting, error) {
	out := make([]Setting, len(ss))
	for i, s := range ss {
		values := make([]int, len(s.Values))
		for j, v := range s.Values {
			values[j] = v.Value
		}
		var err error
		if out[i], err = g.Read(clock, s.Wanted, s.Oversampling, values...); err != nil {
			return nil, err
		}
		out[i].Tie = s.Tie
	}
	return out, nil
}

// Known gives settings the uncertainty of their clock, a share.
func Known(ss []Setting, plusMinus float64) []Setting {
	for i := range ss {
		ss[i].PlusMinus = plusMinus * ss[i].exact / ss[i].Wanted.Bd()
	}
	return ss
}

// ready checks what all kinds need.
func ready(g Generator, clock quantity.Freq, want quantity.Rate) error {
	if err := g.Check(); err != nil {
		return err
	}
	if clock <= 0 || want <= 0 {
		return errors.New("clock and rate must be above 0")
	}
	return nil
}

// same is how near errors must be to be a tie: far below any clock's own.
const same = 1e-9

// ranked sorts settings, best first, and marks ties with the best.
func ranked(ss []Setting) []Setting {
	sort.SliceStable(ss, func(i, j int) bool {
		a, b := math.Abs(ss[i].Error), math.Abs(ss[j].Error)
		switch {
		case math.Abs(a-b) > same:
			return a < b
		case ss[i].Oversampling != ss[j].Oversampling:
			return ss[i].Oversampling > ss[j].Oversampling
		}
		return ss[i].Shift < ss[j].Shift
	})
	for i := 1; i < len(ss); i++ {
		ss[i].Tie = math.Abs(math.Abs(ss[i].Error)-math.Abs(ss[0].Error)) <= same
	}
	if len(ss) > 1 {
		ss[0].Tie = ss[1].Tie
	}
	return ss
}

// bitsFor is the width of a field that holds a value.
func bitsFor(most int) int {
	n := 1
	for most>>n > 0 {
		n++
	}
	return n
}

// Derivation explains the real rate of a setting.
func (s Setting) Derivation() finding.Derivation {
	d := finding.Derivation{
		Name:    "rate",
		Formula: "clock / (OS · n)",
		Inputs: []finding.Input{
			{Symbol: "clock", Name: "at the peripheral", Value: s.Clock.String()},
			{Symbol: "OS", Name: "receiver samples per bit", Value: fmt.Sprint(s.Oversampling)},
			{Symbol: "n", Name: "divider", Value: s.Divisor()},
			{Symbol: "wanted", Name: "rate", Value: s.Wanted.String()},
		},
		Result: fmt.Sprintf("%s Bd, %s of wanted", s.Rate.Grouped(), Percent(s.Error)),
		Source: "docs/formulas.md, integer divider",
	}
	factors := []string{fmt.Sprint(s.Oversampling), s.Divisor()}
	if s.Steps > 0 {
		d.Source = "docs/formulas.md, fractional divider"
		factors[1] = "(" + factors[1] + ")"
	}
	if s.Before > 0 {
		d.Formula = "clock / (pre · OS · n)"
		d.Inputs = append(d.Inputs, finding.Input{Symbol: "pre", Name: "fixed stage in front", Value: fmt.Sprint(s.Before)})
		factors = append([]string{fmt.Sprint(s.Before)}, factors...)
		d.Source = "docs/formulas.md, timer reload"
	}
	if s.Formula != "" {
		d.Formula, d.Source = s.Formula, "the bench's formula"
	}
	d.Worked = fmt.Sprintf("%s / (%s)", s.Clock, strings.Join(factors, " · "))
	if s.Terms != "" {
		d.Worked = fmt.Sprintf("clock = %s, %s", s.Clock, s.Terms)
	}
	if s.PlusMinus > 0 {
		d.Inputs = append(d.Inputs, finding.Input{Symbol: "±", Name: "uncertainty of the measured clock", Value: fmt.Sprintf("%.2f %%", 100*s.PlusMinus)})
		d.Result += fmt.Sprintf(" ± %.2f %%", 100*s.PlusMinus)
	}
	if s.Shift > 0 {
		d.Result += fmt.Sprintf("; a single edge is up to %.1f %% of a bit off", 100*s.Shift)
	}
	return d
}

// Stage is one step from the clock to the bit rate: what is done, and what comes of
// it.
type Stage struct {
	Sum, Name string
	Freq      quantity.Freq // 0 where a stage has none of its own
	Text      string
}

// Stages are the steps from the clock to the rate, without the last one, the divider
// or the terms of a formula.
func (s Setting) Stages() []Stage {
	if s.Formula != "" {
		return []Stage{{Sum: "=", Name: "by formula", Text: s.Formula}}
	}
	var out []Stage
	if s.Before > 1 {
		out = append(out, Stage{Sum: fmt.Sprintf("÷ %d", s.Before), Name: "before the timer", Freq: quantity.FromHz(s.Clock.Hz() / float64(s.Before))})
	}
	return append(out, Stage{Sum: fmt.Sprintf("÷ %d", s.Oversampling), Name: "samples per bit", Freq: quantity.FromHz(s.Clock.Hz() / float64(s.Oversampling*max(s.Before, 1)))})
}
