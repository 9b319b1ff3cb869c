package pulse

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// labels names elements, bits and the latch.
func labels(ends []bus.Settings, r *record.Record, lines []wire.Window) []bus.Label {
	s := ends[0].(Settings)
	elements := Elements(r)
	digits := (s.Element + 3) / 4
	var rises []quantity.Time
	last, high := r.Start, lines[0].High
	for _, t := range lines[0].Toggles {
		high = !high
		if t < r.Start || t >= r.End {
			continue
		}
		if high {
			rises = append(rises, t)
		}
		last = t
	}
	var out []bus.Label
	end := func(i int) quantity.Time {
		if i < len(rises) {
			return rises[i]
		}
		return last
	}
	for i, t := range rises {
		k, bit := i/s.Element, i%s.Element
		if k >= len(elements) {
			out = append(out, bus.Label{Kind: bus.BitLabel, From: t, To: end(i + 1), Text: "unfinished"})
			continue
		}
		if bit == 0 {
			out = append(out, bus.Label{Kind: bus.FieldLabel, From: t, To: end(i + s.Element), Text: fmt.Sprintf("%0*X", digits, elements[k])})
		}
		text := "0"
		if s.bit(elements[k], bit) {
			text = "1"
		}
		out = append(out, bus.Label{Kind: bus.BitLabel, From: t, To: end(i + 1), Text: text, High: text == "1"})
	}
	return append(out, bus.Label{Kind: bus.EventLabel, From: last, To: r.End, Text: "latch"})
}
