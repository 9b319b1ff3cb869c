package spi

import (
	"errors"
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/quantity"
)

// Part is a device as the choice of the clock sees it.
type Part struct {
	Name string
	Most quantity.Freq // of the clock
	// Valid is the time from the edge at which the device changes its output to
	// the new bit standing there; 0 where it says nothing back.
	Valid quantity.Time
	// SetUp and Hold are how long it wants its input to stand still before and
	// behind the sampling edge.
	SetUp, Hold quantity.Time
}

// Unit is the MCU's side: the dividers that it has and what its input wants.
type Unit struct {
	Clock       quantity.Freq
	Dividers    []int
	SetUp, Hold quantity.Time
}

// PowersOfTwo gives the dividers 2, 4 … up to the most.
func PowersOfTwo(most int) []int {
	var out []int
	for d := 2; d <= most; d *= 2 {
		out = append(out, d)
	}
	return out
}

// Margin is what is left at one divider for one device.
type Margin struct {
	Divider int
	Rate    quantity.Freq
	// Refused says why not; empty where it fits.
	Refused string
	// Read is what is left of half a period when the device's answer has come and
	// the MCU's input has its set-up time; Write the same of the other direction.
	Read, Write quantity.Time
}

// Margins lists all dividers for a device, the fastest first.
func (u Unit) Margins(p Part) ([]Margin, error) {
	if u.Clock <= 0 || len(u.Dividers) == 0 {
		return nil, errors.New("the unit needs a clock above 0 and at least one divider")
	}
	if p.Most <= 0 {
		return nil, fmt.Errorf("%s: the most that its clock stands must be above 0", p.Name)
	}
	ds := slices.Clone(u.Dividers)
	slices.Sort(ds)
	var out []Margin
	for _, d := range slices.Compact(ds) {
		if d < 1 {
			return nil, fmt.Errorf("divider %d: at least 1", d)
		}
		m := Margin{Divider: d, Rate: quantity.FromHz(u.Clock.Hz() / float64(d))}
		half := quantity.Time(1e12 / m.Rate.Hz() / 2)
		m.Read = half - p.Valid - u.SetUp
		m.Write = half - max(p.SetUp, p.Hold)
		switch {
		case m.Rate > p.Most:
			m.Refused = fmt.Sprintf("%s is above the %s of %s", m.Rate, p.Most, p.Name)
		case m.Write < 0:
			m.Refused = fmt.Sprintf("half a period is %s; %s wants its input still for %s", half.Round(3), p.Name, max(p.SetUp, p.Hold))
		case p.Valid > 0 && m.Read < 0:
			m.Refused = fmt.Sprintf("the answer of %s comes %s too late for the MCU's sampling edge", p.Name, (-m.Read).Round(3))
		}
		out = append(out, m)
	}
	return out, nil
}

// Best gives the fastest divider that a device stands.
func (u Unit) Best(p Part) (Margin, error) {
	ms, err := u.Margins(p)
	if err != nil {
		return Margin{}, err
	}
	for _, m := range ms {
		if m.Refused == "" {
			return m, nil
		}
	}
	return Margin{}, fmt.Errorf("%s: no divider serves; at ÷%d %s", p.Name, ms[len(ms)-1].Divider, ms[len(ms)-1].Refused)
}

// ModeOf gives the mode of a data sheet's words: the level at which the clock
// rests, and the edge at which data is sampled.
func ModeOf(restsHigh, samplesRising bool) int {
	mode := 0
	if restsHigh {
		mode = 2
	}
	// The first edge is away from rest: rising where the clock rests low.
	if samplesRising == restsHigh {
		mode++
	}
	return mode
}

// OneForAll gives the fastest divider that serves all of several devices, whose margins
// are those of Margins; false where none does.
func OneForAll(devices ...[]Margin) (Margin, bool) {
	serves := map[int]int{}
	for _, ms := range devices {
		for _, m := range ms {
			if m.Refused == "" {
				serves[m.Divider]++
			}
		}
	}
	for _, m := range devices[0] {
		if serves[m.Divider] == len(devices) {
			return m, true
		}
	}
	return Margin{}, false
}
