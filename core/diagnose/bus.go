package diagnose

import (
	"gavrix/core/capture"
	"gavrix/core/quantity"
)

// window is how far back the traffic of a bus is looked at.
const window = quantity.Second

// heldLow says whether the line was low all through the last milliseconds.
func heldLow(snap *capture.Snapshot, link uint16, line int) (since quantity.Time, held bool) {
	return lowFor(snap, link, line, 2*quantity.Millisecond)
}

// lowFor says whether the line was low all through the last stretch of a length.
func lowFor(snap *capture.Snapshot, link uint16, line int, long quantity.Time) (since quantity.Time, held bool) {
	kept, ok := snap.Kept(link, line)
	if !ok || kept.To-kept.From < long {
		return 0, false
	}
	w, ok := snap.Window(link, line, kept.To-long, kept.To)
	return kept.To - long, ok && !w.High && len(w.Toggles) == 0
}
