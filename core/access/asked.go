package access

import (
	"bytes"
	"fmt"
)

// planMessage gives the request, and the cells of its answer.
func (p *Pattern) planMessage(pl *Plan) error {
	if t := p.Text; t != nil && t.Writes && t.Most > 0 && len(pl.Chars) > t.Most {
		return fmt.Errorf("%d characters; %s has at most %d", len(pl.Chars), t.Name, t.Most)
	}
	out, items := p.Spans[0].compose(Out, pl.Units, request{pl})
	pl.Spans = []Planned{{Out: out, Items: items}}
	if len(p.Spans) > 1 {
		s := &p.Spans[1]
		answer := Planned{Reads: true}
		for u := range max(pl.Units, 1) {
			for _, c := range s.Lines[In] {
				if u > 0 && c.At < s.Tail {
					continue
				}
				it := Item{Cell: c, Line: In, Unit: u}
				it.At += u * (s.Bits - s.Tail)
				it.Cell.Bits = c.width()
				answer.Items = append(answer.Items, it)
			}
		}
		answer.Out = make([]bool, s.size(pl.Units))
		pl.Spans = append(pl.Spans, answer)
	}
	return nil
}

// Foreign is a request that is none of the part's operations: it may be refused all the
// same.
func Foreign(content []byte) *Plan {
	out := make([]bool, 0, 8*len(content))
	for _, b := range content {
		out = appendByte(out, b)
	}
	name := fmt.Sprintf("the message % X", content)
	if !bytes.ContainsFunc(content, func(r rune) bool { return r < ' ' || r > '~' }) {
		name = fmt.Sprintf("the message %q", content)
	}
	p := &Pattern{Name: name, Message: true, Spans: []Span{{}}}
	return &Plan{Pattern: p, Spans: []Planned{{Out: out}}}
}

// Request is the content of the request.
func (p *Plan) Request() []byte { return Bytes(p.Spans[0].Out) }

// request gives what a plan asks for.
type request struct{ *Plan }

func (r request) bits(it *Item) uint64 {
	if it.What == Count {
		return uint64(r.Units) >> it.Low & ones(it.Bits)
	}
	if it.What == Sequence {
		return r.Sequence & ones(it.Bits)
	}
	if it.Form != Plain {
		whole := *it
		whole.Low, whole.Bits = 0, 64
		return r.sent(&whole)
	}
	return r.sent(it)
}
func (r request) chars(string) []byte { return r.Chars }
func (request) echoed(int) bool       { return false }
func (u *Use) text(_ string, c []byte) bool {
	u.Chars = c
	return true
}
func (u *Use) echo(int, Bit) bool { return false }

// asked reads what a request was about.
type asked struct {
	*Use
	count uint64
}

func (a *asked) take(it *Item, v uint64, known bool) bool {
	if it.What == Count {
		a.count |= v << it.Low
		return known
	}
	if it.What == Sequence {
		a.Sequence = v
		return known
	}
	return a.Use.take(it, v, known)
}

// requested reads from the content of a request what it was about.
func (p *Pattern) requested(bits []Bit) (Use, bool) {
	u := Use{}
	if p.ValueBits > 0 {
		u.Units = 1
	}
	if p.Writes {
		u.Units, _ = p.Spans[0].units(len(bits))
		u.Values = make([]uint64, u.Units)
	}
	a := asked{Use: &u}
	if !p.Spans[0].apart(Out, bits, &a) {
		return u, false
	}
	switch {
	case p.CountBits == 0:
	case p.Writes && a.count != uint64(u.Units), a.count == 0 || a.count > mostUnits:
		return u, false
	default:
		u.Units = int(a.count)
	}
	return u, true
}

// answered reads an answer into what came back.
type answered struct {
	*Answer
	plan *Plan
}

func (a answered) take(it *Item, v uint64, known bool) bool {
	switch it.What {
	case Fixed:
		return known && v == it.Fixed
	case Value:
		if it.Unit >= len(a.Values) {
			return false
		}
		a.Values[it.Unit] |= v << it.Low
		a.driven[it.Unit] |= ones(it.Bits) << it.Low
	case Held:
		if a.Held == nil {
			a.Held = map[string]uint64{}
		}
		a.Held[it.Name] |= v << it.Low
		a.heldDriven[it.Name] |= ones(it.Bits) << it.Low
	case Why:
		a.Why |= v << it.Low
	case Sequence:
		return known && v == a.plan.Sequence&ones(it.Bits)
	}
	return known || it.What == Skip
}

