// Package traffic is the view of what passes over a character link: a spine
// with both ends' bytes on its sides, or a dense list; and the line to send
// from.
package traffic

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/dialogue"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// View is the traffic view.
type View struct {
	dense, all, tap bool

	paused   bool // the newest lines do not move the view
	selected dialogue.Key
	has      bool // something is selected
	open     bool // the selected line is unfolded
	char     int  // the byte under the cursor in the unfolded line

	anchor  *anchor // nil: none
	combs   *combs  // nil: the list is shown
	find    finder
	send    *sender
	plan    *plan           // what is sent by itself, or was
	log     *textLog        // of what is shown, as text
	endings map[string]int  // the line end that was used last, by link
	lines   []dialogue.Line // as drawn last, for moving about
	rows    map[int]int     // row on the screen → index in lines
	page    int
	pace    quantity.Time // behind each pasted line; 0: firstPace
}

// New gives the view.
func New() *View { return &View{rows: map[int]int{}, endings: map[string]int{}} }

// Name implements ui.View.
func (v *View) Name() string { return "Traffic" }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.send != nil || v.find.entry != nil }

// Why implements ui.View.
func (v *View) Why(ui.Host) []finding.Derivation { return nil }

func (v *View) filter(h ui.Host) dialogue.Filter {
	f := dialogue.Filter{Link: h.LinkIndex(), All: v.all, Tap: v.tap, Only: v.find.only()}
	if b := h.Bench(); b != nil {
		f.End = func(l uint16) []byte {
			if int(l) < len(b.Links) && b.Links[l].Talker != nil {
				return b.Links[l].Talker.LineEnd
			}
			return nil
		}
	} else {
		f.End = func(uint16) []byte { return []byte("\n") }
	}
	links := h.Snapshot().Meta().Links
	meanings := h.Meanings()
	f.Sentence = func(r *record.Record) string {
		if int(r.Link) < len(links) {
			if k := kindOf(&links[r.Link]); k.Sentence != nil {
				return k.Sentence(r)
			}
		}
		return r.Text
	}
	meant := func(r *record.Record, from, to int) (link string, all []*operation.Meaning) {
		if int(r.Link) >= len(links) {
			return "", nil
		}
		link = links[r.Link].Name
		return link, bench.Between(meanings.Of(link, r), from, to)
	}
	f.Meaning = func(r *record.Record, from, to int) string {
		link, all := meant(r, from, to)
		return meanings.Brief(link, all)
	}
	if v.open && v.has {
		f.Open = &v.selected
	}
	f.Details = func(r *record.Record, from, to int) (details []string) {
		link, all := meant(r, from, to)
		for _, m := range all {
			details = append(details, m.Details()...)
		}
		details = append(details, meanings.After(link, r, all)...)
		if r.Kind != record.Chars && int(r.Link) < len(links) {
			details = append(positions(links[r.Link].Kind, r, all), details...)
		}
		return details
	}
	return f
}

