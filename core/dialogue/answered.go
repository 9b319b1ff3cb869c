package dialogue

import (
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// Answered reports whether anything came from the other side of a character link behind the
// begin of a message of the MCU, an echo counted, until the MCU sent again or the time
// within was over from the message's end on. It asks the capture, whatever is shown of it.
func Answered(snap *capture.Snapshot, link uint16, begin, end, within quantity.Time) bool {
	next := end + within
	first := quantity.Forever // of what came back
	look := func(r *record.Record) {
		if r.Kind != record.Chars || r.Link != link {
			return
		}
		for i := range r.Len() {
			at := r.Start
			if i < len(r.Offsets) {
				at += r.Offsets[i]
			}
			switch {
			case r.From == record.MCU && at >= end && at < next:
				next = at
			case r.From >= record.Device && at > begin:
				first = min(first, at)
			}
		}
	}
	for _, h := range snap.After(snap.IndexAt(begin), records.Query{Link: int(link), Kinds: []record.Kind{record.Chars}}) {
		look(snap.Of(h))
		if h.End > end+within || first < next && h.Start >= end {
			break
		}
	}
	for i := range snap.Running {
		look(&snap.Running[i])
	}
	return first < next
}
