// Package cells is a grid of character cells with styles, and draws scenes
// into it.
package cells

import (
	"strings"

	"github.com/mattn/go-runewidth"

	"gavrix.org/gavrix/core/safe"
)

// Style is what a cell is about; a theme says how that looks.
type Style uint8

// The styles.
const (
	Plain Style = iota
	Quiet
	Strong
	Head // a heading
	Good
	Doubt
	Bad
	Info
	Hue1 // of a kind of bus; each has one of its own
	Hue2
	Hue3
	Hue4
	Hue5
	Ours   // what the MCU's end sent
	Theirs // what the device's end sent
	Number // a number under the cursor
	Entry  // text being typed
	Styles // how many there are

	// Selected is added to a style for the row under the cursor.
	Selected Style = 0x80
)

// Cell is one character cell. A rune of 0 is the right half of a wide one.
type Cell struct {
	Rune  rune
	Style Style
}

// Grid is a rectangle of cells.
type Grid struct {
	W, H  int
	cells []Cell
}

// New gives an empty grid.
func New(w, h int) *Grid {
	g := &Grid{}
	g.Resize(w, h)
	return g
}

// Resize gives the grid a new size and clears it.
func (g *Grid) Resize(w, h int) {
	g.W, g.H = max(w, 0), max(h, 0)
	n := g.W * g.H
	if cap(g.cells) < n {
		g.cells = make([]Cell, n)
	}
	g.cells = g.cells[:n]
	for i := range g.cells {
		g.cells[i] = Cell{' ', Plain}
	}
}

// Used is the number of rows up to the last that is not blank.
func (g *Grid) Used() int {
	for y := g.H - 1; y >= 0; y-- {
		for x := range g.W {
			if c := g.At(x, y); c.Rune != ' ' || c.Style&Selected != 0 {
				return y + 1
			}
		}
	}
	return 0
}

// At gives a cell; a blank outside of the grid.
func (g *Grid) At(x, y int) Cell {
	if x < 0 || y < 0 || x >= g.W || y >= g.H {
		return Cell{' ', Plain}
	}
	return g.cells[y*g.W+x]
}

func (g *Grid) set(x, y int, c Cell) {
	if x >= 0 && y >= 0 && x < g.W && y < g.H {
		g.cells[y*g.W+x] = c
	}
}

// Area is a rectangle of a grid with coordinates of its own. Drawing outside
// of it does nothing.
type Area struct {
	g          *Grid
	X, Y, W, H int
}

// All gives the whole grid as an area.
func (g *Grid) All() Area { return Area{g, 0, 0, g.W, g.H} }

// Part gives a part of the area, cut to it.
func (a Area) Part(x, y, w, h int) Area {
	x0, y0 := min(max(x, 0), a.W), min(max(y, 0), a.H)
	w = min(max(w-(x0-x), 0), a.W-x0)
	h = min(max(h-(y0-y), 0), a.H-y0)
	return Area{a.g, a.X + x0, a.Y + y0, w, h}
}

// Copy shows rows of a grid from one on, as far as the area goes.
func (a Area) Copy(g *Grid, from int) {
	for y := range min(a.H, g.H-from) {
		for x := range min(a.W, g.W) {
			c := g.At(x, from+y)
			a.g.set(a.X+x, a.Y+y, c)
		}
	}
}

// Put sets one cell.
func (a Area) Put(x, y int, s Style, r rune) {
	if x >= 0 && y >= 0 && x < a.W && y < a.H {
		a.g.set(a.X+x, a.Y+y, Cell{r, s})
	}
}

// Text writes a text from (x, y) on, made safe to show, and gives the column
// behind it. What does not fit is cut, with … as the last cell.
func (a Area) Text(x, y int, s Style, text string) int {
	return a.text(x, y, s, safe.Text(text))
}

func (a Area) text(x, y int, s Style, text string) int {
	end := x + runewidth.StringWidth(text)
	cut := end > a.W
	for _, r := range text {
		w := runewidth.RuneWidth(r)
		if w == 0 {
			continue
		}
		if cut && x+w > a.W-1 {
			a.Put(max(a.W-1, 0), y, s, '…')
			return a.W
		}
		a.Put(x, y, s, r)
		if w == 2 {
			a.Put(x+1, y, s, 0)
		}
		x += w
	}
	return x
}

// Right writes a text that ends before the column x.
func (a Area) Right(x, y int, s Style, text string) {
	t := safe.Text(text)
	a.text(max(x-runewidth.StringWidth(t), 0), y, s, t)
}

// Width is the number of cells that a text takes.
func Width(text string) int { return runewidth.StringWidth(safe.Text(text)) }

// Paragraph writes a wrapped text with the indent on all lines but the first,
// and gives the row behind it.
func (a Area) Paragraph(x, y int, s Style, text string, indent int) int {
	lines := safe.Wrap(text, a.W-x-indent)
	for i, l := range lines {
		at := x
		if i > 0 {
			at += indent
		}
		a.text(at, y, s, l)
		y++
	}
	return y
}

// Mark adds Selected to a row's styles.
func (a Area) Mark(y int) {
	for x := range a.W {
		c := a.g.At(a.X+x, a.Y+y)
		c.Style |= Selected
		a.Put(x, y, c.Style, c.Rune)
	}
}

// String gives the grid without styles, each row without blanks at its end.
func (g *Grid) String() string {
	var b strings.Builder
	for y := range g.H {
		var row strings.Builder
		for x := range g.W {
			if r := g.At(x, y).Rune; r != 0 {
				row.WriteRune(r)
			}
		}
		b.WriteString(strings.TrimRight(row.String(), " "))
		b.WriteByte('\n')
	}
	return b.String()
}
