package device

import (
	"maps"
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Memory is a part whose numbers reach bytes.
type Memory struct {
	Size, Page int
	// Write is the time that writing takes: meanwhile the part does not answer.
	Write     quantity.Time
	Endurance int  // how often a page may be written; 0: not stated
	Lasting   bool // it keeps its bytes without supply
	Areas     []*Area
}

// Erased is a byte that was never written.
const Erased = 0xff

func (x *mapper) memory(n *doc.Node) {
	m := &Memory{Size: doc.Of[int](n, "size"), Page: doc.Of[int](n, "page"), Write: doc.Of[quantity.Time](n, "write"), Endurance: doc.Of[int](n, "endurance"), Lasting: doc.Of[bool](n, "lasting")}
	if m.Page == 0 {
		m.Page = m.Size
	}
	if m.Size%m.Page != 0 {
		x.fault("bad-page", n.Get("page"), "fix size or page", "%d bytes are no whole number of pages of %d", m.Size, m.Page)
	}
	x.areas(m, n.Get("areas"))
	x.m.Memory = m
}

// memoryReached holds the memory against the patterns.
func (x *mapper) memoryReached(root *doc.Node) {
	m := x.m.Memory
	if m == nil {
		return
	}
	reads := false
	for _, p := range x.m.Patterns {
		if p.NumberBits == 0 || p.ValueBits != 8 {
			continue
		}
		reads = reads || p.Reads
		if uint64(m.Size-1)&^ones(p.NumberBits) != 0 {
			x.fault("number-too-wide", root.Get("memory", "size"), "correct the size, or the pattern", "%d bytes: %s has %d bits for the number", m.Size, p.Name, p.NumberBits)
			return
		}
	}
	if !reads {
		x.fault("memory-unreachable", root.Get("memory"), "add a pattern with value.8", "no operation reads bytes by their number")
	}
}

// Cells are the bytes of a memory, which may outlast the part's supply.
type Cells struct {
	Bytes []byte
}

// NewCells gives the bytes of a memory that was never written; nil of parts without one.
func (d *Device) NewCells() *Cells {
	if d.Map == nil || d.Map.Memory == nil {
		return nil
	}
	m := d.Map.Memory
	c := &Cells{Bytes: make([]byte, m.Size)}
	for i := range c.Bytes {
		c.Bytes[i] = Erased
	}
	return c
}

// store takes over what was written, and lets the part be busy.
func (p *Part) store(now quantity.Time) {
	m := p.m.Memory
	if m == nil || len(p.written) == 0 {
		return
	}
	pages := map[int]bool{}
	for n, b := range p.written {
		p.cells.Bytes[n] = b
		pages[int(n)/m.Page] = true
	}
	p.torn = slices.Sorted(maps.Keys(pages))
	p.written = nil
	p.busyUntil = now + m.Write
}

// Ready says whether the part answers: not while it writes, nor before its time from
// power-up is over.
func (p *Part) Ready(now quantity.Time) bool { return now >= p.busyUntil }

// PowerLost is the end of the supply: what was being written is torn, and holds whatever
// random gives.
func (p *Part) PowerLost(now quantity.Time, random func() byte) {
	if p.cells == nil || now >= p.busyUntil {
		return
	}
	for _, page := range p.torn {
		for i := range p.m.Memory.Page {
			p.cells.Bytes[page*p.m.Memory.Page+i] = random()
		}
	}
}

// Next is the number behind another: a writing stays in its page.
func (m *Memory) Next(number uint64, writing bool) uint64 {
	if writing {
		page := uint64(m.Page)
		return number/page*page + (number+1)%page
	}
	return (number + 1) % uint64(m.Size)
}

// Pages splits a writing into pieces that stay in their pages.
func (m *Memory) Pages(from uint64, n int) []access.Use {
	var out []access.Use
	for n > 0 {
		room := m.Page - int(from%uint64(m.Page))
		k := min(n, room)
		out = append(out, access.Use{Number: from, Units: k})
		from += uint64(k)
		n -= k
	}
	return out
}
