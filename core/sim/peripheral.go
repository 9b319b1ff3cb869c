package sim

import (
	"cmp"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/startup"
)

// Unit is what became of the MCU's bus unit when the firmware had started it. The
// zero value is a unit that does all it should.
type Unit struct {
	Undriven bool // nothing drives the line from the MCU
	Mute     bool // it sends nothing
	Deaf     bool // it receives nothing
	Unserved bool // nobody empties its receive register
	// LeftOver is a character, in hex, that the first message is handed; Drained
	// one that the start-up took away.
	LeftOver, Drained string
}

// peripheral are the control registers of one unit, of its pins, its interrupt
// line and its DMA channel, as the firmware's writes leave them. It obeys writes
// as the part does: what has no clock takes none.
type peripheral struct {
	link   *bench.Link
	chain  startup.Chain
	values map[*register.Register]uint64
	fine   map[*register.Register]uint64 // waits for the first register of the rate

	waiting bool // a character is left over
	handed  bool // and was handed to the handler
	lost    bool // the DMA request came while nobody listened
	ended   bool // the start-up is over
}

// started is the peripheral after the firmware's start-up.
func started(l *bench.Link) (*peripheral, error) {
	c, err := l.Chain()
	if err != nil {
		return nil, err
	}
	p := &peripheral{link: l, chain: c, values: map[*register.Register]uint64{}, fine: map[*register.Register]uint64{}}
	p.waiting = len(l.LeftOver) > 0
	if s := c.Step("clear"); s != nil && p.waiting {
		for _, w := range s.Writes {
			p.values[w.Register] = w.Reset | w.Mask
		}
	}
	for _, name := range l.Steps(c) {
		if s := c.Step(name); s != nil {
			p.do(s)
		}
	}
	p.ended = true
	p.served()
	return p, nil
}

func (p *peripheral) value(r *register.Register) uint64 {
	if v, written := p.values[r]; written {
		return v
	}
	return r.Reset
}

// on says whether the registers hold what a step writes; what the board does not
// describe is on.
func (p *peripheral) on(name string) bool {
	s := p.chain.Step(name)
	if s == nil {
		return true
	}
	for _, w := range s.Writes {
		if p.value(w.Register)&w.Mask != w.Value {
			return false
		}
	}
	return true
}

func (p *peripheral) put(w startup.Write) {
	p.values[w.Register] = p.value(w.Register)&^w.Mask | w.Value
}

// do is one step of the firmware.
func (p *peripheral) do(s *startup.Step) {
	switch {
	case slices.Contains([]string{"clock", "port-clock", "dma-clock", "interrupt-line"}, s.Name):
	case strings.HasSuffix(s.Name, "-pin"):
		if !p.on("port-clock") {
			return
		}
	case s.Name == "dma-channel":
		if !p.on("dma-clock") {
			return
		}
	default:
		if !p.on("clock") {
			return
		}
	}
	rate := s.Name == "rate" || s.Name == "rate-fine"
	if (rate || s.Name == "frame" || s.Name == "filters") && !p.on("configuration") {
		return
	}
	if (rate || s.Name == "frame") && p.chain.Locked && p.chain.Step("enable") != nil && p.on("enable") {
		return
	}
	for _, w := range s.Writes {
		if s.Name == "rate-fine" && p.chain.Latched {
			p.fine[w.Register] = p.value(w.Register)&^w.Mask | w.Value
			continue
		}
		p.put(w)
	}
	switch s.Name {
	case "rate":
		for r, v := range p.fine {
			p.values[r] = v
		}
	case "clear":
		p.waiting = p.waiting && p.handed
	case "dma-request":
		p.lost = !p.on("dma-clock") || !p.on("dma-channel") // the channel does not remember a request
	}
	p.served()
}

// served hands over what waits as soon as somebody comes for it.
func (p *peripheral) served() {
	if !p.waiting || p.handed || !p.emptied() {
		return
	}
	p.handed = true
	if s := p.chain.Step("clear"); s != nil {
		for _, w := range s.Writes {
			p.put(w)
		}
	}
}

// emptied says whether somebody takes received words out of the unit.
func (p *peripheral) emptied() bool {
	if !p.on("clock") {
		return false
	}
	armed := func(steps ...string) bool {
		described := false
		for _, s := range steps {
			if !p.on(s) {
				return false
			}
			described = described || p.chain.Step(s) != nil
		}
		return described || p.ended
	}
	switch p.link.Receive {
	case startup.Polled:
		return p.ended
	case startup.DMA:
		return armed("dma-clock", "dma-channel", "dma-request") && !p.lost
	}
	own := p.link.Handler == "" || p.link.Handler == p.link.Unit.Name
	return own && armed("interrupt-line", "receive-interrupt")
}

// Dump gives the control registers of the simulated MCU as its firmware's start-up
// leaves them, in order of their addresses: what a probe would read.
func Dump(b *bench.Bench) []register.Seen {
	values := map[*register.Register]uint64{}
	for _, l := range b.Links {
		p, err := started(l)
		if err != nil {
			continue
		}
		for _, s := range p.chain.Steps {
			for _, w := range s.Writes {
				v, seen := values[w.Register]
				if !seen {
					v = w.Reset
				}
				values[w.Register] = v&^w.Mask | p.value(w.Register)&w.Mask
			}
		}
	}
	var out []register.Seen
	for r, v := range values {
		out = append(out, register.Seen{Address: r.Address, Value: v, Register: r})
	}
	slices.SortFunc(out, func(a, b register.Seen) int { return cmp.Compare(a.Address, b.Address) })
	return out
}
