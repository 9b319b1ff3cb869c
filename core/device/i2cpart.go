package device

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/quantity"
)

// i2cPort is a part with registers at an address.
type i2cPort struct {
	part   *Part
	server *access.Server
	now    func() quantity.Time
	open   bool           // a span is
	at     int            // bits of it
	wrong  []MessageFault // with the spans since the start
}

// OnI2C gives a part at work at an address; nil where its registers are not described.
// now gives the time; cells are the bytes of its memory, where it has one.
func (d *Device) OnI2C(now func() quantity.Time, cells *Cells) (i2c.Device, *Part) {
	if d.Map == nil {
		return nil, nil
	}
	part := d.NewPart(cells)
	part.busyUntil = now() + d.Map.PowerUp
	server := access.NewServer(d.Map.Patterns, part)
	server.Damaged, server.Refuses = part.odd.Answers == Damaged, true
	return &i2cPort{part: part, server: server, now: now}, part
}

// Begin implements i2c.Device.
func (p *i2cPort) Begin(read bool) {
	p.close()
	p.part.Freeze(p.now())
	p.server.Begin(read)
	p.open, p.at = true, 0
}

// Take implements i2c.Device.
func (p *i2cPort) Take(b byte) (ack bool) {
	for i := range 8 {
		p.server.Take(p.at, b>>(7-i)&1 == 1)
		p.at++
	}
	return !p.server.Spoilt() && !p.server.Turned() && (!p.part.m.Refuses || p.server.Known())
}

// Give implements i2c.Device: a line that nobody pulls is high.
func (p *i2cPort) Give() byte {
	b := byte(0)
	for range 8 {
		high, driven := p.server.Give(p.at)
		p.at++
		b <<= 1
		if high || !driven {
			b |= 1
		}
	}
	return b
}

// End implements i2c.Device.
func (p *i2cPort) End() {
	was := p.open
	p.close()
	if was {
		p.part.message(p.wrong...)
	}
	p.wrong = nil
}

// close ends a span; behind a restart the next one is of the same message.
func (p *i2cPort) close() {
	if p.open {
		if p.at > 0 {
			p.wrong = append(p.wrong, wrong(p.server)...)
		}
		p.server.End()
		p.part.store(p.now())
	}
	p.open = false
}
