package clock

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Reload is a timer that counts up from a reload value and overflows at 2^w; its
// overflows, divided by a factor, clock the bits:
// rate = clock / (pre · factor · (2^w - reload)).
type Reload struct {
	Width           int   // w, 4 to 32 bits
	Before          int   // fixed division of the clock in front, 1 for none
	Factor          []int // overflows a bit that can be chosen: 32, or 16 when doubled
	Register, Field string
	// DoubleRegister and DoubleField choose among two factors: 0 the first, 1
	// the second.
	DoubleRegister, DoubleField string
}

// Check implements Generator.
func (d Reload) Check() error {
	switch {
	case d.Width < 4 || d.Width > 32:
		return fmt.Errorf("a timer of %d bits: 4 to 32 are known", d.Width)
	case d.Before < 1 || d.Before > 1<<16:
		return fmt.Errorf("the stage in front divides by %d: 1 to %d", d.Before, 1<<16)
	case len(d.Factor) == 0 || len(d.Factor) > 2:
		return errors.New("give the number of overflows a bit, or two to choose from")
	}
	for _, f := range d.Factor {
		if f < 4 || f > mostSamples {
			return fmt.Errorf("%d overflows a bit: a receiver needs 4 to %d", f, mostSamples)
		}
	}
	return nil
}

func (d Reload) setting(clock quantity.Freq, want quantity.Rate, factor, n int) Setting {
	s := Setting{Clock: clock, Wanted: want, Oversampling: factor, N: n, Before: d.Before, Register: 1<<d.Width - n}
	// A timer that counts all of 2^w is reloaded with 0.
	s.Register &= 1<<d.Width - 1
	s.Values = []Value{{d.Register, d.Field, s.Register, d.Width}}
	if len(d.Factor) == 2 {
		double := 0
		if factor == d.Factor[1] {
			double = 1
		}
		s.Values = append(s.Values, Value{d.DoubleRegister, d.DoubleField, double, 1})
	}
	return s.rated(clock.Hz() / float64(d.Before) / float64(factor) / float64(n))
}

// Solve implements Generator.
func (d Reload) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := ready(d, clock, want); err != nil {
		return nil, err
	}
	var out []Setting
	for _, f := range d.Factor {
		exact := clock.Hz() / float64(d.Before) / float64(f) / want.Bd()
		clamp := func(x float64) int { return int(min(max(x, 1), float64(uint64(1)<<d.Width))) }
		low, high := clamp(math.Floor(exact)), clamp(math.Ceil(exact))
		out = append(out, d.setting(clock, want, f, low))
		if low != high {
			out = append(out, d.setting(clock, want, f, high))
		}
	}
	return ranked(out), nil
}

// Read implements Generator: the reload value, and the doubling where there is
// one.
func (d Reload) Read(clock quantity.Freq, want quantity.Rate, factor int, values ...int) (Setting, error) {
	if len(values) != len(d.Factor) {
		return Setting{}, fmt.Errorf("%d values; this timer has %d: reload%s", len(values), len(d.Factor), map[bool]string{true: " and doubling"}[len(d.Factor) == 2])
	}
	if values[0] < 0 || values[0] >= 1<<d.Width {
		return Setting{}, fmt.Errorf("reload value %X does not fit %d bits", values[0], d.Width)
	}
	if len(values) == 2 {
		if values[1] < 0 || values[1] > 1 {
			return Setting{}, fmt.Errorf("doubling is 0 or 1, not %d", values[1])
		}
		factor = d.Factor[values[1]]
	}
	return d.setting(clock, want, factor, 1<<d.Width-values[0]), nil
}

// With implements Generator: the divisor is 2^w less the reload value.
func (d Reload) With(clock quantity.Freq, want quantity.Rate, factor int, divisor float64) (Setting, error) {
	n, err := whole(divisor, 1, 1<<d.Width)
	if err != nil {
		return Setting{}, err
	}
	return d.setting(clock, want, factor, n), nil
}

// Samples implements Generator.
func (d Reload) Samples() []int { return d.Factor }

// Only implements Generator.
func (d Reload) Only(factor int) Generator { return only{d, factor} }

var reloadKind = GeneratorKind{
	Name: "reload", Doc: "a timer that counts up from a reload value; its overflows clock the bits",
	Mend: "correct the width, or the factors",
	Schema: doc.Map(
		doc.Key{Name: "width", Doc: "bits of the timer", Type: doc.Int(4, 32), Required: true},
		doc.Key{Name: "before", Doc: "fixed division in front of the timer", Type: doc.Int(1, 65536), Default: "1"},
		doc.Key{Name: "factor", Doc: "overflows a bit, or two to choose from: without and with doubling", Type: doc.ListOf(doc.Int(4, 256), 1), Required: true},
	).With(placed("register", "field", "the reload value")...).With(placed("double-register", "double-field", "the doubling")...),
	Parse: func(n *doc.Node, _ []int) (Generator, error) {
		return Reload{
			Width: doc.Of[int](n, "width"), Before: doc.Of[int](n, "before"), Factor: doc.List[int](n, "factor"), Register: n.Text("register"), Field: n.Text("field"),
			DoubleRegister: n.Text("double-register"), DoubleField: n.Text("double-field"),
		}, nil
	},
}
