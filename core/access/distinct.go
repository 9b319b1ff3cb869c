package access

import "fmt"

// Distinct says which two patterns of a part can't be told apart in time: a part that
// follows one must know which it is before it drives its line, or takes a value over.
func Distinct(patterns []*Pattern) (a, b *Pattern, err error) {
	for i, a := range patterns {
		for _, b := range patterns[:i] {
			if err := apart(a, b); err != nil {
				return b, a, err
			}
		}
	}
	return nil, nil, nil
}

// apart says why two patterns can't be told apart.
func apart(a, b *Pattern) error {
	if a.Message {
		if alikeMessages(a, b) {
			return fmt.Errorf("one request may be either of them")
		}
		return nil
	}
	s, o := &a.Spans[0], &b.Spans[0]
	if s.Reads != o.Reads {
		return nil
	}
	// Registers of different sizes tell patterns apart that have the number in the
	// same place.
	if a.NumberBits > 0 && a.NumberBits == b.NumberBits && a.ValueBits != b.ValueBits {
		return nil
	}
	until := differ(s, o)
	for at := range min(until+1, s.Bits, o.Bits) {
		if x, y := s.at(In, at), o.at(In, at); x.What != y.What || x.Name != y.Name || x.What != Skip && x.bit(at) != y.bit(at) {
			return fmt.Errorf("bit %d comes back before the bits that are sent tell them apart", at)
		}
	}
	shorter := min(s.Bits, o.Bits)
	if until >= shorter && s.meets(o) {
		return fmt.Errorf("the bits that are sent are alike")
	}
	for _, p := range []*Pattern{a, b} {
		for _, c := range p.Spans[0].Lines[Out] {
			if (c.What == Value || c.What == Held) && c.end() <= min(until, shorter) {
				return fmt.Errorf("a value of %s is over before the bits that are sent tell them apart", p.Name)
			}
		}
	}
	return nil
}

// meets says whether two spans may have the same length.
func (s *Span) meets(o *Span) bool {
	x, y := s.Bits-s.Tail, o.Bits-o.Tail
	switch d := o.Bits - s.Bits; {
	case x == 0 && y == 0:
		return d == 0
	case x == 0:
		return d <= 0 && d%y == 0
	case y == 0:
		return d >= 0 && d%x == 0
	default:
		for x != 0 {
			x, y = y%x, x
		}
		return d%y == 0
	}
}

// differ gives the first place at which constants of two spans differ; the length of
// the shorter one where none do.
func differ(s, o *Span) int {
	n := min(s.Bits, o.Bits)
	for at := range n {
		x, y := s.at(Out, at), o.at(Out, at)
		if x.What == Fixed && y.What == Fixed && x.Fixed>>x.bit(at)&1 != y.Fixed>>y.bit(at)&1 {
			return at
		}
	}
	return n
}

// at gives the cell of a line at a place of one pass.
func (s *Span) at(line Line, at int) *Cell {
	cells := s.Lines[line]
	for i := range cells {
		if at < cells[i].end() {
			return &cells[i]
		}
	}
	return &cells[len(cells)-1]
}

// repeated gives the cell of a line at any place, with the number of its register and
// its place in one pass.
func (s *Span) repeated(line Line, at int) (c *Cell, unit, within int) {
	if at >= s.Bits {
		tail := s.Bits - s.Tail
		if tail == 0 {
			return nil, 0, at
		}
		unit = 1 + (at-s.Bits)/tail
		at = s.Tail + (at-s.Bits)%tail
	}
	return s.at(line, at), unit, at
}
