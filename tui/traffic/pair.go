package traffic

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/dialogue"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// anchor is a line to which others are related: the cause of what is selected, or its effect.
type anchor struct {
	key      dialogue.Key
	from, to quantity.Time
}

// anchorHere makes the selected line the anchor, or takes it away.
func (v *View) anchorHere(h ui.Host) {
	from, to, ok := v.Selected()
	switch {
	case !ok:
		h.Say("select a line first: ↑ ↓")
	case v.anchor != nil && v.anchor.key == v.selected:
		v.anchor = nil
	default:
		v.anchor = &anchor{v.selected, from, to}
		h.Say("A is here; select another line, on any link: a shows all")
	}
}

// pair tells of the time between the anchor and the selected line.
func (v *View) pair(a cells.Area, y int, h ui.Host) int {
	x := v.anchor
	if x == nil {
		return y
	}
	links := h.Snapshot().Meta().Links
	name := func(k dialogue.Key) string {
		if int(k.Link) >= len(links) {
			return "?"
		}
		return links[k.Link].Name
	}
	at := a.Text(0, y, cells.Head, "FROM A")
	at = a.Text(at+2, y, cells.Plain, fmt.Sprintf("%s at %s", name(x.key), stamp(x.from)))
	from, to, ok := v.Selected()
	if !ok || v.selected == x.key {
		a.Text(at+2, y, cells.Quiet, "select another line; m here takes A away")
		return y + 1
	}
	text := fmt.Sprintf("to %s at %s: begins %s later, %s behind its end", name(v.selected), stamp(from), (from - x.from).Round(6), (from - x.to).Round(6))
	switch {
	case from < x.from:
		text = fmt.Sprintf("to %s at %s: began %s before, ended %s before", name(v.selected), stamp(from), (x.from - from).Round(6), (x.from - to).Round(6))
	case from < x.to:
		text = fmt.Sprintf("to %s at %s: begins %s later, before its end", name(v.selected), stamp(from), (from - x.from).Round(6))
	}
	a.Text(at+2, y, cells.Strong, text)
	return y + 1
}

// toRecord selects the next record that is wanted, or with by below 0 the one before.
func (v *View) toRecord(h ui.Host, by int, what string, q records.Query) {
	snap := h.Snapshot()
	q.Link = int(h.LinkIndex())
	if v.all {
		q.Link = records.Any
	}
	from, _, ok := v.Selected()
	if !ok {
		if by > 0 {
			h.Say("this is the newest; the key for the one before goes back")
			return
		}
		from = snap.Now + 1
	}
	choose := func(head *records.Head) bool {
		if by > 0 && head.Start <= from || by < 0 && head.Start >= from || head.Kind == record.Chars && !v.shows(records.ID{Kind: head.Kind, Seen: head.Seen, From: head.From}, h) {
			return false
		}
		v.selected = dialogue.Key{Link: head.Link, From: head.From, Kind: head.Kind, Start: head.Start}
		v.has, v.paused, v.char = true, true, 0
		return true
	}
	at := snap.IndexAt(from)
	if by > 0 {
		for _, head := range snap.After(at, q) {
			if choose(head) {
				return
			}
		}
	} else {
		for _, head := range snap.Before(min(at+1, snap.Len()), q) {
			if choose(head) {
				return
			}
		}
	}
	where := "on this link"
	if v.all {
		where = "on any link"
	}
	h.Say("no %s further %s", what, where)
}

// pairCommands are those about single records.
func (v *View) pairCommands(h ui.Host) []ui.Command {
	errors := records.Query{Flags: ^record.Flags(0)}
	notes := records.Query{Kinds: []record.Kind{record.Note}}
	to := func(by int, what string, q records.Query) func(string) tea.Cmd {
		return func(string) tea.Cmd { v.toRecord(h, by, what, q); return nil }
	}
	return []ui.Command{
		{Name: "anchor", Keys: []string{"m"}, Help: "measure from the selected line to others, on all links", Short: "from here", Run: func(string) tea.Cmd { v.anchorHere(h); return nil }},
		{Name: "next-bad", Keys: []string{"e"}, Help: "the next record with an error mark", Run: to(1, "error", errors)},
		{Name: "bad-before", Keys: []string{"E"}, Help: "the one before", Run: to(-1, "error", errors)},
		{Name: "next-note", Keys: []string{"'"}, Help: "the next note; * writes one", Run: to(1, "note", notes)},
		{Name: "note-before", Keys: []string{"\""}, Help: "the one before", Run: to(-1, "note", notes)},
	}
}
