package paper

import (
	"strings"
	"unicode/utf8"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
)

// inks tell the series of a lane apart: the first in ink, further ones dashed.
var inks = []Colour{Ink, Caution, Alarm, Grey}

// place gives where a number stands between two positions.
func place(v float64, s *scene.Scale, from, to float64) float64 {
	if s.High <= s.Low {
		return (from + to) / 2
	}
	return from + (v-s.Low)/(s.High-s.Low)*(to-from)
}

// called writes the names of a lane's values beside it, and what is known of them below, a part
// in each row: left of the numbers of its scale.
func (l *layout) called(n *scene.Lane, y float64) {
	room := names - 4.0
	for _, t := range n.Scale.Ticks(mostTicks) {
		room = min(room, names-8-float64(utf8.RuneCountInString(t.Label))*charWidth*0.85*size)
	}
	var rows []Text
	for _, name := range strings.SplitAfter(n.Name, ", ") {
		for _, part := range broken(name, int(room/charWidth/(0.8*size))) {
			rows = append(rows, Text{Size: size, Bold: true, Text: part})
		}
	}
	for _, part := range strings.Split(n.Detail, "  ") {
		if part = strings.TrimSpace(part); part != "" {
			rows = append(rows, Text{Size: 0.85 * size, Colour: Grey, Text: part})
		}
	}
	high := 0.0
	for i := range rows {
		high += 1.2 * rows[i].Size
	}
	at := y + (seriesH-high)/2
	for _, r := range rows {
		at += 1.2 * r.Size
		r.X, r.Y, r.Text = margin, at, safe.Text(strings.TrimSpace(r.Text))
		r.Size = min(r.Size, room/charWidth/float64(max(utf8.RuneCountInString(r.Text), 1)))
		l.p.Texts = append(l.p.Texts, r)
	}
}

// mostTicks is how many numbers stand beside a lane of values or a chart.
const mostTicks = 5

// broken cuts a name with points into rows of so many characters, as far as there are points.
func broken(name string, most int) []string {
	out := []string{""}
	for _, part := range strings.SplitAfter(name, ".") {
		last := &out[len(out)-1]
		if *last != "" && utf8.RuneCountInString(*last+part) > most {
			out = append(out, part)
			continue
		}
		*last += part
	}
	return out
}

// series draws the values of a lane.
func (l *layout) series(n *scene.Lane, y float64) {
	top, bottom := y+4, y+seriesH-4
	at := func(v float64) float64 { return place(v, n.Scale, bottom, top) }
	for _, t := range n.Scale.Ticks(mostTicks) {
		l.p.Lines = append(l.p.Lines, Line{X1: l.left, Y1: at(t.At), X2: l.right, Y2: at(t.At), Width: 0.3, Colour: Grey})
		l.right10(l.left-4, at(t.At)+3, t.Label)
	}
	for k := range n.Series {
		s := &n.Series[k]
		ink, dashed := inks[k%len(inks)], k > 0
		stroke := func(x1, y1, x2, y2 float64, fact string) {
			l.p.Lines = append(l.p.Lines, Line{X1: x1, Y1: y1, X2: x2, Y2: y2, Width: 1.2, Colour: ink, Dashed: dashed && !s.Dots, Fact: fact})
		}
		lastX, lastY, joined := 0.0, 0.0, false
		for _, q := range s.Points {
			from, to := l.clamp(q.At), l.clamp(q.To)
			fact := n.PointFact(s, q)
			if s.Dots {
				l.p.Rects = append(l.p.Rects, Rect{X: from - 1.5, Y: at(q.First) - 1.5, W: 3, H: 3, Fill: ink, Fact: fact})
				continue
			}
			switch {
			case joined && !q.Gap && s.Steps:
				stroke(lastX, lastY, from, lastY, "")
				stroke(from, lastY, from, at(q.First), "")
			case joined && !q.Gap:
				stroke(lastX, lastY, from, at(q.First), "")
			}
			if q.N > 1 {
				stroke(from, at(q.Least), from, at(q.Most), fact)
				stroke(from, at(q.First), to, at(q.Last), "")
			} else {
				stroke(from-0.6, at(q.First), from+0.6, at(q.First), fact)
			}
			lastX, lastY, joined = to, at(q.Last), true
		}
	}
}

// clamp gives the place of a time inside the lanes.
func (l *layout) clamp(t quantity.Time) float64 { return min(max(l.x(t), l.left), l.right) }

// right10 writes a small text that ends at a place.
func (l *layout) right10(x, y float64, text string) {
	text = safe.Text(text)
	w := float64(len([]rune(text))) * charWidth * 0.85 * size
	l.p.Texts = append(l.p.Texts, Text{X: x - w, Y: y, Size: 0.85 * size, Colour: Grey, Text: text})
}

// The size of a chart on the page.
const (
	chartW = 420.0
	chartH = 260.0
)

// chart draws a chart, and gives the height behind it.
func (l *layout) chart(c *scene.Chart, y float64) float64 {
	p := l.p
	p.Texts = append(p.Texts, Text{X: margin, Y: y + size, Size: 1.1 * size, Bold: true, Text: safe.Text(c.Title)})
	y += 2 * size
	left, right, top, bottom := l.left, l.left+chartW, y, y+chartH
	px := func(v float64) float64 { return place(v, &c.X, left, right) }
	py := func(v float64) float64 { return place(v, &c.Y, bottom, top) }
	p.Lines = append(p.Lines, Line{X1: left, Y1: top, X2: left, Y2: bottom, Width: 0.8}, Line{X1: left, Y1: bottom, X2: right, Y2: bottom, Width: 0.8})
	for _, t := range c.Y.Ticks(mostTicks) {
		p.Lines = append(p.Lines, Line{X1: left, Y1: py(t.At), X2: right, Y2: py(t.At), Width: 0.3, Colour: Grey})
		l.right10(left-4, py(t.At)+3, t.Label)
	}
	p.Texts = append(p.Texts, Text{X: left, Y: top - 4, Size: 0.85 * size, Colour: Grey, Text: safe.Text(c.YName)})
	p.Texts = append(p.Texts, Text{X: left, Y: bottom + 1.4*size, Size: 0.85 * size, Colour: Grey, Text: safe.Text(c.X.Text(c.X.Low))})
	p.Texts = append(p.Texts, Text{X: (left + right) / 2, Y: bottom + 1.4*size, Size: 0.85 * size, Anchor: Middle, Text: safe.Text(c.XName)})
	l.right10(right, bottom+1.4*size, c.X.Text(c.X.High))
	for _, b := range c.Bars {
		p.Rects = append(p.Rects, Rect{X: px(b.X), Y: py(float64(b.N)), W: max(px(b.To)-px(b.X)-0.5, 0.5), H: bottom - py(float64(b.N)), Fill: Grey, Fact: c.BarFact(b)})
	}
	for _, q := range c.Points {
		p.Rects = append(p.Rects, Rect{X: px(q.X) - 1.2, Y: py(q.Y) - 1.2, W: 2.4, H: 2.4, Fill: Ink, Fact: c.PointFact(q)})
	}
	y = bottom + 2*size
	if c.Line != nil {
		p.Lines = append(p.Lines, Line{X1: px(c.Line[0].X), Y1: py(c.Line[0].Y), X2: px(c.Line[1].X), Y2: py(c.Line[1].Y), Width: 0.8, Colour: Caution, Dashed: true, Fact: c.LineText})
		p.Texts = append(p.Texts, Text{X: left, Y: y + size, Size: size, Text: safe.Text(c.LineText)})
		y += 1.5 * size
	}
	return y
}
