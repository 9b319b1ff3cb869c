package spi

import (
	"fmt"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// End is a device's end as its sheet words it: the frame, the most that its clock
// stands, and what it wants of clock, data and select.
type End struct {
	Settings
	Part
	// Lead is the least time from select to the first edge of the clock, Lag from
	// the last edge to release, Idle between two transfers.
	Lead, Lag, Idle quantity.Time
}

// Named is the end of a part with another name.
func (e End) Named(name string) any {
	e.Part.Name = name
	return e
}

// EndSchema lists what a device file says of an spi device.
var EndSchema = doc.Map(
	doc.Key{Name: "clock-idle", Doc: "level at which the clock rests, as the sheet words it", Type: doc.Enum("low", "high")},
	doc.Key{Name: "samples", Doc: "edge at which the device samples, as the sheet words it", Type: doc.Enum("rising", "falling")},
	doc.Key{Name: "mode", Doc: "clock idle level and sampling edge as a number, 0 to 3", Type: doc.OneOf(0, 1, 2, 3)},
	doc.Key{Name: "word", Doc: "bits per word, 4 to 32", Type: doc.Int(4, 32), Default: "8"},
	doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb"), Default: "msb"},
	doc.Key{Name: "active", Doc: "level of the select line while selected", Type: doc.Enum("low", "high"), Default: "low"},
	doc.Key{Name: "wires", Doc: "data lines: 2, or 1 that serves both directions", Type: doc.OneOf(2, 1), Default: "2"},
	doc.Key{Name: "turn", Doc: "with one data line: the number of bits after which the device drives it", Type: doc.Int(1, 1<<16)},
	doc.Key{Name: "turn-if", Doc: "the first bits after which it does, as they are on the wire: 0, 1, . for either, as 1.......; absent: always", Type: doc.AnyText},
	doc.Key{Name: "most", Doc: "the most that its clock may run at", Type: doc.FreqType, Required: true},
	doc.Key{Name: "valid", Doc: "time from the clock's edge to its output standing there; absent: it says nothing back", Type: doc.TimeType},
	doc.Key{Name: "set-up", Doc: "time that its input stands still before the sampling edge", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "hold", Doc: "time that its input stands still after the sampling edge", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "lead", Doc: "time from select to the clock's first edge", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "lag", Doc: "time from the clock's last edge to release", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "idle", Doc: "time between two transfers", Type: doc.TimeType, Default: "0 ns"},
)

// ParseEnd reads an end that was validated with EndSchema.
func ParseEnd(n *doc.Node, name string) (End, error) {
	e := End{Part: Part{Name: name}, Settings: frameOf(n)}
	rest, samples := doc.Of[string](n, "clock-idle"), doc.Of[string](n, "samples")
	switch {
	case (rest == "") != (samples == ""):
		return e, fmt.Errorf("%s: clock-idle and samples go together", name)
	case (rest == "") == (n.Get("mode") == nil):
		return e, fmt.Errorf("%s: give the mode, or clock-idle and samples, not both", name)
	}
	mode := doc.Of[int](n, "mode")
	if rest != "" {
		mode = ModeOf(rest == "high", samples == "rising")
	}
	e.Settings = e.Settings.WithMode(mode)
	e.Most = doc.Of[quantity.Freq](n, "most")
	for _, t := range []struct {
		key string
		to  *quantity.Time
	}{{"valid", &e.Valid}, {"set-up", &e.SetUp}, {"hold", &e.Hold}, {"lead", &e.Lead}, {"lag", &e.Lag}, {"idle", &e.Idle}} {
		*t.to = doc.Of[quantity.Time](n, t.key)
	}
	if e.Shared && e.Turn == 0 {
		return e, fmt.Errorf("%s: with one data line say after how many bits it drives the line: turn: 8", name)
	}
	if e.Most <= 0 {
		return e, fmt.Errorf("%s: the most that its clock stands must be above 0", name)
	}
	return e, e.Settings.Check()
}

// WithMode gives the settings in another mode.
func (s Settings) WithMode(mode int) Settings {
	m := Mode(mode)
	s.ClockIdleHigh, s.SampleSecond = m.ClockIdleHigh, m.SampleSecond
	return s
}

// Words says what a mode means, as data sheets do.
func (s Settings) Words() string {
	rest, edge := "low", "rising"
	if s.ClockIdleHigh {
		rest = "high"
	}
	if s.SampleSecond != s.ClockIdleHigh {
		edge = "falling"
	}
	return fmt.Sprintf("clock rests %s, sampled at the %s edge", rest, edge)
}
