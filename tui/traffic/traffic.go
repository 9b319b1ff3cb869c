// Package traffic is the view of what passes over a character link: a spine
// with both ends' bytes on its sides, or a dense list; and the line to send
// from.
package traffic

import (
	"fmt"
	"math"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix/core/bus/all"
	"gavrix/core/bus/i2c"
	"gavrix/core/bus/spi"
	"gavrix/core/bus/uart"
	"gavrix/core/capture"
	"gavrix/core/capture/jsonl"
	"gavrix/core/check"
	"gavrix/core/dialogue"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/safe"
	"gavrix/draw/cells"
	"gavrix/tui/ui"
)

// View is the traffic view.
type View struct {
	dense, all, tap bool

	paused   bool // the newest lines do not move the view
	selected dialogue.Key
	has      bool // something is selected
	open     bool // the selected line is unfolded
	char     int  // the byte under the cursor in the unfolded line

	send  *sender
	lines []dialogue.Line // as drawn last, for moving about
	rows  map[int]int     // row on the screen → index in lines
	page  int
}

// New gives the view.
func New() *View { return &View{rows: map[int]int{}} }

// Name implements ui.View.
func (v *View) Name() string { return "Traffic" }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.send != nil }

// Why implements ui.View.
func (v *View) Why(ui.Host) []finding.Derivation { return nil }

func (v *View) filter(h ui.Host) dialogue.Filter {
	f := dialogue.Filter{Link: h.LinkIndex(), All: v.all, Tap: v.tap}
	if b := h.Bench(); b != nil {
		f.End = func(l uint16) []byte {
			if int(l) < len(b.Links) {
				return b.Links[l].Device.LineEnd
			}
			return nil
		}
	} else {
		f.End = func(uint16) []byte { return []byte("\n") }
	}
	links := h.Snapshot().Meta().Links
	f.Sentence = func(r *record.Record) string {
		if int(r.Link) < len(links) {
			if k := all.Of(links[r.Link].Kind, links[r.Link].Lines); k != nil && k.Sentence != nil {
				return k.Sentence(r)
			}
		}
		return r.Text
	}
	return f
}

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	snap := h.Snapshot()
	meta := snap.Meta()
	if int(h.LinkIndex()) >= len(meta.Links) {
		return
	}
	l := &meta.Links[h.LinkIndex()]
	x := a.Text(0, 0, cells.Head, "TRAFFIC")
	name := l.Name
	if v.all {
		name = "all links"
	}
	x = a.Text(x+2, 0, cells.Strong, name)
	if v.tap || !v.all && l.Kind != uart.Kind.Name {
		x = a.Text(x+2, 0, cells.Info, "as an ideal tap reads it")
	} else if l.OneSided {
		x = a.Text(x+2, 0, cells.Quiet, "as the port delivers it, times within "+l.Resolution.Round(2))
	} else {
		x = a.Text(x+2, 0, cells.Quiet, "each side as its receiver saw it")
	}
	state := "following"
	style := cells.Good
	if v.paused {
		state, style = "held; End follows again", cells.Doubt
	}
	if x+3+cells.Width(state) <= a.W {
		a.Right(a.W, 0, style, state)
	}
	y := v.counters(a, 1, h, snap, l)
	bottom := a.H
	if v.send != nil {
		bottom -= v.send.height()
		v.send.draw(a.Part(0, bottom, a.W, a.H-bottom), h)
	}
	body := a.Part(0, y+1, a.W, bottom-y-1)
	v.page = max(body.H-3, 1)
	if v.paused && v.has {
		v.lines = dialogue.Around(snap, v.filter(h), v.selected.Start, body.H, body.H)
	} else {
		v.lines = dialogue.Newest(snap, v.filter(h), body.H+8)
		v.has = len(v.lines) > 0
		if v.has {
			v.selected = v.lines[len(v.lines)-1].Key
		}
	}
	clear(v.rows)
	if len(v.lines) == 0 {
		v.empty(body, h, l)
		return
	}
	v.list(body, y+1, meta, h)
	for i := range v.lines {
		if k := v.lines[i].Kind; k == record.Chars || k == record.Frame || k == record.Transaction {
			return
		}
	}
	if rows := len(v.lines) + 1; rows < body.H {
		v.empty(body.Part(0, rows, body.W, body.H-rows), h, l)
	}
}

