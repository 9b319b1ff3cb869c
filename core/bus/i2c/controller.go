package i2c

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
)

// Segment is what follows one start: an address, then bytes that go one way.
type Segment struct {
	Address int
	Ten     bool // 10-bit address
	// Read asks for this many bytes; 0: Data is written.
	Read int
	Data []byte
}

// Transaction is what a bus controller does between start and stop, with a
// repeated start between segments.
type Transaction struct {
	Segments []Segment
	// HighSpeed puts the code of the controller, 0 to 7, before the first
	// segment: from the repeated start on the bus runs at high speed.
	HighSpeed bool
	Code      int
	// Free, without segments, sends pulses until data is high, nine at most, and a stop.
	Free bool
}

// Bytes is how many bytes it has on the wire, addresses counted.
func (t Transaction) Bytes() int {
	n := 0
	for _, o := range t.ops() {
		if !o.start && !o.stop {
			n++
		}
	}
	return n
}

// At gives the byte with an index on the wire, 0 for those that are read; address says
// whose it is where it is one of an address.
func (t Transaction) At(i int) (b byte, address string) {
	for _, o := range t.ops() {
		switch {
		case o.start || o.stop:
			continue
		case i > 0:
			i--
			continue
		case o.address:
			a := Address(t.Segments[o.segment].Address)
			if t.Segments[o.segment].Ten {
				a |= TenBit
			}
			address = a.String()
		}
		return o.value, address
	}
	return 0, ""
}

// What says what an Event tells.
type What uint8

// The kinds of events.
const (
	Done            What = iota // the transaction ended with a stop
	NotAcknowledged             // a byte was not acknowledged: stop
	Lost                        // arbitration: another controller goes on, this one tries again
	TimedOut                    // the clock was held low for longer than the limit
	Freed                       // data was held low; Clocks pulses freed it
	HeldLow                     // a line is held low, and nine pulses did not free data
)

func (w What) String() string {
	return [...]string{"done", "not acknowledged", "arbitration lost", "timed out", "freed", "held low"}[w]
}

// Event is something that a bus controller noticed.
type Event struct {
	At          quantity.Time
	What        What
	Transaction Transaction
	Read        [][]byte // the bytes read, by segment
	Byte        int      // that was not acknowledged, or at which arbitration was lost
	Clocks      int
}

// op is one step of a transaction on the wire.
type op struct {
	start   bool
	stop    bool
	value   byte
	read    bool
	ack     bool // given after a byte read
	segment int
	address bool
	code    bool // the code of high-speed mode: nobody acknowledges it
}

// ops takes a transaction apart into what goes over the wire.
func (t Transaction) ops() []op {
	var out []op
	if t.HighSpeed {
		out = append(out, op{start: true}, op{value: 0x08 | byte(t.Code&7), code: true})
	}
	ten := -1 // the 10-bit address that was written last
	for i, s := range t.Segments {
		dir := byte(0)
		if s.Read > 0 {
			dir = 1
		}
		put := func(v byte) { out = append(out, op{value: v, segment: i, address: true}) }
		out = append(out, op{start: true, segment: i})
		switch {
		case !s.Ten:
			put(byte(s.Address)<<1 | dir)
		default:
			high := 0xf0 | byte(s.Address>>8&3)<<1
			if dir == 0 || ten != s.Address {
				put(high)
				put(byte(s.Address))
				if dir == 1 {
					out = append(out, op{start: true, segment: i})
				}
			}
			if dir == 1 {
				put(high | 1)
			}
			ten = s.Address
		}
		for _, b := range s.Data {
			out = append(out, op{value: b, segment: i})
		}
		for k := range s.Read {
			out = append(out, op{read: true, ack: k+1 < s.Read, segment: i})
		}
	}
	return append(out, op{stop: true})
}

// Check says what is wrong with a transaction.
func (t Transaction) Check() error {
	if t.Free && len(t.Segments) == 0 {
		return nil
	}
	if len(t.Segments) == 0 {
		return fmt.Errorf("a transaction needs at least one segment")
	}
	for _, s := range t.Segments {
		switch most := 0x7f; {
		case s.Ten && (s.Address < 0 || s.Address > 0x3ff):
			return fmt.Errorf("address %X: a 10-bit address is at most 3FF", s.Address)
		case !s.Ten && (s.Address < 0 || s.Address > most):
			return fmt.Errorf("address %X: a 7-bit address is at most 7F", s.Address)
		case s.Read > 0 && len(s.Data) > 0:
			return fmt.Errorf("a segment either reads or writes")
		case s.Read < 0:
			return fmt.Errorf("%d bytes can't be read", s.Read)
		}
	}
	return nil
}

