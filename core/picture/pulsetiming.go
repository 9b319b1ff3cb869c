package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

// PulseTiming shows a 0 and a 1 on the line as the patterns make them, against what
// the device takes, and the pause that latches. Everything but the latch is true to
// scale.
func PulseTiming(l *bench.Pulse) *scene.Scene {
	c := l.Choice
	gap := c.Bit / 2
	s := &scene.Scene{Title: fmt.Sprintf("%s: a 0 and a 1, a bit takes %s; where each level may end", l.Name, c.Bit.Round(4)), From: -gap / 2}
	sent := scene.Lane{Name: "MCU", Detail: "bits"}
	line := scene.Lane{Name: "line", Levels: &scene.Levels{}}
	is := scene.Lane{Name: "is"}
	high := scene.Lane{Name: "high", Detail: "may be"}
	low := scene.Lane{Name: "low", Detail: "may be"}
	bit := l.Choice.Bit / quantity.Time(l.Patterns.Bits)
	at := quantity.Time(0)
	for one, times := range [][2]pulse.SymbolTime{{c.Times(l.Takes)[0], c.Times(l.Takes)[1]}, {c.Times(l.Takes)[2], c.Times(l.Takes)[3]}} {
		for i, b := range l.Patterns.Text(one == 1) {
			from := at + bit*quantity.Time(i)
			sent.Cells = append(sent.Cells, scene.Cell{From: from, To: from + bit, Label: string(b)})
		}
		up, down := times[0], times[1]
		fall, end := at+up.Is, at+up.Is+down.Is
		line.Levels.Toggles = append(line.Levels.Toggles, at, fall)
		is.Cells = append(is.Cells, shown(at, fall, up), shown(fall, end, down))
		high.Cells = append(high.Cells, allowed(at, up))
		if down.Limits.Most-down.Limits.Least < 20*c.Bit {
			low.Cells = append(low.Cells, allowed(fall, down))
		} else {
			low.Cells = append(low.Cells, scene.Cell{From: fall + down.Limits.Least, To: end + gap/2, Label: "to " + down.Limits.Most.String(), Tone: tone(down.Fits())})
		}
		s.To = max(s.To, end+gap/2, fall+min(down.Limits.Most, c.Bit))
		at = max(end, fall+min(down.Limits.Most, c.Bit)) + gap
	}
	s.Lanes = []scene.Lane{sent, line, is, high, low}
	return s
}

func shown(from, to quantity.Time, t pulse.SymbolTime) scene.Cell {
	return scene.Cell{From: from, To: to, Label: t.Is.Round(3), Tone: tone(t.Fits())}
}

// allowed is where an edge may come that ends a stretch which began at a time.
func allowed(from quantity.Time, t pulse.SymbolTime) scene.Cell {
	return scene.Cell{From: from + t.Limits.Least, To: from + t.Limits.Most, Label: t.Limits.Least.String() + " to " + t.Limits.Most.String(), Tone: tone(t.Fits())}
}

func tone(fits bool) scene.Tone {
	if fits {
		return scene.Plain
	}
	return scene.Differ
}
