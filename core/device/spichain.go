package device

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// chainPort are parts behind each other that all take what passes: at each clock every
// content moves on by one bit, and with the release each part takes over what it has then.
type chainPort struct {
	part    *Part
	pattern *access.Pattern
	from    quantity.Time // the parts listen from there on
	asleep  bool
	holds   []bool // what stands in the chain, the bit first that leaves it first
	taken   []bool
	// far is how many bits of the pattern belong to parts that are not there, less than 0 to
	// parts of which it knows nothing; they are those farthest from where bits go in.
	far int
}

func newChain(m *Map, part *Part, from quantity.Time) *chainPort {
	p := m.Patterns[0]
	bits := p.Spans[0].Bits
	there := bits
	if n := part.odd.Parts; n > 0 {
		there = n * (bits / m.Chain)
	}
	return &chainPort{part: part, pattern: p, from: from, holds: make([]bool, there), far: bits - there}
}

// Select implements spi.Device: what comes back is taken into the chain.
func (c *chainPort) Select(t quantity.Time) {
	if c.asleep = t < c.from; c.asleep {
		return
	}
	c.part.Freeze(t)
	c.taken = c.taken[:0]
	for _, cell := range c.pattern.Spans[0].Lines[access.In] {
		var v uint64
		switch cell.What {
		case access.Held:
			n, _ := c.part.Named(cell.Name)
			v = c.part.Read(n) >> cell.Low
		case access.Fixed:
			v = cell.Fixed
		default:
			continue // it keeps what was there
		}
		for i := range cell.Bits {
			if at := cell.At + i - c.far; at >= 0 {
				c.holds[at] = v>>(cell.Bits-1-i)&1 == 1
			}
		}
	}
}

// Give implements spi.Device: the end of the chain is driven whatever moves out of it.
func (c *chainPort) Give(at int) (high, driven bool) {
	switch n := len(c.holds); {
	case c.asleep || c.part.odd.Answers == Silent || at < 0 || at-n >= len(c.taken):
		return false, false
	case at < n:
		return c.holds[at], true
	default:
		return c.taken[at-n], true
	}
}

// mostShifted bounds what one select moves through a chain.
const mostShifted = 1 << 20

// Take implements spi.Device.
func (c *chainPort) Take(_ int, high bool) {
	if !c.asleep && len(c.taken) < mostShifted {
		c.taken = append(c.taken, high)
	}
}

// Release implements spi.Device.
func (c *chainPort) Release(quantity.Time, int) {
	if c.asleep {
		return
	}
	all := append(c.holds, c.taken...)
	c.holds = append([]bool(nil), all[len(c.taken):]...)
	if n := c.part.m.Latch; n > 0 && (len(c.taken) == 0 || len(c.taken)%n != 0) {
		c.part.message(BadLength)
		return
	}
	c.part.message()
	contents := map[string]uint64{}
	for _, cell := range c.pattern.Spans[0].Lines[access.Out] {
		if cell.What != access.Held || cell.At < c.far {
			continue
		}
		v := uint64(0)
		for i := range cell.Bits {
			v <<= 1
			if c.holds[cell.At+i-c.far] {
				v |= 1
			}
		}
		contents[cell.Name] |= v << cell.Low
	}
	for name, v := range contents {
		if n, known := c.part.Named(name); known {
			c.part.Write(n, v)
		}
	}
}

// chain holds a chain and its pattern against each other.
func (x *mapper) chain(d *Device, root *doc.Node) {
	n := root.Get("chain")
	latch := root.Get("latch")
	if n == nil {
		if latch != nil {
			x.fault("bad-chain", latch, "add `chain:`", "latch is that of a chain of parts")
		}
		return
	}
	x.m.Chain, x.m.Latch = doc.As[int](n), doc.Of[int](root, "latch")
	switch {
	case len(x.m.Patterns) != 1 || len(x.m.Patterns[0].Spans) != 1 || x.m.Patterns[0].NumberBits > 0 || len(x.m.Patterns[0].HeldOut) == 0:
		x.fault("bad-chain", n, "describe all of it by one pattern with the names of registers", "a chain takes whatever passes: it has one pattern, which names registers in the line `out`")
	case x.m.Latch > 0 && x.m.Patterns[0].Spans[0].Bits%x.m.Latch != 0:
		x.fault("bad-chain", latch, "correct the pattern, or the number", "the %d bits of the pattern are no multiple of %d: they would never be taken over", x.m.Patterns[0].Spans[0].Bits, x.m.Latch)
	case x.m.Patterns[0].Spans[0].Bits%x.m.Chain != 0:
		x.fault("bad-chain", n, "correct the pattern, or the number of parts", "%d bits are no whole number for each of %d parts", x.m.Patterns[0].Spans[0].Bits, x.m.Chain)
	case d.End.(spi.End).LSBFirst:
		x.fault("bad-chain", n, "write the pattern in the order of the wire", "bits move through a chain as they come: take order msb")
	}
}
