package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/record"
)

var spiWords = kind{name: "spi", whole: record.Transaction, asks: always, words: func(_ *bench.Link, r *record.Record) (in, out []word) {
	sent, back := r.Words(r.Data), r.Words(r.Back)
	out = each(r, func(i int) uint64 { return uint64(sent[i]) })
	in = each(r, func(i int) uint64 {
		if i < len(back) {
			return uint64(back[i])
		}
		return 0
	})
	return in, out
}}

// always is for buses on which nothing comes that the MCU did not ask for.
func always(*bench.Link) bool { return true }
