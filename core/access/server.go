package access

import "slices"

// Registers are those of a part that answers by its patterns. Reading and writing have
// the effects that the registers say.
type Registers interface {
	// Size gives the size of the register with a number; 0 where there is none.
	Size(number uint64) int
	Read(number uint64) uint64
	Write(number, value uint64)
	// Named gives the number of a register with a name.
	Named(name string) (number uint64, known bool)
	// Command is an operation that is about no register.
	Command(name string)
	// Next is the number behind another, while it is read or written.
	Next(number uint64, writing bool) uint64
}

// Granting are registers that may refuse to be written.
type Granting interface {
	// Grant says whether the register with a number can be written now.
	Grant(number uint64) bool
}

// Server is a part at work: it follows what comes on its line, bit by bit, and says
// what it sends. Places in spans are counted in the order of the pattern.
type Server struct {
	patterns []*Pattern
	regs     Registers

	reads bool
	alive []*Pattern // what the span may still become
	out   []Bit
	gave  []Bit // what it sent in this span
	asked []Bit // what came in the span before, of an operation that goes on
	got   int   // bits taken
	// spoilt: a check of the span did not fit: nothing of it is taken over any more.
	spoilt bool
	// Refuses: its bus lets it say at once that it does not take a register, and takes nothing more
	// of the span then. Else such a register keeps what it holds, and the next ones are taken.
	Refuses bool
	// turned: it came for a register that can't be written now.
	turned bool
	wait   *Pattern // an operation that goes on with this span
	span   int      // which of its spans this one is
	about  uint64   // the number of the register that it is about
	stays  bool     // its number does not go up
	// Damaged: a bit of each check that it sends is turned.
	Damaged bool
	// What it sends now.
	held map[*Cell]uint64
	sent map[int]uint64 // the content, by the index of the register
}

// NewServer gives a part that has been asked nothing yet.
func NewServer(patterns []*Pattern, regs Registers) *Server {
	return &Server{patterns: patterns, regs: regs}
}

// Begin begins a span; reads as in Seen.
func (s *Server) Begin(reads bool) {
	s.reads, s.out, s.gave, s.got, s.spoilt = reads, s.out[:0], s.gave[:0], 0, false
	s.turned = false
	s.held, s.sent = map[*Cell]uint64{}, map[int]uint64{}
	s.alive = s.alive[:0]
	if s.wait != nil && s.wait.Spans[s.span].Reads != reads {
		s.wait = nil
	}
	for _, p := range s.patterns {
		if p.Spans[0].Reads == reads {
			s.alive = append(s.alive, p)
		}
	}
	if reads && s.wait == nil {
		// Asked without a number: the part goes on where it stood.
		for _, p := range s.patterns {
			if n := len(p.Spans); p.Reads && p.Spans[n-1].Reads && p.ValueBits == s.regs.Size(s.about) {
				s.wait, s.span = p, n-1
				return
			}
		}
	}
}

// Give gives the bit that the part sends at a place; driven is false where it leaves
// its line alone.
func (s *Server) Give(at int) (high, driven bool) {
	high, driven = s.give(at)
	for len(s.gave) <= at && at < most*mostUnits {
		s.gave = append(s.gave, Unknown)
	}
	if driven && at < len(s.gave) {
		s.gave[at] = BitOf(high)
	}
	return high, driven
}

// seen gives a bit that passed, of the operation that goes on.
func (s *Server) seen(k int, line Line, at int) Bit {
	bits := s.out
	switch {
	case line == In:
		bits = s.gave
	case s.wait != nil && k < s.span:
		bits = s.asked
	}
	if at < len(bits) {
		return bits[at]
	}
	return Unknown
}

