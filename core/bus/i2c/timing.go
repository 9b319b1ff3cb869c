package i2c

import (
	"errors"
	"fmt"
	"math"
	"sort"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Class is a speed class with its limits.
type Class struct {
	Name      string
	Rate      quantity.Rate // the most
	Low, High quantity.Time // the least that the clock is low and high
	Rise      quantity.Time // the most that a line takes to rise
	Fall      quantity.Time // and to fall
	Load      float64       // most capacitance of a line, farad
	Sink      float64       // current that every output must sink, ampere
	Output    float64       // at which voltage at the most
}

// Classes are the speed classes of lines that a resistor pulls up.
var Classes = []Class{
	{"standard", 100 * quantity.Kilobaud, 4700 * quantity.Nanosecond, 4000 * quantity.Nanosecond, 1000 * quantity.Nanosecond, 300 * quantity.Nanosecond, 400e-12, 3e-3, 0.4},
	{"fast", 400 * quantity.Kilobaud, 1300 * quantity.Nanosecond, 600 * quantity.Nanosecond, 300 * quantity.Nanosecond, 300 * quantity.Nanosecond, 400e-12, 3e-3, 0.4},
	{"fast plus", quantity.Megabaud, 500 * quantity.Nanosecond, 260 * quantity.Nanosecond, 120 * quantity.Nanosecond, 120 * quantity.Nanosecond, 550e-12, 20e-3, 0.4},
}

// ClassFor gives the slowest class that reaches a rate.
func ClassFor(rate quantity.Rate) (Class, error) {
	for _, c := range Classes {
		if rate <= c.Rate {
			return c, nil
		}
	}
	return Class{}, fmt.Errorf("%s: lines with a pull-up reach 1 Mbit/s", rate)
}

// riseFactor is ln(0.7/0.3): a line rises from 30 to 70 % of the supply in that
// many time constants.
var riseFactor = math.Log(0.7 / 0.3)

// RiseTime is the time in which a line rises from 30 to 70 % of its supply, by
// pull-up (ohm) and capacitance (farad).
func RiseTime(pullUp, load float64) quantity.Time {
	return quantity.Time(math.Round(riseFactor * pullUp * load * 1e12))
}

// PullUp is the range of a line's pull-up in ohm.
type PullUp struct{ Least, Most float64 }

// PullUpFor gives the range for a supply in volt, a capacitance in farad and a
// class: at least what the outputs can sink, at most what the rise time allows.
// It fails where nothing is between.
func PullUpFor(supply, load float64, c Class) (PullUp, error) {
	if !(supply > c.Output) || !(load > 0) {
		return PullUp{}, fmt.Errorf("supply %g V and capacitance %g pF: both must be above 0, the supply above %g V", supply, load*1e12, c.Output)
	}
	p := PullUp{Least: (supply - c.Output) / c.Sink, Most: c.Rise.Seconds() / (riseFactor * load)}
	if p.Least > p.Most {
		return p, fmt.Errorf("no pull-up serves: the outputs ask for at least %.0f Ω, the rise time for at most %.0f Ω; take less capacitance or a slower class", p.Least, p.Most)
	}
	return p, nil
}

// Counters make the clock of a bus controller: it is low for (Low + LowPlus)
// periods of the unit's clock and high for (High + HighPlus), each after the
// line has followed.
type Counters struct {
	Least, Most       int // range of both counters
	LowPlus, HighPlus int // periods that the unit adds by itself
	Filter            int // periods by which the input filter delays each edge
}

// Check says what is wrong with the description.
func (c Counters) Check() error {
	if c.Least < 0 || c.Most < c.Least || c.Least+c.LowPlus < 1 || c.Least+c.HighPlus < 1 || c.Filter < 0 {
		return fmt.Errorf("counter range %d to %d is empty or too low", c.Least, c.Most)
	}
	if c.Most > mostCount || max(c.LowPlus, c.HighPlus, c.Filter) > mostCount {
		return fmt.Errorf("counters up to %d are calculated", mostCount)
	}
	return nil
}

// mostCount is the largest counter that is reckoned with.
const mostCount = 1 << 20

// Timing is a choice of both counters.
type Timing struct {
	Clock         quantity.Freq
	Wanted        quantity.Rate
	Low, High     int // values to write
	LowTime, Time quantity.Time
	HighTime      quantity.Time
	Rate          quantity.Rate // with rise, fall and filter
	Error         float64       // Rate / Wanted - 1, never above 0
}

// Timing reckons a choice of counts; rise and fall are those of the line.
func (c Counters) Timing(clock quantity.Freq, want quantity.Rate, low, high int, rise, fall quantity.Time) Timing {
	period := 1e12 / clock.Hz()
	t := Timing{Clock: clock, Wanted: want, Low: low, High: high}
	t.LowTime = quantity.Time(math.Round(float64(low+c.LowPlus+c.Filter) * period))
	t.HighTime = quantity.Time(math.Round(float64(high+c.HighPlus+c.Filter) * period))
	t.Time = t.LowTime + t.HighTime + rise + fall
	t.Rate = quantity.FromBd(1e12 / float64(t.Time))
	t.Error = float64(t.Rate)/float64(want) - 1
	return t
}

// SolveCounters finds counters for a rate that is never exceeded, with the
// class's least low and high times, fastest first; of equals the one whose low
// and high times have most to spare. At most the number given is listed.
func (c Counters) SolveCounters(clock quantity.Freq, want quantity.Rate, class Class, rise, fall quantity.Time, most int) ([]Timing, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	switch {
	case clock <= 0 || want <= 0:
		return nil, errors.New("clock and rate must be above 0")
	case want > class.Rate:
		return nil, fmt.Errorf("%s is above the %s that class %s allows", want, class.Rate, class.Name)
	}
	period := 1e12 / clock.Hz()
	atLeast := func(t quantity.Time, plus int) int {
		return max(int(math.Ceil(float64(t)/period-1e-9))-plus-c.Filter, c.Least)
	}
	low, high := atLeast(class.Low, c.LowPlus), atLeast(class.High, c.HighPlus)
	bit := 1e12 / want.Bd()
	total := int(math.Ceil((bit-float64(rise+fall))/period-1e-9)) - c.LowPlus - c.HighPlus - 2*c.Filter
	total = max(total, low+high)
	var out []Timing
	for sum := total; sum <= total+1; sum++ {
		for l := max(low, sum-c.Most); l <= min(sum-high, c.Most); l++ {
			if t := c.Timing(clock, want, l, sum-l, rise, fall); t.Rate <= want+1 {
				out = append(out, t)
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("counters of %d to %d can't make %s from %s within class %s", c.Least, c.Most, want, clock, class.Name)
	}
	spare := func(t *Timing) quantity.Time { return min(t.LowTime-class.Low, t.HighTime-class.High) }
	sort.SliceStable(out, func(i, j int) bool {
		if out[i].Low+out[i].High != out[j].Low+out[j].High {
			return out[i].Low+out[i].High < out[j].Low+out[j].High
		}
		return spare(&out[i]) > spare(&out[j])
	})
	return out[:min(len(out), max(most, 1))], nil
}

// PullUpDerivation explains the range of a pull-up.
func PullUpDerivation(supply, load float64, c Class, p PullUp) finding.Derivation {
	return finding.Derivation{
		Name: "pull-up", Formula: "(supply - output) / sink to rise / (ln(0.7/0.3) · C)",
		Inputs: []finding.Input{
			{Symbol: "supply", Name: "of the lines", Value: fmt.Sprintf("%g V", supply)},
			{Symbol: "output", Name: "low level that every output reaches", Value: fmt.Sprintf("%g V", c.Output)},
			{Symbol: "sink", Name: "current that every output sinks", Value: fmt.Sprintf("%g mA", c.Sink*1e3)},
			{Symbol: "rise", Name: "longest rise of class " + c.Name, Value: c.Rise.String()},
			{Symbol: "C", Name: "capacitance of a line", Value: fmt.Sprintf("%g pF", load*1e12)},
		},
		Worked: fmt.Sprintf("(%g - %g) V / %g mA to %s / (0.847 · %g pF)", supply, c.Output, c.Sink*1e3, c.Rise, load*1e12),
		Result: fmt.Sprintf("%.0f to %.0f Ω", p.Least, p.Most),
		Source: "docs/formulas.md, I2C pull-ups",
	}
}

// Derivation explains the rate of a choice of counters.
func (t Timing) Derivation(rise, fall quantity.Time) finding.Derivation {
	return finding.Derivation{
		Name: "I2C rate", Formula: "1 / (low + high + rise + fall)",
		Inputs: []finding.Input{
			{Symbol: "low", Name: fmt.Sprintf("counter %d", t.Low), Value: t.LowTime.String()},
			{Symbol: "high", Name: fmt.Sprintf("counter %d", t.High), Value: t.HighTime.String()},
			{Symbol: "rise", Name: "of the line", Value: rise.String()},
			{Symbol: "fall", Name: "of the line", Value: fall.String()},
		},
		Worked: fmt.Sprintf("1 / (%s + %s + %s + %s)", t.LowTime, t.HighTime, rise, fall),
		Result: fmt.Sprintf("%.1f bit/s, %+.2f %%", t.Rate.Bd(), 100*t.Error),
		Source: "docs/formulas.md, I2C counters",
	}
}

// e12 are the usual steps of resistors in a decade.
var e12 = []float64{1, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2}

// Step gives the usual resistor above or below a value, in ohm.
func Step(ohm float64, up bool) float64 {
	best := 0.0
	for decade := 10.0; decade <= 1e6; decade *= 10 {
		for _, s := range e12 {
			v := s * decade
			switch {
			case up && v > ohm*1.001 && best == 0:
				return v
			case !up && v < ohm*0.999:
				best = v
			}
		}
	}
	return best
}

// Usual gives a usual resistor within a range, the one nearest to its middle by
// ratio; 0 where none lies in it.
func Usual(p PullUp) float64 {
	middle := math.Sqrt(p.Least * p.Most)
	best := 0.0
	for v := Step(p.Least*0.999, true); v > 0 && v <= p.Most; v = Step(v, true) {
		if best == 0 || math.Abs(math.Log(v/middle)) < math.Abs(math.Log(best/middle)) {
			best = v
		}
	}
	return best
}
