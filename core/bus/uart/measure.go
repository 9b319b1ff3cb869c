package uart

import (
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// measure says how fast the sender on a line is against what its receiver wants,
// from the edges of the records in a window.
func measure(ends []bus.Settings, role int, rs []*record.Record, lines []wire.Window) string {
	if role > 2 {
		return ""
	}
	from := driver(role)
	sends, reads := bus.At(ends, from).(Settings), bus.At(ends, 0).(Settings)
	if from == 0 {
		reads = bus.At(ends, 1).(Settings)
	}
	w := &lines[role]
	var starts []quantity.Time
	for _, r := range rs {
		if r.Kind != record.Chars || lineOf(r.From) != role {
			continue
		}
		for i := range r.Offsets {
			if t := r.Start + r.Offsets[i]; t >= w.From && i < r.Len() && r.FlagsAt(i) == 0 {
				starts = append(starts, t)
			}
		}
	}
	return RateVerdict(starts, w.Toggles, sends, reads)
}