func (v *View) counters(a cells.Area, y int, h ui.Host, snap *capture.Snapshot, l *capture.Link) int {
	if v.all {
		return y
	}
	seen := func(from, by record.End) capture.Counters {
		return snap.Counters(capture.Direction{Link: h.LinkIndex(), From: from, Seen: by})
	}
	if l.Kind != uart.Kind.Name {
		return v.frames(a, y, h, snap, l)
	}
	out := seen(record.MCU, record.Device)
	if l.OneSided {
		out = seen(record.MCU, record.Nobody)
	}
	in := seen(record.Device, record.MCU)
	row := func(name string, c capture.Counters) {
		x := a.Text(0, y, cells.Quiet, name)
		x = a.Text(max(x+1, 26), y, cells.Plain, fmt.Sprintf("%7d characters %5d runs", c.Chars, c.Runs))
		text, style := "  no errors", cells.Good
		if c.Bad > 0 {
			var parts []string
			for f := record.Flags(1); f != 0; f <<= 1 {
				if n := c.Flags[f]; n > 0 {
					parts = append(parts, fmt.Sprintf("%d %s", n, f))
				}
			}
			text, style = fmt.Sprintf("  ▲ %s, %s", strings.Join(parts, ", "), ui.Ago(h.Now()-c.LastBad)), cells.Bad
		}
		x = a.Text(x, y, style, text)
		if last := "  last " + ui.Ago(h.Now()-c.Last); c.Chars > 0 && x+cells.Width(last) <= a.W {
			x = a.Text(x, y, cells.Quiet, last)
		}
		if c.Zeroed > 0 {
			a.Text(x, y, cells.Quiet, "  since "+stamp(c.Zeroed))
		}
		y++
	}
	row(l.MCU+" → "+l.Device, out)
	row(l.Device+" → "+l.MCU, in)
	return y
}

// frames counts the transactions or frames of a link of another kind.
func (v *View) frames(a cells.Area, y int, h ui.Host, snap *capture.Snapshot, l *capture.Link) int {
	var out, in capture.Counters
	for from := record.Nobody; from < record.Device+64; from++ {
		c := snap.Counters(capture.Direction{Link: h.LinkIndex(), From: from, Seen: record.Tap})
		to := &in
		if from == record.MCU {
			to = &out
		}
		to.Runs += c.Runs
		to.Bad += c.Bad
		to.Last = max(to.Last, c.Last)
		to.LastBad = max(to.LastBad, c.LastBad)
	}
	row := func(name string, c capture.Counters) {
		x := a.Text(0, y, cells.Quiet, name)
		x = a.Text(max(x+1, 26), y, cells.Plain, fmt.Sprintf("%7d seen", c.Runs))
		if c.Bad > 0 {
			x = a.Text(x, y, cells.Bad, fmt.Sprintf("  ▲ %d bad, the last %s", c.Bad, ui.Ago(h.Now()-c.LastBad)))
		}
		if c.Last > 0 {
			a.Text(x, y, cells.Quiet, "  last "+ui.Ago(h.Now()-c.Last))
		}
		y++
	}
	switch {
	case out.Runs == 0:
		row("on the bus", in)
	case in.Runs == 0:
		row("begun by the "+l.MCU, out)
	default:
		row("from the "+l.MCU, out)
		row("from others", in)
	}
	return y
}

func (v *View) empty(a cells.Area, h ui.Host, l *capture.Link) {
	y := a.Paragraph(2, 1, cells.Plain, "Nothing was seen on this link yet.", 0)
	if s := h.Session(); s != nil {
		if i := s.Info(h.LinkIndex()); !i.Open {
			a.Paragraph(2, y+1, cells.Bad, i.Problem, 0)
			return
		}
		a.Paragraph(2, y+1, cells.Quiet, "Press i to send a line from the MCU, or space if time is stopped.", 0)
	}
}