// phase is what a controller does.
type phase uint8

const (
	waiting   phase = iota // for the bus to be free, or for something to do
	starting               // data is low, the clock not yet
	low                    // the clock is low
	rising                 // the clock is let go and must rise
	high                   // the clock is high
	pulsing                // a stuck bus: the clock is low
	letting                // a stuck bus: the clock must rise
	between                // a stuck bus: the clock is high
	resetting              // a stuck bus: data is low, for a start and a stop in one bit
	finishing              // data is let go for a stop and must rise
)

// Controller drives transactions: it shares the bus with other controllers,
// and waits for devices that hold the clock low. It implements bus.Node for
// the lines clock and data.
type Controller struct {
	// Bit is the time of a bit, Fast that in high-speed mode.
	Bit, Fast quantity.Time
	// Stretch is how long the clock may be held low; 0: for ever.
	Stretch quantity.Time
	// Stuck is how long data must be held low on a quiet bus before the
	// controller sends pulses to free it; 0: never.
	Stuck quantity.Time
	// OnEvent, if set, is told what becomes of the transactions.
	OnEvent func(Event)

	queue []Transaction

	// The bus as it is seen.
	started bool
	scl     bool
	sda     bool
	busy    bool
	freeAt  quantity.Time
	quiet   quantity.Time // newest edge

	// What it does.
	phase     phase
	at        quantity.Time // when the present phase goes on
	since     quantity.Time // when it began
	put       bool          // data is set for the bit of this low phase
	clock     bool          // what it lets the lines be
	data      bool
	fast      bool
	gaveUp    bool // the bus stayed stuck: wait for an edge
	ops       []op
	index     int
	bit       int // of the byte, 8 is the acknowledge
	shift     byte
	acked     bool
	freeing   bool // the stop ends the pulses of a stuck bus
	read      [][]byte
	clocks    int
	cut       What // why the transaction ends early
	cutAt     int
	cutActive bool
}

// NewController gives a controller with the given bit time.
func NewController(bit quantity.Time) *Controller {
	return &Controller{Bit: bit, Fast: bit, clock: true, data: true}
}

// Queue adds a transaction, which must satisfy Check. The bus must call Step
// after it.
func (c *Controller) Queue(t Transaction) { c.queue = append(c.queue, t) }

// Queued is the number of transactions that wait, the running one counted.
func (c *Controller) Queued() int { return len(c.queue) }

// Lets tells which lines it leaves alone at the moment: those that are low all the same
// are held by others.
func (c *Controller) Lets() (clock, data bool) { return c.clock, c.data }

// Drop takes a transaction out of the queue, 0 being the one that runs or is next: the
// unit is begun anew under it, and lets the lines go. OnEvent is not told. The bus must
// call Step after it.
func (c *Controller) Drop(i int) {
	c.queue = append(c.queue[:i:i], c.queue[i+1:]...)
	if i == 0 {
		c.clock, c.data, c.fast, c.freeing = true, true, false, false
		c.phase = waiting
	}
}

func (c *Controller) quarter() quantity.Time {
	if c.fast {
		return max(c.Fast/4, 1)
	}
	return max(c.Bit/4, 1)
}

// Step implements bus.Node.
func (c *Controller) Step(t quantity.Time, levels, release []bool) quantity.Time {
	c.see(t, levels[0], levels[1])
	for c.advance(t) {
	}
	release[0], release[1] = c.clock, c.data
	return max(c.wake(), t+1)
}

// see notes the levels, starts and stops.
func (c *Controller) see(t quantity.Time, scl, sda bool) {
	if !c.started {
		c.started = true
		c.scl, c.sda, c.quiet, c.freeAt = scl, sda, t, t
		c.busy = !scl || !sda
		return
	}
	if scl != c.scl || sda != c.sda {
		c.quiet, c.gaveUp = t, false
	}
	if sda != c.sda && scl && c.scl {
		c.busy = !sda
		if sda {
			c.freeAt = t + 2*c.quarter()
		}
	}
	c.scl, c.sda = scl, sda
}

