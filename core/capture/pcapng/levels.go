package pcapng

import (
	"encoding/binary"
	"errors"
	"sort"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// mostEdges bounds the edges of a packet of levels.
const mostEdges = 50_000

// levels writes what a capture knows of its lines' levels, each stretch once.
type levels struct {
	upTo map[int]quantity.Time // by line
	buf  []byte
}

// write appends the levels that are new.
func (l *levels) write(w *Writer, snap *capture.Snapshot) error {
	meta := snap.Meta()
	done := map[int]bool{}
	for i := range meta.Links {
		for role, line := range meta.Links[i].Lines {
			if line < 0 || done[line] {
				continue
			}
			done[line] = true
			kept, ok := snap.Kept(uint16(i), role)
			if !ok {
				continue
			}
			for from := max(l.upTo[line], kept.From); from < kept.To; {
				win, _ := snap.Window(uint16(i), role, from, kept.To)
				win = head(&win, mostEdges)
				l.buf = appendLevels(append(l.buf[:0], version, isLevels), line, &win)
				if err := w.packet(0, 0, seal(l.buf, 0, 0, nil), nil); err != nil {
					return err
				}
				from = win.To
				l.upTo[line] = from
			}
		}
	}
	return nil
}

// head is the beginning of a window, with n edges at most.
func head(w *wire.Window, n int) wire.Window {
	if len(w.Toggles) <= n {
		return *w
	}
	out := wire.Window{From: w.From, To: w.Toggles[n], High: w.High, Toggles: w.Toggles[:n]}
	for _, s := range w.Unknown {
		if s.From < out.To {
			s.To = min(s.To, out.To)
			out.Unknown = append(out.Unknown, s)
		}
	}
	return out
}

func appendLevels(b []byte, line int, w *wire.Window) []byte {
	high := byte(0)
	if w.High {
		high = 1
	}
	b = append(b, high)
	for _, n := range []uint64{uint64(line), uint64(w.From), uint64(w.To - w.From), uint64(len(w.Toggles)), uint64(len(w.Unknown))} {
		b = binary.AppendUvarint(b, n)
	}
	at := w.From
	for _, t := range w.Toggles {
		b = binary.AppendUvarint(b, uint64(t-at))
		at = t
	}
	at = w.From
	for _, s := range w.Unknown {
		open := byte(0)
		if s.Open {
			open = 1
		}
		b = binary.AppendUvarint(append(b, open), uint64(s.From-at))
		b = binary.AppendUvarint(b, uint64(s.To-s.From))
		at = s.To
	}
	return b
}

var errLevels = errors.New("the levels of a line are not what was written")

// parseLevels is the inverse of appendLevels.
func parseLevels(b []byte, lines int) (line int, w wire.Window, err error) {
	bad := false
	byteOf := func() byte {
		if len(b) == 0 || b[0] > 1 {
			bad = true
			return 0
		}
		x := b[0]
		b = b[1:]
		return x
	}
	number := func() quantity.Time {
		v, n := binary.Uvarint(b)
		if n <= 0 || v > uint64(limit) {
			bad = true
			return 0
		}
		b = b[n:]
		return quantity.Time(v)
	}
	w.High = byteOf() == 1
	line, w.From = int(number()), number()
	w.To = w.From + number()
	toggles, unknown := int(number()), int(number())
	if bad || line >= lines || w.To <= w.From || int64(w.To) > limit || toggles > len(b) || unknown > len(b) {
		return 0, w, errLevels
	}
	at := w.From
	for i := range toggles {
		d := number()
		if at += d; bad || at >= w.To || i > 0 && d == 0 {
			return 0, w, errLevels
		}
		w.Toggles = append(w.Toggles, at)
	}
	at = w.From
	for range unknown {
		open := byteOf() == 1
		from := at + number()
		to := from + number()
		if bad || to <= from || to > w.To {
			return 0, w, errLevels
		}
		w.Unknown = append(w.Unknown, wire.Span{From: from, To: to, Open: open})
		at = to
	}
	if len(b) > 0 {
		return 0, w, errLevels
	}
	return line, w, nil
}

// take gives levels to a store: what is missing before them is unknown.
func (g *gatherer) take(line int, w *wire.Window) {
	if g.lineTo == nil {
		g.lineTo, g.lineHigh = map[int]quantity.Time{}, map[int]bool{}
	}
	to, known := g.lineTo[line]
	switch {
	case w.To <= to:
		return // twice
	case w.From < to:
		cut := sort.Search(len(w.Toggles), func(i int) bool { return w.Toggles[i] >= to })
		w.High = w.High != (cut%2 == 1)
		w.From, w.Toggles = to, w.Toggles[cut:]
		for len(w.Unknown) > 0 && w.Unknown[0].To <= to {
			w.Unknown = w.Unknown[1:]
		}
		if len(w.Unknown) > 0 {
			w.Unknown[0].From = max(w.Unknown[0].From, to)
		}
	case w.From > to:
		w.Unknown = append([]wire.Span{{From: to, To: w.From}}, w.Unknown...)
	}
	high := w.EndsHigh()
	if known && g.lineHigh[line] != w.High {
		w.Toggles = append([]quantity.Time{w.From}, w.Toggles...)
	}
	w.From = to
	g.lineTo[line], g.lineHigh[line] = w.To, high
	g.store.Levels(line, w)
	g.store.Advance(w.To)
}
