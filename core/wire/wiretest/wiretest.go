// Package wiretest feeds decoders in tests: whole captures, cut into windows
// at will.
package wiretest

import (
	"pgregory.net/rapid"

	"gavrix/core/quantity"
	"gavrix/core/wire"
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
