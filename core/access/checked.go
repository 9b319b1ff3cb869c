package access

import (
	"errors"
	"fmt"
)

// Over says what a check covers.
type Over uint8

// The stretches.
const (
	OverWord Over = iota // the same line, from the check before on
	OverLine             // the same line, from the beginning of the span on
	OverAll              // all that passed since the first span began, addresses too
)

// Checking is how a part's bus carries what tells damage.
type Checking struct {
	Bits int
	Over Over
	// Of gives the check of bytes; Address those that come in front of a span, which
	// belong to it where everything is covered.
	Of      func(data []byte) uint64
	Address func(reads bool) []byte
}

// fits says what is wrong with the check cells of a pattern.
func (p *Pattern) checkFits() error {
	for k := range p.Spans {
		s := &p.Spans[k]
		for line := range s.Lines {
			for i := range s.Lines[line] {
				c := &s.Lines[line][i]
				if c.What != Check {
					continue
				}
				from := s.checkFrom(Line(line), c.At, p.checking.Over)
				switch {
				case from == c.At:
					return errors.New("check has nothing in front of it that it covers")
				case (c.At-from)%8 != 0:
					return fmt.Errorf("%d bits in front of check are no whole number of bytes", c.At-from)
				}
			}
		}
	}
	return nil
}

// checkFrom is where the stretch begins in front of a check at a place.
func (s *Span) checkFrom(line Line, at int, over Over) int {
	from := 0
	for i := at - 1; i >= 0 && over == OverWord; i-- {
		if c, _, _ := s.repeated(line, i); c != nil && c.What == Check {
			from = i + 1
			break
		}
	}
	// The part's line carries nothing until it is driven.
	for line == In && from < at {
		c, _, _ := s.repeated(In, from)
		if c == nil || c.What != Skip {
			break
		}
		from++
	}
	return from
}

// checkOf gives the check at a place of a span, of bits that bit gives; false where some of
// them are not known.
func (p *Pattern) checkOf(k int, line Line, at int, bit func(k int, line Line, at int) Bit, size func(k int) int) (uint64, bool) {
	var data []byte
	known := true
	add := func(k int, line Line, from, to int) {
		for ; from+8 <= to; from += 8 {
			b := byte(0)
			for i := range 8 {
				x := bit(k, line, from+i)
				known = known && x != Unknown
				b = b<<1 | byte(x&1)
			}
			data = append(data, b)
		}
	}
	x := p.checking
	if x.Over != OverAll {
		add(k, line, p.Spans[k].checkFrom(line, at, x.Over), at)
		return x.Of(data), known
	}
	for j := 0; j <= k; j++ {
		s := &p.Spans[j]
		data = append(data, x.Address(s.Reads)...)
		way := Out
		if s.Reads {
			way = In
		}
		to := at
		if j < k {
			to = size(j)
		}
		add(j, way, 0, to)
	}
	return x.Of(data), known
}

// Checked says whether what is read is checked.
func (p *Pattern) Checked() bool {
	for k := range p.Spans {
		for i := range p.Spans[k].Lines[In] {
			if p.Spans[k].Lines[In][i].What == Check {
				return true
			}
		}
	}
	return false
}

// outChecked says whether what is written is checked.
func (p *Pattern) outChecked() bool {
	for i := range p.Spans[0].Lines[Out] {
		if p.Spans[0].Lines[Out][i].What == Check {
			return true
		}
	}
	return false
}

// Misfits gives the places of a seen operation whose check does not fit.
func (p *Plan) Misfits(spans []Seen) []Item {
	var out []Item
	bit := func(k int, line Line, at int) Bit {
		if k < len(spans) {
			bits := spans[k].Out
			if line == In {
				bits = spans[k].In
			}
			if at < len(bits) {
				return bits[at]
			}
		}
		return Unknown
	}
	for k := range p.Spans {
		for i := range p.Spans[k].Items {
			it := &p.Spans[k].Items[i]
			if it.What != Check || k >= len(spans) {
				continue
			}
			bits := spans[k].Out
			if it.Line == In {
				bits = spans[k].In
			}
			v, known := word(bits, it.At, it.Bits)
			want, covered := p.Pattern.checkOf(k, it.Line, it.At, bit, func(j int) int { return len(p.Spans[j].Out) })
			if !known || !covered || v != want {
				out = append(out, *it)
			}
		}
	}
	return out
}
