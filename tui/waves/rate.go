package waves

import (
	"gavrix/core/bus/uart"
	"gavrix/core/picture"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
	"gavrix/tui/ui"
)

// rate says how fast a character line's sender is against what its receiver
// wants, from the edges of the records in a window.
func (v *View) rate(h ui.Host, line int, w *wire.Window) string {
	sends, ok := h.Settings(int(h.LinkIndex()), line).(uart.Settings)
	if !ok || line > 2 {
		return ""
	}
	reads := sends
	if line < 2 {
		reads, _ = h.Settings(int(h.LinkIndex()), 1-line).(uart.Settings)
	}
	rs, _ := picture.Records(h.Snapshot(), h.LinkIndex(), w.From, w.To, 200, func(r *record.Record) bool {
		return r.Kind == record.Chars && r.Seen == record.Tap && uart.LineOf(r.From) == line
	})
	var starts []quantity.Time
	for _, r := range rs {
		for i := range r.Offsets {
			if t := r.Start + r.Offsets[i]; t >= w.From && i < r.Len() && r.FlagsAt(i) == 0 {
				starts = append(starts, t)
			}
		}
	}
	return uart.RateVerdict(starts, w.Toggles, sends, reads)
}
