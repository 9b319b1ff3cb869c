package traffic

import (
	"gavrix/core/capture"
	"gavrix/core/record"
	"gavrix/draw/cells"
)

// denseLine draws a line in columns.
func (v *View) denseLine(a cells.Area, y, i int, link *capture.Link) {
	l := &v.lines[i]
	a.Right(13, y, cells.Quiet, stamp(l.At))
	if l.Gap != 0 {
		a.Right(23, y, cells.Quiet, gapText(l.Gap, link))
	}
	x := 25
	if v.all {
		a.Part(x, y, 13, 1).Text(0, 0, cells.Quiet, link.Name)
		x += 14
	}
	if l.Kind != record.Chars {
		text, style := happened(l)
		beside(a, a.Text(x, y, style, text), y, l)
		return
	}
	arrow := "←"
	if l.From == record.MCU {
		arrow = "→"
	}
	a.Text(x, y, sideStyle(l), arrow)
	x += 2
	room := a.W - x
	text := a.Part(x, y, max(room/4, 10), 1)
	bytesOf(text, 0, 0, l)
	x += text.W + 2
	marks := ""
	if f := l.Flags(); f != 0 {
		marks = "▲ " + f.String()
	}
	if l.Meaning != "" && x+cells.Width(l.Meaning)+cells.Width(marks)+2 <= a.W {
		x = a.Text(x, y, cells.Plain, l.Meaning) + 3
	}
	hexW := a.W - x - cells.Width(marks) - 2
	x = a.Text(x, y, cells.Plain, hexOf(l, hexW))
	a.Text(x+2, y, cells.Bad, marks)
}
