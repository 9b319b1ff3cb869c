package i2c

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// labels names start, address, direction, acknowledge, data and stop along the
// data line. A bit reaches from the clock's fall before it to the fall behind.
func labels(_ []bus.Settings, r *record.Record, lines []wire.Window) []bus.Label {
	const dataLine = 1
	var out []bus.Label
	event := func(from, to quantity.Time, text string) {
		out = append(out, bus.Label{Kind: bus.EventLabel, Line: dataLine, From: from, To: to, Text: text})
	}
	clock, data := &lines[0], &lines[1]
	// Bits lie between two falls of the clock; the rise between samples.
	fall, rise, bit := r.Start, quantity.Time(-1), -1
	index, from := 0, r.Start
	address := true
	for _, t := range clock.Toggles {
		if t < r.Start || t > r.End {
			continue
		}
		if clock.Level(t) {
			rise = t
			continue
		}
		if bit < 0 {
			event(fall, t, "start")
			bit, fall, address = 0, t, true
			from = t
			continue
		}
		// Between rise and fall data may have fallen: a repeated start.
		if rise >= 0 && data.Level(rise) && !data.Level(t-1) {
			event(rise, t, "restart")
			bit, fall, address = 0, t, true
			from = t
			continue
		}
		if bit < 8 {
			text := fmt.Sprintf("b%d", 7-bit)
			switch {
			case address && bit == 7:
				text = "write"
				if data.Level(rise) {
					text = "read"
				}
			case address:
				text = fmt.Sprintf("a%d", 6-bit)
			}
			out = append(out, bus.Label{Kind: bus.BitLabel, Line: dataLine, From: fall, To: t, Text: text, High: data.Level(rise)})
		} else {
			if index < len(r.Data) {
				text := fmt.Sprintf("%02X", r.Data[index])
				if address {
					text = fmt.Sprintf("%02X: address %02X", r.Data[index], r.Data[index]>>1)
					if r.Data[index]>>3 == 0b11110 {
						text = fmt.Sprintf("%02X: 10-bit address", r.Data[index])
					}
				}
				out = append(out, bus.Label{Kind: bus.FieldLabel, Line: dataLine, From: from, To: fall, Text: text})
			}
			text := "ack"
			if data.Level(rise) {
				text = "nack"
			}
			out = append(out, bus.Label{Kind: bus.BitLabel, Line: dataLine, From: fall, To: t, Text: text, High: data.Level(rise)})
			index++
			from = t
			address = false
		}
		out = append(out, bus.Label{Kind: bus.SampleLabel, Line: 0, From: rise, To: rise, Text: "sample"})
		bit = (bit + 1) % 9
		fall = t
	}
	if r.Attr&record.Stopped != 0 {
		event(fall, r.End, "stop")
	}
	return out
}
