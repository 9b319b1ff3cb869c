package timing

import (
	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// bus draws the head and the clock path of a bus that several devices share; with
// one, the device with the index is marked.
func (v *View) bus(a cells.Area, b *bench.Link, marked int) *sum {
	x := a.Text(0, 0, cells.Head, "TIMING")
	x = a.Text(x+2, 0, cells.Strong, b.Name)
	for i, n := range b.Devices() {
		style := cells.Quiet
		if i == marked {
			style = cells.Strong
		}
		if x+3+cells.Width(n) > a.W {
			break
		}
		x = a.Text(x+3, 0, style, n)
		if style == cells.Strong {
			a.Text(x-cells.Width(n)-2, 0, cells.Strong, "▸")
		}
	}
	out := &sum{a: a, y: 2}
	if v.tight() {
		out.y = 1
	}
	a.Text(0, out.y, cells.Head, "RATE")
	out.path(b.Unit.Clock)
	return out
}

// picture draws the scene of the bus below the numbers.
func (v *View) picture(out *sum, b *bench.Link, head string) {
	s := picture.Timing(b, v.look(b))
	if s == nil {
		return
	}
	tight := v.tight()
	if !tight {
		out.y++
	}
	x := out.a.Text(0, out.y, cells.Head, head)
	out.a.Text(x+2, out.y, cells.Plain, s.Title)
	out.y++
	if !tight {
		out.y++
	}
	out.y = v.tall(out.a, out.y, s, textRows)
	for _, n := range s.Notes {
		out.y = out.a.Paragraph(2, out.y, cells.Quiet, n, 2)
	}
}

// textRows is what stands below a picture at most.
const textRows = 10

// tall draws a picture as high as its lanes want and the view has room, with some rows left
// for what stands below it; it gives the row behind.
func (v *View) tall(a cells.Area, y int, s *scene.Scene, below int) int {
	pic := a.Part(2, y, a.W-2, a.H-y)
	hops := cells.SceneHeight(s, pic.W) - len(s.Lanes)
	v.heights = cells.Heights(s, v.room-y-below-hops)
	cells.Tall(pic, s, v.heights)
	for _, n := range v.heights {
		y += n
	}
	return y + hops
}

// left prints a time that is left, or lacks.
func left(t quantity.Time) (string, cells.Style) {
	if t < 0 {
		return "lacks " + (-t).Round(3), cells.Bad
	}
	return t.Round(3), cells.Good
}

func edit(h ui.Host, value string, path ...string) tea.Cmd {
	h.Edit(finding.Edit{Path: path, Value: value})
	return nil
}