// kindOf gives the kind of a link; of one that is not known there are no words.
func kindOf(l *capture.Link) *bus.Kind {
	if k := all.Of(l.Kind, l.Roles); k != nil {
		return k
	}
	return &bus.Kind{}
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
	if v.tap || !v.all && kindOf(l).Records != record.Chars {
		text := "as an ideal tap reads it"
		if !v.tap && !v.all && kindOf(l).Records == record.Transaction {
			if long := text + ", and the MCU where it reads otherwise"; x+2+cells.Width(long) <= a.W {
				text = long
			}
		}
		x = a.Text(x+2, 0, cells.Info, text)
	} else if l.OneSided {
		x = a.Text(x+2, 0, cells.Quiet, "as the port delivers it, times within "+l.Resolution.Round(2))
	} else if l.Decoded {
		x = a.Text(x+2, 0, cells.Quiet, "each side as a receiver with its settings reads the levels")
	} else {
		x = a.Text(x+2, 0, cells.Quiet, "each side as its receiver saw it")
	}
	state := "following"
	style := cells.Good
	if v.paused {
		state, style = "paused; End follows again", cells.Doubt
	}
	if x+3+cells.Width(state) <= a.W {
		a.Right(a.W, 0, style, state)
	}
	y := v.counters(a, 1, h, snap, l)
	y = v.find.header(a, y)
	if v.plan != nil {
		v.plan.draw(a, y)
		y++
	}
	if v.log != nil {
		v.log.draw(a, y)
		y++
	}
	y = v.pair(a, y, h)
	bottom := a.H
	if v.combs != nil {
		v.combs.draw(a.Part(0, y, a.W, a.H-y), h, v.all, v.paused)
		return
	}
	if v.find.entry != nil {
		bottom -= entryHeight
		v.find.draw(a.Part(0, bottom, a.W, a.H-bottom), h)
	}
	if v.send != nil {
		bottom -= v.send.height()
		v.send.draw(a.Part(0, bottom, a.W, a.H-bottom), h)
	}
	body := a.Part(0, y+1, a.W, bottom-y-1)
	v.page = max(body.H-3, 1)
	f := v.filter(h)
	if v.paused && v.has {
		v.lines = dialogue.Around(snap, f, v.selected.Start, body.H, body.H)
	} else {
		v.lines = dialogue.Newest(snap, f, body.H+8)
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
	v.list(body, y+1, snap, &f, h)
	for i := range v.lines {
		if k := v.lines[i].Kind; k == record.Chars || k == record.Frame || k == record.Transaction {
			return
		}
	}
	if rows := len(v.lines) + 1; rows < body.H {
		v.empty(body.Part(0, rows, body.W, body.H-rows), h, l)
	}
}

func (v *View) empty(a cells.Area, h ui.Host, l *capture.Link) {
	if v.find.filtered() {
		text := "Nothing fits the filter so far. A clause with the count 0 is the one that excludes all; / changes it, v shows the rest too."
		if v.find.picks == nil || v.find.picks.Behind > 0 {
			text = "Looking through the traffic."
		} else if v.find.picks.Matches > 0 && !v.all {
			text = "What fits is on other links: a shows all of them."
		}
		a.Paragraph(2, 1, cells.Plain, text, 0)
		return
	}
	y := a.Paragraph(2, 1, cells.Plain, "Nothing was seen on this link yet.", 0)
	if s := h.Session(); s != nil {
		if i := s.Info(h.LinkIndex()); !i.Open {
			a.Paragraph(2, y+1, cells.Bad, i.Problem, 0)
			return
		}
		var can []string
		info := s.Info(h.LinkIndex())
		if info.Takes[link.SendVerb] == "" && info.Refuses(link.Send{}) == "" {
			can = append(can, "i sends a line from the MCU")
		}
		if info.Refuses(link.Transact{}) == "" {
			can = append(can, ":transact does one transaction")
		}
		if b := h.Link(); b != nil && len(b.Parts()) > 0 {
			can = append(can, "3 reads registers of its parts")
		}
		if info.Simulated {
			can = append(can, "Space lets time go on where it is stopped")
		}
		if can != nil {
			a.Paragraph(2, y+1, cells.Quiet, strings.Join(can, "; ")+".", 0)
		}
	}
}

// selectedIndex gives the place of the selected line among those drawn; of one that was
// let go the nearest.
func (v *View) selectedIndex() int {
	later := len(v.lines) - 1
	for i := len(v.lines) - 1; i >= 0; i-- {
		if v.lines[i].Key == v.selected {
			return i
		}
		if v.lines[i].Key.Start >= v.selected.Start {
			later = i
		}
	}
	return later
}

// stamp prints a time on the clock of the capture.
func stamp(t quantity.Time) string {
	s := fmt.Sprintf("%.6f", t.Seconds())
	return s[:len(s)-3] + " " + s[len(s)-3:]
}

func (v *View) height(i, w int) int {
	l := &v.lines[i]
	h := 1
	if !v.dense && !v.all && i > 0 {
		h += gapRows(l.Gap)
	}
	if said := wrapped(l, w-v.contentAt()); said != nil {
		h += len(said) - 1
	}
	if v.open && l.Key == v.selected {
		h += v.unfoldedHeight(l, w)
	}
	return h
}

// list draws the lines so that the selected one, or the newest, is in sight. It puts in words
// only what it shows: that takes longer than all else.
func (v *View) list(a cells.Area, top int, snap *capture.Snapshot, f *dialogue.Filter, h ui.Host) {
	meta := snap.Meta()
	sel := v.selectedIndex()
	v.selected = v.lines[sel].Key
	f.Say(v.lines[sel : sel+1])
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
	if n, _ := snap.Gone(); n > 0 && first == 0 && y+used+v.height(sel, a.W) < a.H {
		a.Text(2, y, cells.Doubt, fmt.Sprintf("%d records before these were discarded; :record FILE keeps all", n))
		y++
	}
	for i := first; i < len(v.lines) && y < a.H; i++ {
		f.Say(v.lines[i : i+1])
		y = v.line(a, y, top, i, meta, h)
	}
}

func (v *View) line(a cells.Area, y, top, i int, meta *capture.Meta, h ui.Host) int {
	l := &v.lines[i]
	if int(l.Link) >= len(meta.Links) {
		return y
	}
	link := &meta.Links[l.Link]
	first := y
	if said := wrapped(l, a.W-v.contentAt()); said != nil {
		y = v.told(a, y, i, link, said)
		first = y - len(said) + 1
	} else if v.dense || v.all {
		v.denseLine(a, y, i, link)
	} else {
		y = v.spineLine(a, y, i, link, h)
		first = y
	}
	if v.anchor != nil && l.Key == v.anchor.key {
		a.Put(0, y, cells.Strong, 'A')
	}
	if l.Key == v.selected && v.paused {
		a.Mark(y)
	}
	for at := first; at <= y; at++ {
		v.rows[top+at] = i
	}
	y++
	if v.open && l.Key == v.selected {
		y = v.unfold(a, y, l, link, h)
	}
	return y
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

// Find implements ui.Finder: the line at a time is selected, or the last one before it.
func (v *View) Find(at quantity.Time, h ui.Host) {
	lines := dialogue.Around(h.Snapshot(), v.filter(h), at, 20, 20)
	for i := len(lines) - 1; i >= 0; i-- {
		if lines[i].Key.Start <= at {
			v.selected, v.has, v.paused, v.char = lines[i].Key, true, true, 0
			return
		}
	}
}

// Selected implements ui.Selector.
func (v *View) Selected() (from, to quantity.Time, ok bool) {
	if !v.paused || !v.has {
		return 0, 0, false
	}
	from, to = v.selected.Start, v.selected.Start
	for i := range v.lines {
		if v.lines[i].Key == v.selected {
			from, to = v.lines[i].At, v.lines[i].End
		}
	}
	return from, to, true
}

// SelectedLink implements ui.Linked.
func (v *View) SelectedLink() (uint16, bool) { return v.selected.Link, v.paused && v.has }

// first selects the oldest line.
func (v *View) first(h ui.Host) {
	snap := h.Snapshot()
	if lines := dialogue.Around(snap, v.filter(h), 0, 0, 1); len(lines) > 0 {
		v.selected, v.has, v.paused, v.char = lines[0].Key, true, true, 0
	}
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
	if v.find.entry != nil {
		v.findKey(k, h)
		return nil
	}
	closes, cmd := v.send.key(k, h)
	if closes {
		v.send = nil
	}
	return cmd
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	do := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd { f(); return nil }
	}
	combs := ui.Command{Name: "comb", Keys: []string{"o"}, Help: "what comes again: periods, what is missing, what changes; or the list", Short: "comb", Run: do(v.turnComb)}
	if v.combs != nil {
		return append(v.combCommands(h), combs, ui.Command{Name: "all", Keys: []string{"a"}, Help: "all links together, or the selected one", Short: "all links", Run: do(func() { v.all = !v.all })})
	}
	cs := []ui.Command{
		combs,
		{Name: "older", Keys: []string{"up", "k"}, Help: "select the line before", Run: do(func() { v.move(-1) })},
		{Name: "newer", Keys: []string{"down", "j"}, Help: "select the line after", Run: do(func() { v.move(1) })},
		{Name: "page-older", Keys: []string{"pgup"}, Help: "a page back", Run: do(func() { v.move(-v.page) })},
		{Name: "page-newer", Keys: []string{"pgdown"}, Help: "a page on", Run: do(func() { v.move(v.page) })},
		{Name: "follow", Keys: []string{"end", "G"}, Help: "follow live: the newest lines", Short: "follow", Run: do(func() { v.paused, v.open = false, false })},
		{Name: "oldest", Keys: []string{"home"}, Help: "go to the oldest line", Run: do(func() { v.first(h) })},
		{Name: "pause", Keys: []string{"h"}, Help: "hold the list; traffic is still kept", Short: "pause", Run: do(func() { v.paused = true })},
		{Name: "unfold", Keys: []string{"enter"}, Help: "show all forms of the selected line's bytes", Short: "unfold", Run: do(func() { v.open = !v.open; v.paused = true })},
		{Name: "byte-left", Keys: []string{"left"}, Help: "byte before, in an unfolded line", Run: do(func() { v.char-- })},
		{Name: "byte-right", Keys: []string{"right"}, Help: "byte after, in an unfolded line", Run: do(func() { v.char++ })},
	}
	cs = append(cs, v.findCommands(h)...)
	cs = append(cs, v.pairCommands(h)...)
	cs = append(cs, []ui.Command{
		{Name: "dense", Keys: []string{"d"}, Help: "one row per line, in columns", Short: "dense", Run: do(func() { v.dense = !v.dense })},
		{Name: "all", Keys: []string{"a"}, Help: "all links together, or the selected one", Short: "all links", Run: do(func() { v.all = !v.all })},
		{Name: "tap", Keys: []string{"t"}, Help: "read by an ideal tap, or by the ends", Short: "tap", Run: do(func() { v.tap = !v.tap })},
		{Name: "zero", Keys: []string{"z"}, Help: "set the link's counters to zero", Short: "zero", Run: do(func() {
			if s := h.Session(); s != nil {
				s.Store().Zero(h.LinkIndex(), h.Now())
			}
		})},
	}...)
	if h.Session() != nil {
		cs = append(cs,
			ui.Command{Name: "send", Args: "[TEXT]", Keys: []string{"i"}, Help: `send a line, or TEXT with \n, \r, \xNN`, Short: "send", Run: func(arg string) tea.Cmd {
				if i := h.Session().Info(h.LinkIndex()); i.Refuses(link.Send{}) != "" {
					h.Say("%s", i.Refuses(link.Send{}))
					return nil
				}
				if arg == "" {
					v.send = v.newSender(h)
					return nil
				}
				data, err := check.ParseText(arg)
				return sendNow(h, data, err)
			}},
			ui.Command{Name: "send-hex", Args: "BYTES", Help: "send bytes, as 53 4E 0A", Run: func(arg string) tea.Cmd {
				data, err := hexBytes(arg)
				return sendNow(h, data, err)
			}})
		cs = append(cs, v.planCommands(h)...)
		cs = append(cs, v.pasteCommands(h)...)
		cs = append(cs, v.logCommands(h)...)
	}
	return cs
}