// selectedIndex gives the place of the selected line among those drawn.
func (v *View) selectedIndex() int {
	for i := range v.lines {
		if v.lines[i].Key == v.selected {
			return i
		}
	}
	return len(v.lines) - 1
}

// gapRows is the number of rows that a silence takes: it grows with the
// logarithm of the time.
func gapRows(gap quantity.Time) int {
	if gap < quantity.Millisecond {
		return 0
	}
	return min(int(math.Log10(gap.Seconds()*1000)+0.5), 4)
}

// stamp prints a time on the clock of the capture.
func stamp(t quantity.Time) string {
	s := fmt.Sprintf("%.6f", t.Seconds())
	return s[:len(s)-3] + " " + s[len(s)-3:]
}

func (v *View) height(i, w int) int {
	l := &v.lines[i]
	h := 1
	if !v.dense && i > 0 {
		h += gapRows(l.Gap)
	}
	if v.open && l.Key == v.selected {
		h += v.unfoldedHeight(l, w)
	}
	return h
}

// list draws the lines so that the selected one, or the newest, is in sight.
func (v *View) list(a cells.Area, top int, meta *capture.Meta, h ui.Host) {
	sel := v.selectedIndex()
	v.selected = v.lines[sel].Key
	// From the selected line upwards until half the room is used when held,
	// all of it when following.
	room := a.H - v.height(sel, a.W)
	share := room
	if v.paused {
		share = room / 2
		below := 0
		for i := sel + 1; i < len(v.lines) && below < room-share; i++ {
			below += v.height(i, a.W)
		}
		share = room - min(below, room-share)
	}
	first := sel
	used := 0
	for first > 0 && used+v.height(first-1, a.W) <= share {
		first--
		used += v.height(first, a.W)
	}
	y := 0
	if !v.paused {
		y = max(a.H-used-v.height(sel, a.W), 0)
		if first == 0 {
			y = 0
		}
	}
	for i := first; i < len(v.lines) && y < a.H; i++ {
		y = v.line(a, y, top, i, meta, h)
	}
}

func (v *View) line(a cells.Area, y, top, i int, meta *capture.Meta, h ui.Host) int {
	l := &v.lines[i]
	if int(l.Link) >= len(meta.Links) {
		return y
	}
	link := &meta.Links[l.Link]
	if v.dense {
		v.denseLine(a, y, i, link)
	} else {
		y = v.spineLine(a, y, i, link, h)
	}
	if l.Key == v.selected && v.paused {
		a.Mark(y)
	}
	v.rows[top+y] = i
	y++
	if v.open && l.Key == v.selected {
		y = v.unfold(a, y, l, link, h)
	}
	return y
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
		n = (most - 1) / 3
		return fmt.Sprintf("% X", l.Data[:n]) + " …"
	}
	return fmt.Sprintf("% X", l.Data)
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
		if f := l.Flags(); f != 0 {
			return "▲ " + f.String() + "  " + l.Text, cells.Bad
		}
		return l.Text, cells.Plain
	}
	return l.Kind.String() + ": " + l.Text, style
}

// answerTime is how long after a message its answer may begin before the
// message counts as unanswered.
const answerTime = 100 * quantity.Millisecond

// unanswered says whether a device that answers did not answer this line.
func (v *View) unanswered(i int, h ui.Host) bool {
	l := &v.lines[i]
	b := h.Bench()
	if b == nil || int(l.Link) >= len(b.Links) || l.From != record.MCU {
		return false
	}
	if _, streams := b.Links[l.Link].Device.Streams(); streams {
		return false
	}
	for _, next := range v.lines[i+1:] {
		if next.Link == l.Link && next.Kind == record.Chars && next.At > l.At {
			return next.From == record.MCU
		}
	}
	return h.Now() > l.End+answerTime
}

