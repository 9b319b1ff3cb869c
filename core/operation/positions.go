package operation

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
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
		if m.Part.Kind.Selects {
			rows = slices.DeleteFunc(rows, func(r Row) bool { return r.Span != m.Before })
			for i := range rows {
				rows[i].Span = 0
			}
		}
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
