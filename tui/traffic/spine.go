package traffic

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/dialogue"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// answerTime is how long after a message its answer may begin before the
// message counts as unanswered.
const answerTime = 100 * quantity.Millisecond

// spineLine draws a line beside the spine: the MCU's bytes on its left, the
// device's on its right, silence as a longer spine.
func (v *View) spineLine(a cells.Area, y, i int, link *capture.Link, h ui.Host) int {
	const timeW = 15
	spine := timeW + (a.W-timeW)/3
	if kindOf(link).Records == record.Transaction {
		spine = timeW // one line has both directions
	}
	l := &v.lines[i]
	if i > 0 {
		n := gapRows(l.Gap)
		for k := range n {
			a.Put(spine, y, cells.Quiet, '╷')
			if k == n/2 {
				a.Text(spine+3, y, cells.Quiet, gapText(l.Gap, link))
			}
			y++
		}
	}
	a.Right(13, y, cells.Quiet, stamp(l.At))
	if l.Kind != record.Chars {
		text, style := happened(l)
		glyph := '◇'
		if l.Kind == record.Frame || l.Kind == record.Transaction {
			glyph = '│'
			if style == cells.Bad {
				glyph = '▲'
			}
		}
		a.Put(spine, y, style, glyph)
		text = fitted(text, a.W-timeW-3-len("MCU: "))
		if l.From == record.MCU && l.Kind == record.Frame {
			if w := cells.Width(text); w < spine-timeW-2 {
				a.Text(spine-1-w, y, style, text)
				return y
			}
			text = "MCU: " + text
		}
		// What is too long for one side of the spine takes room on the other, which is
		// free here.
		at := spine + 3
		if w := cells.Width(text); at+w > a.W {
			at = max(a.W-w, timeW+3)
			if at < spine+3 {
				a.Put(spine, y, cells.Plain, ' ')
				a.Put(at-2, y, style, glyph)
			} else {
				at = spine + 3
			}
		}
		room := a.Part(at, y, a.W-at, 1)
		beside(room, room.Text(0, 0, style, text), 0, l)
		return y
	}
	glyph, style := '│', ui.Hue(kindOf(link))
	if l.Flags() != 0 {
		glyph, style = '▲', cells.Bad
	}
	a.Put(spine, y, style, glyph)
	marks := ""
	if f := l.Flags(); f != 0 {
		marks = "▲ " + f.String()
	}
	if l.From == record.MCU {
		room := a.Part(timeW, y, spine-timeW-1, 1)
		w := min(len(l.Data), room.W)
		bytesOf(room, room.W-w, 0, l)
		free := room.W - w - 2
		if hex := hexOf(l, free); hex != "" && cells.Width(hex) <= free {
			room.Right(room.W-w-2, 0, cells.Quiet, hex)
		}
		x := a.Text(spine+3, y, cells.Bad, marks)
		if l.Unheard {
			x = a.Text(x+2, y, cells.Bad, "not heard")
		}
		if v.unanswered(i, h) {
			x = a.Text(x+2, y, cells.Doubt, "no answer")
		}
		if x = max(x+2, spine+2+meaningAt); x+min(cells.Width(l.Meaning), leastMeaning) <= a.W {
			a.Text(x, y, cells.Quiet, l.Meaning)
		}
		return y
	}
	room := a.Part(spine+2, y, a.W-spine-2, 1)
	x := bytesOf(room, 0, 0, l) + 2
	if l.Echo {
		x = room.Text(x, 0, cells.Info, "echo of the far end") + 2
	}
	x = max(x, meaningAt)
	if free := room.W - x - cells.Width(marks) - 2; l.Meaning != "" && min(cells.Width(l.Meaning), leastMeaning) <= free {
		x += room.Part(x, 0, free, 1).Text(0, 0, cells.Plain, l.Meaning) + 2
	}
	free := room.W - x
	if marks != "" {
		free -= cells.Width(marks) + 3
	}
	x = room.Text(x, 0, cells.Quiet, hexOf(l, free))
	room.Text(x+2, 0, cells.Bad, marks)
	return y
}

