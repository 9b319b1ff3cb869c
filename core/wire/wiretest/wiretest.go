// Package wiretest feeds decoders in tests: whole captures, cut into windows
// at will.
package wiretest

import (
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Cut gives the end of the window that begins at from.
type Cut func(from quantity.Time) quantity.Time

// Whole does not cut.
func Whole(end quantity.Time) Cut { return func(quantity.Time) quantity.Time { return end } }

// Steps cuts windows of one length, at least a picosecond.
func Steps(step quantity.Time) Cut {
	return func(from quantity.Time) quantity.Time { return from + max(step, 1) }
}

// AtRandom cuts about n windows at random places of a capture.
func AtRandom(rt *rapid.T, end quantity.Time, n int64) Cut {
	return func(from quantity.Time) quantity.Time {
		return from + 1 + quantity.Time(rapid.Int64Range(0, 2*int64(end)/n+1).Draw(rt, "cut"))
	}
}

// Feed gives a capture from time 0 to end in windows. The lines' first levels
// are in high; toggles are in order.
func Feed(lines [][]quantity.Time, high []bool, end quantity.Time, cut Cut, feed func([]wire.Window)) {
	at := make([]int, len(lines))
	high = append([]bool(nil), high...)
	for from := quantity.Time(0); from < end; {
		to := min(end, cut(from))
		var ws []wire.Window
		for i := range lines {
			j := at[i]
			for j < len(lines[i]) && lines[i][j] < to {
				j++
			}
			w := wire.Window{From: from, To: to, High: high[i], Toggles: lines[i][at[i]:j]}
			ws = append(ws, w)
			at[i], high[i] = j, w.EndsHigh()
		}
		feed(ws)
		from = to
	}
}

// Lines gives n lines from a time on, with unknown stretches, as files can hold them:
// where nobody drives a line it reads high, where it is unknown it keeps its level.
func Lines(rt *rapid.T, n int) []wire.Window {
	from := quantity.Time(rapid.Int64Range(0, 1e6).Draw(rt, "from"))
	end := from + quantity.Time(rapid.Int64Range(1, 1e9).Draw(rt, "length"))
	var out []wire.Window
	for range n {
		w := wire.Window{From: from, To: end}
		now := rapid.SampledFrom([]byte("01xz")).Draw(rt, "first")
		high := now == '1' || now == 'z'
		w.High = high
		since := from
		for at := from; at < end; {
			at = min(end, at+quantity.Time(rapid.Int64Range(1, int64(end-from)/3+2).Draw(rt, "step")))
			next := rapid.SampledFrom([]byte("01xz")).Draw(rt, "symbol")
			if next == now && at < end {
				continue
			}
			if now > '1' {
				w.Unknown = append(w.Unknown, wire.Span{From: since, To: at, Open: now == 'z'})
			}
			if level := next == '1' || next == 'z' || next == 'x' && high; level != high && at < end {
				w.Toggles = append(w.Toggles, at)
				high = level
			}
			now, since = next, at
		}
		out = append(out, w)
	}
	return out
}

// Split gives the windows of a stretch piece by piece.
func Split(ws []wire.Window, cut Cut, feed func([]wire.Window)) {
	for from, end := ws[0].From, ws[0].To; from < end; {
		to := min(end, cut(from))
		var out []wire.Window
		for _, w := range ws {
			part := wire.Window{From: from, To: to, High: w.High}
			for _, t := range w.Toggles {
				switch {
				case t < from:
					part.High = !part.High
				case t < to:
					part.Toggles = append(part.Toggles, t)
				}
			}
			for _, s := range w.Unknown {
				if s.From < to && s.To > from {
					part.Unknown = append(part.Unknown, wire.Span{From: max(s.From, from), To: min(s.To, to), Open: s.Open})
				}
			}
			out = append(out, part)
		}
		feed(out)
		from = to
	}
}

// Join is the inverse of Split: it adds a window to those before.
func Join(w *wire.Window, next wire.Window) {
	w.To = next.To
	w.Toggles = append(w.Toggles, next.Toggles...)
	for _, s := range next.Unknown {
		if n := len(w.Unknown); n > 0 && w.Unknown[n-1].To == s.From && w.Unknown[n-1].Open == s.Open {
			w.Unknown[n-1].To = s.To
			continue
		}
		w.Unknown = append(w.Unknown, s)
	}
}