func (a answered) text(name string, chars []byte) bool {
	if name != "" {
		if a.Texts == nil {
			a.Texts = map[string][]byte{}
		}
		a.Texts[name] = chars
	}
	if t := a.plan.Pattern.Text; t != nil && t.Name == name {
		a.Chars = chars
	}
	return true
}

func (a answered) echo(at int, b Bit) bool {
	out := a.plan.Spans[0].Out
	return b == BitOf(at < len(out) && out[at]) // behind a short request are zeros
}

func (p *Plan) emptyAnswer() Answer {
	return Answer{Values: make([]uint64, p.Units), Known: make([]bool, p.Units), driven: make([]uint64, p.Units), heldDriven: map[string]uint64{}}
}

// Reply reads the content of a message as the answer to the request; false where it is
// neither that nor the refusal, which may be nil.
func (p *Plan) Reply(content []byte, refusal *Refusal) (Answer, bool) {
	bits := Bits(content)
	a := p.emptyAnswer()
	if len(p.Pattern.Spans) > 1 {
		s := &p.Pattern.Spans[1]
		if n, fits := s.units(len(bits)); fits && (n == max(p.Units, 1) || s.Tail == s.Bits) && s.apart(In, bits, answered{&a, p}) {
			for i := range a.Known {
				a.Known[i] = p.Pattern.Reads
			}
			return a, true
		}
	}
	a = p.emptyAnswer()
	if refusal != nil && refusal.Span.apart(In, bits, answered{&a, p}) {
		a.Refused = true
		return a, true
	}
	return a, false
}

// Answers says whether the part answers the request.
func (p *Pattern) Answers() bool { return len(p.Spans) > 1 }

// alikeMessages says whether one request may be either of two operations.
func alikeMessages(a, b *Pattern) bool {
	if a.NumberBits > 0 && a.NumberBits == b.NumberBits && (a.ValueBits != b.ValueBits || (a.Text == nil) != (b.Text == nil)) && a.Writes == b.Writes {
		return false
	}
	x, y := a.Spans[0].start(), b.Spans[0].start()
	for i := range min(len(x), len(y)) {
		if x[i] != Unknown && y[i] != Unknown && x[i] != y[i] {
			return false
		}
	}
	c, d := a.Spans[0].open(), b.Spans[0].open()
	switch {
	case c == nil && d == nil:
		return a.Spans[0].meets(&b.Spans[0])
	case c != nil && c.shuns(x, y, d == nil), d != nil && d.shuns(y, x, c == nil):
		return false
	case c == nil:
		return a.Spans[0].Bits >= b.Spans[0].Bits
	case d == nil:
		return b.Spans[0].Bits >= a.Spans[0].Bits
	}
	return true
}

// Asks gives a request as text, with … where something is put in; "" where its
// characters can't be shown.
func (p *Pattern) Asks() string {
	var out []byte
	bits := p.Spans[0].start()
	for at := 0; at+8 <= len(bits); at += 8 {
		b, known := word(bits, at, 8)
		switch {
		case !known:
			return string(out) + "…"
		case b < ' ' || b > '~':
			return ""
		}
		out = append(out, byte(b))
	}
	if p.Spans[0].open() != nil {
		return string(out) + "…"
	}
	return string(out)
}

// open gives the first cell of a request that has no fixed length; nil where all have.
func (s *Span) open() *Cell {
	for i := range s.Lines[Out] {
		if c := &s.Lines[Out][i]; c.variable() {
			return c
		}
	}
	return nil
}

// shuns says whether a number of any length, which stands behind own, can't be what
// another request has there; whole: that one is over with its last bit.
func (c *Cell) shuns(own, other []Bit, whole bool) bool {
	if c.What == Chars {
		return false
	}
	if len(other) == len(own) {
		return whole
	}
	b, known := word(other, len(own), 8)
	return known && !(b >= '0' && b <= '9' || b == '-' || b == '.')
}

// start gives the bits of a request up to the first cell without a fixed length: those
// of constants are known.
func (s *Span) start() []Bit {
	var out []Bit
	for i := range s.Lines[Out] {
		c := &s.Lines[Out][i]
		if c.variable() {
			break
		}
		for k := range c.width() {
			b := Unknown
			if c.What == Fixed {
				b = BitOf(c.Fixed>>(c.Bits-1-k)&1 == 1)
			}
			out = append(out, b)
		}
	}
	return out
}