// meaningAt is the column behind the spine from which on a row says what it means.
const meaningAt = 10

// leastMeaning is how many columns of a meaning say enough to stand there.
const leastMeaning = 16

// gapRows is the number of rows that a silence takes: it grows with the
// logarithm of the time.
func gapRows(gap quantity.Time) int {
	if gap < quantity.Millisecond {
		return 0
	}
	return min(int(math.Log10(gap.Seconds()*1000)+0.5), 4)
}

func gapText(gap quantity.Time, link *capture.Link) string {
	if link.Resolution > 0 && gap < link.Resolution {
		return "≤ " + link.Resolution.Round(2)
	}
	return gap.Round(3)
}

func sideStyle(l *dialogue.Line) cells.Style {
	if l.From == record.MCU {
		return cells.Ours
	}
	return cells.Theirs
}

// bytesOf writes a line's bytes as symbols, those with an error mark in the
// style of errors, and gives the column behind.
func bytesOf(a cells.Area, x, y int, l *dialogue.Line) int {
	style := sideStyle(l)
	for i, b := range l.Data {
		s := style
		if l.FlagsAt(i) != 0 {
			s = cells.Bad
		}
		if x >= a.W-1 && i < len(l.Data)-1 {
			a.Put(a.W-1, y, cells.Quiet, '…')
			return a.W
		}
		a.Put(x, y, s, safe.Byte(b))
		x++
	}
	if l.Running {
		a.Put(x, y, cells.Quiet, '▁')
		x++
	}
	return x
}

func hexOf(l *dialogue.Line, most int) string {
	if most < 3 {
		return ""
	}
	n := len(l.Data)
	if 3*n-1 > most {
		if n = (most - 1) / 3; n < 2 {
			return ""
		}
		return fmt.Sprintf("% X", l.Data[:n]) + " …"
	}
	return fmt.Sprintf("% X", l.Data)
}

// beside writes the words of a transaction behind its meaning, where they fit as a whole.
func beside(a cells.Area, x, y int, l *dialogue.Line) {
	if l.Meaning != "" && x+3+cells.Width(l.Text) <= a.W {
		a.Text(x+3, y, cells.Quiet, l.Text)
	}
}

func happened(l *dialogue.Line) (string, cells.Style) {
	style := cells.Info
	switch l.Kind {
	case record.Lost, record.Gap:
		style = cells.Bad
	case record.Returned:
		style = cells.Good
	case record.Verdict:
		style = cells.Good
		if strings.HasPrefix(l.Text, "FAIL") {
			style = cells.Bad
		}
	}
	if l.Kind == record.Frame || l.Kind == record.Transaction {
		said := cmp.Or(l.Meaning, l.Text)
		if f := l.Flags(); f != 0 {
			text := "▲ " + f.String() + "  " + said
			if n := l.Repeats(); n != "" {
				text = n + "  " + text
			}
			return text, cells.Bad
		}
		if l.Kind == record.Transaction && l.Seen == record.MCU {
			return bench.Otherwise(said, l.Seen), cells.Bad
		}
		return said, cells.Plain
	}
	if l.Kind == record.Flow {
		return map[bool]string{true: "MCU: ", false: "device: "}[l.From == record.MCU] + l.Text, style
	}
	return l.Kind.String() + ": " + l.Text, style
}

// unanswered says whether a device that answers did not answer this line.
func (v *View) unanswered(i int, h ui.Host) bool {
	l := &v.lines[i]
	b := h.Bench()
	if b == nil || int(l.Link) >= len(b.Links) || b.Links[l.Link].Talker == nil || l.From != record.MCU {
		return false
	}
	if _, streams := b.Links[l.Link].Talker.Streams(); streams {
		return false
	}
	if dialogue.Answered(h.Snapshot(), l.Link, l.At, l.End, answerTime) {
		return false
	}
	return h.Now() > l.End+answerTime
}