// wake gives the time of the next thing that time alone brings.
func (c *Controller) wake() quantity.Time {
	switch c.phase {
	case waiting:
		switch {
		case len(c.queue) > 0 && c.queue[0].Free:
			return c.quiet
		case len(c.queue) == 0:
			return quantity.Forever
		case c.gaveUp:
			return c.since + c.Stuck
		case !c.busy && c.scl && c.sda:
			return c.freeAt
		case c.scl && c.sda:
			return c.quiet + c.abandoned()
		case c.Stuck > 0 && c.scl && !c.sda:
			return c.quiet + c.Stuck
		}
		return quantity.Forever
	case letting:
		if limit := c.patience(); limit > 0 {
			return c.since + limit
		}
		return quantity.Forever
	case rising:
		if c.Stretch > 0 {
			return c.since + c.Stretch
		}
		return quantity.Forever
	case finishing:
		if c.Stuck > 0 {
			return c.since + c.Stuck
		}
		return quantity.Forever
	}
	return c.at
}

// advance goes on by one step if it is time, and says whether it did.
func (c *Controller) advance(t quantity.Time) bool {
	q := c.quarter()
	switch c.phase {
	case waiting:
		return c.begin(t)
	case starting:
		if t < c.at && c.scl {
			return false
		}
		c.fall(t)
		c.index++
		c.bit = 0
	case low:
		if !c.put && t >= c.since+q {
			c.put = true
			c.data = c.level()
			c.at = c.since + 2*q
			return true
		}
		if t < c.at || !c.put {
			return false
		}
		c.clock, c.phase, c.since = true, rising, t
	case rising:
		if !c.scl {
			if c.Stretch > 0 && t >= c.since+c.Stretch {
				c.end(t, TimedOut)
				return true
			}
			return false
		}
		return c.risen(t)
	case high:
		return c.held(t)
	case pulsing, letting, between, resetting:
		return c.free(t)
	case finishing:
		switch {
		case !c.sda && (c.Stuck == 0 || t < c.since+c.Stuck):
			return false
		case !c.sda:
			c.end(t, HeldLow)
		case c.freeing && c.queue[0].Free:
			c.freeing = false
			c.end(t, Done)
		case c.freeing:
			c.freeing, c.phase = false, waiting
		default:
			c.end(t, c.outcome())
		}
	}
	return true
}

func (c *Controller) outcome() What {
	if c.cutActive {
		return c.cut
	}
	return Done
}

// abandoned is how long both lines must be high inside a transaction until it
// is taken for one that will never end: nobody's clock stands still for so long.
func (c *Controller) abandoned() quantity.Time { return 20 * c.Bit }

// begin starts the next transaction when the bus is free.
func (c *Controller) begin(t quantity.Time) bool {
	switch {
	case len(c.queue) == 0:
		return false
	case c.queue[0].Free && !c.scl:
		c.clocks = 0
		c.end(t, HeldLow)
		return true
	case c.queue[0].Free:
		c.phase, c.clock, c.at, c.clocks = pulsing, false, t+2*c.quarter(), 1
		return true
	case c.gaveUp && t >= c.since+c.Stuck:
		c.clocks, c.since = 0, t // it is still held: no pulses again
		c.end(t, HeldLow)
		return true
	case c.gaveUp:
		return false
	}
	if c.Stuck > 0 && c.scl && !c.sda && t >= c.quiet+c.Stuck {
		c.phase, c.clock, c.at, c.clocks = pulsing, false, t+2*c.quarter(), 1
		return true
	}
	if c.busy && c.scl && c.sda && t >= c.quiet+c.abandoned() {
		c.busy, c.freeAt = false, t
	}
	if c.busy || !c.scl || !c.sda || t < c.freeAt {
		return false
	}
	tr := c.queue[0]
	c.ops, c.index, c.bit = tr.ops(), 0, 0
	c.read = make([][]byte, len(tr.Segments))
	c.cutActive, c.fast = false, false
	c.data = false
	c.phase, c.since, c.at = starting, t, t+c.quarter()
	return true
}

// fall pulls the clock low.
func (c *Controller) fall(t quantity.Time) {
	c.clock, c.phase, c.since, c.put = false, low, t, false
	c.at = t + c.quarter()
}

// level is what data must be for the next bit.
func (c *Controller) level() bool {
	o := c.ops[c.index]
	switch {
	case o.start:
		return true // it falls while the clock is high
	case o.stop:
		return false
	case o.read && c.bit == 8:
		return !o.ack
	case o.read || c.bit == 8:
		return true
	}
	return o.value>>(7-c.bit)&1 == 1
}

