package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

var uartWords = kind{name: "uart", whole: record.Chars, ownReading: true, asks: answers, words: func(_ *bench.Link, r *record.Record) (in, out []word) {
	list := each(r, func(i int) uint64 { return uint64(r.Char(i)) })
	if r.From == record.MCU {
		return nil, list
	}
	return list, nil
}}

// answers says whether the part speaks only when it was asked.
func answers(l *bench.Link) bool {
	if l.Talker == nil {
		return true
	}
	_, streams := l.Talker.Streams()
	return !streams
}

// each gives the words of a record with the times at which they went. Where the record has
// no time of each, they are spread over it.
func each(r *record.Record, value func(i int) uint64) []word {
	n := r.Len()
	out := make([]word, n)
	for i := range out {
		w := &out[i]
		switch {
		case i < len(r.Offsets):
			w.start = r.Start + r.Offsets[i]
		default:
			w.start = r.Start + (r.End-r.Start)*quantity.Time(i)/quantity.Time(n)
		}
		switch {
		case r.Each > 0 && i < len(r.Offsets):
			w.end = w.start + r.Each
		case i+1 < len(r.Offsets):
			w.end = r.Start + r.Offsets[i+1]
		case i+1 == n:
			w.end = r.End
		default:
			w.end = r.Start + (r.End-r.Start)*quantity.Time(i+1)/quantity.Time(n)
		}
		w.value = value(i)
	}
	return out
}
