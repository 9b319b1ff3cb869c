package tui

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// listTop is the row of the first link in the list.
const listTop = 4

// linkAtRow gives the link in a row of the list; -1 where there is none.
func (a *App) linkAtRow(y int) int {
	row := listTop - a.listFrom
	for i := range a.snap.Meta().Links {
		h := a.linkRows(i)
		if y >= max(row, listTop) && y < row+h {
			return i
		}
		row += h
	}
	return -1
}

// linkRows is the number of rows that a link takes: its own, its port's, and one for
// each device, unless there is one that is called like the link.
func (a *App) linkRows(i int) int {
	l := &a.snap.Meta().Links[i]
	rows := 1 + len(devicesOf(l))
	if l.Real || a.mixed() {
		rows++
	}
	return rows
}

// mixed says whether some links are real ports and others are simulated; each is then
// called what it is.
func (a *App) mixed() bool {
	links := a.snap.Meta().Links
	return slices.ContainsFunc(links, func(l capture.Link) bool { return l.Real }) && slices.ContainsFunc(links, func(l capture.Link) bool { return !l.Real })
}

// devicesOf gives the devices that are listed below a link.
func devicesOf(l *capture.Link) []string {
	if len(l.Ends) < 2 || len(l.Ends) == 2 && (l.Ends[1] == l.Name || l.Ends[1] == "device" || l.Ends[1] == "there") {
		return nil
	}
	return l.Ends[1:]
}

// seen is what was seen of a link: by its ends' own receivers, where nobody but the
// tap reads by the tap, else by whoever the file says.
func (a *App) seen(i int) (last quantity.Time, bad uint64) {
	link := uint16(i)
	l := &a.snap.Meta().Links[i]
	if k := all.Of(l.Kind, l.Roles); k != nil && k.Records != record.Chars {
		in := a.snap.Seen(link, record.Tap)
		if in.Runs == 0 {
			in = a.snap.Seen(link, record.Nobody)
		}
		return in.Last, in.Bad
	}
	in := a.snap.Counters(capture.Direction{Link: link, From: record.Device, Seen: record.MCU})
	out := a.snap.Counters(capture.Direction{Link: link, From: record.MCU, Seen: record.Device})
	if in.Runs+out.Runs == 0 {
		in = a.snap.Seen(link, record.Tap)
	}
	if in.Runs+out.Runs == 0 {
		in = a.snap.Seen(link, record.Nobody)
	}
	return max(in.Last, out.Last), in.Bad + out.Bad
}

// drawLinks lists the MCU, its links, and the devices on them.
func (a *App) drawLinks(p cells.Area) {
	p.Text(0, 0, a.headStyle(linksPane), "LINKS")
	p.Right(p.W-6, 0, cells.Quiet, "seen")
	p.Right(p.W, 0, cells.Quiet, "bad")
	if a.bench != nil {
		p.Text(0, 1, cells.Quiet, "MCU "+a.bench.MCU.Name)
		p.Text(0, 2, cells.Quiet, a.bench.About)
	}
	links := a.snap.Meta().Links
	total, top, bottom := 0, 0, 0
	for i := range links {
		if i == a.link {
			top, bottom = total, total+a.linkRows(i)
		}
		total += a.linkRows(i)
	}
	list := p.Part(0, listTop, p.W, max(p.H-listTop, 0))
	room := list.H
	if total > room {
		room-- // for the word that there is more
	}
	// The selected link stays in sight.
	if bottom > a.listFrom+room {
		a.listFrom = bottom - room
	}
	a.listFrom = max(min(a.listFrom, top, total-room), 0)
	y := -a.listFrom
	for i := range links {
		a.drawLink(list, y, room, i)
		y += a.linkRows(i)
	}
	switch {
	case y > room && list.H > 0:
		list.Right(list.W, list.H-1, cells.Quiet, "↓ more")
	case a.listFrom > 0 && list.H > 0:
		list.Right(list.W, list.H-1, cells.Quiet, "↑ more")
	case y+3 <= list.H:
		list.Text(0, y+1, cells.Quiet, "▲ error  △ warning  ✕ lost")
		list.Text(0, y+2, cells.Quiet, "● alive  ○ silent  ✓ proved")
	}
}

