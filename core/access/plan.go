package access

import (
	"fmt"
	"slices"
)

// Use is an operation with what it is about.
type Use struct {
	Number uint64 // of the first register
	Units  int    // how many registers, at least 1 where the pattern has a value
	Stays  bool   // the number does not go up from one register to the next
	// Values are what is written, a register each; Held what is written to
	// registers that the pattern names.
	Values []uint64
	Held   map[string]uint64
	Chars  []byte // a text
	// Sequence is the number of the request, where it has one.
	Sequence uint64
}

// Item is a cell at its place in an operation.
type Item struct {
	Cell
	Line Line
	Unit int    // which of the registers
	Sent uint64 // what the bus controller sends there
	Text string // where it is characters, those
}

// Planned is one span of an operation.
type Planned struct {
	Reads bool
	Out   []bool // what the bus controller sends, bit by bit
	Items []Item
}

// Plan is an operation as it will be on the bus.
type Plan struct {
	Pattern *Pattern
	Use
	Spans []Planned
}

// mostUnits bounds how many registers one operation is about.
const mostUnits = 4096

// Plan gives the operation bit by bit.
func (p *Pattern) Plan(u Use) (*Plan, error) {
	if p.ValueBits > 0 && u.Units < 1 {
		u.Units = 1
	}
	switch {
	case u.Units > mostUnits:
		return nil, fmt.Errorf("%d registers in one go: at most %d", u.Units, mostUnits)
	case u.Units > 1 && !p.Repeats():
		return nil, fmt.Errorf("%s accesses one register at a time", p.Name)
	case p.Most > 0 && u.Units > p.Most:
		return nil, fmt.Errorf("%d registers: %s takes at most %d in one go", u.Units, p.Name, p.Most)
	case p.Writes && len(u.Values) != u.Units:
		return nil, fmt.Errorf("%d values for %d registers", len(u.Values), u.Units)
	case u.Number&^ones(p.NumberBits) != 0:
		return nil, fmt.Errorf("register 0x%X: %s has %d bits for the number", u.Number, p.Name, p.NumberBits)
	}
	for _, v := range u.Values {
		if v&^ones(p.ValueBits) != 0 {
			return nil, fmt.Errorf("0x%X does not fit the %d bits of a register", v, p.ValueBits)
		}
	}
	for _, name := range p.HeldOut {
		if _, given := u.Held[name]; !given {
			return nil, fmt.Errorf("%s is sent too: its content must be known", name)
		}
	}
	pl := &Plan{Pattern: p, Use: u}
	if p.Message {
		if p.CountBits > 0 && uint64(u.Units)&^ones(p.CountBits) != 0 {
			return nil, fmt.Errorf("%d registers: %s has %d bits for how many", u.Units, p.Name, p.CountBits)
		}
		return pl, p.planMessage(pl)
	}
	pl.Spans = make([]Planned, 0, len(p.Spans))
	for k := range p.Spans {
		s := &p.Spans[k]
		span := Planned{Reads: s.Reads}
		span.Items = make([]Item, 0, (len(s.Lines[Out])+len(s.Lines[In]))*max(u.Units, 1))
		for line, cells := range s.Lines {
			for i := range cells {
				span.Items = s.items(span.Items, Line(line), cells[i], u.Units)
			}
		}
		slices.SortStableFunc(span.Items, func(a, b Item) int { return a.At - b.At })
		span.Out = make([]bool, s.size(u.Units))
		for i := range span.Items {
			it := &span.Items[i]
			if it.Line == Out {
				if it.What == Check {
					it.Sent, _ = p.checkOf(k, Out, it.At, func(j int, _ Line, at int) Bit {
						if j < k {
							return BitOf(pl.Spans[j].Out[at])
						}
						return BitOf(span.Out[at])
					}, func(j int) int { return len(pl.Spans[j].Out) })
				} else {
					it.Sent = pl.sent(it)
				}
				for at := it.At; at < it.end(); at++ {
					span.Out[at] = it.Sent>>(it.end()-1-at)&1 == 1
				}
			}
		}
		pl.Spans = append(pl.Spans, span)
	}
	return pl, nil
}

// Again gives the operation with another number of its request.
func (p *Plan) Again(sequence uint64) (*Plan, error) {
	u := p.Use
	u.Sequence = sequence & ones(p.Pattern.SequenceBits)
	return p.Pattern.Plan(u)
}