func (s *Server) give(at int) (high, driven bool) {
	p, span := s.wait, s.span
	if p == nil || p.silent(span, at) {
		if len(s.alive) == 0 {
			return false, false
		}
		p, span = s.alive[0], 0
		if len(s.alive) > 1 {
			p = s.chosen(p)
		}
	}
	c, unit, within := p.Spans[span].repeated(In, at)
	if c == nil {
		return false, false
	}
	switch c.What {
	case Fixed:
		return c.Fixed>>c.bit(within)&1 == 1, true
	case Check:
		v, _ := p.checkOf(span, In, at-(within-c.At), s.seen, func(int) int { return len(s.asked) })
		if s.Damaged {
			v ^= 1
		}
		return v>>c.bit(within)&1 == 1, true
	case Held:
		v, kept := s.held[c]
		if !kept {
			n, _ := s.regs.Named(c.Name)
			v = s.regs.Read(n)
			s.held[c] = v
		}
		return v>>c.bit(within)&1 == 1, true
	case Value:
		v, kept := s.sent[unit]
		if !kept {
			if span == 0 && unit == 0 {
				s.about, s.stays = s.numberOf(p)
			}
			if unit > 0 && !s.stays {
				s.about = s.regs.Next(s.about, false)
			}
			v = s.regs.Read(s.about)
			s.sent[unit] = v
		}
		return v>>c.bit(within)&1 == 1, true
	}
	return false, false
}

// silent says whether a pattern has nothing to send at a place of a span.
func (p *Pattern) silent(span, at int) bool {
	c, _, _ := p.Spans[span].repeated(In, at)
	return c == nil || c.What == Skip
}

// chosen is, of patterns that the bits so far do not tell apart, one whose registers
// have the size of the one that is asked for: the given one, where it does.
func (s *Server) chosen(p *Pattern) *Pattern {
	if s.fits(p) {
		return p
	}
	for _, o := range s.alive {
		if o.NumberBits > 0 && s.fits(o) {
			return o
		}
	}
	return p
}

// fits says whether the register that is asked for has the size of a pattern's.
func (s *Server) fits(p *Pattern) bool {
	if p.NumberBits == 0 {
		return true
	}
	n, _ := s.numberOf(p)
	return s.regs.Size(n) == p.ValueBits
}

// Take takes a bit that came at a place.
func (s *Server) Take(at int, high bool) {
	if at >= most*mostUnits {
		return
	}
	for len(s.out) <= at {
		s.out = append(s.out, Unknown)
	}
	s.out[at] = BitOf(high)
	s.got = max(s.got, at+1)
	s.alive = slices.DeleteFunc(s.alive, func(p *Pattern) bool {
		c, _, within := p.Spans[0].repeated(Out, at)
		if c == nil {
			return len(p.Spans) > 1 || p.Spans[0].Bits == 0 // it would have turned to its next span
		}
		return c.What == Fixed && (c.Fixed>>c.bit(within)&1 == 1) != high
	})
	for _, p := range s.alive {
		c, unit, within := p.Spans[0].repeated(Out, at)
		if c == nil || within != c.end()-1 || p != s.chosen(p) {
			continue
		}
		if s.Refuses && (c.What == Value || c.What == Held) {
			s.turned = s.turned || !s.granted(p, c, unit)
		}
		if s.turned {
			return
		}
		switch {
		case (c.What == Value || c.What == Held) && !p.outChecked():
			s.takeOver(p, c, unit, at)
			return
		case c.What == Check:
			s.checked(p, c, unit, at)
			return
		}
	}
}

// granted asks whether the register can be written now that a cell belongs to.
func (s *Server) granted(p *Pattern, c *Cell, unit int) bool {
	g, may := s.regs.(Granting)
	if !may {
		return true
	}
	if c.What == Held {
		n, known := s.regs.Named(c.Name)
		return !known || g.Grant(n)
	}
	n, stays := s.numberOf(p)
	for range unit {
		if !stays {
			n = s.regs.Next(n, true)
		}
	}
	return g.Grant(n)
}

