package operation

import (
	"fmt"
	"slices"
	"strings"

	"gavrix/core/access"
	"gavrix/core/bus/i2c"
	"gavrix/core/record"
	"gavrix/core/safe"
)

// Position is a word or byte of a transaction or frame as it passed.
type Position struct {
	Index int
	// Out and In are what went each way, in hex; "" where nothing did, and dashes where
	// nobody drove the line.
	Out, In string
	Mark    string // how it was acknowledged
	// Value and Bits are what carries the meaning: what came back where that has one,
	// else what was sent.
	Value uint64
	Bits  int
	// Meaning says what stands there; "" where that is not known.
	Meaning string
}

// Forms gives the value as decimal and binary number, and as a character where it is one
// byte.
func (p Position) Forms() string {
	s := fmt.Sprintf("%d  %0*b", p.Value, p.Bits, p.Value)
	if p.Bits == 8 {
		s += fmt.Sprintf("  '%c'", safe.Byte(byte(p.Value)))
	}
	return s
}

// Positions takes a transaction or frame of a kind of bus apart, word by word, with what its
// meaning says of each; m may be nil.
func Positions(kind string, r *record.Record, m *Meaning) []Position {
	var rows []Row
	if m != nil && m.Plan != nil && !m.Part.Asked() {
		rows = Step{Plan: m.Plan, part: m.Part}.cells(0)
	}
	if f := wires[kind].positions; f != nil {
		return f(r, rows)
	}
	var out []Position
	for i, b := range r.Data {
		out = append(out, Position{Index: i, Out: fmt.Sprintf("%02X", b), Value: uint64(b), Bits: 8})
	}
	return out
}

// told gives what rows say of bits of a line in a span.
func told(rows []Row, span, from, bits int, line access.Line) string {
	var out []string
	for _, r := range rows {
		if r.Cell == access.Fixed {
			continue
		}
		if r.Span == span && r.Line == line && r.From < from+bits && from < r.From+r.Bits && !slices.Contains(out, r.Meaning) {
			out = append(out, r.Meaning)
		}
	}
	return strings.Join(out, ", ")
}

// spiPositions pairs what went out with what came back.
func spiPositions(r *record.Record, rows []Row) []Position {
	word := int(r.Bits)
	sent, back := r.Words(r.Data), r.Words(r.Back)
	if slices.ContainsFunc(rows, func(r Row) bool { return r.Span > 0 }) {
		rows = nil // the record is one of several spans
	}
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
