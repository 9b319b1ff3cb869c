package device

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/quantity"
)

// spiPort is a part with registers behind a select.
type spiPort struct {
	part   *Part
	server *access.Server
	word   int
	lsb    bool
	from   quantity.Time // the part listens from there on
	asleep bool
	bits   []bool // of a word that comes with its least significant bit first
}

// OnSPI gives a part at work behind a select, from a time on. It answers when its time
// from power-up is over. The part is nil where its registers are not described: then it
// says nothing.
func (d *Device) OnSPI(on quantity.Time, cells *Cells) (spi.Device, *Part) {
	if d.Map == nil {
		return silent{}, nil
	}
	end := d.End.(spi.End)
	part := d.NewPart(cells)
	if d.Map.Chain > 0 {
		return newChain(d.Map, part, on+d.Map.PowerUp), part
	}
	server := access.NewServer(d.Map.Patterns, part)
	server.Damaged = part.odd.Answers == Damaged
	return &spiPort{part: part, server: server, word: end.Word, lsb: end.LSBFirst, from: on + d.Map.PowerUp}, part
}

// Select implements spi.Device.
func (p *spiPort) Select(t quantity.Time) {
	p.bits = p.bits[:0]
	if p.asleep = t < p.from || !p.part.Ready(t); p.asleep {
		return
	}
	p.part.Freeze(t)
	p.server.Begin(false)
}

// place gives the place in a pattern of a bit on the wire: there words stand with their
// most significant bit first.
func (p *spiPort) place(at int) int {
	if !p.lsb {
		return at
	}
	return at - at%p.word + p.word - 1 - at%p.word
}

// Give implements spi.Device.
func (p *spiPort) Give(at int) (high, driven bool) {
	if p.asleep || p.part.odd.Answers == Silent {
		return false, false
	}
	return p.server.Give(p.place(at))
}

// Take implements spi.Device.
func (p *spiPort) Take(at int, high bool) {
	switch {
	case p.asleep:
	case !p.lsb:
		p.server.Take(at, high)
	default:
		if p.bits = append(p.bits, high); len(p.bits) == p.word {
			for i := range p.bits {
				p.server.Take(at-p.word+1+i, p.bits[p.word-1-i])
			}
			p.bits = p.bits[:0]
		}
	}
}

// Release implements spi.Device.
func (p *spiPort) Release(t quantity.Time, _ int) {
	if !p.asleep {
		p.part.message(wrong(p.server)...)
		p.server.End()
		p.part.store(t)
	}
}

// wrong says what is wrong with the span that is over.
func wrong(s *access.Server) (out []MessageFault) {
	if s.Spoilt() {
		out = append(out, BadCheck)
	}
	if !s.Whole() {
		out = append(out, BadLength)
	}
	return out
}

// silent is a part of which nothing is described but its end.
type silent struct{}

func (silent) Select(quantity.Time)       {}
func (silent) Give(int) (bool, bool)      { return false, false }
func (silent) Take(int, bool)             {}
func (silent) Release(quantity.Time, int) {}
