// Package paper lays a scene out on a page of points, for SVG and PDF.
package paper

import (
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"github.com/mattn/go-runewidth"
)

// Colour is a colour of the page's own few.
type Colour uint8

// The colours.
const (
	Ink Colour = iota
	Grey
	Alarm
	Caution
	Shade // a fill behind what does not agree
	White
)

// RGB gives a colour's parts from 0 to 255. They differ in lightness too, so
// that a print without colour still tells them apart.
func (c Colour) RGB() (r, g, b int) {
	v := [...][3]int{{24, 28, 34}, {120, 126, 134}, {178, 34, 52}, {150, 100, 0}, {246, 224, 224}, {255, 255, 255}}[c]
	return v[0], v[1], v[2]
}

// Anchor says which point of a text its position is.
type Anchor uint8

// The anchors.
const (
	Start Anchor = iota
	Middle
)

// Line is a straight stroke. Fact is what it says, where it says something.
type Line struct {
	X1, Y1, X2, Y2, Width float64
	Colour                Colour
	Dashed                bool
	Fact                  string
}

// Rect is a filled rectangle.
type Rect struct {
	X, Y, W, H float64
	Fill       Colour
	Fact       string
}

// Text is one line of text; Y is its base line.
type Text struct {
	X, Y, Size float64
	Anchor     Anchor
	Colour     Colour
	Bold       bool
	Text       string
	Fact       string
}

// Page is a laid-out scene. Rects lie below lines, lines below texts.
type Page struct {
	Title string
	W, H  float64
	Rects []Rect
	Lines []Line
	Texts []Text
}

const (
	margin   = 24.0
	names    = 130.0 // width of the column of lane names
	laneStep = 44.0
	laneH    = 24.0
	seriesH  = 96.0 // of a lane with values over time
	size     = 10.0
	smallest = 6.0 // that is read on paper
	// charWidth is the width of a character of the fixed-width font, as a
	// share of its size.
	charWidth = 0.6
)

// Layout lays a scene out on a page of the given width in points.
func Layout(s *scene.Scene, width float64) *Page {
	p := &Page{Title: safe.Text(s.Title), W: width}
	l := layout{p: p, s: s, left: margin + names, right: width - margin}
	y := l.paragraph(Text{X: margin, Size: 14, Bold: true, Text: p.Title}, margin) + 15
	top := y
	for i := range s.Lanes {
		l.lane(&s.Lanes[i], y)
		y += step(&s.Lanes[i])
	}
	bottom := y
	if n := len(s.Lanes); n > 0 {
		bottom += height(&s.Lanes[n-1]) - step(&s.Lanes[n-1])
	}
	for _, m := range s.Cursors {
		if !s.Holds(m.At) {
			continue
		}
		x := l.x(m.At)
		p.Lines = append(p.Lines, Line{X1: x, Y1: top - 6, X2: x, Y2: bottom, Width: 0.8, Colour: Caution, Dashed: true, Fact: s.CursorFact(m)})
		p.Texts = append(p.Texts, l.beside(x, Text{Y: top - 2, Size: size, Bold: true, Colour: Caution, Text: safe.Text(m.Label)}))
	}
	for i := range s.Charts {
		y = l.chart(&s.Charts[i], y) + 2*size
	}
	if len(s.Hops) > 0 {
		y = l.hops(y) + size
	}
	for _, n := range s.Notes {
		y = l.paragraph(Text{X: margin, Size: size, Text: n}, y)
	}
	p.H = y + margin
	return p
}

type layout struct {
	p           *Page
	s           *scene.Scene
	left, right float64
}

// paragraph writes a text in rows that end at the right margin, and gives the height behind it.
func (l *layout) paragraph(t Text, y float64) float64 {
	for _, row := range safe.Wrap(t.Text, max(int((l.right-t.X)/charWidth/t.Size+1e-6), 12)) {
		t.Y, t.Text = y+t.Size, row
		l.p.Texts = append(l.p.Texts, t)
		y += 1.5 * t.Size
	}
	return y
}

// wide is the width of a text.
func wide(t Text) float64 { return charWidth * t.Size * float64(runewidth.StringWidth(t.Text)) }

// beside puts a text right of a stroke, or left of it where the page ends.
func (l *layout) beside(x float64, t Text) Text {
	if t.X = x + 3; t.X+wide(t) > l.p.W {
		t.X = max(x-3-wide(t), 0)
	}
	return t
}

// narrow makes a text smaller where it is wider than its room.
func narrow(t Text, room float64) Text {
	if w := wide(t); w > room {
		t.Size *= room / w
	}
	return t
}

func (l *layout) x(t quantity.Time) float64 {
	return l.left + float64(t-l.s.From)/float64(l.s.To-l.s.From)*(l.right-l.left)
}

func colour(t scene.Tone) Colour {
	switch t {
	case scene.Differ:
		return Alarm
	case scene.Doubt:
		return Caution
	case scene.Quiet:
		return Grey
	}
	return Ink
}

