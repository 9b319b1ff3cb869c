package clock

import (
	"errors"
	"fmt"
	"math"
	"sort"

	"gavrix.org/gavrix/core/quantity"
)

// Usual rates of asynchronous links, in baud.
var Usual = []int{300, 600, 1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 76800, 115200, 230400, 250000, 460800, 500000, 921600, 1000000}

// Nearby lists settings for the usual rates that the clock reaches within
// Workable, the nearest to the wanted rate first, at most n.
func Nearby(g Generator, clock quantity.Freq, want quantity.Rate, n int) []Setting {
	out := Reaches(g, clock)
	sort.SliceStable(out, func(i, j int) bool {
		return distance(out[i].Wanted, want) < distance(out[j].Wanted, want)
	})
	return out[:min(n, len(out))]
}

// Reaches lists the best settings for the usual rates that the clock reaches
// within Workable, in order of the rate.
func Reaches(g Generator, clock quantity.Freq) []Setting {
	var out []Setting
	for _, u := range Usual {
		s, err := g.Solve(clock, quantity.Rate(u)*quantity.Baud)
		if err == nil && math.Abs(s[0].Error) <= Workable {
			out = append(out, s[0])
		}
	}
	return out
}

func distance(a, b quantity.Rate) float64 {
	return math.Abs(math.Log(float64(a) / float64(b)))
}

// Crystals are clock frequencies in common use, in hertz.
var Crystals = []int{
	1_000_000, 1_152_000, 1_843_200, 2_000_000, 2_457_600, 3_072_000, 3_686_400, 4_000_000, 4_915_200,
	6_000_000, 7_372_800, 8_000_000, 9_216_000, 9_830_400, 10_000_000, 11_059_200, 12_000_000, 14_745_600,
	16_000_000, 18_432_000, 20_000_000, 22_118_400, 24_000_000, 24_576_000, 25_000_000, 32_000_000,
	36_000_000, 40_000_000, 48_000_000, 64_000_000, 80_000_000, 100_000_000,
}

// Meaning is what a register value gives, and which clock it was meant for.
type Meaning struct {
	Setting Setting
	// MeantFor is the clock with which the value gives the claimed rate
	// exactly; 0 when no rate is claimed.
	MeantFor quantity.Freq
	// Exact lists usual clocks with which the value gives a usual rate
	// exactly.
	Exact []ExactClock
}

// ExactClock is a clock and the usual rate that it gives exactly.
type ExactClock struct {
	Clock quantity.Freq
	Rate  quantity.Rate
}

// Explain takes register values apart. The claimed rate may be 0.
func Explain(g Generator, clock quantity.Freq, claimed quantity.Rate, oversampling int, values ...int) (Meaning, error) {
	if oversampling < 1 || clock <= 0 {
		return Meaning{}, errors.New("clock and oversampling must be above 0")
	}
	s, err := g.Read(clock, max(claimed, quantity.Baud), oversampling, values...)
	if err != nil {
		return Meaning{}, err
	}
	if claimed <= 0 {
		s.Wanted, s.Error = s.Rate, 0
	}
	m := Meaning{Setting: s}
	per := clock.Hz() / s.exact // clocks a bit
	if claimed > 0 {
		m.MeantFor = quantity.FromHz(claimed.Bd() * per)
	}
	for _, hz := range Crystals {
		for _, u := range Usual {
			if math.Abs(float64(hz)-float64(u)*per) < 1e-6*float64(hz) {
				m.Exact = append(m.Exact, ExactClock{quantity.Freq(hz) * quantity.Hertz, quantity.Rate(u) * quantity.Baud})
			}
		}
	}
	return m, nil
}

// Percent prints a share as a signed percentage with two decimals.
func Percent(e float64) string {
	text := fmt.Sprintf("%+.2f %%", 100*e)
	// What is beyond the limit by less than that shows why.
	if math.Abs(e) > Workable && math.Abs(e) < Workable+0.00005 {
		text = fmt.Sprintf("%+.5f %%", 100*e)
	}
	return text
}
