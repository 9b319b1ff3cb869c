package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

// spiBits is how many bits a picture of spi timing shows.
const spiBits = 4

// spiEdges are the edges of a clock, with what happens at them in a mode.
type spiEdges struct {
	at   []quantity.Time
	rise []bool
}

// samplesRising says at which edge of the clock a mode samples.
func samplesRising(s spi.Settings) bool { return s.SampleSecond == s.ClockIdleHigh }

// of gives the times of the edges at which a mode samples, or changes its data.
func (e spiEdges) of(s spi.Settings, sample bool) []quantity.Time {
	var out []quantity.Time
	for i, t := range e.at {
		if (e.rise[i] == samplesRising(s)) == sample {
			out = append(out, t)
		}
	}
	return out
}

// SPITiming shows the beginning of a transfer at the MCU's settings: where data
// change and where they are sampled at both ends, and how long each end wants them
// to stand still. Everything is true to scale.
func SPITiming(l *bench.Link, d *bench.SPIDevice, u spi.Unit) *scene.Scene {
	period := quantity.Time(1e12 / d.Margin.Rate.Hz())
	half := period / 2
	var e spiEdges
	for k := range 2 * spiBits {
		e.at = append(e.at, d.Lead+quantity.Time(k)*half)
		e.rise = append(e.rise, (k%2 == 0) != d.MCU.ClockIdleHigh)
	}
	end := d.Lead + 2*spiBits*half
	s := &scene.Scene{
		Title: fmt.Sprintf("%s, %s at ÷%d, %s: the first %d bits", l.Name, d.Name, d.Margin.Divider, d.Margin.Rate.Round(4), spiBits),
		From:  -half / 2, To: end,
	}
	active := d.MCU.Select == spi.ActiveHigh
	s.Lanes = append(s.Lanes,
		scene.Lane{Name: "select", Levels: &scene.Levels{High: !active, Toggles: []quantity.Time{0}}},
		scene.Lane{Name: "clock", Detail: fmt.Sprintf("mode %d", d.MCU.Mode()), Levels: &scene.Levels{High: d.MCU.ClockIdleHigh, Toggles: e.at}})

	out := stands(e, d.MCU, d.MCU, 0, end)
	s.Lanes = append(s.Lanes, scene.Lane{Name: "MCU", Detail: "sends", Cells: out})
	s.Lanes = append(s.Lanes, samplesOf(d.Name, e.of(d.End.Settings, true), d.End.SetUp, d.End.Hold, out))
	if d.End.Valid > 0 {
		in := stands(e, d.End.Settings, d.End.Settings, d.End.Valid, end)
		s.Lanes = append(s.Lanes, scene.Lane{Name: d.Name, Detail: "sends", Cells: in})
		s.Lanes = append(s.Lanes, samplesOf("MCU", e.of(d.MCU, true), u.SetUp, u.Hold, in))
	}
	return s
}

// stands gives when each bit stands on a line whose driver changes it in a mode,
// after a delay in which it may be anything.
func stands(e spiEdges, s, names spi.Settings, delay, end quantity.Time) []scene.Cell {
	changes := e.of(s, false)
	if !s.SampleSecond {
		changes = append([]quantity.Time{0}, changes...) // the first bit comes with select
	}
	var out []scene.Cell
	for i, t := range changes {
		until := end
		if i+1 < len(changes) {
			until = changes[i+1]
		}
		if i >= spiBits || t >= end {
			break
		}
		if delay > 0 {
			out = append(out, scene.Cell{From: t, To: min(t+delay, until), Label: "changes", Tone: scene.Doubt})
		}
		if t+delay < until {
			bit := names.Word - 1 - i
			if names.LSBFirst {
				bit = i
			}
			out = append(out, scene.Cell{From: t + delay, To: until, Label: fmt.Sprintf("b%d", bit)})
		}
	}
	return out
}

// samplesOf marks where a receiver samples and how long it wants the line to stand
// still; what does not is marked.
func samplesOf(name string, at []quantity.Time, setUp, hold quantity.Time, line []scene.Cell) scene.Lane {
	l := scene.Lane{Name: name, Detail: "reads"}
	for _, t := range at {
		tone := scene.Differ
		for _, c := range line {
			if c.Tone == scene.Plain && c.From <= t-setUp && t+hold <= c.To && t < c.To {
				tone = scene.Plain
			}
		}
		if setUp+hold > 0 {
			l.Cells = append(l.Cells, scene.Cell{From: t - setUp, To: t + hold, Label: "still", Tone: tone})
		}
		l.Marks = append(l.Marks, scene.Mark{At: t, Label: "samples", Tone: tone})
	}
	return l
}