// checked takes over what a check covers, where it fits; else it is as if nothing came.
func (s *Server) checked(p *Pattern, check *Cell, unit, at int) {
	from := at - check.Bits + 1
	v, _ := word(s.out, from, check.Bits)
	want, known := p.checkOf(0, Out, from, s.seen, func(int) int { return 0 })
	if s.spoilt = s.spoilt || !known || v != want; s.spoilt {
		return
	}
	taken := map[string]bool{}
	for i := range p.Spans[0].Lines[Out] {
		c := &p.Spans[0].Lines[Out][i]
		if c.What != Value && c.What != Held || taken[c.word()] || unit > 0 && c.At < p.Spans[0].Tail {
			continue
		}
		taken[c.word()] = true
		s.takeOver(p, c, unit, at)
	}
}

// takeOver writes a register when all of its bits have come.
func (s *Server) takeOver(p *Pattern, last *Cell, unit, at int) {
	v := uint64(0)
	for _, c := range p.Spans[0].Lines[Out] {
		if c.What != last.What || c.Name != last.Name {
			continue
		}
		place := c.At
		if unit > 0 {
			place += unit * (p.Spans[0].Bits - p.Spans[0].Tail)
		}
		if place > at {
			return // more of it comes
		}
		part, _ := word(s.out, place, c.Bits)
		v |= part << c.Low
	}
	if last.What == Held {
		if n, known := s.regs.Named(last.Name); known {
			s.regs.Write(n, v)
		}
		return
	}
	if unit == 0 {
		s.about, s.stays = s.numberOf(p)
	} else if !s.stays {
		s.about = s.regs.Next(s.about, true)
	}
	s.regs.Write(s.about, v)
}

// numberOf reads the number of the register out of what came, and whether it stays.
func (s *Server) numberOf(p *Pattern) (number uint64, stays bool) {
	stays = p.More
	for _, c := range p.Spans[0].Lines[Out] {
		v, _ := word(s.out, c.At, c.Bits)
		switch c.What {
		case Number:
			number |= v << c.Low
		case More:
			stays = v == 0
		}
	}
	return number, stays
}

// Turned reports whether what came so far is for a register that can't be written now.
func (s *Server) Turned() bool { return s.turned }

// Spoilt reports whether a check of what came so far did not fit.
func (s *Server) Spoilt() bool { return s.spoilt }

// Whole reports whether the span so far is one of the operations, or the whole of what went on.
func (s *Server) Whole() bool {
	is := func(p *Pattern, span int) bool {
		b := &p.Spans[span]
		tail := b.Bits - b.Tail
		return s.got == b.Bits || tail > 0 && s.got > b.Bits && (s.got-b.Bits)%tail == 0
	}
	if s.wait != nil {
		return is(s.wait, s.span) || s.wait.Spans[s.span].Reads
	}
	return slices.ContainsFunc(s.alive, func(p *Pattern) bool { return is(p, 0) || p.Spans[0].Reads })
}

// Known says, behind the bits that came so far, whether the register that they ask for
// is there: parts on some buses refuse others.
func (s *Server) Known() bool {
	for _, p := range s.alive {
		if p.NumberBits == 0 {
			return true
		}
		for _, c := range p.Spans[0].Lines[Out] {
			if c.What == Number && c.end() > s.got {
				return true // it is not over
			}
		}
		if n, _ := s.numberOf(p); s.regs.Size(n) > 0 {
			return true
		}
	}
	return false
}

// End ends a span.
func (s *Server) End() {
	if s.wait != nil && s.span+1 < len(s.wait.Spans) {
		s.span++
		return
	}
	if s.wait != nil && s.reads && len(s.sent) > 0 && !s.stays {
		s.about = s.regs.Next(s.about, false)
	}
	s.wait = nil
	if s.reads {
		return
	}
	for _, p := range s.alive {
		first := &p.Spans[0]
		switch {
		case s.got < first.Bits:
		case p.NumberBits == 0 && len(p.HeldIn)+len(p.HeldOut) == 0 && s.got == first.Bits:
			s.regs.Command(p.Name)
			return
		case len(p.Spans) > 1 && s.got == first.Bits && (p.NumberBits == 0 || s.chosen(p) == p):
			// It goes on with the next span, or at any later time.
			s.about, s.stays = s.numberOf(p)
			s.wait, s.span = p, 1
			s.asked = append(s.asked[:0], s.out...)
			return
		}
	}
}
