package operation

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gavrix/core/access"
	"gavrix/core/bus/spi"
	"gavrix/core/record"
)

// spiWire: each span is a select of its own.
var spiWire = wire{
	positions: spiPositions,
	texts: func(p *Part, plan *access.Plan) []string {
		word := p.End.(spi.End).Word
		var out []string
		for _, s := range plan.Spans {
			words := []string{fmt.Sprintf("select %d out", p.Index+1)}
			for i := 0; i+word <= len(s.Out); i += word {
				words = append(words, fmt.Sprintf("%0*X", (word+3)/4, number(s.Out[i:i+word])))
			}
			out = append(out, strings.Join(words, " "))
		}
		return out
	},
	seen: func(p *Part, r *record.Record) ([]access.Seen, bool) {
		if r.Kind != record.Transaction || r.From != record.Device+record.End(p.Index) {
			return nil, false
		}
		var s access.Seen
		for i, w := range r.Words(r.Data) {
			unknown := uint64(0)
			if r.FlagsAt(i)&record.Floating != 0 {
				unknown = math.MaxUint64
			}
			s.Out = appendBits(s.Out, uint64(w), int(r.Bits), unknown)
		}
		for i, w := range r.Words(r.Back) {
			open, _ := r.Fact(record.Undriven, i)
			if r.FlagsAt(i)&record.Floating != 0 {
				open = -1
			}
			s.In = appendBits(s.In, uint64(w), int(r.Bits), uint64(open))
		}
		return []access.Seen{s}, true
	},
	// A part that is never to say anything gives no sign of itself.
	answers: func(_ *record.Record, spans []access.Seen) bool {
		for _, s := range spans {
			if slices.ContainsFunc(s.In, func(b access.Bit) bool { return b != access.Unknown }) {
				return true
			}
		}
		return false
	},
}

// number gives bits as a number, the first the most significant.
func number(bits []bool) uint64 {
	v := uint64(0)
	for _, b := range bits {
		v <<= 1
		if b {
			v |= 1
		}
	}
	return v
}

func appendBits(out []access.Bit, v uint64, n int, unknown uint64) []access.Bit {
	for i := n - 1; i >= 0; i-- {
		b := access.BitOf(v>>i&1 == 1)
		if unknown>>i&1 == 1 {
			b = access.Unknown
		}
		out = append(out, b)
	}
	return out
}
