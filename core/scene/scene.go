// Package scene holds pictures as meaning: lanes with cells, levels and marks
// at times, without geometry. Renderers for the terminal, SVG and PDF lay
// them out each in its own way; they may drop labels, never facts.
package scene

import (
	"fmt"

	"gavrix/core/quantity"
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

// Levels are the levels of a line.
type Levels struct {
	High    bool // before the first toggle
	Toggles []quantity.Time
	// Reconstructed levels were not seen on a wire; they are drawn dashed.
	Reconstructed bool
}

// Lane is one row of a picture.
type Lane struct {
	Name, Detail string
	Cells        []Cell
	Levels       *Levels
	Marks        []Mark
}

// Scene is a picture over a stretch of time.
type Scene struct {
	Title    string
	From, To quantity.Time
	Lanes    []Lane
	Notes    []string
}

// CellFact gives a cell in words.
func (l *Lane) CellFact(c Cell) string {
	return fmt.Sprintf("%s: %s from %s to %s%s", l.Name, c.Label, c.From, c.To, tone(c.Tone))
}

// MarkFact gives a mark in words.
func (l *Lane) MarkFact(m Mark) string {
	return fmt.Sprintf("%s: %s at %s%s", l.Name, m.Label, m.At, tone(m.Tone))
}

// EdgeFact gives a toggle in words.
func (l *Lane) EdgeFact(i int) string {
	to := "high"
	if l.Levels.High == (i%2 == 0) {
		to = "low"
	}
	return fmt.Sprintf("%s: %s at %s", l.Name, to, l.Levels.Toggles[i])
}

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
		}
		for _, m := range l.Marks {
			out = append(out, l.MarkFact(m))
		}
	}
	return out
}
