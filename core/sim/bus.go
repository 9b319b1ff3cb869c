package sim

import (
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/shared"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// wires are the lines that all parties of a bus share, with an ideal tap. They are
// read at times of their own only, so that the order of records does not depend on
// how the world is watched.
type wires struct {
	place
	bus  *shared.Bus
	tap  bus.Decoder
	sink record.Sink
	turn quantity.Time // of the event that counts
	low  []bool        // the lines were low when they were last read
}

// fresh puts a new bus in the place of the old one, from the present time on.
func (b *wires) fresh(lines int, tap bus.Decoder, sink record.Sink) {
	b.bus = shared.New(lines)
	b.bus.Run(b.w.now)
	b.bus.Take()
	b.tap, b.sink = tap, sink
	if b.low == nil {
		b.low = make([]bool, lines)
	}
}

// again asks for the next turn.
func (b *wires) again(t quantity.Time) {
	b.turn = t
	b.at(t, busRuns, 0)
}

// read gives tap and capture the levels up to now.
func (b *wires) read() {
	b.bus.Run(b.w.now)
	ws := b.bus.Take()
	if ws[0].From == ws[0].To {
		return
	}
	for i := range ws {
		if w := &ws[i]; w.High == b.low[i] {
			// The bus was begun anew while the line was at the other level.
			w.High = !b.low[i]
			if len(w.Toggles) > 0 && w.Toggles[0] == w.From {
				w.Toggles = w.Toggles[1:]
			} else {
				w.Toggles = append([]quantity.Time{w.From}, w.Toggles...)
			}
		}
		b.low[i] = !ws[i].EndsHigh()
	}
	b.tap.Feed(ws, b.sink)
	for i := range ws {
		b.w.store.Levels(b.line0+i, &ws[i])
	}
}

// gate is a node whose pins may not reach the lines.
type gate struct {
	bus.Node
	mute, deaf []bool // by line
	seen       []bool
}

// Step implements bus.Node.
func (g *gate) Step(t quantity.Time, high, release []bool) quantity.Time {
	g.seen = append(g.seen[:0], high...)
	for i, deaf := range g.deaf {
		g.seen[i] = g.seen[i] || deaf
	}
	wake := g.Node.Step(t, g.seen, release)
	for i, mute := range g.mute {
		release[i] = release[i] || mute
	}
	return wake
}

// swapped is a node whose two wires are exchanged.
type swapped struct{ bus.Node }

// Step implements bus.Node.
func (s swapped) Step(t quantity.Time, high, release []bool) quantity.Time {
	mine := []bool{true, true}
	wake := s.Node.Step(t, []bool{high[1], high[0]}, mine)
	release[0], release[1] = mine[1], mine[0]
	return wake
}

// holder is a driver that is stuck: its line stays low.
type holder struct{ line int }

// Step implements bus.Node.
func (h holder) Step(_ quantity.Time, _, release []bool) quantity.Time {
	release[h.line] = false
	return quantity.Forever
}
