package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/record"
)

// A frame is one word, of which memory keeps the first 8 bytes of data.
var canWords = kind{name: "can", whole: record.Frame, words: func(l *bench.Link, r *record.Record) (in, out []word) {
	if r.Attr&record.Incomplete != 0 || r.AllFlags() != 0 {
		return nil, nil
	}
	w := word{start: r.Start, end: r.End}
	for i, b := range r.Data[:min(len(r.Data), 8)] {
		w.value |= uint64(b) << (8 * i)
	}
	if r.From == record.MCU || r.From == record.Nobody && sends(l, r) {
		return nil, []word{w}
	}
	return []word{w}, nil
}}

// sends says whether the MCU's node has a frame's identifier among its messages: a capture of
// levels alone does not tell who sent it.
func sends(l *bench.Link, r *record.Record) bool {
	c, ok := l.Model.(*bench.CAN)
	if !ok {
		return false
	}
	for _, m := range c.Nodes[0].Messages {
		if m.Frame.ID == r.ID && m.Frame.Extended == (r.Attr&record.Extended != 0) {
			return true
		}
	}
	return false
}