// drawLink draws a link and its devices from the row y on, as far as they are in
// the list.
func (a *App) drawLink(p cells.Area, y, room, i int) {
	l := &a.snap.Meta().Links[i]
	shown := func(row int) bool { return row >= 0 && row < room }
	last, bad := a.seen(i)
	if shown(y) {
		glyph, style := a.linkState(i, last)
		p.Put(0, y, style, glyph)
		if k := all.Of(l.Kind, l.Roles); k != nil {
			p.Text(2, y, ui.Hue(k), k.Mark)
		}
		st := cells.Plain
		if i == a.link {
			st = cells.Strong
		}
		p.Part(4, y, p.W-4-13, 1).Text(0, 0, st, l.Name)
		p.Right(p.W-6, y, cells.Plain, ago(a.snap.Now, last))
		p.Right(p.W, y, countStyle(bad), fmt.Sprint(bad))
		if i == a.link {
			p.Mark(y)
		}
	}
	y++
	if !l.Real && a.mixed() {
		if shown(y) {
			p.Text(4, y, cells.Quiet, "SIMULATED")
		}
		y++
	}
	if l.Real {
		if path := "REAL"; shown(y) {
			if b := a.benchLink(i); b != nil && b.Port != nil {
				path += " " + b.Port.Path
			}
			p.Part(4, y, p.W-4, 1).Text(0, 0, cells.Doubt, path)
		}
		y++
	}
	for k, name := range devicesOf(l) {
		if shown(y) {
			part := a.ledger.Part(uint16(i), k)
			glyph, style := presence(part)
			p.Put(4, y, style, glyph)
			p.Part(6, y, p.W-6-10, 1).Text(0, 0, cells.Quiet, name)
			c := a.snap.Counters(capture.Direction{Link: uint16(i), From: record.Device + record.End(k), Seen: record.Tap})
			if c.Runs > 0 {
				p.Right(p.W-6, y, cells.Quiet, ago(a.snap.Now, c.Last))
				p.Right(p.W, y, countStyle(c.Bad), fmt.Sprint(c.Bad))
			} else if part != nil && max(part.Heard, part.Asked) > 0 {
				// On a bus where the MCU makes all records, what it asks tells when a part was there.
				p.Right(p.W-6, y, cells.Quiet, ago(a.snap.Now, max(part.Heard, part.Asked)))
			}
		}
		y++
	}
}

// presence gives the sign of a device: whether its identity is proved, it answers, or is
// silent.
func presence(k *ledger.Part) (rune, cells.Style) {
	switch k.Presence() {
	case ledger.Proved:
		return '✓', cells.Good
	case ledger.Other:
		return '▲', cells.Bad
	case ledger.Answered:
		return '●', cells.Quiet
	case ledger.Mute:
		return '·', cells.Quiet
	case ledger.Silent:
		return '○', cells.Doubt
	}
	return ' ', cells.Plain
}

// ago says how long something is past, in short; a dash for never.
func ago(now, last quantity.Time) string {
	if last <= 0 {
		return "–"
	}
	return strings.TrimSuffix(ui.Ago(now-last), " ago")
}

func countStyle(bad uint64) cells.Style {
	if bad > 0 {
		return cells.Bad
	}
	return cells.Quiet
}

func (a *App) linkState(i int, last quantity.Time) (rune, cells.Style) {
	if a.session != nil && !a.session.Info(uint16(i)).Open {
		return '✕', cells.Bad
	}
	if worst, ok := finding.Worst(a.findingsAt(i)); ok {
		switch worst {
		case finding.Error:
			return '▲', cells.Bad
		case finding.Warning:
			return '△', cells.Doubt
		}
	}
	if last > 0 && (a.session == nil || a.snap.Now.Seconds()-last.Seconds() < 5) {
		return '●', cells.Good
	}
	return '○', cells.Quiet
}
