package machine

import "gavrix.org/gavrix/core/quantity"

// Mode is what a channel does when its count is used up.
type Mode uint8

// The modes.
const (
	OneShot  Mode = iota // it stops
	Circular             // it begins again, at the same addresses
	Double               // it begins again, in the other buffer
	Chained              // it goes on with the next descriptor
)

// Modes are the words for the modes, in their order.
var Modes = []string{"one-shot", "circular", "double", "chained"}

func (m Mode) String() string { return Modes[m] }

// Cursor is one side of a channel: an address, the bytes moved at a time, and whether
// it moves on.
type Cursor struct {
	Address uint64
	Width   int
	Moves   bool

	at uint64
}

// Stretch is one entry of a chain: where the memory side goes on, and how far.
type Stretch struct {
	Address uint64
	Count   int
}

// Line is a request line of a port.
type Line struct {
	Port *Port
	Room bool // its send side has room; else: words wait
}

func (l Line) up(least int) bool {
	switch {
	case l.Port == nil || !l.Port.Enabled:
		return false
	case l.Room:
		return l.Port.RoomDMA && l.Port.Room()
	}
	return l.Port.ReceiveDMA && len(l.Port.fifo) >= least
}

// Channel is one channel of the engine.
type Channel struct {
	Number   int // as the bench counts
	Priority int // 0 is the most urgent; equal ones by number
	Enabled  bool
	Mapped   bool // the request line reaches it
	Request  Line
	From, To Cursor
	Count    int
	Mode     Mode
	Other    uint64    // Double: the memory side's other buffer
	Chain    []Stretch // Chained: what follows the first stretch
	Again    bool      // Chained: from the first again after the last
	Burst    int       // elements a request, 0 and 1: one
	Latency  quantity.Time
	Cycles   int  // of the engine's bus, for each element; one at least
	Steals   bool // the processor waits meanwhile

	OnHalf, OnFull, OnError       bool // interrupts
	HalfFlag, FullFlag, ErrorFlag bool
	Moved, Laps                   int

	engine *Engine
	index  int
	left   int
	second bool
	link   int
	state  uint8
	gen    uint32
}

const (
	resting uint8 = iota
	coming
	ready
	moving
)

// Engine is the DMA engine: one bus, shared by its channels.
type Engine struct {
	Clock bool    // it runs
	Hz    float64 // of its bus; 0: the core's

	m        *Machine
	channels []*Channel
	busy     bool
}

// AddChannel adds a channel.
func (m *Machine) AddChannel(c *Channel) *Channel {
	c.engine, c.index = &m.DMA, len(m.DMA.channels)
	m.DMA.channels = append(m.DMA.channels, c)
	return c
}

// Channels gives the channels, in the order in which they were added.
func (e *Engine) Channels() []*Channel { return e.channels }

// Left is the number of elements until the count is used up.
func (c *Channel) Left() int { return c.left }

// Arm starts the channel anew with its count and addresses.
func (c *Channel) Arm() {
	c.Enabled = true
	c.second, c.link = false, 0
	c.reload(c.Count)
	c.gen++
	c.state = resting
	c.engine.m.dirty = true
}

// Stop ends it where it is.
func (c *Channel) Stop() {
	c.Enabled = false
	c.gen++
	if c.state != moving {
		c.state = resting
	}
}

func (c *Channel) reload(count int) {
	c.left = count
	c.From.at, c.To.at = c.From.Address, c.To.Address
}

// memorySide gives the side that is no data register; the destination where both are memory.
func (c *Channel) memorySide() *Cursor {
	if c.From.Address < portBase && c.To.Address >= portBase {
		return &c.From
	}
	return &c.To
}

func (c *Channel) asserts() bool {
	return c.OnHalf && c.HalfFlag || c.OnFull && c.FullFlag || c.OnError && c.ErrorFlag
}

func (c *Channel) wants() bool {
	return c.Enabled && c.Mapped && c.left > 0 && c.Request.up(max(c.Burst, 1))
}

// requests lets channels whose lines are up ask for the bus.
func (e *Engine) requests() {
	if !e.Clock {
		return
	}
	for _, c := range e.channels {
		if c.state == resting && c.wants() {
			e.m.mark(Requested, c.index, c.left, -1)
			if c.Latency == 0 {
				c.state = ready
				continue
			}
			c.state = coming
			e.m.at(e.m.now+c.Latency, asked, c.index, c.gen)
		}
	}
	e.grant()
}

func (c *Channel) asked(gen uint32) {
	if gen != c.gen || c.state != coming {
		return
	}
	c.state = ready
	c.engine.m.dirty = true
}

