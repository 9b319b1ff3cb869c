package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/record"
)

// A frame is one word, of which memory keeps the first 8 bytes of data.
var canWords = kind{name: "can", whole: record.Frame, words: func(_ *bench.Link, r *record.Record) (in, out []word) {
	if r.Attr&record.Incomplete != 0 || r.AllFlags() != 0 {
		return nil, nil
	}
	w := word{start: r.Start, end: r.End}
	for i, b := range r.Data[:min(len(r.Data), 8)] {
		w.value |= uint64(b) << (8 * i)
	}
	if r.From == record.MCU {
		return nil, []word{w}
	}
	return []word{w}, nil
}}
