package machine

import "gavrix.org/gavrix/core/quantity"

// Policy says which word is lost when one is complete and the port is full.
type Policy uint8

// The policies.
const (
	KeepOldest  Policy = iota // the one that comes
	KeepNewest                // the oldest that waits
	ReplaceLast               // the youngest that waits
)

// Policies are the words for the policies, in their order.
var Policies = []string{"keep-oldest", "keep-newest", "replace-last"}

func (p Policy) String() string { return Policies[p] }

// Port is the inner side of a bus unit: a receive register or queue, a send register
// or queue, a shifter, its flags and the bits that let them ask for an interrupt or for
// the DMA engine.
type Port struct {
	Name string
	// As the unit is built: words that receive and send side hold beside the shifter,
	// which word is lost, and the bytes of the data register.
	Depth, SendDepth int
	OnFull           Policy
	Bytes            int

	// As it is set up. Threshold is the level that raises the receive flag; IdleAfter the
	// time of silence that raises the idle flag, 0 for none.
	Enabled             bool
	Threshold           int
	IdleAfter           quantity.Time
	WordTime, Gap       quantity.Time   // a word's time on the line, and the pause behind it
	OnReceive, OnRoom   bool            // interrupts: words wait, the send side has room
	OnSent, OnIdle      bool            // the last bit is out, the line is quiet
	ReceiveDMA, RoomDMA bool            // requests to the engine
	LineBusy            func() bool     // a word is coming in: the line is not quiet; nil: nobody knows
	Echo                func(Word) Word // what comes in while a word goes out; nil: nothing does
	OnTaken             func(Word)      // told of each word that is read
	OnMoved             func(Word)      // told of each word that moves into the shifter
	OnFinished          func(Word)      // told of each word whose last bit is out

	// Counts since the beginning.
	Arrivals, Losses, Finished, High int
	LostSerials                      []int // up to LostKept
	SentFlag, IdleFlag, Overrun      bool

	m        *Machine
	number   int
	fifo     []Word
	out      []Word
	shift    Word
	busy     bool
	resting  bool
	free     quantity.Time
	quietGen uint32
	address  uint64
}

// LostKept is how many serials of lost words a port keeps.
const LostKept = 1 << 16

// portBase is where the ports' registers are: each has portSpan bytes, its data register first.
const (
	portBase uint64 = 0xF000_0000_0000
	portSpan uint64 = 0x100
)

// AddPort adds a port.
func (m *Machine) AddPort(p *Port) *Port {
	p.m, p.number = m, len(m.ports)
	p.address = portBase + uint64(p.number)*portSpan
	p.Depth, p.SendDepth, p.Threshold, p.Bytes = max(p.Depth, 1), max(p.SendDepth, 1), max(p.Threshold, 1), max(p.Bytes, 1)
	m.ports = append(m.ports, p)
	return p
}

// Number is the port's number in marks.
func (p *Port) Number() int { return p.number }

// Data is the address of the data register.
func (p *Port) Data() uint64 { return p.address }

// Level is the number of words that wait to be read.
func (p *Port) Level() int { return len(p.fifo) }

// Busy says whether a word is on its way out, or waits.
func (p *Port) Busy() bool { return p.busy || len(p.out) > 0 }

// Waiting gives the words that wait to be read.
func (p *Port) Waiting() []Word { return p.fifo }

// Receive takes a word that is complete on the line now, and says whether one was lost
// by it. A unit that is off takes none.
func (p *Port) Receive(w Word) (lost bool) {
	if !p.Enabled {
		return false
	}
	p.Arrivals++
	p.noise()
	gone := w
	switch {
	case len(p.fifo) < p.Depth:
		p.fifo = append(p.fifo, w)
		p.High = max(p.High, len(p.fifo))
	case p.OnFull == KeepOldest:
		lost = true
	case p.OnFull == KeepNewest:
		gone, lost = p.fifo[0], true
		copy(p.fifo, p.fifo[1:])
		p.fifo[len(p.fifo)-1] = w
	default:
		gone, lost = p.fifo[len(p.fifo)-1], true
		p.fifo[len(p.fifo)-1] = w
	}
	p.m.mark(Arrived, p.number, len(p.fifo), w.Serial)
	if lost {
		p.Losses++
		p.Overrun = true
		if len(p.LostSerials) < LostKept {
			p.LostSerials = append(p.LostSerials, gone.Serial)
		}
		p.m.mark(Lost, p.number, len(p.fifo), gone.Serial)
	}
	p.m.dirty = true
	p.m.settle()
	return lost
}

