package wire

import (
	"math"

	"gavrix.org/gavrix/core/quantity"
)

// Times are the least, the mean and the most of some measured times.
type Times struct {
	N                 int
	Least, Mean, Most quantity.Time
}

// add takes one more time; Mean holds the sum until done.
func (x *Times) add(t quantity.Time) {
	if x.N == 0 || t < x.Least {
		x.Least = t
	}
	x.Most = max(x.Most, t)
	x.Mean += t
	x.N++
}

func (x *Times) done() {
	if x.N > 0 {
		x.Mean /= quantity.Time(x.N)
	}
}

// Sum gathers times for their figures.
type Sum struct{ times Times }

// Add counts a time in.
func (s *Sum) Add(t quantity.Time) { s.times.add(t) }

// Times gives the figures of all that were counted in.
func (s *Sum) Times() Times {
	x := s.times
	x.done()
	return x
}

// TimesOf gives the figures of some times.
func TimesOf(ts []quantity.Time) Times {
	var x Times
	for _, t := range ts {
		x.add(t)
	}
	x.done()
	return x
}

// Measured is what a line did in a stretch of time. Pulses and periods that
// the stretch cuts off are left out.
type Measured struct {
	Span        quantity.Time
	Rises       int
	Falls       int
	High, Low   Times // widths of whole pulses
	Period      Times // from rise to rise
	HighShare   float64
	LongestRest quantity.Time // without an edge, the ends of the stretch counted
}

// Frequency is one over the mean period; 0 where there is none.
func (m *Measured) Frequency() quantity.Freq {
	if m.Period.N == 0 {
		return 0
	}
	return quantity.FromHz(1e12 / float64(m.Period.Mean))
}

// Duty is the share of the high pulses in the whole periods, NaN where there
// are none.
func (m *Measured) Duty() float64 {
	if m.High.N == 0 || m.Low.N == 0 {
		return math.NaN()
	}
	return float64(m.High.Mean) / float64(m.High.Mean+m.Low.Mean)
}

// Measure measures a window.
func Measure(w *Window) Measured {
	m := Measured{Span: w.To - w.From}
	level := w.High
	last, rise := w.From, quantity.Time(-1)
	var up quantity.Time
	for i, t := range w.Toggles {
		if level {
			up += t - last
			m.Falls++
			if i > 0 {
				m.High.add(t - last)
			}
		} else {
			m.Rises++
			if i > 0 {
				m.Low.add(t - last)
			}
			if rise >= 0 {
				m.Period.add(t - rise)
			}
			rise = t
		}
		m.LongestRest = max(m.LongestRest, t-last)
		level, last = !level, t
	}
	if level {
		up += w.To - last
	}
	m.LongestRest = max(m.LongestRest, w.To-last)
	if m.Span > 0 {
		m.HighShare = float64(up) / float64(m.Span)
	}
	m.High.done()
	m.Low.done()
	m.Period.done()
	return m
}

// SetUpHold gives for the rising or falling edges of a clock how long data had
// stood still before each, and how long it did behind. Edges before the first
// or behind the last change of data count from the window's ends.
func SetUpHold(clock *Window, rising bool, data *Window) (setUp, hold Times) {
	level, k := clock.High, 0
	for _, t := range clock.Toggles {
		level = !level
		if level != rising {
			continue
		}
		for k < len(data.Toggles) && data.Toggles[k] <= t {
			k++
		}
		if k > 0 {
			setUp.add(t - data.Toggles[k-1])
		}
		if k < len(data.Toggles) {
			hold.add(data.Toggles[k] - t)
		}
	}
	setUp.done()
	hold.done()
	return setUp, hold
}

// Activity is what a line is seen to do.
type Activity uint8

// The activities.
const (
	IdleHigh Activity = iota
	IdleLow
	Active
	NotDriven
)

func (a Activity) String() string {
	return [...]string{"idle high", "idle low", "active", "not driven"}[a]
}

// ActivityOf says what a line does in a window.
func ActivityOf(w *Window) Activity {
	switch {
	case len(w.Toggles) > 0:
		return Active
	case w.To > w.From && len(w.Unknown) > 0 && w.Unknown[0].From <= w.From && w.Unknown[len(w.Unknown)-1].To >= w.To:
		return NotDriven
	case w.High:
		return IdleHigh
	}
	return IdleLow
}