// grant gives the bus to the most urgent channel that is ready.
func (e *Engine) grant() {
	if e.busy {
		return
	}
	var best *Channel
	for _, c := range e.channels {
		if c.state == ready && (best == nil || c.Priority < best.Priority || c.Priority == best.Priority && c.Number < best.Number) {
			best = c
		}
	}
	if best == nil {
		return
	}
	best.state = moving
	e.busy = true
	t := e.time(best.Cycles)
	if best.Steals {
		e.m.CPU.stall(t)
	}
	e.m.at(e.m.now+t, beaten, best.index, 0)
}

// time is that of an element on the bus: a cycle at least, so that a request which nobody
// answers takes time.
func (e *Engine) time(cycles int) quantity.Time {
	cycles = max(cycles, 1)
	if e.Hz <= 0 {
		return max(e.m.Cycles(cycles), 1)
	}
	return max(quantity.Time(float64(cycles)*1e12/e.Hz+0.5), 1)
}

func (e *Engine) beaten(who uint16) {
	c := e.channels[who]
	e.busy = false
	c.state = resting
	e.m.dirty = true
	for n := 0; n < max(c.Burst, 1) && c.Enabled && c.left > 0; n++ {
		if n > 0 && !c.Request.up(1) {
			break
		}
		c.move()
	}
}

// move moves one element.
func (c *Channel) move() {
	m := c.engine.m
	value, serial, ok := m.read(c.From.at, c.From.Width)
	if ok {
		ok = m.write(c.To.at, c.To.Width, value, serial)
	}
	if !ok {
		c.Enabled, c.ErrorFlag = false, true
		m.mark(Failed, c.index, c.left, -1)
		return
	}
	c.Moved++
	c.left--
	for _, s := range []*Cursor{&c.From, &c.To} {
		if s.Moves {
			s.at += uint64(s.Width)
		}
	}
	m.mark(Beat, c.index, c.left, serial)
	if total := c.total(); c.left == total-total/2 && total > 1 {
		c.HalfFlag = true
		m.mark(Half, c.index, c.left, serial)
	}
	if c.left == 0 {
		c.through(serial)
	}
}

// total is the count of the present stretch.
func (c *Channel) total() int {
	if c.Mode == Chained && c.link > 0 {
		return c.Chain[c.link-1].Count
	}
	return c.Count
}

// through is the end of a count.
func (c *Channel) through(serial int) {
	c.FullFlag = true
	c.Laps++
	c.engine.m.mark(Full, c.index, 0, serial)
	switch c.Mode {
	case OneShot:
		c.Enabled = false
	case Circular:
		c.reload(c.Count)
	case Double:
		c.reload(c.Count)
		if c.second = !c.second; c.second {
			c.memorySide().at = c.Other
		}
	case Chained:
		switch {
		case c.link < len(c.Chain):
			c.link++
			s := c.Chain[c.link-1]
			c.reload(s.Count)
			c.memorySide().at = s.Address
		case c.Again:
			c.link = 0
			c.reload(c.Count)
		default:
			c.Enabled = false
		}
	}
}

// read is a read of the engine: of a data register or of memory.
func (m *Machine) read(a uint64, width int) (value uint64, serial int, ok bool) {
	serial = -1
	if p, offset := m.port(a); p != nil {
		for i := range width {
			if offset+i >= p.Bytes && offset > 0 {
				value |= Neighbour << (8 * i)
			}
		}
		if offset == 0 {
			w, _ := p.Take()
			value, serial = w.Value&low(width), w.Serial
		}
		return value, serial, true
	}
	r := m.Memory.Region(a)
	if r == nil || !r.DMA || a%uint64(width) != 0 {
		return 0, -1, false
	}
	for i := range width {
		v, s := m.Memory.Get(a + uint64(i))
		value |= uint64(v) << (8 * i)
		if i == 0 {
			serial = s
		}
	}
	return value, serial, true
}

func low(width int) uint64 {
	if width >= 8 {
		return ^uint64(0)
	}
	return 1<<(8*width) - 1
}

// write is a write of the engine.
func (m *Machine) write(a uint64, width int, value uint64, serial int) bool {
	if p, offset := m.port(a); p != nil {
		if offset == 0 {
			p.Write(Word{value & low(width), serial})
		}
		return true
	}
	r := m.Memory.Region(a)
	if r == nil || !r.DMA || !r.Writable || a%uint64(width) != 0 {
		return false
	}
	for i := range width {
		m.Memory.Put(a+uint64(i), byte(value>>(8*i)), serial, ByDMA, m.now)
	}
	return true
}

// port gives the port whose registers hold an address.
func (m *Machine) port(a uint64) (*Port, int) {
	if a < portBase {
		return nil, 0
	}
	n := (a - portBase) / portSpan
	if n >= uint64(len(m.ports)) {
		return nil, 0
	}
	return m.ports[n], int((a - portBase) % portSpan)
}
