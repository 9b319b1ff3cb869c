package traffic

import (
	"fmt"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/dialogue"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// columns is the number of bytes beside each other in an unfolded line.
func columns(w int) int { return max(min((w-10)/9, 16), 1) }

func (v *View) unfoldedHeight(l *dialogue.Line, w int) int {
	if l.Kind != record.Chars {
		rows := 1 + len(l.Details)
		if l.Times > 0 {
			rows++
		}
		return rows
	}
	n := columns(w)
	return 4 + len(l.Details) + 4*((len(l.Data)+n-1)/n)
}

// unfold shows a line's bytes in all forms below it.
func (v *View) unfold(a cells.Area, y int, l *dialogue.Line, link *capture.Link, h ui.Host) int {
	const in = 4
	if l.Kind != record.Chars {
		a.Text(in, y, cells.Plain, l.Text)
		for _, d := range l.Details {
			y++
			a.Text(in+2, y, cells.Quiet, d)
		}
		if l.Times > 0 {
			y++
			a.Text(in, y, cells.Quiet, fmt.Sprintf("the same %d times: the first at %s s, one every %s, the last ends at %s s", l.Times, stamp(l.At), ((l.End-l.At)/quantity.Time(l.Times)).Round(3), stamp(l.End)))
		}
		return y + 1
	}
	v.char = min(max(v.char, 0), max(len(l.Data)-1, 0))
	a.Part(0, y, a.W, 2).Paragraph(in, 0, cells.Plain, sentence(l, link), 2)
	y += 2
	for _, d := range l.Details {
		a.Text(in+2, y, cells.Quiet, d)
		y++
	}
	perRow := columns(a.W)
	for from := 0; from < len(l.Data); from += perRow {
		for k, name := range []string{"text", "hex", "dec", "bin"} {
			a.Text(in, y+k, cells.Quiet, name)
		}
		for i := from; i < min(from+perRow, len(l.Data)); i++ {
			b := l.Data[i]
			style := cells.Plain
			if l.FlagsAt(i) != 0 {
				style = cells.Bad
			}
			if i == v.char {
				style |= cells.Selected
			}
			x := in + 6 + (i-from)*9
			a.Text(x, y, style, fmt.Sprintf("%-8c", safe.Byte(b)))
			a.Text(x, y+1, style, fmt.Sprintf("%02X      ", b))
			a.Text(x, y+2, style, fmt.Sprintf("%-8d", b))
			a.Text(x, y+3, style, fmt.Sprintf("%08b", b))
		}
		y += 4
	}
	if len(l.Data) > 0 {
		a.Text(in, y, cells.Strong, v.oneByte(l, link, h))
	}
	return y + 2
}

// sentence says in words what a line is.
func sentence(l *dialogue.Line, link *capture.Link) string {
	to := link.Device()
	if l.From == record.Device {
		to = link.MCU()
	}
	s := fmt.Sprintf("%s sent %s to %s in %s", link.EndName(l.From), quantity.Count(len(l.Data), "byte"), to, (l.End - l.At).Round(4))
	if l.Gap != 0 {
		s += fmt.Sprintf(", after %s of silence", gapText(l.Gap, link))
	}
	if f := l.Flags(); f != 0 {
		s += "; marked: " + f.String()
	} else {
		s += "; no errors"
	}
	return s + " (" + l.Origin.String() + ")"
}

// oneByte gives all forms of the byte under the cursor.
func (v *View) oneByte(l *dialogue.Line, link *capture.Link, h ui.Host) string {
	b := l.Data[v.char]
	s := fmt.Sprintf("byte %d of %d: '%c'  hex %02X  decimal %d  binary %08b", v.char+1, len(l.Data), safe.Byte(b), b, b, b)
	if ends := h.Settings(int(l.Link)); len(ends) > 0 && kindOf(link).Byte != nil {
		if note := kindOf(link).Byte(ends, l.From, uint16(b)); note != "" {
			s += "  " + note
		}
	}
	if f := l.FlagsAt(v.char); f != 0 {
		s += "  ▲ " + f.String()
	}
	return s
}
