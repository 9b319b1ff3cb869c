package operation

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/record"
)

// spiWire: each span is a select of its own.
var spiWire = wire{
	positions: spiPositions,
	texts: func(p *Part, plan *access.Plan) []string {
		word := p.End.(spi.End).Word
		var out []string
		for _, s := range plan.Spans {
			words := []string{fmt.Sprintf("select %d out", p.Index+1)}
			if len(s.Out) == 0 {
				words = []string{fmt.Sprintf("select %d %s", p.Index+1, spi.NoClocks)}
			}
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
			if r.FlagsAt(i)&(record.Floating|record.Collision) != 0 {
				unknown = math.MaxUint64
			}
			s.Out = appendBits(s.Out, uint64(w), int(r.Bits), unknown)
		}
		for i, w := range r.Words(r.Back) {
			open, _ := r.Fact(record.Undriven, i)
			if r.FlagsAt(i)&(record.Floating|record.Collision) != 0 {
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

// spiPositions pairs what went out with what came back.
func spiPositions(r *record.Record, rows []Row) []Position {
	word := int(r.Bits)
	sent, back := r.Words(r.Data), r.Words(r.Back)
	var out []Position
	for i, w := range sent {
		p := Position{Index: i, Out: fmt.Sprintf("%0*X", (word+3)/4, w), Value: uint64(w), Bits: word}
		of := told(rows, 0, i*word, word, access.Out)
		in := told(rows, 0, i*word, word, access.In)
		if i < len(back) {
			p.In = fmt.Sprintf("%0*X", (word+3)/4, back[i])
			open, _ := r.Fact(record.Undriven, i)
			if open == int64(1)<<word-1 {
				p.In = strings.Repeat("-", (word+3)/4)
			} else if of == "" || in != "" {
				p.Value = uint64(back[i])
			}
		}
		switch {
		case rows == nil:
		case of == "" && in == "":
			p.Meaning = "ignored"
		case of == "":
			p.Meaning = in
		case in == "":
			p.Meaning = of
		default:
			p.Meaning = of + "; back: " + in
		}
		out = append(out, p)
	}
	return out
}

// laidSPI: a transaction is a message each way.
func laidSPI(p *Part) func(r *record.Record) []exchange {
	return func(r *record.Record) []exchange {
		if r.Kind != record.Transaction || r.From != record.Device+record.End(p.Index) || r.AllFlags()&(record.Short|record.CutOff|record.Clash) != 0 {
			return nil
		}
		out := whole(r, wide(r.Words(r.Data)))
		in := whole(r, wide(r.Words(r.Back)))
		in.begins, in.fromPart = out.words, true
		return []exchange{out, in}
	}
}
