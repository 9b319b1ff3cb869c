package follow

import (
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/record"
)

var i2cWords = kind{name: "i2c", whole: record.Transaction, asks: always, words: func(_ *bench.Link, r *record.Record) (in, out []word) {
	reading := false
	for i, w := range each(r, func(i int) uint64 { return uint64(r.Data[i]) }) {
		address := i < len(r.Back) && r.Back[i]&record.Addressing != 0
		if address {
			reading = w.value&1 == 1
		}
		if reading && !address {
			in = append(in, w)
		} else {
			out = append(out, w)
		}
	}
	return in, out
}}
