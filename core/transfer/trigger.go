package transfer

import "gavrix.org/gavrix/core/quantity"

// Triggered says what became of the edges of a trigger.
type Triggered struct {
	Starts  []quantity.Time // edges that started a transfer
	Bounces int             // edges that came too soon behind another
	Busy    int             // edges that found the transfer before still running
}

// Debounce gives the starts of edges: one counts when the line was quiet for the bounce time
// before it, and when the transfer that the start before began, which takes busy, is over.
func Debounce(edges []quantity.Time, bounce, busy quantity.Time) Triggered {
	var t Triggered
	last := -quantity.Forever / 2
	free := -quantity.Forever / 2
	for _, at := range edges {
		switch {
		case at-last < bounce:
			t.Bounces++
		case at < free:
			t.Busy++
		default:
			t.Starts = append(t.Starts, at)
			free = at + busy
		}
		last = at
	}
	return t
}
