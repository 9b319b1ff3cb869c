package sim

import (
	"encoding/base64"
	"encoding/json"
	"fmt"

	"gavrix/core/bench"
	"gavrix/core/bus"
	"gavrix/core/bus/shared"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// running is a bus that the world runs.
type running interface {
	name() string
	// runs is the bus's turn; it asks for the next one.
	runs()
	// changed gives the input that brings a changed bench onto the bus, or nil.
	changed(l *bench.Bus) *Input
	// put takes an input for this bus.
	put(in Input) error
	// bit is a bit of the MCU's unit.
	bit() quantity.Time
}

// wires are the lines that all parties of a bus share, with an ideal tap. They are
// read at times of their own only, so that the order of records does not depend on
// how the world is watched.
type wires struct {
	w     *World
	index uint16
	bus   *shared.Bus
	tap   bus.Decoder
	sink  record.Sink
	turn  quantity.Time // of the event that counts
	low   []bool        // the lines were low when they were last read
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
	b.w.at(t, busRuns, b.index, 0)
}

// feed gives tap and capture the levels up to now.
func (b *wires) feed() {
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
		b.w.store.Levels(b.index, i, &ws[i])
	}
}

// note puts something that happened into the capture.
func (b *wires) note(at quantity.Time, format string, args ...any) {
	b.w.store.Put(&record.Record{Kind: record.Changed, Link: b.index, Origin: record.FromGavrix, Start: at, End: at, Text: fmt.Sprintf(format, args...)})
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

// packed gives a state as the text of an input, unpacked is its inverse.
func packed(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return "" // finite numbers always have a text
	}
	return base64.RawStdEncoding.EncodeToString(text)
}

func unpacked(text string, v any) error {
	raw, err := base64.RawStdEncoding.DecodeString(text)
	if err != nil {
		return fmt.Errorf("the state is no base64 text")
	}
	if err := json.Unmarshal(raw, v); err != nil {
		return fmt.Errorf("the state can't be read")
	}
	return nil
}
