package cells

import (
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
)

// Columns are where the parts of hops begin.
type Columns struct{ Name, Value, Detail int }

const hopGap = 2

// ColumnsOf gives the columns in which hops stand below each other in a width.
// Names and values get the room that the longest wants, values at most what is
// left when details have a quarter of the width.
func ColumnsOf(hops []scene.Hop, width int) Columns {
	var mark, name, value int
	for _, h := range hops {
		if h.Heading {
			continue
		}
		mark, name, value = max(mark, Width(h.Mark)), max(name, Width(h.Name)), max(value, Width(h.Value))
	}
	var c Columns
	if mark > 0 {
		c.Name = mark + 1
	}
	c.Value = min(c.Name+name+hopGap, width/2)
	c.Detail = min(c.Value+value+hopGap, max(c.Value+8, width*3/4))
	return c
}

// Hop draws one hop from the row y on and gives the row behind it.
func Hop(a Area, y int, h *scene.Hop, c Columns) int {
	style := toneStyle(h.Tone)
	if h.Heading {
		x := a.Text(0, y, Head, h.Name)
		if h.Value != "" {
			x = a.Text(max(c.Value, x+hopGap), y, style, h.Value)
		}
		if h.Detail != "" {
			a.Text(max(c.Detail, x+hopGap), y, style, h.Detail)
		}
		return under(a, y+1, h, c, style)
	}
	a.Text(0, y, style, h.Mark)
	rows := 1
	put := func(from, to int, text string) {
		for i, part := range safe.Wrap(text, max(to-from-1, 4)) {
			a.Text(from, y+i, style, part)
			rows = max(rows, i+1)
		}
	}
	put(c.Name, c.Value, h.Name)
	valueEnd := c.Detail
	if h.Detail == "" {
		valueEnd = a.W
	}
	put(c.Value, valueEnd, h.Value)
	put(c.Detail, a.W, h.Detail)
	return under(a, y+rows, h, c, style)
}

func under(a Area, y int, h *scene.Hop, c Columns, style Style) int {
	if h.Under == "" {
		return y
	}
	return a.Paragraph(c.Name, y, style, h.Under, 0)
}

// hopHeight is the number of rows that Hop takes.
func hopHeight(h *scene.Hop, c Columns, width int) int {
	g := New(width, 60)
	return Hop(g.All(), 0, h, c)
}
