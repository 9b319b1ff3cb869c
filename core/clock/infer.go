package clock

import (
	"fmt"
	"math"
	"sort"
	"strconv"

	"gavrix.org/gavrix/core/quantity"
)

// Cause is a reason for a measured rate that is not the programmed one.
type Cause struct {
	Text string
	// Residual is what is left unexplained: measured / explained - 1.
	Residual float64
	cost     float64
}

// Infer ranks what would explain a measured rate: the setting says what was
// programmed, PlusMinus is the measurement's uncertainty as a share. Explanations
// that leave more than three times that, at least 0.3 %, are left out.
func Infer(s Setting, measured quantity.Rate, plusMinus float64) []Cause {
	ratio := measured.Bd() / s.exact
	slack := max(3*plusMinus, 0.003)
	var out []Cause
	add := func(cost, explained float64, format string, args ...any) {
		if r := ratio/explained - 1; math.Abs(r) <= slack {
			out = append(out, Cause{fmt.Sprintf(format, args...), r, cost})
		}
	}
	add(0, 1, "as programmed: nothing is to be explained")
	for _, hz := range Crystals {
		f := quantity.Freq(hz) * quantity.Hertz
		if f != s.Clock {
			add(1, f.Hz()/s.Clock.Hz(), "the clock at the unit is %s, not %s", f, s.Clock)
		}
	}
	for _, k := range []int{2, 3, 4, 5, 6, 8, 10, 12, 16, 24, 32, 64, 128, 256} {
		cost := 2.0
		if k&(k-1) == 0 {
			cost = 1.5
		}
		add(cost, 1/float64(k), "a stage that divides by %d comes before the unit, or the clock's factor is %d times smaller", k, k)
		add(cost+0.5, float64(k), "a stage that divides by %d is missing, or the clock's factor is %d times larger", k, k)
	}
	for _, os := range []int{4, 8, 16, 32, 64} {
		if os != s.Oversampling {
			add(1.8, float64(s.Oversampling)/float64(os), "the unit takes %d samples per bit, not %d", os, s.Oversampling)
		}
	}
	if s.Steps == 0 && s.N > 0 && s.Formula == "" {
		add(1.2, float64(s.N)/float64(s.N+1), "the unit divides by one more than was written: %d instead of %d", s.N+1, s.N)
		if s.N > 1 {
			add(1.2, float64(s.N)/float64(s.N-1), "the unit divides by one less than was meant: %d instead of %d", s.N-1, s.N)
		}
		if hex, err := strconv.ParseInt(fmt.Sprint(s.Register), 16, 64); err == nil && hex > 0 && int(hex) != s.Register {
			add(3, float64(s.N)/(float64(hex)+float64(s.N-s.Register)), "%d was written as hex: the register holds %d", s.Register, hex)
		}
	}
	if math.Abs(ratio-1) > slack && ratio > 0.05 && ratio < 20 {
		add(5, ratio, "the source runs at %s, %.3f times what is stated: another source is chosen, or it is not trimmed", quantity.FromHz(s.Clock.Hz()*ratio).Round(4), ratio)
	}
	if s.Steps > 0 && s.Fraction > 0 {
		mean := float64(s.N) + float64(s.Fraction)/float64(s.Steps)
		add(1.2, mean/float64(s.N), "the fraction is not used: the unit divides by %d", s.N)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].rank(slack) < out[j].rank(slack) })
	return out
}

// InferFactor ranks what would explain a clock that was measured: a stage too many
// or too few.
func InferFactor(expected, measured quantity.Freq, plusMinus float64) []Cause {
	slack := max(3*plusMinus, 0.003)
	var out []Cause
	for k := 2; k <= 64; k++ {
		for _, by := range []float64{float64(k), 1 / float64(k)} {
			if r := measured.Hz()/expected.Hz()/by - 1; math.Abs(r) <= slack {
				text := fmt.Sprintf("it is %d times as fast: a division by %d is not there", k, k)
				if by < 1 {
					text = fmt.Sprintf("it is %d times slower: a multiplication by %d is not there, or something divides once more", k, k)
				}
				out = append(out, Cause{text, r, float64(k)})
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].rank(slack) < out[j].rank(slack) })
	return out
}

// rank weighs how unusual a cause is and what it leaves over.
func (c *Cause) rank(slack float64) float64 { return c.cost + 2*math.Abs(c.Residual)/slack }

// TrueClock is the clock that the measured rate means, everything else being as
// programmed.
func TrueClock(s Setting, measured quantity.Rate) quantity.Freq {
	return quantity.FromHz(s.Clock.Hz() * measured.Bd() / s.exact)
}
