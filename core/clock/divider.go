package clock

import (
	"errors"
	"fmt"
	"math"
	"sort"

	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// Workable is the largest rate error, as a share, with which a setting counts
// as workable: half of what the usual frames stand leaves the other half to
// the other end.
const Workable = 0.025

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
		if os < 4 || os%2 != 0 {
			return fmt.Errorf("oversampling ×%d: a receiver takes an even number of samples a bit, at least 4", os)
		}
	}
	if d.Least < 1 || d.Most < d.Least {
		return fmt.Errorf("divider range %d to %d is empty", d.Least, d.Most)
	}
	return nil
}

// Setting is one choice of a Divider.
type Setting struct {
	Clock        quantity.Freq
	Wanted       quantity.Rate
	Oversampling int
	N            int
	Register     int // value to write
	Rate         quantity.Rate
	Error        float64 // Rate / Wanted - 1
}

func (d Divider) setting(clock quantity.Freq, want quantity.Rate, os, n int) Setting {
	s := Setting{Clock: clock, Wanted: want, Oversampling: os, N: n, Register: n}
	if d.PlusOne {
		s.Register = n - 1
	}
	s.Rate = quantity.FromBd(clock.Hz() / float64(os) / float64(n))
	s.Error = float64(s.Rate)/float64(want) - 1
	return s
}

// With gives the setting for a divider that somebody chose.
func (d Divider) With(clock quantity.Freq, want quantity.Rate, oversampling, n int) Setting {
	return d.setting(clock, want, oversampling, max(n, 1))
}

// Solve lists for a wanted rate the nearest setting below and above it for
// each oversampling, best first: smallest error, then highest oversampling.
func (d Divider) Solve(clock quantity.Freq, want quantity.Rate) ([]Setting, error) {
	if err := d.Check(); err != nil {
		return nil, err
	}
	if clock <= 0 || want <= 0 {
		return nil, errors.New("clock and rate must be above 0")
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
	sort.SliceStable(out, func(i, j int) bool {
		a, b := math.Abs(out[i].Error), math.Abs(out[j].Error)
		if a != b {
			return a < b
		}
		return out[i].Oversampling > out[j].Oversampling
	})
	return out, nil
}

func (d Divider) clamp(x float64) int {
	return int(min(max(x, float64(d.Least)), float64(d.Most)))
}

// Usual rates of asynchronous links, in baud.
var Usual = []int{300, 600, 1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 76800, 115200, 230400, 250000, 460800, 500000, 921600, 1000000}

// Nearby lists settings for the usual rates that the clock reaches within
// Workable, the nearest to the wanted rate first, at most n.
func (d Divider) Nearby(clock quantity.Freq, want quantity.Rate, n int) []Setting {
	var out []Setting
	for _, u := range Usual {
		s, err := d.Solve(clock, quantity.Rate(u)*quantity.Baud)
		if err == nil && math.Abs(s[0].Error) <= Workable {
			out = append(out, s[0])
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		return distance(out[i].Wanted, want) < distance(out[j].Wanted, want)
	})
	return out[:min(n, len(out))]
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

// Explain takes a register value apart. The claimed rate may be 0.
func (d Divider) Explain(register, oversampling int, clock quantity.Freq, claimed quantity.Rate) (Meaning, error) {
	n := register
	if d.PlusOne {
		n++
	}
	if n < 1 {
		return Meaning{}, fmt.Errorf("register value %d divides by %d", register, n)
	}
	if oversampling < 1 || clock <= 0 {
		return Meaning{}, errors.New("clock and oversampling must be above 0")
	}
	want := claimed
	if want <= 0 {
		want = quantity.FromBd(clock.Hz() / float64(oversampling) / float64(n))
	}
	m := Meaning{Setting: d.setting(clock, want, oversampling, n)}
	if claimed > 0 {
		m.MeantFor = quantity.FromHz(claimed.Bd() * float64(oversampling*n))
	}
	for _, hz := range Crystals {
		for _, u := range Usual {
			if hz == u*oversampling*n {
				m.Exact = append(m.Exact, ExactClock{quantity.Freq(hz) * quantity.Hertz, quantity.Rate(u) * quantity.Baud})
			}
		}
	}
	return m, nil
}

// Derivation explains the real rate of a setting.
func (s Setting) Derivation() finding.Derivation {
	return finding.Derivation{
		Name:    "rate",
		Formula: "clock / (OS · n)",
		Inputs: []finding.Input{
			{Symbol: "clock", Name: "at the peripheral", Value: s.Clock.String()},
			{Symbol: "OS", Name: "receiver samples a bit", Value: fmt.Sprint(s.Oversampling)},
			{Symbol: "n", Name: "divider", Value: fmt.Sprint(s.N)},
			{Symbol: "wanted", Name: "rate", Value: s.Wanted.String()},
		},
		Worked: fmt.Sprintf("%s / (%d · %d)", s.Clock, s.Oversampling, s.N),
		Result: fmt.Sprintf("%s Bd, %s of wanted", s.Rate.Grouped(), Percent(s.Error)),
		Source: "docs/formulas.md, integer divider",
	}
}

// Percent prints a share as a signed percentage with two decimals.
func Percent(e float64) string {
	return fmt.Sprintf("%+.2f %%", 100*e)
}