// hops writes the hops below each other and gives the height behind them.
func (l *layout) hops(y float64) float64 {
	mark, name, value := 0, 0, 0
	for _, h := range l.s.Hops {
		if !h.Heading {
			mark, name, value = max(mark, len([]rune(h.Mark))), max(name, len([]rune(h.Name))), max(value, len([]rune(h.Value)))
		}
	}
	at := func(chars int) float64 { return margin + float64(chars)*charWidth*size }
	nameAt := at(mark + 1)
	valueAt := nameAt + at(name+2) - margin
	detailAt := valueAt + at(value+2) - margin
	for _, h := range l.s.Hops {
		put := func(x float64, text, fact string, bold bool) {
			if text != "" || fact != "" {
				l.p.Texts = append(l.p.Texts, Text{X: x, Y: y + size, Size: size, Bold: bold, Colour: colour(h.Tone), Text: safe.Text(text), Fact: fact})
			}
		}
		if h.Heading {
			y += 0.5 * size
			put(margin, h.Name, h.Fact(), true)
		} else {
			put(margin, h.Mark, "", false)
			put(nameAt, h.Name, h.Fact(), false)
		}
		put(valueAt, h.Value, "", false)
		y = max(y+1.5*size, l.paragraph(Text{X: detailAt, Size: size, Colour: colour(h.Tone), Text: h.Detail}, y))
		y = l.paragraph(Text{X: nameAt, Size: size, Colour: colour(h.Tone), Text: h.Under}, y)
	}
	return y
}

// height is that of a lane, step what it takes with the space below it.
func height(n *scene.Lane) float64 {
	if n.Scale != nil {
		return seriesH
	}
	return laneH
}

func step(n *scene.Lane) float64 { return height(n) + laneStep - laneH }

func (l *layout) lane(n *scene.Lane, y float64) {
	p := l.p
	laneH := height(n)
	if n.Scale != nil {
		l.called(n, y)
	} else {
		at := y + laneH/2 + 3
		p.Texts = append(p.Texts, narrow(Text{X: margin, Y: at, Size: size, Bold: true, Text: safe.Text(strings.TrimLeft(n.Letter+" "+n.Name, " "))}, names-4))
		if n.Detail != "" {
			if n.Name != "" {
				at += 1.2 * size // below the name
			}
			p.Texts = append(p.Texts, narrow(Text{X: margin, Y: at, Size: 0.85 * size, Colour: Grey, Text: safe.Text(n.Detail)}, names-4))
		}
	}
	for _, c := range n.Cells {
		x1, x2 := max(l.x(c.From), l.left), min(l.x(c.To), l.right)
		fill := White
		if c.Tone == scene.Differ {
			fill = Shade
		}
		p.Rects = append(p.Rects, Rect{X: x1, Y: y, W: x2 - x1, H: laneH, Fill: fill, Fact: n.CellFact(c)})
		p.Lines = append(p.Lines,
			Line{X1: x1, Y1: y, X2: x1, Y2: y + laneH, Width: 0.5, Colour: Grey},
			Line{X1: x2, Y1: y, X2: x2, Y2: y + laneH, Width: 0.5, Colour: Grey},
			Line{X1: x1, Y1: y + laneH, X2: x2, Y2: y + laneH, Width: 0.5, Colour: Grey})
		label := safe.Text(c.Label)
		if c.Tone == scene.Differ {
			label = "≠ " + label
		}
		fit := size
		if w := float64(len([]rune(label))) * charWidth; w*fit > x2-x1-2 {
			fit = max((x2-x1-2)/w, smallest)
		}
		if most := int((x2-x1-2)/(fit*charWidth) + 1e-6); most < len([]rune(label)) {
			if most < 3 {
				continue // the fact stands in the rectangle
			}
			label = string([]rune(label)[:most-1]) + "…"
		}
		p.Texts = append(p.Texts, Text{X: (x1 + x2) / 2, Y: y + laneH/2 + 3, Size: fit, Anchor: Middle, Colour: colour(c.Tone), Text: label})
	}
	if n.Levels != nil {
		l.levels(n, y)
	}
	if n.Scale != nil {
		l.series(n, y)
	}
	for _, m := range n.Ticks {
		x := l.x(m.At)
		p.Lines = append(p.Lines, Line{X1: x, Y1: y, X2: x, Y2: y + laneH, Width: 0.5, Colour: Grey, Fact: n.TickFact(m)})
		p.Texts = append(p.Texts, l.beside(x, Text{Y: y + laneH - 4, Size: 0.85 * size, Colour: Grey, Text: safe.Text(m.Label)}))
	}
	for _, m := range n.Marks {
		x := l.x(m.At)
		p.Lines = append(p.Lines, Line{X1: x, Y1: y, X2: x, Y2: y + laneH*0.6, Width: 1.2, Colour: colour(m.Tone), Fact: n.MarkFact(m)})
	}
}

func (l *layout) levels(n *scene.Lane, y float64) {
	level := func(high bool) float64 {
		if high {
			return y + 3
		}
		return y + laneH - 3
	}
	high, x := n.Levels.High, l.left
	stroke := func(x1, y1, x2, y2 float64, fact string) {
		l.p.Lines = append(l.p.Lines, Line{X1: x1, Y1: y1, X2: x2, Y2: y2, Width: 1.5, Dashed: n.Levels.Reconstructed, Fact: fact})
	}
	busy := n.Levels.Busy
	block := func(b scene.Busy) {
		stroke(x, level(high), l.x(b.From), level(high), "")
		l.p.Rects = append(l.p.Rects, Rect{X: l.x(b.From), Y: y + 3, W: max(l.x(b.To)-l.x(b.From), 0.5), H: laneH - 6, Fill: Grey, Fact: n.BusyFact(b)})
		high, x = b.High, l.x(b.To)
	}
	for i, t := range n.Levels.Toggles {
		for len(busy) > 0 && busy[0].From <= t {
			block(busy[0])
			busy = busy[1:]
		}
		at := l.x(t)
		stroke(x, level(high), at, level(high), "")
		stroke(at, level(high), at, level(!high), n.EdgeFact(i))
		high, x = !high, at
	}
	for _, b := range busy {
		block(b)
	}
	stroke(x, level(high), l.right, level(high), "")
}
