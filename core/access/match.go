package access

// Seen is a span as it was on the bus. On a bus where one party sends at a time, Reads
// says that the part does, and the other line is empty.
type Seen struct {
	Reads   bool
	Out, In []Bit
}

// Match finds the operation that spans on the bus are, among the patterns of a part:
// the first whose constants fit and for which fits, which may be nil, says that there
// is such a register. Extra is the number of bits behind it that belong to nothing.
func Match(patterns []*Pattern, spans []Seen, fits func(p *Pattern, number uint64) bool) (plan *Plan, extra int, found bool) {
	for _, p := range patterns {
		u, extra, ok := p.use(spans)
		if !ok || fits != nil && p.NumberBits > 0 && !fits(p, u.Number) {
			continue
		}
		plan, err := p.Plan(u)
		if err != nil {
			continue
		}
		return plan, extra, true
	}
	return nil, 0, false
}

// Begins finds the operation of several spans that spans begin, one at least being to
// come.
func Begins(patterns []*Pattern, spans []Seen, fits func(p *Pattern, number uint64) bool) (plan *Plan, found bool) {
	for _, p := range patterns {
		if p.Message || len(p.Spans) <= len(spans) {
			continue
		}
		first := *p
		first.Spans = p.Spans[:len(spans)]
		u, extra, ok := first.use(spans)
		if !ok || extra > 0 || fits != nil && p.NumberBits > 0 && !fits(p, u.Number) {
			continue
		}
		if plan, err := p.Plan(u); err == nil {
			return plan, true
		}
	}
	return nil, false
}

// Idle is the span as it goes over the bus where its only content is what stands fixed in
// the line out: else 0 is sent.
func (s *Span) Idle() Seen {
	out := make([]Bit, s.Bits)
	for i := range out {
		out[i] = BitOf(false)
	}
	for _, c := range s.Lines[Out] {
		for k := range c.Bits {
			if c.What == Fixed {
				out[c.At+k] = BitOf(c.Fixed>>(c.Bits-1-k)&1 == 1)
			}
		}
	}
	return Seen{Out: out}
}

// use reads from spans what an operation was about.
func (p *Pattern) use(spans []Seen) (u Use, extra int, ok bool) {
	if p.Message {
		if len(spans) == 0 || spans[0].Reads {
			return u, 0, false
		}
		u, ok = p.requested(spans[0].Out)
		return u, 0, ok
	}
	if len(spans) != len(p.Spans) {
		return u, 0, false
	}
	u.Units = 1
	for k := range p.Spans {
		s := &p.Spans[k]
		n := len(spans[k].Out)
		if s.Reads {
			n = len(spans[k].In)
		}
		if spans[k].Reads != s.Reads || n < s.Bits {
			return u, 0, false
		}
		if tail := s.Bits - s.Tail; tail > 0 {
			u.Units = max(u.Units, 1+(n-s.Bits)/tail)
		}
		extra += n - s.size(u.Units)
	}
	if p.Writes {
		u.Values = make([]uint64, u.Units)
	}
	var few [8]Item
	for k := range p.Spans {
		s := &p.Spans[k]
		if s.Reads {
			continue
		}
		for i := range s.Lines[Out] {
			items := s.items(few[:0], Out, s.Lines[Out][i], u.Units)
			for j := range items {
				it := &items[j]
				v, known := word(spans[k].Out, it.At, it.Bits)
				if !u.take(it, v, known) {
					return u, 0, false
				}
			}
		}
	}
	return u, extra, true
}

// take takes what a cell of the line out holds; false where it can't be.
func (u *Use) take(it *Item, v uint64, known bool) bool {
	switch it.What {
	case Skip, Check:
		return true
	case Fixed:
		return known && v == it.Fixed
	case Number:
		u.Number |= v << it.Low
	case Value:
		u.Values[it.Unit] |= v << it.Low
	case Held:
		if u.Held == nil {
			u.Held = map[string]uint64{}
		}
		u.Held[it.Name] |= v << it.Low
	case More:
		u.Stays = v == 0 && u.Units > 1
	}
	return known
}

// word reads bits, the most significant first.
func word(bits []Bit, at, n int) (v uint64, known bool) {
	known = at+n <= len(bits)
	for i := at; i < min(at+n, len(bits)); i++ {
		known = known && bits[i] != Unknown
		v = v<<1 | uint64(bits[i]&1)
	}
	return v, known
}
