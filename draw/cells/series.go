package cells

import (
	"math"

	"gavrix.org/gavrix/core/scene"
)

// Each cell has two columns and four rows of dots, which braille patterns show.
const (
	dotColumns = 2
	dotRows    = 4
	braille    = 0x2800
)

// dotBits are the bits of a pattern, by row and column of the dot.
var dotBits = [dotRows][dotColumns]rune{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}

// dots draws on a field finer than cells.
type dots struct {
	a    Area
	w, h int // in cells
}

func (d dots) size() (columns, rows int) { return d.w * dotColumns, d.h * dotRows }

// dot sets a dot, counted from the left and from the bottom.
func (d dots) dot(x, y int, s Style) {
	columns, rows := d.size()
	if x < 0 || x >= columns || y < 0 || y >= rows {
		return
	}
	y = rows - 1 - y
	cx, cy := x/dotColumns, y/dotRows
	now := d.a.g.At(d.a.X+cx, d.a.Y+cy).Rune
	if now < braille || now > braille+0xff {
		now = braille
	}
	d.a.Put(cx, cy, s, now|dotBits[y%dotRows][x%dotColumns])
}

// line joins two dots.
func (d dots) line(x1, y1, x2, y2 int, s Style) {
	n := max(abs(x2-x1), abs(y2-y1), 1)
	for i := 0; i <= n; i++ {
		d.dot(x1+(x2-x1)*i/n, y1+int(math.Round(float64(y2-y1)*float64(i)/float64(n))), s)
	}
}

func abs(x int) int { return max(x, -x) }

// at gives the place of a number on a scale, of so many dots; one beyond its ends stands
// just outside.
func at(v float64, s *scene.Scale, n int) int {
	if s.High <= s.Low {
		return n / 2
	}
	return int(math.Round(min(max((v-s.Low)/(s.High-s.Low)*float64(n-1), -1), float64(n))))
}

// hue gives the style of a series.
func hue(n int) Style {
	if n == 0 {
		return Strong
	}
	return Hue1 + Style((n-1)%5)
}

// series draws the series of a lane below their names, in rows from y on, with the ends of
// the scale.
func (p *plot) series(y, rows int, l *scene.Lane) {
	x0 := 0
	for k := range l.Series {
		s := &l.Series[k]
		sign := "─ "
		switch {
		case s.Dots:
			sign = "∙ "
		case s.Steps:
			sign = "┘ "
		}
		x0 = p.a.Text(x0, y, hue(s.Hue), sign+s.Name) + 2
		if s.Is != "" {
			x0 = p.a.Text(x0, y, Plain, s.Is) + 3
		}
	}
	if l.Detail != "" && x0+Width(l.Detail) < p.a.W {
		p.a.Right(p.a.W, y, Quiet, l.Detail)
	}
	y, rows = y+1, rows-1
	if rows < 1 {
		return
	}
	d := dots{a: p.a.Part(p.names, y, p.w, rows), w: p.w, h: rows}
	columns, high := d.size()
	if rows > 1 {
		grid(p.a.Part(0, y, p.names+p.w, rows), p.names, l.Scale)
	}
	x := func(t float64) int {
		return int(math.Floor(min(max((t-float64(p.s.From))/float64(p.s.To-p.s.From)*float64(columns), -1), float64(columns))))
	}
	for k := range l.Series {
		s := &l.Series[k]
		style := hue(s.Hue)
		lastX, lastY, joined := 0, 0, false
		for _, q := range s.Points {
			p.facts = append(p.facts, l.PointFact(s, q))
			from, to := x(float64(q.At)), x(float64(q.To))
			first, last := at(q.First, l.Scale, high), at(q.Last, l.Scale, high)
			low, top := at(q.Least, l.Scale, high), at(q.Most, l.Scale, high)
			switch {
			case s.Dots:
				for _, o := range [][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
					d.dot(from+o[0], first+o[1], style)
				}
				continue
			case joined && !q.Gap && s.Steps:
				d.line(lastX, lastY, from, lastY, style)
				d.line(from, lastY, from, first, style)
			case joined && !q.Gap:
				d.line(lastX, lastY, from, first, style)
			}
			d.line(from, low, from, top, style)
			if to > from {
				d.line(from, first, to, last, style)
			} else {
				d.dot(from, last, style)
			}
			lastX, lastY, joined = to, last, true
		}
	}
}

// tickRows is how many rows there are for each number beside them.
const tickRows = 4

// grid writes round numbers of a scale, left of a place, beside the rows of a part in which they
// stand, and dots each of these rows; what is drawn later covers it.
func grid(a Area, left int, s *scene.Scale) {
	ticks := s.Ticks(max(a.H/tickRows, 2))
	last := -1
	for k := len(ticks) - 1; k >= 0; k-- {
		row := a.H - 1 - at(ticks[k].At, s, a.H*dotRows)/dotRows
		if row < 0 || row >= a.H || row == last {
			continue
		}
		last = row
		a.Part(0, row, left-1, 1).Right(left-1, 0, Quiet, ticks[k].Label)
		for x := left; x < a.W; x += 4 {
			a.Put(x, row, Quiet, '·')
		}
	}
}

// ChartHeight is how many rows a chart takes.
const ChartHeight = 16

// chart draws a chart in a part of the picture, and gives the facts that it drew.
func chart(a Area, c *scene.Chart) []string {
	a.Text(0, 0, Head, c.Title)
	if Width(c.LineText)+Width(c.Title)+2 < a.W {
		a.Right(a.W, 0, Quiet, c.LineText)
	} else if c.LineText != "" {
		a.Text(0, 1, Quiet, c.LineText)
		a = a.Part(0, 1, a.W, a.H-1)
	}
	left := 0
	for _, l := range append(c.Y.Ticks(max((a.H-3)/tickRows, 2)), scene.Level{Label: c.Y.Text(c.Y.High)}, scene.Level{Label: c.Y.Text(c.Y.Low)}) {
		left = max(left, Width(l.Label)+2)
	}
	w, h := a.W-left-1, a.H-3
	if w < 8 || h < 2 {
		return nil
	}
	grid(a.Part(0, 1, a.W, h), left, &c.Y)
	for y := 1; y <= h; y++ {
		a.Put(left, y, Quiet, '│')
	}
	low, high := c.X.Text(c.X.Low), c.X.Text(c.X.High)
	a.Text(left+1, h+1, Quiet, low)
	a.Right(a.W, h+1, Quiet, high)
	if room := w - Width(low) - Width(high) - 4; Width(c.XName) <= room {
		a.Text(left+1+(w-Width(c.XName))/2, h+1, Plain, c.XName)
	}
	d := dots{a: a.Part(left+1, 1, w, h), w: w, h: h}
	columns, rows := d.size()
	if c.Line != nil {
		d.line(at(c.Line[0].X, &c.X, columns), at(c.Line[0].Y, &c.Y, rows), at(c.Line[1].X, &c.X, columns), at(c.Line[1].Y, &c.Y, rows), Quiet)
	}
	for _, p := range c.Points {
		d.dot(at(p.X, &c.X, columns), at(p.Y, &c.Y, rows), Strong)
	}
	for _, b := range c.Bars {
		for x := at(b.X, &c.X, columns); x < max(at(b.To, &c.X, columns), at(b.X, &c.X, columns)+1); x++ {
			if b.N > 0 {
				d.line(x, 0, x, at(float64(b.N), &c.Y, rows), Strong)
			}
		}
	}
	return c.Facts()
}
