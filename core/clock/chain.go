package clock

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Chain is a counter whose output clocks a receiver that divides once more by a
// factor: rate = clock / (n · factor). Of its factors ×1 serves synchronous
// transmission only.
type Chain struct {
	Factors                     []int
	Least, Most                 int // range of n
	Register, Field             string
	FactorRegister, FactorField string
}

// Check implements Generator.
func (d Chain) Check() error {
	if len(d.Factors) == 0 {
		return errors.New("no factor of the receiver is given")
	}
	for _, f := range d.Factors {
		if f < 1 || f > mostSamples {
			return fmt.Errorf("factor ×%d: 1 to %d", f, mostSamples)
		}
	}
	if d.Most > mostDivider {
		return fmt.Errorf("counters up to %d are calculated", mostDivider)
	}
	if d.Least < 1 || d.Most < d.Least {
		return fmt.Errorf("counts from %d to %d: the smallest is 1 at least, and not above the largest", d.Least, d.Most)
	}
	return nil
}

// ErrSynchronous says why a factor of 1 is never chosen.
var ErrSynchronous = errors.New("×1 can't be used for asynchronous receive: one sample a bit finds no start edge")

func (d Chain) setting(clock quantity.Freq, want quantity.Rate, factor, n int) Setting {
	s := Setting{Clock: clock, Wanted: want, Oversampling: factor, N: n, Register: n}
	s.Values = []Value{{d.Register, d.Field, n, bitsFor(d.Most)}}
	if len(d.Factors) > 1 {
		for i, f := range d.Factors {
			if f == factor {
				s.Values = append(s.Values, Value{d.FactorRegister, d.FactorField, i, bitsFor(len(d.Factors) - 1)})
			}
		}
	}
	return s.rated(clock.Hz() / float64(factor) / float64(n))
}

// Solve implements Generator, for asynchronous receive.
func (d Chain) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := ready(d, clock, want); err != nil {
		return nil, err
	}
	var out []Setting
	for _, f := range d.Factors {
		if f == 1 {
			continue
		}
		x := Divider{Oversampling: []int{f}, Least: d.Least, Most: d.Most}
		exact := clock.Hz() / float64(f) / want.Bd()
		low, high := x.clamp(math.Floor(exact)), x.clamp(math.Ceil(exact))
		out = append(out, d.setting(clock, want, f, low))
		if low != high {
			out = append(out, d.setting(clock, want, f, high))
		}
	}
	if len(out) == 0 {
		return nil, ErrSynchronous
	}
	return ranked(out), nil
}

// Read implements Generator: the counter's value, and the number of the factor
// where there are several.
func (d Chain) Read(clock quantity.Freq, want quantity.Rate, factor int, values ...int) (Setting, error) {
	if len(values) > 1 {
		if values[1] < 0 || values[1] >= len(d.Factors) {
			return Setting{}, fmt.Errorf("there is no factor number %d", values[1])
		}
		factor = d.Factors[values[1]]
	}
	if len(values) == 0 || values[0] < 1 {
		return Setting{}, errors.New("the counter's value must be above 0")
	}
	return d.setting(clock, want, factor, values[0]), nil
}

// With implements Generator.
func (d Chain) With(clock quantity.Freq, want quantity.Rate, factor int, divisor float64) (Setting, error) {
	n, err := whole(divisor, d.Least, d.Most)
	if err != nil {
		return Setting{}, err
	}
	return d.setting(clock, want, factor, n), nil
}

// Samples implements Generator.
func (d Chain) Samples() []int { return d.Factors }

// Only implements Generator.
func (d Chain) Only(factor int) Generator { return only{d, factor} }

// only is a generator held to one factor whose number must stay what it is among
// all of them.
type only struct {
	Generator
	factor int
}

// Solve implements Generator.
func (o only) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	all, err := o.Generator.Solve(clock, want)
	var out []Setting
	for _, s := range all {
		if s.Oversampling == o.factor {
			out = append(out, s)
		}
	}
	switch {
	case err != nil:
		return nil, err
	case len(out) == 0 && o.factor == 1:
		return nil, ErrSynchronous
	case len(out) == 0:
		return nil, fmt.Errorf("there is no factor ×%d", o.factor)
	}
	return ranked(out), nil
}

// Samples implements Generator.
func (o only) Samples() []int { return []int{o.factor} }

var chainKind = GeneratorKind{
	Name: "chain", Doc: "a counter that clocks a receiver which divides once more",
	Mend: "fix least and most, or the factors",
	Schema: doc.Map(
		doc.Key{Name: "factors", Doc: "what the receiver can divide by", Type: doc.ListOf(doc.Int(1, 256), 1), Required: true},
		doc.Key{Name: "least", Doc: "smallest count", Type: doc.Int(1, 1<<24), Default: "1"},
		doc.Key{Name: "most", Doc: "largest count", Type: doc.Int(1, 1<<24), Required: true},
	).With(placed("register", "field", "the count")...).With(placed("factor-register", "factor-field", "the factor's number")...),
	Parse: func(n *doc.Node, _ []int) (Generator, error) {
		return Chain{
			Factors: doc.List[int](n, "factors"), Least: doc.Of[int](n, "least"), Most: doc.Of[int](n, "most"), Register: n.Text("register"), Field: n.Text("field"),
			FactorRegister: n.Text("factor-register"), FactorField: n.Text("factor-field"),
		}, nil
	},
}
