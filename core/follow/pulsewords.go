package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Elements are sent as bytes of clocked bits.
var pulseWords = kind{name: "pulse", whole: record.Transaction, words: func(l *bench.Link, r *record.Record) (in, out []word) {
	m, ok := l.Model.(*bench.Pulse)
	if !ok {
		return nil, nil
	}
	bytes := pulse.ToClocked(m.Takes, m.Patterns, r.Words(r.Data)...)
	n := quantity.Time(len(bytes))
	for i, b := range bytes {
		k := quantity.Time(i)
		out = append(out, word{r.Start + (r.End-r.Start)*k/n, r.Start + (r.End-r.Start)*(k+1)/n, uint64(b)})
	}
	return nil, out
}}
