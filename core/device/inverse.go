package device

import (
	"fmt"
	"math"
	"math/big"
	"strings"

	"gavrix.org/gavrix/core/coding"
)

// mostBits bounds the contents of which the nearest is looked for.
const mostBits = 16

// Inverse gives the bits of the one value that a calculated value depends on with which the
// calculation comes nearest to a text, a quantity or the word of a code, and what it gives
// with them. Exact says whether that is what was asked for.
func (v *Value) Inverse(text string) (of *Value, raw uint64, gives coding.Value, exact bool, err error) {
	if len(v.Inputs) != 1 || v.Inputs[0].From != nil || v.Inputs[0].Bits > mostBits {
		var names []string
		for _, i := range v.Inputs {
			names = append(names, i.Name)
		}
		return nil, 0, gives, false, fmt.Errorf("%s is calculated from %s: write that", v.Name, strings.Join(names, ", "))
	}
	if v.UnitBy != nil {
		return nil, 0, gives, false, fmt.Errorf("the unit of %s is what %s says: write %s", v.Name, v.UnitBy.Name, v.Inputs[0].Name)
	}
	of = v.Inputs[0]
	asked, err := v.number(text)
	if err != nil {
		return nil, 0, gives, false, err
	}
	want, _ := asked.Float64()
	best := math.Inf(1)
	for r := range uint64(1) << of.Bits {
		in := of.Format.Decode(r)
		x := float64(r)
		switch {
		case in.Number != nil:
			x, _ = in.Number.Float64()
		case in.Code == "":
			continue
		}
		if of.Least != nil && in.Number != nil && in.Number.Cmp(of.Least) < 0 || of.Most != nil && in.Number != nil && in.Number.Cmp(of.Most) > 0 {
			continue
		}
		if off := math.Abs(v.From.Value(x) - want); off < best {
			best, raw = off, r
			gives = v.calculated(v.From.Value(x))
		}
	}
	if math.IsInf(best, 1) {
		return nil, 0, gives, false, fmt.Errorf("no content of %s gives a number for %s", of.Name, v.Name)
	}
	return of, raw, gives, best <= 1e-9*math.Max(1, math.Abs(want)), nil
}

// number reads what a calculated value is to be.
func (v *Value) number(text string) (*big.Rat, error) {
	for raw, word := range v.Codes {
		if strings.EqualFold(strings.TrimSpace(text), word) {
			return new(big.Rat).SetInt(new(big.Int).SetUint64(raw)), nil
		}
	}
	f := coding.Format{Bits: 64, Unit: v.Unit}
	asked, err := f.Amount(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", v.Name, err)
	}
	return asked, nil
}
