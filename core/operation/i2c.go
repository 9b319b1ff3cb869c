package operation

import (
	"fmt"
	"gavrix.org/gavrix/core/layout"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/record"
)

// i2cWire: all spans are one transaction, each behind a start of its own.
var i2cWire = wire{
	positions: i2cPositions,
	texts: func(p *Part, plan *access.Plan) []string {
		address := p.End.(i2c.End).Address
		var words []string
		for k, s := range plan.Spans {
			start := "start"
			if k > 0 {
				start = "restart"
			}
			// An address of ten bits is written before it is read from.
			if s.Reads && k == 0 && address.Ten() {
				words = append(words, start, fmt.Sprintf("%02X ack %02X ack", address.Wire(false)[0], address.Wire(false)[1]))
				start = "restart"
			}
			words = append(words, start)
			for _, b := range address.Wire(s.Reads) {
				words = append(words, fmt.Sprintf("%02X ack", b))
			}
			for i := 0; i+8 <= len(s.Out); i += 8 {
				switch {
				case !s.Reads:
					words = append(words, fmt.Sprintf("%02X ack", number(s.Out[i:i+8])))
				case i+8 < len(s.Out):
					words = append(words, ".. ack")
				default:
					words = append(words, ".. nack")
				}
			}
		}
		return []string{strings.Join(append(words, "stop"), " ")}
	},
	seen: func(p *Part, r *record.Record) ([]access.Seen, bool) {
		address := p.End.(i2c.End).Address
		if r.Kind != record.Transaction || len(r.Data) == 0 {
			return nil, false
		}
		parts := i2c.Parts(r)
		var out []access.Seen
		for i, x := range parts {
			if x.Address != address.Number() || x.Ten != address.Ten() {
				return nil, false
			}
			if x.Ten && !x.Read && len(x.Data) == 0 && i+1 < len(parts) && parts[i+1].Read {
				continue // only the address was written
			}
			s := access.Seen{Reads: x.Read}
			for _, b := range x.Data {
				if x.Read {
					s.In = appendBits(s.In, uint64(b), 8, 0)
				} else {
					s.Out = appendBits(s.Out, uint64(b), 8, 0)
				}
			}
			out = append(out, s)
		}
		return out, true
	},
	acknowledges: true,
	frees:        i2c.Freeing,
	doubts:       addressMixedUp,
	probe: func(parts []*Part, reading bool) []Probe {
		var out []Probe
		for a := 0x08; a <= 0x77; a++ { // the others are reserved
			p := Probe{Address: a, Text: fmt.Sprintf("start %02X ack stop", a<<1)}
			if reading {
				p.Text = fmt.Sprintf("start %02X ack .. nack stop", a<<1|1)
			}
			for _, o := range parts {
				if int(o.End.(i2c.End).Address) == a {
					p.Part = o
				}
			}
			out = append(out, p)
		}
		for _, o := range parts {
			if a := o.End.(i2c.End).Address; a.Ten() {
				p := Probe{Address: a.Number(), Text: fmt.Sprintf("start %02X ack %02X ack stop", a.Wire(false)[0], a.Wire(false)[1]), Part: o}
				if reading {
					p.Text = fmt.Sprintf("start %02X ack %02X ack restart %02X ack .. nack stop", a.Wire(false)[0], a.Wire(false)[1], a.First(true))
				}
				out = append(out, p)
			}
		}
		return out
	},
	silent: func(r *record.Record) bool {
		parts := i2c.Parts(r)
		return len(parts) > 0 && !parts[0].Acked
	},
	answers: func(r *record.Record, _ []access.Seen) bool {
		return len(r.Back) > 0 && r.Back[0]&record.Acked != 0
	},
}

// addressMixedUp asks where a byte on the wire is the address of a part in seven bits.
func addressMixedUp(parts []*Part, text string) string {
	words := strings.Fields(text)
	at := func(a uint64) *Part {
		for _, p := range parts {
			if e, is := p.End.(i2c.End); is && uint64(e.Address) == a {
				return p
			}
		}
		return nil
	}
	for i, w := range words[:max(len(words)-1, 0)] {
		if w != "start" && w != "restart" {
			continue
		}
		b, err := strconv.ParseUint(words[i+1], 16, 8)
		if p := at(b); err == nil && p != nil && at(b>>1) == nil {
			return fmt.Sprintf("%02X on the wire is address %02X, where no part is; did you mean %s at %02X (%02X on the wire to write, %02X to read)?", b, b>>1, p.Name, b, b<<1, b<<1|1)
		}
	}
	return ""
}

// i2cPositions gives each byte with its acknowledge.
func i2cPositions(r *record.Record, rows []Row) []Position {
	var out []Position
	acked := func(yes bool) string {
		if yes {
			return "ack"
		}
		return "nack"
	}
	add := func(b byte, reads, ack bool, meaning string) {
		p := Position{Index: len(out), Mark: acked(ack), Value: uint64(b), Bits: 8, Meaning: meaning}
		if text := fmt.Sprintf("%02X", b); reads {
			p.In = text
		} else {
			p.Out = text
		}
		out = append(out, p)
	}
	span := 0
	for _, x := range i2c.Parts(r) {
		if x.Address != i2c.NoAddress {
			for n := len(out); n < x.First+addressBytes(x) && n < len(r.Data); n++ {
				way := "to write"
				if x.Read {
					way = "to read"
				}
				add(r.Data[n], false, r.Back[n]&record.Acked != 0, fmt.Sprintf("address %02X, %s", x.Address, way))
			}
		}
		if x.Ten && !x.Read && len(x.Data) == 0 {
			continue // only the address was written
		}
		for i, b := range x.Data {
			line := access.Out
			if x.Read {
				line = access.In
			}
			add(b, x.Read, x.Acks[i], told(rows, span, 8*i, 8, line))
		}
		span++
	}
	return out
}

// addressBytes is how many bytes the address of a part of a transaction takes.
func addressBytes(x i2c.Part) int {
	if x.Ten && !x.Read {
		return 2
	}
	return 1
}

// laidI2C: what is written behind the address is one message, what is read another.
func laidI2C(p *Part) func(r *record.Record) []exchange {
	return func(r *record.Record) []exchange {
		if r.Kind != record.Transaction || r.AllFlags()&(record.CutOff|record.StopInByte|record.Stuck) != 0 {
			return nil
		}
		address := p.End.(i2c.End).Address
		var out []exchange
		var written []uint64
		at := 0
		for _, x := range i2c.Parts(r) {
			if x.Address != address.Number() || x.Ten != address.Ten() {
				return nil
			}
			at++
			if x.Ten && !x.Read {
				at++ // the second byte of the address
			}
			words := layout.Words(x.Data)
			e := exchange{words: words, begins: written, fromPart: x.Read, start: r.Start, end: r.End, from: at, to: at + len(words)}
			if !x.Read {
				written = words
				e.begins = words
			}
			at += len(words)
			if len(words) > 0 {
				out = append(out, e)
			}
		}
		return out
	}
}
