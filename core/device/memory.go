package device

import (
	"fmt"
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
	Protected []*Protection
	// Cut is what a page holds whose writing the end of the supply interrupted.
	Cut Cut
}

// Cut is how a part leaves what was being written when its supply went.
type Cut string

// The rules.
const (
	CutMixed   Cut = "mixed"   // each byte that was written is the old one or the new one
	CutOld     Cut = "old"     // all are as before
	CutNew     Cut = "new"     // all are written
	CutGarbled Cut = "garbled" // every byte of the page may be anything
)

// CutType is a rule as files write it.
var CutType = doc.Enum(string(CutMixed), string(CutOld), string(CutNew), string(CutGarbled))

// Erased is a byte that was never written.
const Erased = 0xff

func (x *mapper) memory(n *doc.Node) {
	m := &Memory{Size: doc.Of[int](n, "size"), Page: doc.Of[int](n, "page"), Write: doc.Of[quantity.Time](n, "write"), Endurance: doc.Of[int](n, "endurance"), Lasting: doc.Of[bool](n, "lasting"), Cut: Cut(doc.Of[string](n, "power-cut"))}
	if m.Page == 0 {
		m.Page = m.Size
	}
	if m.Size%m.Page != 0 {
		x.fault("bad-page", n.Get("page"), "fix size or page", "%d bytes are no whole number of pages of %d", m.Size, m.Page)
	}
	x.areas(m, n.Get("areas"))
	x.protections(m, n.Get("protect"))
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
	p.before = map[uint64]byte{}
	for n, b := range p.written {
		if !p.takes(n) {
			continue
		}
		p.before[n] = p.cells.Bytes[n]
		p.cells.Bytes[n] = b
		pages[int(n)/m.Page] = true
	}
	p.torn = slices.Sorted(maps.Keys(pages))
	p.written = nil
	p.busyUntil = now + m.Write
	if p.odd.Write > 0 {
		p.busyUntil = now + p.odd.Write
	}
}

// Ready says whether the part answers: not while it writes, nor before its time from
// power-up is over.
func (p *Part) Ready(now quantity.Time) bool { return now >= p.busyUntil }

// Answering says whether the part answers to its address: not while it is not ready, nor where
// it never does.
func (p *Part) Answering(now quantity.Time) bool { return p.Ready(now) && p.odd.Answers != Silent }

// PowerLost is the end of the supply: it says in words what became of a writing that it
// interrupted; "" where none was. Random decides where the part's rule leaves it open.
func (p *Part) PowerLost(now quantity.Time, random func() byte) string {
	if p.cells == nil || now >= p.busyUntil || len(p.torn) == 0 {
		return ""
	}
	m := p.m.Memory
	old, fresh := 0, 0
	for _, n := range slices.Sorted(maps.Keys(p.before)) {
		switch {
		case m.Cut == CutNew, m.Cut == CutMixed && random()&1 == 1:
			fresh++
		default:
			p.cells.Bytes[n] = p.before[n]
			old++
		}
	}
	where := fmt.Sprintf("the supply went while the page from 0x%X on was written", p.torn[0]*m.Page)
	if m.Cut == CutGarbled {
		for _, page := range p.torn {
			for i := range m.Page {
				p.cells.Bytes[page*m.Page+i] = random()
			}
		}
		return where + ": all of it may hold anything"
	}
	return fmt.Sprintf("%s: %s as before, %d new", where, quantity.Count(old, "byte"), fresh)
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