// risen takes the clock's rise.
func (c *Controller) risen(t quantity.Time) bool {
	q := c.quarter()
	o := c.ops[c.index]
	c.phase, c.since, c.at = high, t, t+2*q
	switch {
	case o.stop:
		c.at = t + q
		return true
	case o.start:
		// Another controller may send a 0 where this one begins again.
		if !c.sda {
			c.lose(t)
		}
		return true
	}
	sent := c.level()
	mine := !o.read && c.bit < 8 || o.read && c.bit == 8
	if mine && sent && !c.sda {
		c.lose(t)
		return true
	}
	bit := byte(0)
	if c.sda {
		bit = 1
	}
	if c.bit < 8 {
		c.shift = c.shift<<1 | bit
	} else {
		c.acked = bit == 0
	}
	return true
}

// held goes on from the high phase of the clock.
func (c *Controller) held(t quantity.Time) bool {
	o := c.ops[c.index]
	if t < c.at && c.scl {
		return false
	}
	switch {
	case o.stop:
		if !c.scl {
			c.lose(t)
			return true
		}
		c.data, c.phase, c.since = true, finishing, t
		return true
	case o.start:
		if !c.scl {
			c.lose(t)
			return true
		}
		c.data = false
		c.phase, c.since, c.at = starting, t, t+c.quarter()
		if c.queue[0].HighSpeed {
			c.fast = true
			c.at = t + c.quarter()
		}
		return true
	}
	if c.bit++; c.bit == 9 {
		c.byteDone(o)
	}
	c.fall(t)
	return true
}

// byteDone goes on behind the acknowledge.
func (c *Controller) byteDone(o op) {
	c.bit = 0
	c.index++
	switch {
	case o.read:
		c.read[o.segment] = append(c.read[o.segment], c.shift)
	case !c.acked && !o.code:
		c.cut, c.cutActive = NotAcknowledged, true
		c.cutAt = c.byteIndex(c.index - 1)
		c.index = len(c.ops) - 1 // the stop
	}
}

// byteIndex counts the bytes on the wire before an op.
func (c *Controller) byteIndex(i int) int {
	n := 0
	for _, o := range c.ops[:i] {
		if !o.start && !o.stop {
			n++
		}
	}
	return n
}

// lose leaves the bus to another controller.
func (c *Controller) lose(t quantity.Time) {
	c.clock, c.data, c.fast = true, true, false
	c.phase, c.busy = waiting, true
	c.tell(Event{At: t, What: Lost, Transaction: c.queue[0], Byte: c.byteIndex(c.index)})
}

// end is the end of the transaction.
func (c *Controller) end(t quantity.Time, w What) {
	e := Event{At: t, What: w, Transaction: c.queue[0], Read: c.read}
	if e.Transaction.Free {
		e.Read, e.Clocks = nil, c.clocks
	}
	switch w {
	case HeldLow:
		e.Clocks = c.clocks
	case NotAcknowledged:
		e.Byte = c.cutAt
	case TimedOut:
		e.Byte = c.byteIndex(c.index)
	}
	c.queue = c.queue[1:]
	c.clock, c.data, c.fast = true, true, false
	c.phase = waiting
	c.tell(e)
}

// free sends pulses until data rises, nine at most, and then a stop.
func (c *Controller) free(t quantity.Time) bool {
	q := c.quarter()
	switch c.phase {
	case pulsing:
		if t < c.at {
			return false
		}
		c.clock, c.phase, c.since = true, letting, t
	case resetting:
		if t < c.at {
			return false
		}
		c.data, c.freeing, c.phase, c.since = true, true, finishing, t
	case letting:
		if !c.scl {
			if limit := c.patience(); limit > 0 && t >= c.since+limit {
				c.clocks = 0
				return c.giveUp(t)
			}
			return false
		}
		c.phase, c.at = between, t+2*q
	case between:
		if t < c.at {
			return false
		}
		switch {
		case c.sda:
			// A start and a stop in this very bit: with the next pulse the device
			// might hold data low again.
			c.tell(Event{At: t, What: Freed, Clocks: c.clocks})
			c.data, c.phase, c.at = false, resetting, t+q
		case c.clocks == 9:
			return c.giveUp(t)
		default:
			c.clocks++
			c.clock, c.phase, c.at = false, pulsing, t+2*q
		}
	}
	return true
}

// patience is how long the clock may be held low between pulses; 0: for ever. Pulses that
// were asked for end in any case.
func (c *Controller) patience() quantity.Time {
	if c.Stretch == 0 && c.queue[0].Free {
		return 1000 * c.Bit
	}
	return c.Stretch
}

func (c *Controller) giveUp(t quantity.Time) bool {
	c.gaveUp, c.since = true, t
	c.end(t, HeldLow)
	return true
}

func (c *Controller) tell(e Event) {
	if c.OnEvent != nil {
		c.OnEvent(e)
	}
}
