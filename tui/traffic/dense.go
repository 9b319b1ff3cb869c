package traffic

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/dialogue"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// nameW is the room of a link's letter and name, where all links are shown together.
const nameW = 16

// denseLine draws a line in columns.
func (v *View) denseLine(a cells.Area, y, i int, link *capture.Link) {
	l := &v.lines[i]
	x := v.front(a, y, l, link)
	if l.Kind != record.Chars {
		text, style := happened(l)
		room := a.Part(x, y, a.W-x, 1)
		if l.Meaning != "" {
			text = fitted(text, room.W)
		}
		beside(room, room.Text(0, 0, style, text), 0, l)
		return
	}
	room := a.W - x
	text := a.Part(x, y, max(room/4, 10), 1)
	x += max(bytesOf(text, 0, 0, l), 8) + 2
	marks := ""
	if f := l.Flags(); f != 0 {
		marks = "▲ " + f.String()
	}
	if l.Echo {
		x = a.Text(x, y, cells.Info, "echo of the far end") + 2
	}
	if l.Meaning != "" && x+cells.Width(l.Meaning)+cells.Width(marks)+2 <= a.W {
		x = a.Text(x, y, cells.Plain, l.Meaning) + 3
	}
	hexW := a.W - x - cells.Width(marks) - 2
	x = a.Text(x, y, cells.Quiet, hexOf(l, hexW))
	a.Text(x+2, y, cells.Bad, marks)
}

// fitted gives a list of values as far as it fits, with how many more there are; unfolding the
// line shows all.
func fitted(text string, w int) string {
	if cells.Width(text) <= w {
		return text
	}
	parts := strings.Split(text, ", ")
	for n := len(parts) - 1; n > 0; n-- {
		if short := fmt.Sprintf("%s, +%d more", strings.Join(parts[:n], ", "), len(parts)-n); cells.Width(short) <= w {
			return short
		}
	}
	return text
}

// front writes when a line was, where, and who said it; it gives the column behind.
func (v *View) front(a cells.Area, y int, l *dialogue.Line, link *capture.Link) int {
	a.Right(13, y, cells.Quiet, stamp(l.At))
	x := 15
	if v.dense {
		if l.Gap != 0 {
			a.Right(23, y, cells.Quiet, gapText(l.Gap, link))
		}
		x = 25
	}
	if v.all {
		k := kindOf(link)
		a.Text(x, y, ui.Hue(k), k.Mark)
		a.Part(x+2, y, nameW-3, 1).Text(0, 0, cells.Quiet, link.Name)
	}
	x = v.contentAt() - 2
	glyph, style := direction(l)
	a.Put(x, y, style, glyph)
	return x + 2
}

// contentAt is the column in which what a line says begins, where it is in columns.
func (v *View) contentAt() int {
	x := 17
	if v.dense {
		x = 27
	}
	if v.all {
		x += nameW
	}
	return x
}

// wrapped gives the rows of a line that tells something in words, where that takes more than
// one; nil of others.
func wrapped(l *dialogue.Line, w int) []string {
	if l.Kind == record.Chars || l.Kind == record.Frame || l.Kind == record.Transaction {
		return nil
	}
	text, _ := happened(l)
	if cells.Width(text) <= w {
		return nil
	}
	return safe.Wrap(text, max(w, 20))
}

// told writes such a line, and gives its last row.
func (v *View) told(a cells.Area, y, i int, link *capture.Link, said []string) int {
	l := &v.lines[i]
	if !v.dense && !v.all && i > 0 {
		y += gapRows(l.Gap)
	}
	x := v.front(a, y, l, link)
	_, style := happened(l)
	for k, row := range said {
		a.Text(x, y+k, style, row)
	}
	return y + len(said) - 1
}

// direction gives the glyph of who said a line.
func direction(l *dialogue.Line) (rune, cells.Style) {
	switch {
	case l.Kind != record.Chars && l.Kind != record.Frame && l.Kind != record.Transaction:
		return '◇', cells.Info
	case l.Kind == record.Transaction:
		return '⇄', cells.Quiet // both sides speak
	case l.From == record.MCU:
		return '→', cells.Ours
	case l.From == record.Nobody:
		return '·', cells.Quiet
	}
	return '←', cells.Theirs
}
