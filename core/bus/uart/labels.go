package uart

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// lineOf is the line that an end drives, as an index into the kind's roles: of
// nobody known it is the shared one.
func lineOf(e record.End) int {
	switch {
	case e == record.MCU:
		return 0
	case e >= record.Device:
		return 1
	}
	return 2
}

// driver is the end that drives a line.
func driver(role int) int {
	return []int{0, 1, -1, 0, 1}[role]
}

// labels names the bits of each character: where they lie follows from its
// start.
func labels(ends []bus.Settings, r *record.Record, lines []wire.Window) []bus.Label {
	line := lineOf(r.From)
	s := bus.At(ends, driver(line)).(Settings)
	if r.Kind != record.Chars {
		return nil
	}
	p := quantity.PeriodOf(s.Rate)
	cells := s.Frame.Cells()
	sampled := 1 + s.Frame.Data + s.Frame.parityBits() + 1
	var out []bus.Label
	for i := range min(r.Len(), len(r.Offsets)) {
		at := r.Start + r.Offsets[i]
		out = append(out, bus.Label{Kind: bus.FieldLabel, Line: line, From: at, To: at + s.Frame.Time(p), Text: fmt.Sprintf("%02X", r.Char(i))})
		for k, name := range cells {
			from := at
			if k > 0 {
				from = at + p.Halves(s.Frame.CellEnd(k-1))
			}
			to := at + p.Halves(s.Frame.CellEnd(k))
			bit := bus.Label{Kind: bus.BitLabel, Line: line, From: from, To: to, Text: name}
			if line < len(lines) {
				bit.High = lines[line].Level(from + (to-from)/2)
			}
			out = append(out, bit)
			if k < sampled {
				m := at + p.Halves(int64(2*k+1))
				out = append(out, bus.Label{Kind: bus.SampleLabel, Line: line, From: m, To: m, Text: name})
			}
		}
	}
	return out
}
