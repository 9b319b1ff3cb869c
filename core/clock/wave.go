package clock

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Counter is a timer that makes a square wave or pulses: it counts up from a
// reload value to 2^w, or down from it to 0.
type Counter struct {
	Width   int  // bits, 2 to 32
	Up      bool // counts up: the reload value is 2^w - counts; else counts
	Toggles bool // turns the output round at each overflow: two a period
}

// Wave is a choice of the reload value, and of the compare value for a duty.
type Wave struct {
	Clock   quantity.Freq
	Wanted  quantity.Freq
	Counts  int // clocks from overflow to overflow
	Reload  int
	Real    quantity.Freq
	Error   float64 // Real / Wanted - 1
	Step    float64 // how much one count changes the frequency, a share
	Compare int     // counts that the output is high; 0 without a duty
	Duty    float64 // what it really is; of a toggling output 0.5
}

// Solve finds the counts for a frequency, and for a duty (0 to 1; 0 for none).
func (c Counter) Solve(clock, want quantity.Freq, duty float64) (Wave, error) {
	switch {
	case c.Width < 2 || c.Width > 32:
		return Wave{}, fmt.Errorf("a counter of %d bits: 2 to 32 are known", c.Width)
	case clock <= 0 || want <= 0:
		return Wave{}, errors.New("clock and frequency must be above 0")
	case duty < 0 || duty >= 1:
		return Wave{}, fmt.Errorf("duty %g: expected 0 to 1", duty)
	case duty > 0 && c.Toggles:
		return Wave{}, errors.New("an output that toggles is high half of the time: no duty can be chosen")
	}
	per := 1.0
	if c.Toggles {
		per = 2
	}
	exact := clock.Hz() / per / want.Hz()
	most := float64(uint64(1) << c.Width)
	if exact > most+0.5 {
		return Wave{}, fmt.Errorf("%s is below what %d bits reach from %s: %s", want, c.Width, clock, quantity.FromHz(clock.Hz()/per/most).Round(4))
	}
	best := Wave{Error: math.Inf(1)}
	for _, n := range []float64{math.Floor(exact), math.Ceil(exact)} {
		n = min(max(n, 1), most)
		hz := clock.Hz() / per / n
		if e := hz/want.Hz() - 1; math.Abs(e) < math.Abs(best.Error) {
			best = Wave{Clock: clock, Wanted: want, Counts: int(n), Real: quantity.FromHz(hz), Error: e, Step: 1 / n}
		}
	}
	best.Reload = best.Counts & (1<<c.Width - 1)
	if c.Up {
		best.Reload = (1<<c.Width - best.Counts) & (1<<c.Width - 1)
	}
	switch {
	case c.Toggles:
		best.Duty = 0.5
	case duty > 0:
		best.Compare = int(min(max(math.Round(duty*float64(best.Counts)), 1), float64(best.Counts-1)))
		best.Duty = float64(best.Compare) / float64(best.Counts)
	}
	return best, nil
}

// Derivation explains the frequency.
func (w Wave) Derivation(toggles bool) finding.Derivation {
	d := finding.Derivation{
		Name: "counter", Formula: "clock / counts",
		Inputs: []finding.Input{
			{Symbol: "clock", Name: "of the counter", Value: w.Clock.String()},
			{Symbol: "counts", Name: "from overflow to overflow", Value: fmt.Sprint(w.Counts)},
		},
		Worked: fmt.Sprintf("%s / %d", w.Clock, w.Counts),
		Result: fmt.Sprintf("%s, %s; one count more or less is %.2f %%", w.Real.Round(6), Percent(w.Error), 100*w.Step),
		Source: "docs/formulas.md, counters",
	}
	if toggles {
		d.Formula, d.Worked = "clock / (2 · counts)", fmt.Sprintf("%s / (2 · %d)", w.Clock, w.Counts)
	}
	return d
}
