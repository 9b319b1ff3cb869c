// Package scene holds pictures as meaning: lanes with cells, levels and marks
// at times, without geometry. Renderers for the terminal, SVG and PDF lay
// them out each in its own way; they may drop labels, never facts.
package scene

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
)

// Tone says what a part of a picture is about; renderers choose the looks.
type Tone uint8

// The tones.
const (
	Plain  Tone = iota
	Quiet       // a help for reading
	Differ      // something does not agree
	Doubt       // it depends
)

// Cell is a named stretch of time.
type Cell struct {
	From, To quantity.Time
	Label    string
	Tone     Tone
}

// Mark is a moment.
type Mark struct {
	At    quantity.Time
	Label string
	Tone  Tone
}

// Busy is a stretch with more edges than can be drawn one by one.
type Busy struct {
	From, To quantity.Time
	Edges    int
	High     bool // the level behind it
}

// Levels are the levels of a line.
type Levels struct {
	High    bool // before the first toggle
	Toggles []quantity.Time
	Busy    []Busy // in order; no toggle lies in them
	// Reconstructed levels were not seen on a wire; they are drawn dashed.
	Reconstructed bool
}

// Lane is one row of a picture.
type Lane struct {
	Name, Detail string
	// Letter and Hue mark the kind of bus that the lane is about; 0 is none.
	Letter string
	Hue    int
	Cells  []Cell
	Levels *Levels
	// Series share a scale.
	Series []Series
	Scale  *Scale
	Marks  []Mark
	// Ticks are moments whose labels stand beside them: the time axis.
	Ticks []Mark
}

// Hop is one line of what is written down in an order: a stage of a sum, a step,
// a register.
type Hop struct {
	Mark                string // in the gutter: an operator, a number, the glyph of a state
	Name, Value, Detail string
	Under               string // a sentence below it
	Tone                Tone
	Heading             bool // names what follows
}

// Scene is a picture over a stretch of time, with hops below it.
type Scene struct {
	Title    string
	From, To quantity.Time
	Lanes    []Lane
	Charts   []Chart
	Hops     []Hop
	// Cursors are moments that go through all lanes.
	Cursors []Mark
	Notes   []string
}

// Fact gives the hop in words.
func (h Hop) Fact() string {
	out := h.Name
	for _, part := range []string{h.Value, h.Detail, h.Under} {
		if part != "" {
			out += ": " + part
		}
	}
	return out + tone(h.Tone)
}

// called is what facts call the lane.
func (l *Lane) called() string {
	if l.Name == "" {
		return l.Detail
	}
	return l.Name
}

// CellFact gives a cell in words.
func (l *Lane) CellFact(c Cell) string {
	return fmt.Sprintf("%s: %s from %s to %s%s", l.called(), c.Label, c.From, c.To, tone(c.Tone))
}

// MarkFact gives a mark in words.
func (l *Lane) MarkFact(m Mark) string {
	return fmt.Sprintf("%s: %s at %s%s", l.called(), m.Label, m.At, tone(m.Tone))
}

// EdgeFact gives a toggle in words.
func (l *Lane) EdgeFact(i int) string {
	to := "high"
	if l.Levels.Before(i) {
		to = "low"
	}
	return fmt.Sprintf("%s: %s at %s", l.called(), to, l.Levels.Toggles[i])
}

// Before gives the level before a toggle.
func (l *Levels) Before(i int) bool {
	high, k := l.High, 0
	for _, b := range l.Busy {
		if b.From > l.Toggles[i] {
			break
		}
		for k < i && l.Toggles[k] < b.To {
			k++
		}
		high = b.High
	}
	return high != ((i-k)%2 == 1)
}

// BusyFact gives a busy stretch in words.
func (l *Lane) BusyFact(b Busy) string {
	return fmt.Sprintf("%s: %d edges from %s to %s", l.called(), b.Edges, b.From, b.To)
}

// TickFact gives a tick in words.
func (l *Lane) TickFact(m Mark) string { return fmt.Sprintf("%s: %s", l.called(), m.Label) }

// Holds says whether a moment lies in the picture.
func (s *Scene) Holds(t quantity.Time) bool { return t >= s.From && t < s.To }

// CursorFact gives a cursor in words.
func (s *Scene) CursorFact(m Mark) string { return fmt.Sprintf("cursor %s at %s", m.Label, m.At) }

func tone(t Tone) string {
	switch t {
	case Differ:
		return " (differs)"
	case Doubt:
		return " (depends)"
	}
	return ""
}

// Facts lists everything that the picture says.
func (s *Scene) Facts() []string {
	var out []string
	for i := range s.Lanes {
		l := &s.Lanes[i]
		for _, c := range l.Cells {
			out = append(out, l.CellFact(c))
		}
		if l.Levels != nil {
			for k := range l.Levels.Toggles {
				out = append(out, l.EdgeFact(k))
			}
			for _, b := range l.Levels.Busy {
				out = append(out, l.BusyFact(b))
			}
		}
		for k := range l.Series {
			for _, p := range l.Series[k].Points {
				out = append(out, l.PointFact(&l.Series[k], p))
			}
		}
		for _, m := range l.Marks {
			out = append(out, l.MarkFact(m))
		}
		for _, m := range l.Ticks {
			out = append(out, l.TickFact(m))
		}
	}
	for i := range s.Charts {
		out = append(out, s.Charts[i].Facts()...)
	}
	for _, h := range s.Hops {
		out = append(out, h.Fact())
	}
	for _, m := range s.Cursors {
		if s.Holds(m.At) {
			out = append(out, s.CursorFact(m))
		}
	}
	return out
}
