package diagnose

import (
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
)

// window is how far back the traffic of a bus is looked at.
const window = quantity.Second

// heldLow says whether the line was low all through the last milliseconds.
func heldLow(snap *capture.Snapshot, link uint16, line int) (since quantity.Time, held bool) {
	return lowFor(snap, link, line, 2*quantity.Millisecond)
}

// lowFor says whether the line was low all through the last stretch of a length.
func lowFor(snap *capture.Snapshot, link uint16, line int, long quantity.Time) (since quantity.Time, held bool) {
	r, ok := snap.Rest(link, line)
	if !ok || r.High || r.To-r.Since < long {
		return 0, false
	}
	return r.To - long, true
}
