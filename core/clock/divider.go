package clock

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Divider is an integer rate generator of an asynchronous receiver and
// transmitter: rate = clock / (oversampling · n).
type Divider struct {
	Oversampling []int // receiver samples a bit that can be chosen
	Least, Most  int   // range of n
	PlusOne      bool  // the register holds n - 1
	Register     string
	Field        string
}

// Check says what is wrong with the description of the generator.
func (d Divider) Check() error {
	if len(d.Oversampling) == 0 {
		return errors.New("no oversampling is given")
	}
	for _, os := range d.Oversampling {
		if os == 1 {
			return errors.New("×1 can't be used for asynchronous receive: one sample a bit finds no start edge")
		}
		if os < 4 || os%2 != 0 || os > mostSamples {
			return fmt.Errorf("oversampling ×%d: a receiver takes an even number of samples per bit, 4 to %d", os, mostSamples)
		}
	}
	if d.Most > mostDivider {
		return fmt.Errorf("dividers up to %d are calculated", mostDivider)
	}
	if d.Least < 1 || d.Most < d.Least {
		return fmt.Errorf("dividers from %d to %d: the smallest is 1 at least, and not above the largest", d.Least, d.Most)
	}
	return nil
}

// The largest numbers that are reckoned with; generators have less.
const (
	mostSamples = 1 << 12
	mostDivider = 1 << 32
)

func (d Divider) setting(clock quantity.Freq, want quantity.Rate, os, n int) Setting {
	s := Setting{Clock: clock, Wanted: want, Oversampling: os, N: n, Register: n}
	most := d.Most
	if d.PlusOne {
		s.Register, most = n-1, most-1
	}
	s.Values = []Value{{Register: d.Register, Field: d.Field, Value: s.Register, Bits: bitsFor(max(most, s.Register))}}
	return s.rated(clock.Hz() / float64(os) / float64(n))
}

// With implements Generator.
func (d Divider) With(clock quantity.Freq, want quantity.Rate, oversampling int, divisor float64) (Setting, error) {
	n, err := whole(divisor, d.Least, d.Most)
	if err != nil {
		return Setting{}, err
	}
	return d.setting(clock, want, oversampling, n), nil
}

// Samples implements Generator.
func (d Divider) Samples() []int { return d.Oversampling }

// Only implements Generator.
func (d Divider) Only(oversampling int) Generator {
	d.Oversampling = []int{oversampling}
	return d
}

// Solve implements Generator: for each oversampling the nearest setting below
// and above the wanted rate.
func (d Divider) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := ready(d, clock, want); err != nil {
		return nil, err
	}
	var out []Setting
	for _, os := range d.Oversampling {
		exact := clock.Hz() / float64(os) / want.Bd()
		low := d.clamp(math.Floor(exact))
		high := d.clamp(math.Ceil(exact))
		out = append(out, d.setting(clock, want, os, low))
		if high != low {
			out = append(out, d.setting(clock, want, os, high))
		}
	}
	return ranked(out), nil
}

// Read implements Generator: the value is the register's.
func (d Divider) Read(clock quantity.Freq, want quantity.Rate, oversampling int, values ...int) (Setting, error) {
	if len(values) != 1 {
		return Setting{}, errors.New("a divider has one value")
	}
	n := values[0]
	if d.PlusOne {
		n++
	}
	if n < 1 {
		return Setting{}, fmt.Errorf("register value %d divides by %d", values[0], n)
	}
	return d.setting(clock, want, oversampling, n), nil
}

func (d Divider) clamp(x float64) int {
	return int(min(max(x, float64(d.Least)), float64(d.Most)))
}

var dividerKind = GeneratorKind{
	Name: "divider", Doc: "a rate generator that divides by whole numbers",
	Mend: "fix least and most, or the oversampling",
	Schema: doc.Map(
		doc.Key{Name: "least", Doc: "smallest divider", Type: doc.Int(1, 1<<24), Default: "1"},
		doc.Key{Name: "most", Doc: "largest divider", Type: doc.Int(1, 1<<24), Required: true},
		doc.Key{Name: "plus-one", Doc: "the register holds the divider less one", Type: doc.YesNo, Default: "no"},
	).With(placed("register", "field", "the value")...),
	Parse: func(n *doc.Node, oversampling []int) (Generator, error) {
		return Divider{
			Oversampling: oversampling, Least: doc.Of[int](n, "least"), Most: doc.Of[int](n, "most"), PlusOne: doc.Of[bool](n, "plus-one"),
			Register: n.Text("register"), Field: n.Text("field"),
		}, nil
	},
}
