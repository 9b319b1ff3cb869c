package traffic

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

func (v *View) counters(a cells.Area, y int, h ui.Host, snap *capture.Snapshot, l *capture.Link) int {
	if v.all {
		return y
	}
	seen := func(from, by record.End) capture.Counters {
		return snap.Counters(capture.Direction{Link: h.LinkIndex(), From: from, Seen: by})
	}
	if kindOf(l).Records != record.Chars {
		return v.frames(a, y, h, snap, l)
	}
	out := seen(record.MCU, record.Device)
	if l.OneSided {
		out = seen(record.MCU, record.Nobody)
	}
	in := seen(record.Device, record.MCU)
	row := func(name string, c capture.Counters) {
		x := a.Text(0, y, cells.Quiet, name)
		x = a.Text(max(x+1, 26), y, cells.Plain, fmt.Sprintf("%7d characters %5d bursts", c.Chars, c.Runs))
		text, style := "  no errors", cells.Good
		if c.Bad > 0 {
			text, style = fmt.Sprintf("  ▲ %s, %s", c.Flags.String(), ui.Ago(h.Now()-c.LastBad)), cells.Bad
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
	row(l.MCU()+" → "+l.Device(), out)
	row(l.Device()+" → "+l.MCU(), in)
	return y
}

// frames counts the transactions or frames of a link of another kind.
func (v *View) frames(a cells.Area, y int, h ui.Host, snap *capture.Snapshot, l *capture.Link) int {
	out := snap.Counters(capture.Direction{Link: h.LinkIndex(), From: record.MCU, Seen: record.Tap})
	in := snap.Seen(h.LinkIndex(), record.Tap)
	in.Runs, in.Bad = in.Runs-out.Runs, in.Bad-out.Bad
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
		row("begun by the "+l.MCU(), out)
	default:
		row("from the "+l.MCU(), out)
		row("from others", in)
	}
	for _, n := range v.endNotes(h, snap, l) {
		style := cells.Quiet
		if n.Bad {
			style = cells.Bad
		}
		a.Text(0, y, cells.Quiet, l.EndName(record.MCU+record.End(n.End)))
		a.Text(27, y, style, n.Text)
		y++
	}
	return y
}

// endNotes is what the newest record of a link says of its ends.
func (v *View) endNotes(h ui.Host, snap *capture.Snapshot, l *capture.Link) []bus.EndNote {
	of := kindOf(l).EndNotes
	if of == nil {
		return nil
	}
	for i := range snap.Before(snap.Len(), records.Query{Link: int(h.LinkIndex()), Traffic: true}) {
		return of(snap.At(i))
	}
	return nil
}