// Begin says that the first bit of a word is on the line: it is not quiet until the word is
// complete and some time after.
func (p *Port) Begin() { p.quietGen++ }

// noise starts the watch for silence anew.
func (p *Port) noise() {
	p.quietGen++
	if p.IdleAfter > 0 {
		p.m.at(p.m.now+p.IdleAfter, quiet, p.number, p.quietGen)
	}
}

func (p *Port) quiet(gen uint32) {
	if gen != p.quietGen || !p.Enabled || p.LineBusy != nil && p.LineBusy() {
		return
	}
	p.IdleFlag = true
	p.m.mark(Quiet, p.number, len(p.fifo), -1)
	p.m.dirty = true
}

// Take reads the data register: the oldest word, or an empty register's zero.
func (p *Port) Take() (w Word, ok bool) {
	if len(p.fifo) == 0 {
		return Word{Serial: -1}, false
	}
	w = p.fifo[0]
	copy(p.fifo, p.fifo[1:])
	p.fifo = p.fifo[:len(p.fifo)-1]
	p.m.mark(Taken, p.number, len(p.fifo), w.Serial)
	if p.OnTaken != nil {
		p.OnTaken(w)
	}
	p.m.dirty = true
	return w, true
}

// Room says whether the send side takes a word.
func (p *Port) Room() bool { return p.Enabled && len(p.out) < p.SendDepth }

// Write writes the data register; a word that finds no room is lost.
func (p *Port) Write(w Word) bool {
	if !p.Room() {
		return false
	}
	p.SentFlag = false
	p.out = append(p.out, w)
	p.m.mark(Written, p.number, len(p.out), w.Serial)
	p.push()
	p.m.dirty = true
	return true
}

// push moves the next word into the shifter where that rests.
func (p *Port) push() {
	if p.busy || len(p.out) == 0 || !p.Enabled {
		return
	}
	if p.m.now < p.free {
		if !p.resting {
			p.resting = true
			p.m.at(p.free, rested, p.number, 0)
		}
		return
	}
	p.resting = false
	p.shift = p.out[0]
	copy(p.out, p.out[1:])
	p.out = p.out[:len(p.out)-1]
	p.busy = true
	p.m.dirty = true
	if p.OnMoved != nil {
		p.OnMoved(p.shift)
	}
	p.m.at(p.m.now+p.WordTime, shifted, p.number, 0)
}

// sent is the end of the last bit of the word in the shifter.
func (p *Port) sent() {
	if !p.busy {
		return
	}
	p.busy = false
	p.Finished++
	p.free = p.m.now + p.Gap
	p.m.Log.put(Mark{At: p.m.now - p.WordTime, To: p.m.now, Kind: Shifting, Who: p.number, N: len(p.out), Serial: p.shift.Serial})
	w := p.shift
	if p.OnFinished != nil {
		p.OnFinished(w)
	}
	if p.Echo != nil {
		p.Receive(p.Echo(w))
	}
	p.push()
	if !p.busy && len(p.out) == 0 {
		p.SentFlag = true
		p.m.mark(Sent, p.number, 0, w.Serial)
	}
	p.m.dirty = true
	p.m.settle()
}

// asserts says whether an enabled flag stands.
func (p *Port) asserts() bool {
	return p.OnReceive && len(p.fifo) >= p.Threshold || p.OnIdle && p.IdleFlag || p.OnSent && p.SentFlag || p.OnRoom && p.Room()
}
