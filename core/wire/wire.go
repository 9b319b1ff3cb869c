// Package wire holds line levels over time: windows of toggles as decoders
// take them, a trace that is kept in bounded memory, and the model of a line
// between who drives it and who reads it.
package wire

import (
	"slices"
	"sort"

	"gavrix.org/gavrix/core/quantity"
)

// Span is a stretch of time, From inclusive, To exclusive.
type Span struct {
	From, To quantity.Time
	Open     bool // of an unknown stretch: nobody drove the line; else two fought, or it isn't told
}

// Window is what one line did in the stretch from From (inclusive) to To
// (exclusive). Toggles are the times at which the level changed, strictly
// increasing and inside the stretch; a sample taken at the time of a toggle
// sees the level after it.
type Window struct {
	From, To quantity.Time
	High     bool // the level before the first toggle
	Toggles  []quantity.Time
	// Unknown are the stretches in which the level isn't known. There it is what the
	// line happened to read as. They are in order and don't overlap.
	Unknown []Span
}

// Floating says whether the level at t is unknown.
func (w *Window) Floating(t quantity.Time) bool { return w.Symbol(t) > '1' }

// Symbol gives the level at t as captures write it: 0, 1, x for an unknown one, z where
// nobody drove the line.
func (w *Window) Symbol(t quantity.Time) byte {
	if i := sort.Search(len(w.Unknown), func(i int) bool { return w.Unknown[i].To > t }); i < len(w.Unknown) && w.Unknown[i].From <= t {
		if w.Unknown[i].Open {
			return 'z'
		}
		return 'x'
	}
	if w.Level(t) {
		return '1'
	}
	return '0'
}

// Changes gives the times behind the start of the window at which its symbol may
// change, rising.
func (w *Window) Changes() []quantity.Time {
	if len(w.Unknown) == 0 {
		return w.Toggles
	}
	out := slices.Clone(w.Toggles)
	for _, s := range w.Unknown {
		for _, t := range []quantity.Time{s.From, s.To} {
			if t > w.From && t < w.To {
				out = append(out, t)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Level gives the level at the time t.
func (w *Window) Level(t quantity.Time) bool {
	n := sort.Search(len(w.Toggles), func(i int) bool { return w.Toggles[i] > t })
	return w.High != (n%2 == 1)
}

// Known gives the window with a level in place of what is unknown.
func (w *Window) Known(high bool) Window {
	if len(w.Unknown) == 0 {
		return *w
	}
	out := Window{From: w.From, To: w.To, High: w.High}
	if w.Floating(w.From) {
		out.High = high
	}
	level := out.High
	for _, t := range w.Changes() {
		now := high
		if s := w.Symbol(t); s <= '1' {
			now = s == '1'
		}
		if now != level && t > w.From {
			out.Toggles = append(out.Toggles, t)
		} else if now != level {
			out.High = now
		}
		level = now
	}
	return out
}

// EndsHigh gives the level at the end of the window.
func (w *Window) EndsHigh() bool { return w.High != (len(w.Toggles)%2 == 1) }

// Rest says what a line does while nobody sends on it.
type Rest uint8

// The resting states.
const (
	DrivenHigh Rest = iota // an output holds it high, as a UART's transmitter does
	BiasedHigh             // a resistor pulls it high
	Floating               // nothing holds it: the level is unknown
	DrivenLow              // an output holds it low, as that of a pulse line does
)

// Line is one wire from a driver to a reader. The driver's toggles reach the
// reader after the propagation delay. Levels may be driven ahead of time; a
// reader only ever gets them up to the time that it asks for.
type Line struct {
	Delay quantity.Time
	Rest  Rest

	drivenHigh bool
	readHigh   bool // level of the reader at readTo
	readTo     quantity.Time
	pending    []quantity.Time // toggles at the reader, not read yet
	unread     []Span
	open       bool // the wire is broken: the reader sees a floating line
	openFrom   quantity.Time
	buf        []quantity.Time
}

// NewLine gives a line that rests.
func NewLine(delay quantity.Time, rest Rest) *Line {
	high := rest != DrivenLow
	l := &Line{Delay: delay, Rest: rest, drivenHigh: high, readHigh: high}
	if rest == Floating {
		l.open, l.openFrom = true, 0
	}
	return l
}

// Drive appends toggles of the driver. They must be in order and later than
// every earlier one.
func (l *Line) Drive(toggles []quantity.Time) {
	if l.open {
		l.drivenHigh = l.drivenHigh != (len(toggles)%2 == 1)
		return
	}
	for _, t := range toggles {
		l.pending = append(l.pending, t+l.Delay)
	}
	l.drivenHigh = l.drivenHigh != (len(toggles)%2 == 1)
}

// Break opens the wire at the time t (Mend closes it). The reader's level is
// unknown from then on, and reads as the level that it had; with a resistor at
// the reader's end (BiasedHigh) it goes high and is known.
func (l *Line) Break(t quantity.Time) {
	if l.open {
		return
	}
	l.open, l.openFrom = true, t+l.Delay
	keep := l.pending[:0]
	for _, p := range l.pending {
		if p < l.openFrom {
			keep = append(keep, p)
		}
	}
	l.pending = keep
	if l.Rest == BiasedHigh && !l.EndHigh() {
		l.pending = append(l.pending, l.openFrom)
	}
}

// Mend closes a broken wire at the time t.
func (l *Line) Mend(t quantity.Time) {
	if !l.open {
		return
	}
	at := t + l.Delay
	if l.Rest != BiasedHigh {
		l.unread = append(l.unread, Span{From: l.openFrom, To: at, Open: true})
	}
	l.open = false
	if l.EndHigh() != l.drivenHigh {
		l.pending = append(l.pending, at)
	}
}

// Open says whether the wire is broken.
func (l *Line) Open() bool { return l.open }

// EndHigh is the reader's level after everything that is driven so far.
func (l *Line) EndHigh() bool { return l.readHigh != (len(l.pending)%2 == 1) }

// Read gives the reader's window from the end of the last one to the time to.
// Its slices are valid until the next call.
func (l *Line) Read(to quantity.Time) Window {
	w := Window{From: l.readTo, To: to, High: l.readHigh}
	n := sort.Search(len(l.pending), func(i int) bool { return l.pending[i] >= to })
	l.buf = append(l.buf[:0], l.pending[:n]...)
	l.pending = append(l.pending[:0], l.pending[n:]...)
	w.Toggles = l.buf
	for _, s := range l.unread {
		if s.To > w.From {
			w.Unknown = append(w.Unknown, s)
		}
	}
	if l.open && l.openFrom < to && l.Rest != BiasedHigh {
		w.Unknown = append(w.Unknown, Span{From: l.openFrom, To: to, Open: true})
	}
	keep := l.unread[:0]
	for _, s := range l.unread {
		if s.To > to {
			keep = append(keep, s)
		}
	}
	l.unread = keep
	l.readHigh, l.readTo = w.EndsHigh(), to
	return w
}
