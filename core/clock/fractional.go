package clock

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Fractional divides by n + f/2^b: the ticks last n or n + 1 clocks, so that
// their mean is right. rate = clock / (oversampling · (n + f/2^b)).
type Fractional struct {
	Oversampling []int
	Least, Most  int // range of the whole part
	Bits         int // b, 1 to 16
	// Packed: one register holds n · 2^b + f; else Register holds n and
	// FractionRegister f.
	Packed                          bool
	Register, Field                 string
	FractionRegister, FractionField string
}

// Check implements Generator.
func (d Fractional) Check() error {
	if d.Bits < 1 || d.Bits > 16 {
		return fmt.Errorf("%d bits of fraction: a divider has 1 to 16", d.Bits)
	}
	return Divider{Oversampling: d.Oversampling, Least: d.Least, Most: d.Most}.Check()
}

// setting makes a setting of a divider in steps of 2^-b.
func (d Fractional) setting(clock quantity.Freq, want quantity.Rate, os, steps int) Setting {
	one := 1 << d.Bits
	s := Setting{Clock: clock, Wanted: want, Oversampling: os, N: steps >> d.Bits, Fraction: steps & (one - 1), Steps: one}
	if d.Packed {
		s.Values = []Value{{d.Register, d.Field, steps, bitsFor(d.Most) + d.Bits}}
	} else {
		s.Values = []Value{{d.Register, d.Field, s.N, bitsFor(d.Most)}, {d.FractionRegister, d.FractionField, s.Fraction, d.Bits}}
	}
	s.Register = s.Values[0].Value
	mean := float64(steps) / float64(one)
	// The sum of ticks is always rounded to whole clocks: it is up to
	// 1 - 1/period clocks behind the mean, the period that of the fraction.
	if s.Fraction > 0 {
		s.Shift = (1 - float64(gcd(s.Fraction, one))/float64(one)) / (float64(os) * mean)
	}
	return s.rated(clock.Hz() / float64(os) / mean)
}

// Solve implements Generator.
func (d Fractional) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := ready(d, clock, want); err != nil {
		return nil, err
	}
	least, most := d.Least<<d.Bits, d.Most<<d.Bits|(1<<d.Bits-1)
	clamp := func(x float64) int { return int(min(max(x, float64(least)), float64(most))) }
	var out []Setting
	for _, os := range d.Oversampling {
		exact := clock.Hz() / float64(os) / want.Bd() * float64(int(1)<<d.Bits)
		// Counted in steps, a fraction that rounds up to a whole carries by
		// itself.
		low, high := clamp(math.Floor(exact)), clamp(math.Ceil(exact))
		out = append(out, d.setting(clock, want, os, low))
		if high != low {
			out = append(out, d.setting(clock, want, os, high))
		}
		// Without a fraction no edge is shifted.
		if whole := clamp(math.Round(exact/float64(int(1)<<d.Bits)) * float64(int(1)<<d.Bits)); whole != low && whole != high {
			out = append(out, d.setting(clock, want, os, whole))
		}
	}
	return ranked(out), nil
}

// Read implements Generator: one value where they are packed, else whole part
// and fraction.
func (d Fractional) Read(clock quantity.Freq, want quantity.Rate, oversampling int, values ...int) (Setting, error) {
	steps := 0
	switch {
	case d.Packed && len(values) == 1:
		steps = values[0]
	case !d.Packed && len(values) == 2:
		if values[1] < 0 || values[1] >= 1<<d.Bits {
			return Setting{}, fmt.Errorf("fraction %d does not fit %d bits", values[1], d.Bits)
		}
		steps = values[0]<<d.Bits + values[1]
	case d.Packed:
		return Setting{}, errors.New("a packed divider has one value")
	default:
		return Setting{}, errors.New("a fractional divider has two values: whole part and fraction")
	}
	if steps < 1 {
		return Setting{}, errors.New("the divider is 0")
	}
	return d.setting(clock, want, oversampling, steps), nil
}

// With implements Generator: the nearest divisor in steps of 2^-b.
func (d Fractional) With(clock quantity.Freq, want quantity.Rate, oversampling int, divisor float64) (Setting, error) {
	steps := int(math.Round(divisor * float64(int(1)<<d.Bits)))
	if n := steps >> d.Bits; n < d.Least || n > d.Most {
		return Setting{}, fmt.Errorf("divisor %g is outside %d to %d", divisor, d.Least, d.Most)
	}
	return d.setting(clock, want, oversampling, steps), nil
}

// Samples implements Generator.
func (d Fractional) Samples() []int { return d.Oversampling }

// Only implements Generator.
func (d Fractional) Only(oversampling int) Generator {
	d.Oversampling = []int{oversampling}
	return d
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

var fractionalKind = GeneratorKind{
	Name: "fractional", Doc: "a rate generator that divides by a whole number and a fraction of 2^bits",
	Mend: "fix least and most, or the bits",
	Schema: doc.Map(
		doc.Key{Name: "least", Doc: "smallest whole part", Type: doc.Int(1, 1<<20), Default: "1"},
		doc.Key{Name: "most", Doc: "largest whole part", Type: doc.Int(1, 1<<20), Required: true},
		doc.Key{Name: "bits", Doc: "bits of the fraction", Type: doc.Int(1, 16), Required: true},
	).With(placed("register", "field", "the whole part, or both where there is no other")...).With(placed("fraction-register", "fraction-field", "the fraction, where it is another")...),
	Parse: func(n *doc.Node, oversampling []int) (Generator, error) {
		f := Fractional{
			Oversampling: oversampling, Least: doc.Of[int](n, "least"), Most: doc.Of[int](n, "most"), Bits: doc.Of[int](n, "bits"),
			Register: n.Text("register"), Field: n.Text("field"), FractionRegister: n.Text("fraction-register"), FractionField: n.Text("fraction-field"),
		}
		f.Packed = f.FractionRegister == "" && f.FractionField == ""
		return f, nil
	},
}
