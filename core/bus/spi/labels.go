package spi

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// labelsOf names the words and bits of a transaction on both data lines. A bit
// reaches from its sampling edge half way back and forth to the next ones.
func labelsOf(s Settings, r *record.Record, lines []wire.Window) []bus.Label {
	clock := lines[0]
	high := clock.High
	var samples []quantity.Time
	first := true
	sample := false
	for _, t := range clock.Toggles {
		if t >= r.Start && t <= r.End {
			if first {
				sample, first = (high == s.ClockIdleHigh) != s.SampleSecond, false
			}
			if sample {
				samples = append(samples, t)
			}
			sample = !sample
		}
		high = !high
	}
	if len(samples) == 0 {
		return nil
	}
	half := (r.End - r.Start) / quantity.Time(2*len(samples)+1)
	for i := 1; i < len(samples); i++ {
		half = min(half, (samples[i]-samples[i-1])/2)
	}
	var out []bus.Label
	words := [2][]uint32{Words(r, r.Data), Words(r, r.Back)}
	digits := (s.Word + 3) / 4
	turned := s.TurnedBy(words[0])
	for i, t := range samples {
		bit := i % s.Word
		number := s.Word - 1 - bit
		if s.LSBFirst {
			number = bit
		}
		for line := range 2 {
			if line == 1 && (s.Shared || len(r.Back) == 0) {
				continue
			}
			if bit == 0 {
				var to quantity.Time
				if last := i + s.Word - 1; last < len(samples) {
					to = samples[last] + half
				} else {
					to = samples[len(samples)-1] + half
				}
				text := fmt.Sprintf("%d of %d bits", len(samples)-i, s.Word)
				w := words[line]
				if i >= s.Turn && turned {
					w = words[1]
				}
				if k := i / s.Word; k < len(w) {
					text = fmt.Sprintf("%0*X", digits, w[k])
					if line == 1 {
						text = answered(r, k, w[k])
					}
				}
				out = append(out, bus.Label{Kind: bus.FieldLabel, Line: 1 + line, From: t - half, To: to, Text: text})
			}
			out = append(out, bus.Label{Kind: bus.BitLabel, Line: 1 + line, From: t - half, To: t + half, Text: fmt.Sprintf("b%d", number), High: lines[1+line].Level(t - 1)})
		}
		out = append(out, bus.Label{Kind: bus.SampleLabel, From: t, To: t, Text: fmt.Sprintf("b%d", number)})
	}
	return out
}
