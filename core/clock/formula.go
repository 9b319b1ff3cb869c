package clock

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/quantity"
)

// Variable is what a formula is written with: a value for a field, in a range.
type Variable struct {
	Name            string
	Least, Most     int
	Register, Field string
}

// mostCombinations bounds the values of all variables that are tried.
const mostCombinations = 12_000

// mostListed is how many settings of a formula are listed.
const mostListed = 8

// Formula makes a bit rate by an expression of `clock` and of variables, for what
// no other kind describes: clock / (16 * (n + 1) * 2 ** m). All combinations of
// values are tried.
type Formula struct {
	text      string
	samples   int
	variables []Variable
	program   *formula.Formula
}

// NewFormula gives the generator for an expression that gives the bit rate in
// baud; samples says how many ticks a bit its receiver takes.
func NewFormula(text string, samples int, variables []Variable) (*Formula, error) {
	names := []string{"clock"}
	combinations := 1
	for _, v := range variables {
		if slices.Contains(names, v.Name) || v.Name == "" {
			return nil, fmt.Errorf("variable %q: each needs a name of its own, and clock is the clock", v.Name)
		}
		if v.Least < 0 || v.Most < v.Least || v.Most-v.Least >= mostCombinations {
			return nil, fmt.Errorf("variable %s: the range %d to %d is empty or too large", v.Name, v.Least, v.Most)
		}
		names = append(names, v.Name)
		if combinations *= v.Most - v.Least + 1; combinations > mostCombinations {
			return nil, fmt.Errorf("the variables have more than %d combinations; hold one of them", mostCombinations)
		}
	}
	switch {
	case len(variables) == 0:
		return nil, errors.New("a formula needs a variable with a range")
	case samples < 4:
		return nil, fmt.Errorf("%d samples per bit: a receiver needs at least 4", samples)
	}
	program, err := formula.New(text, names...)
	if err != nil {
		return nil, fmt.Errorf("formula %w", err)
	}
	return &Formula{text: text, samples: samples, variables: variables, program: program}, nil
}

// Check implements Generator: NewFormula has checked.
func (f *Formula) Check() error { return nil }

// rate runs the formula; false where it gives no rate.
func (f *Formula) rate(values []float64) (float64, bool) {
	bd := f.program.Value(values...)
	return bd, bd > 0 && !math.IsInf(bd, 0)
}

func (f *Formula) setting(clock quantity.Freq, want quantity.Rate, values []int, bd float64) Setting {
	s := Setting{Clock: clock, Wanted: want, Oversampling: f.samples, Formula: f.text, N: values[0], Register: values[0]}
	var terms []string
	for i, v := range f.variables {
		terms = append(terms, fmt.Sprintf("%s = %d", v.Name, values[i]))
		s.Values = append(s.Values, Value{v.Register, v.Field, values[i], bitsFor(v.Most)})
	}
	s.Terms = strings.Join(terms, ", ")
	return s.rated(bd)
}

// Solve implements Generator.
func (f *Formula) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := ready(f, clock, want); err != nil {
		return nil, err
	}
	type candidate struct {
		values []int
		bd     float64
		off    float64
	}
	var best []candidate
	with := []float64{clock.Hz()}
	values := make([]int, len(f.variables))
	for i, v := range f.variables {
		values[i] = v.Least
		with = append(with, float64(v.Least))
	}
	for more := true; more; {
		if bd, ok := f.rate(with); ok {
			off := math.Abs(bd/want.Bd() - 1)
			if len(best) < mostListed || off < best[len(best)-1].off {
				at := sort.Search(len(best), func(i int) bool { return best[i].off > off })
				best = append(best[:at], append([]candidate{{append([]int(nil), values...), bd, off}}, best[at:]...)...)
				best = best[:min(len(best), mostListed)]
			}
		}
		// The next combination, the last variable first.
		more = false
		for i := len(values) - 1; i >= 0 && !more; i-- {
			if values[i]++; values[i] <= f.variables[i].Most {
				more = true
			} else {
				values[i] = f.variables[i].Least
			}
			with[i+1] = float64(values[i])
		}
	}
	if len(best) == 0 {
		return nil, fmt.Errorf("formula %q gives no rate for any values", f.text)
	}
	var out []Setting
	for _, c := range best {
		out = append(out, f.setting(clock, want, c.values, c.bd))
	}
	return ranked(out), nil
}

// Read implements Generator: one value for each variable.
func (f *Formula) Read(clock quantity.Freq, want quantity.Rate, _ int, values ...int) (Setting, error) {
	if len(values) != len(f.variables) {
		return Setting{}, fmt.Errorf("the formula has %d variables, not %d values", len(f.variables), len(values))
	}
	with := []float64{clock.Hz()}
	for i, v := range f.variables {
		if values[i] < v.Least || values[i] > v.Most {
			return Setting{}, fmt.Errorf("%s = %d is outside %d to %d", v.Name, values[i], v.Least, v.Most)
		}
		with = append(with, float64(values[i]))
	}
	bd, ok := f.rate(with)
	if !ok {
		return Setting{}, fmt.Errorf("formula %q gives no rate for these values", f.text)
	}
	return f.setting(clock, want, values, bd), nil
}

// With implements Generator: with one variable the divisor is its value.
func (f *Formula) With(clock quantity.Freq, want quantity.Rate, _ int, divisor float64) (Setting, error) {
	if len(f.variables) > 1 {
		return Setting{}, errors.New("a formula with several variables has no single divisor")
	}
	n, err := whole(divisor, f.variables[0].Least, f.variables[0].Most)
	if err != nil {
		return Setting{}, err
	}
	return f.Read(clock, want, f.samples, n)
}

// Samples implements Generator.
func (f *Formula) Samples() []int { return []int{f.samples} }

// Only implements Generator: there is nothing to choose.
func (f *Formula) Only(int) Generator { return f }

var formulaKind = GeneratorKind{
	Name: "formula", Doc: "any other rate generator, by an expression that gives the bit rate",
	Mend: "correct the expression, or its variables",
	Schema: doc.Map(
		doc.Key{Name: "rate", Doc: "bit rate in baud, as clock / (16 * (n + 1) * 2 ** m)", Type: doc.NameType, Required: true},
		doc.Key{Name: "samples", Doc: "receiver samples per bit", Type: doc.Int(4, 256), Default: "16"},
		doc.Key{Name: "variables", Doc: "what the expression is written with", Type: doc.MapOf(doc.Map(
			doc.Key{Name: "least", Doc: "smallest value", Type: doc.Int(0, 1<<20), Default: "0"},
			doc.Key{Name: "most", Doc: "largest value", Type: doc.Int(0, 1<<20), Required: true},
		).With(placed("register", "field", "the value")...)), Required: true},
	),
	Parse: func(n *doc.Node, _ []int) (Generator, error) {
		var vs []Variable
		for _, v := range n.Get("variables").All() {
			vs = append(vs, Variable{Name: v.Key, Least: doc.Of[int](v, "least"), Most: doc.Of[int](v, "most"), Register: v.Text("register"), Field: v.Text("field")})
		}
		f, err := NewFormula(n.Text("rate"), doc.Of[int](n, "samples"), vs)
		if err != nil {
			return nil, err
		}
		return f, nil
	},
}