// spineLine draws a line beside the spine: the MCU's bytes on its left, the
// device's on its right, silence as a longer spine.
func (v *View) spineLine(a cells.Area, y, i int, link *capture.Link, h ui.Host) int {
	const timeW = 15
	spine := timeW + (a.W-timeW)*2/5
	if v.lines[i].Kind == record.Transaction || link.Kind == i2c.Kind.Name || link.Kind == spi.Kind.Name {
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
	a.Right(timeW-2, y, cells.Quiet, stamp(l.At))
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
		if l.From == record.MCU && l.Kind == record.Frame {
			if w := cells.Width(text); w < spine-timeW-2 {
				a.Text(spine-1-w, y, style, text)
				return y
			}
			text = "MCU: " + text
		}
		room := a.Part(spine+3, y, a.W-spine-3, 1)
		room.Text(0, 0, style, text)
		return y
	}
	glyph, style := '│', cells.HueUart
	if l.Flags() != 0 {
		glyph, style = '▲', cells.Bad
	}
	a.Put(spine, y, style, glyph)
	name := ""
	if v.all {
		name = link.Name + " "
	}
	marks := ""
	if f := l.Flags(); f != 0 {
		marks = "▲ " + f.String()
	}
	if l.From == record.MCU {
		room := a.Part(timeW, y, spine-timeW-1, 1)
		w := min(len(l.Data), room.W)
		bytesOf(room, room.W-w, 0, l)
		if v.all {
			a.Text(spine+3, y, cells.Quiet, name)
		}
		free := room.W - w - 2
		if hex := hexOf(l, free); hex != "" && cells.Width(hex) <= free {
			room.Right(room.W-w-2, 0, cells.Quiet, hex)
		}
		x := a.Text(spine+3+cells.Width(name), y, cells.Bad, marks)
		if l.Unheard {
			x = a.Text(x+2, y, cells.Bad, "not heard")
		}
		if v.unanswered(i, h) {
			a.Text(x+2, y, cells.Doubt, "no answer")
		}
		return y
	}
	room := a.Part(spine+2, y, a.W-spine-2, 1)
	x := room.Text(0, 0, cells.Quiet, name)
	x = bytesOf(room, x, 0, l)
	x = room.Text(max(x+2, 16), 0, cells.Quiet, hexOf(l, room.W-max(x+2, 16)-cells.Width(marks)-3))
	room.Text(x+2, 0, cells.Bad, marks)
	return y
}

func gapText(gap quantity.Time, link *capture.Link) string {
	if link.Resolution > 0 && gap < link.Resolution {
		return "≤ " + link.Resolution.Round(2)
	}
	return gap.Round(3)
}

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
		a.Text(x, y, style, text)
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
	hexW := a.W - x - cells.Width(marks) - 2
	x = a.Text(x, y, cells.Plain, hexOf(l, hexW))
	a.Text(x+2, y, cells.Bad, marks)
}

// columns is the number of bytes beside each other in an unfolded line.
func columns(w int) int { return max(min((w-10)/9, 16), 1) }

func (v *View) unfoldedHeight(l *dialogue.Line, w int) int {
	if l.Kind != record.Chars {
		return 1
	}
	n := columns(w)
	return 4 + 4*((len(l.Data)+n-1)/n)
}

// unfold shows a line's bytes in all forms below it.
func (v *View) unfold(a cells.Area, y int, l *dialogue.Line, link *capture.Link, h ui.Host) int {
	const in = 4
	if l.Kind != record.Chars {
		a.Text(in, y, cells.Plain, l.Text)
		return y + 1
	}
	v.char = min(max(v.char, 0), max(len(l.Data)-1, 0))
	a.Part(0, y, a.W, 2).Paragraph(in, 0, cells.Plain, sentence(l, link), 2)
	y += 2
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
	to := link.Device
	if l.From == record.Device {
		to = link.MCU
	}
	s := fmt.Sprintf("%s sent %d bytes to %s in %s", jsonl.EndName(link, l.From), len(l.Data), to, (l.End - l.At).Round(4))
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
	if bl := h.Link(); bl != nil && bl.Index == l.Link {
		f := bl.DeviceEnd.Frame
		if l.From == record.MCU {
			f = bl.MCU.Frame
		}
		if f.Parity != uart.None {
			s += "  " + uart.ParityNote(f, uint16(b))
		}
	}
	if f := l.FlagsAt(v.char); f != 0 {
		s += "  ▲ " + f.String()
	}
	return s
}