// size is the number of bits of a span for a number of registers.
func (s *Span) size(units int) int { return s.Bits + (s.Bits-s.Tail)*max(units-1, 0) }

// items adds a cell at each of its places.
func (s *Span) items(out []Item, line Line, c Cell, units int) []Item {
	out = append(out, Item{Cell: c, Line: line})
	if c.At < s.Tail {
		return out
	}
	for u := 1; u < units; u++ {
		it := Item{Cell: c, Line: line, Unit: u}
		it.At += u * (s.Bits - s.Tail)
		out = append(out, it)
	}
	return out
}

// sent gives what a cell of the line out holds.
func (p *Plan) sent(it *Item) uint64 {
	whole := uint64(0)
	switch it.What {
	case Fixed:
		return it.Fixed
	case Number:
		whole = p.Number
	case Value:
		whole = p.Values[it.Unit]
	case Held:
		whole = p.Held[it.Name]
	case More:
		if p.Units > 1 && !p.Stays {
			return 1
		}
	}
	return whole >> it.Low & ones(it.Bits)
}

// NumberOf gives the number of the register with the index.
func (p *Plan) NumberOf(unit int) uint64 {
	if p.Stays {
		return p.Number
	}
	return p.Number + uint64(unit)
}

// Bit is what was read at a place.
type Bit uint8

// The bits.
const (
	Zero Bit = iota
	One
	Unknown // nobody drove the line, or the record does not reach so far
)

// BitOf gives the bit of a level.
func BitOf(high bool) Bit {
	if high {
		return One
	}
	return Zero
}

// Answer is what came back.
type Answer struct {
	Values []uint64 // a register each
	Known  []bool   // all of its bits were there
	Held   map[string]uint64
	// Unlike are the constants that the part should have sent and did not.
	Unlike []Item
	// Cut: fewer bits came than were planned.
	Cut bool
	// Chars is the text that came back. Refused: the part said that it does not do it,
	// and Why.
	Chars   []byte
	Texts   map[string][]byte // those with names
	Refused bool
	Why     uint64

	driven     []uint64
	heldDriven map[string]uint64
}

// Answer takes the part's line of each span apart.
func (p *Plan) Answer(in [][]Bit) Answer {
	a := p.emptyAnswer()
	for i := range a.Known {
		a.Known[i] = p.Pattern.Reads
	}
	unknown := map[string]bool{}
	for k := range p.Spans {
		for i := range p.Spans[k].Items {
			it := &p.Spans[k].Items[i]
			if it.Line != In || it.What == Skip {
				continue
			}
			v, driven, known := uint64(0), uint64(0), true
			for at := it.At; at < it.end(); at++ {
				b := Unknown
				if k < len(in) && at < len(in[k]) {
					b = in[k][at]
				} else {
					a.Cut = true
				}
				known = known && b != Unknown
				v, driven = v<<1|uint64(b&1), driven<<1
				if b != Unknown {
					driven |= 1
				}
			}
			switch it.What {
			case Value:
				a.Values[it.Unit] |= v << it.Low
				a.driven[it.Unit] |= driven << it.Low
				a.Known[it.Unit] = a.Known[it.Unit] && known
			case Held:
				if a.Held == nil {
					a.Held = map[string]uint64{}
				}
				a.Held[it.Name] |= v << it.Low
				a.heldDriven[it.Name] |= driven << it.Low
				unknown[it.Name] = unknown[it.Name] || !known
			case Fixed:
				if !known || v != it.Fixed {
					a.Unlike = append(a.Unlike, *it)
				}
			}
		}
	}
	for name, un := range unknown {
		if un {
			delete(a.Held, name)
		}
	}
	return a
}

// CharsOf gives the text with a name; "" is the one with the number that was asked for.
func (a *Answer) CharsOf(name string) []byte {
	if t, has := a.Texts[name]; has {
		return t
	}
	return a.Chars
}

// Driven gives the bits of the content of a unit that were driven while it came back.
func (a *Answer) Driven(unit int) uint64 { return a.driven[unit] }

// HeldDriven gives the bits of a register that the pattern names that were driven.
func (a *Answer) HeldDriven(name string) uint64 { return a.heldDriven[name] }