func (v *View) move(by int) {
	if len(v.lines) == 0 {
		return
	}
	if !v.paused && by < 0 {
		by++ // the newest line is the first to be selected
	}
	i := min(max(v.selectedIndex()+by, 0), len(v.lines)-1)
	v.selected, v.has, v.paused = v.lines[i].Key, true, true
	v.char = 0
}

// Click implements ui.View.
func (v *View) Click(_, y int, _ ui.Host) {
	if i, ok := v.rows[y]; ok && i < len(v.lines) {
		if v.paused && v.lines[i].Key == v.selected {
			v.open = !v.open
		}
		v.selected, v.has, v.paused = v.lines[i].Key, true, true
	}
}

// Wheel implements ui.View.
func (v *View) Wheel(down bool, _ ui.Host) {
	if down {
		v.move(3)
	} else {
		v.move(-3)
	}
}

// Type implements ui.View.
func (v *View) Type(k tea.KeyPressMsg, h ui.Host) tea.Cmd {
	if v.send.key(k, h) {
		v.send = nil
	}
	return nil
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	do := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd { f(); return nil }
	}
	cs := []ui.Command{
		{Name: "older", Keys: []string{"up", "k"}, Help: "select the line before", Run: do(func() { v.move(-1) })},
		{Name: "newer", Keys: []string{"down", "j"}, Help: "select the line behind", Run: do(func() { v.move(1) })},
		{Name: "page-older", Keys: []string{"pgup"}, Help: "a page back", Run: do(func() { v.move(-v.page) })},
		{Name: "page-newer", Keys: []string{"pgdown"}, Help: "a page on", Run: do(func() { v.move(v.page) })},
		{Name: "follow", Keys: []string{"end", "G"}, Help: "follow the newest lines", Short: "follow", Run: do(func() { v.paused, v.open = false, false })},
		{Name: "hold", Keys: []string{"h"}, Help: "hold the list; traffic is still kept", Short: "hold", Run: do(func() { v.paused = true })},
		{Name: "unfold", Keys: []string{"enter"}, Help: "show all forms of the selected line's bytes", Short: "unfold", Run: do(func() { v.open = !v.open; v.paused = true })},
		{Name: "byte-left", Keys: []string{"left"}, Help: "byte before, in an unfolded line", Run: do(func() { v.char-- })},
		{Name: "byte-right", Keys: []string{"right"}, Help: "byte behind, in an unfolded line", Run: do(func() { v.char++ })},
		{Name: "dense", Keys: []string{"d"}, Help: "one row a line, without the spine", Short: "dense", Run: do(func() { v.dense = !v.dense })},
		{Name: "all", Keys: []string{"a"}, Help: "all links together, or the selected one", Short: "all links", Run: do(func() { v.all = !v.all })},
		{Name: "tap", Keys: []string{"t"}, Help: "read by an ideal tap, or by the ends", Short: "tap", Run: do(func() { v.tap = !v.tap })},
		{Name: "zero", Keys: []string{"z"}, Help: "set the link's counters to zero", Short: "zero", Run: do(func() {
			if s := h.Session(); s != nil {
				s.Store().Zero(h.LinkIndex(), h.Now())
			}
		})},
	}
	if h.Session() != nil {
		cs = append(cs,
			ui.Command{Name: "send", Args: "[TEXT]", Keys: []string{"i"}, Help: `send a line, or TEXT with \n, \r, \xNN`, Short: "send", Run: func(arg string) tea.Cmd {
				if l := h.Link(); l == nil && h.Bus() != nil {
					h.Say("%s", "on a bus the MCU sends what the bench says: messages of can, asks of i2c")
					return nil
				}
				if arg == "" {
					v.send = newSender()
					return nil
				}
				data, err := check.ParseText(arg)
				sendNow(h, data, err)
				return nil
			}},
			ui.Command{Name: "send-hex", Args: "BYTES", Help: "send bytes, as 53 4E 0A", Run: func(arg string) tea.Cmd {
				data, err := hexBytes(arg)
				sendNow(h, data, err)
				return nil
			}})
	}
	return cs
}
