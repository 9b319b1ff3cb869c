package can

import (
	"bytes"
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// ErrorState is how far a node still takes part.
type ErrorState uint8

// The error states.
const (
	ErrorActive ErrorState = iota
	ErrorPassive
	BusOff
)

func (s ErrorState) String() string {
	return [...]string{"error active", "error passive", "bus off"}[s]
}

// WarningLimit is the count of errors at which a node is worth a look.
const WarningLimit = 96

// NodeError is an error as the node that found it knows it.
type NodeError uint8

// The errors.
const (
	NoError NodeError = iota
	BitError
	StuffError
	FormError
	CheckError
	AcknowledgeError
)

func (e NodeError) String() string {
	return [...]string{"no error", "bit error", "stuff error", "form error", "check sequence error", "acknowledge error"}[e]
}

// What says what an Event tells.
type What uint8

// The kinds of events.
const (
	Joined   What = iota // the node saw the bus idle and takes part
	Sent                 // a frame of its own was acknowledged and ended
	Received             // a frame of another node
	Lost                 // arbitration; Bit is the identifier bit, from the start of frame
	Failed               // an error was found
	Overloaded
	StateChanged
	Dropped // a frame was given up: one-shot, or bus off
	Counted // an error counter changed, and nothing else
)

// Event is something that a node noticed.
type Event struct {
	At    quantity.Time
	What  What
	Frame Frame
	Error NodeError
	Field Field
	Bit   int // of the frame, stuff bits counted, from 0
	// The counters and the state after the event.
	TEC, REC int
	State    ErrorState
}

// nodeState is what a node does with the bits.
type nodeState uint8

const (
	joining  nodeState = iota // waiting for eleven recessive bits
	resting                   // the bus is idle
	reading                   // a frame, its own or another's
	flagging                  // sending an error flag or an overload flag
	flagEnds                  // waiting for the others' flags to end
	delimiting
	pausing    // intermission
	suspending // an error passive sender lets others go first
	isOff
)

// Node is one party on a bus: it sends, receives, acknowledges, finds errors
// and counts them. It implements bus.Node for the one line of the bus.
type Node struct {
	// ListenOnly: the node never drives the line low.
	ListenOnly bool
	// OneShot: a frame that fails or loses arbitration is not sent again.
	OneShot bool
	// Classic: the node knows nothing of the flexible data rate format, and
	// takes its frames for form errors.
	Classic bool
	// StayOff: once bus off, the node waits for Restart.
	StayOff bool
	// OnEvent, if set, is told what the node notices.
	OnEvent func(Event)

	tec, rec int
	toldTEC  int // as the last event had them
	toldREC  int
	state    nodeState
	shown    ErrorState
	queue    []Frame
	// withdraws: the first frame is given up when it fails.
	withdraws bool

	// Bits.
	started bool
	clock   bitClock
	high    bool // level on the line
	begun   bool // the present bit's start has passed
	crossed bool // the rate changed at the present sample point
	last    bool // newest sample
	synced  bool
	out     bool // what the present bit lets the line be
	next    bool // and the next bit
	now     quantity.Time
	slept   bool // since the last step only an edge could matter

	// The frame.
	frame   reader
	sending bool
	mine    []Bit
	index   int  // of the present bit in mine
	waiting bool // FD: the acknowledge slot may come a bit late

	// Flags and pauses.
	count        int
	active       bool // the flag is of dominant bits
	wasMine      bool // the error came while the node was sending
	overload     bool
	pendingBlame bool // eight errors are due if a dominant bit is seen in the flag
	equal        int  // equal bits in a row in a passive flag
	extra        int  // dominant bits behind the flag
	quiet        int  // recessive bits in a row
	rounds       int  // of eleven recessive bits, while off
	recovers     bool // Restart was called since the node went off
}

// NewNode gives a node whose clock is off by the given share; positive is fast.
func NewNode(t Timing, off quantity.PPM) *Node {
	t.Nominal.Bit = t.Nominal.Bit.Scaled(off)
	t.Data.Bit = t.Data.Bit.Scaled(off)
	return &Node{clock: newBitClock(t), out: true, next: true, high: true, last: true}
}

// Send queues a frame, which must satisfy Check. The bus must call Step after
// it.
func (n *Node) Send(f Frame) { n.queue = append(n.queue, f) }

// Withdraw takes back a frame that waits: at once, or where it is being sent, when that
// fails. Event Dropped tells of it.
func (n *Node) Withdraw(f Frame) {
	i := slices.IndexFunc(n.queue, func(q Frame) bool {
		return q.ID == f.ID && q.Extended == f.Extended && bytes.Equal(q.Data, f.Data)
	})
	switch {
	case i < 0:
	case i == 0 && n.sending:
		n.withdraws = true
	default:
		n.queue = slices.Delete(n.queue, i, i+1)
		n.tell(Event{What: Dropped, Frame: f})
	}
}

// Queued is the number of frames that wait, the one being sent counted.
func (n *Node) Queued() int { return len(n.queue) }

// Counters gives the transmit and the receive error counter.
func (n *Node) Counters() (transmit, receive int) { return n.tec, n.rec }

// State gives the error state.
func (n *Node) State() ErrorState {
	if n.state == isOff {
		return BusOff
	}
	return StateOf(n.tec, n.rec)
}

// Restart begins the recovery of a node that stays off. The bus must call Step
// after it.
func (n *Node) Restart() {
	n.recovers = true
	n.quiet, n.rounds = 0, 0
}

// Step implements bus.Node.
func (n *Node) Step(t quantity.Time, high, release []bool) quantity.Time {
	c := &n.clock
	if !n.started {
		n.started = true
		c.restart(t)
		n.begun, n.high = true, high[0]
	}
	n.now = t
	if n.slept {
		// The bits of the time asleep were not counted, and don't count.
		for k := c.samplesBefore(t); k > 0; k = c.samplesBefore(t) {
			c.advance(k)
		}
	}
	if high[0] != n.high {
		n.high = high[0]
		if !n.high {
			n.edge(t)
		}
	}
	for {
		if !n.begun {
			if c.start() > t {
				break
			}
			n.begun = true
			n.out = n.next
			continue
		}
		if n.asleep() || c.next() > t {
			break
		}
		n.sample(n.high)
	}
	release[0] = n.out
	n.slept = n.begun && n.asleep()
	switch {
	case !n.begun:
		return max(c.start(), t+1)
	case n.slept:
		return quantity.Forever
	}
	return max(c.next(), t+1)
}

// asleep says whether only an edge can matter.
func (n *Node) asleep() bool {
	return n.state == resting && n.high && len(n.queue) == 0 || n.state == isOff && n.StayOff && !n.recovers
}

// edge synchronises on an edge from recessive to dominant.
func (n *Node) edge(t quantity.Time) {
	c := &n.clock
	switch {
	case n.state == resting || n.state == suspending || n.state == pausing && n.count == 2 || n.state == joining:
		if n.out && n.next {
			c.hardSync(t)
			n.begun, n.synced = true, true
			return
		}
	case n.state == reading && n.sending && n.index == 0 && !n.begun:
		// Another node was a little faster with its start of frame.
		c.hardSync(t)
		n.begun, n.synced, n.out = true, true, n.next
		return
	case n.state == reading && !n.sending && n.frame.formatEdge():
		c.at += c.seen(t)
		n.begun, n.synced = c.start() <= t, true
		return
	}
	if n.synced || !n.last {
		return
	}
	if n.begun && !n.out {
		return // its own dominant bit, which comes back late
	}
	n.synced = true
	c.resync(t)
	n.begun = n.begun && c.start() <= t
}

// sample takes the level at a sample point and decides the next bit.
func (n *Node) sample(r bool) {
	n.last, n.synced = r, false
	n.begun, n.crossed = false, false
	n.next = true
	switch n.state {
	case joining:
		if n.quiet = count(r, n.quiet); n.quiet == 11 {
			n.state = resting
			n.tell(Event{What: Joined})
			n.offer()
		}
	case isOff:
		if n.quiet = count(r, n.quiet); n.quiet == 11 {
			n.quiet = 0
			if n.rounds++; n.rounds == 128 {
				n.tec, n.rec = 0, 0
				n.state = resting
				n.changed()
				n.offer()
			}
		}
	case resting:
		if r {
			n.offer()
		} else {
			n.join()
		}
	case suspending:
		if !r {
			n.read()
		} else if n.count++; n.count == 8 {
			n.state = resting
			n.offer()
		}
	case reading:
		n.bit(r)
	case flagging:
		n.flag(r)
	case flagEnds:
		n.behindFlag(r)
	case delimiting:
		n.delimiter(r)
	case pausing:
		n.pause(r)
	}
	if !n.crossed {
		n.clock.advance(1)
	}
}

// cross changes the rate at the present sample point.
func (n *Node) cross(to *ticks) {
	if n.clock.phase != to {
		n.clock.cross(to)
		n.crossed = true
	}
}

func count(r bool, n int) int {
	if r {
		return n + 1
	}
	return 0
}

// offer begins to send with the next bit, if there is a frame.
func (n *Node) offer() {
	if len(n.queue) == 0 || n.ListenOnly {
		return
	}
	n.state = reading
	n.prepare()
	n.index = 0
	n.next = false // the start of frame
}

func (n *Node) prepare() {
	f := n.queue[0]
	f.Passive = f.FD && n.State() == ErrorPassive
	n.sending, n.waiting, n.wasMine = true, false, false
	n.mine = Build(f, false).Bits
	n.frame.start()
}

// join takes a start of frame that another node began: with a frame of its
// own the node goes along from the first bit of the identifier on.
func (n *Node) join() {
	if len(n.queue) == 0 || n.ListenOnly {
		n.read()
		return
	}
	n.state = reading
	n.prepare()
	n.frame.bits(false, 1)
	n.index = 1
	n.next = n.mine[1].Recessive
}

// read begins to receive with the present bit as start of frame.
func (n *Node) read() {
	n.state, n.sending, n.wasMine = reading, false, false
	n.frame.start()
	n.frame.bits(false, 1)
}

// bit takes a bit of a frame.
func (n *Node) bit(r bool) {
	p := &n.frame
	sent, late := n.out, p.late
	_, e := p.bits(r, 1)
	switch e {
	case toFast:
		n.cross(&n.clock.fast)
	case toSlow:
		n.cross(&n.clock.nominal)
	}
	if n.sending {
		n.sent(r, sent, e, p.late && !late)
		return
	}
	if n.Classic && p.f.FD {
		n.fail(FormError, false)
		return
	}
	switch e {
	case noStart:
		n.state, n.quiet = joining, 1
	case toSlow:
		if p.fault != 0 {
			n.fail(FormError, false)
		} else if !p.badCheck && !n.ListenOnly {
			n.next = false // the acknowledgement
		}
	case answered:
		if !sent && r {
			n.fail(BitError, false)
		}
	case valid:
		if n.rec = max(n.rec-1, 0); n.rec >= 127 {
			n.rec = 119 // of a passive node: below the limit again
		}
		f := p.f
		f.Data = append([]byte(nil), p.data(make([]byte, 0, 64))...)
		n.tell(Event{What: Received, Frame: f})
		n.changed()
	case done:
		n.rest()
	case overload:
		n.overloadFlag()
	case faulty:
		n.fail(kindOf(p.fault), false)
	}
}

func kindOf(f record.Flags) NodeError {
	switch {
	case f&record.Stuff != 0:
		return StuffError
	case f&record.CheckSequence != 0:
		return CheckError
	}
	return FormError
}

// sent takes a bit of the node's own frame, as it came back.
func (n *Node) sent(r, sent bool, e event, lateBit bool) {
	b := n.mine[n.index]
	switch {
	case n.waiting && !r:
		n.waiting = false // a late acknowledgement
		n.next = true
		return
	case n.waiting:
		n.waiting = false
		n.fail(AcknowledgeError, false)
		return
	case lateBit:
		n.next = true // the acknowledge slot took two bits
		return
	case b.Field == AckSlot && r:
		if p := &n.frame; p.f.FD {
			n.waiting = true
			break
		}
		n.fail(AcknowledgeError, false)
		return
	case b.Field == AckSlot || sent == r:
	case sent && b.inArbitration(n.queue[0].Extended):
		if b.Stuff {
			n.fail(StuffError, true)
			return
		}
		n.sending = false
		n.tell(Event{What: Lost, Frame: n.queue[0], Field: b.Field, Bit: n.index})
		if n.OneShot {
			n.drop()
		}
		return
	default:
		n.fail(BitError, false)
		return
	}
	if e == done {
		f := n.queue[0]
		n.queue = n.queue[1:]
		n.withdraws = false
		n.tec = max(n.tec-1, 0)
		n.tell(Event{What: Sent, Frame: f})
		n.changed()
		n.wasMine = true
		n.rest()
		return
	}
	n.index++
	n.next = n.mine[n.index].Recessive
}

// inArbitration says whether the bit belongs to the arbitration field. The
// extension bit of a base frame decides against an extended one.
func (b Bit) inArbitration(extended bool) bool {
	switch b.Field {
	case Identifier, ExtendedID, RemoteBit:
		return true
	case IDE:
		return extended
	}
	return false
}

// rest begins the intermission.
func (n *Node) rest() {
	n.state, n.count = pausing, 0
	n.sending = false
}

// pause takes a bit of the intermission.
func (n *Node) pause(r bool) {
	n.count++
	switch {
	case !r && n.count < 3:
		n.overloadFlag()
	case !r:
		n.join()
	case n.count == 3 && n.wasMine && n.State() == ErrorPassive:
		n.state, n.count = suspending, 0
		n.wasMine = false
	case n.count == 3:
		n.wasMine = false
		n.state = resting
		n.offer()
	}
}

// fail takes an error that the present bit showed: an error flag follows.
// An error without blame does not count.
func (n *Node) fail(e NodeError, blameless bool) {
	field, _ := n.frame.place()
	if n.state != reading {
		field = Intermission
	}
	passive := n.State() == ErrorPassive
	own := n.state == reading && n.sending
	n.wasMine = n.sending
	n.pendingBlame = false
	bit := n.frame.total() - 1
	switch {
	case n.ListenOnly || blameless:
	case !n.sending:
		n.blame(1)
	case e == AcknowledgeError && passive:
		n.pendingBlame = true
	default:
		n.blame(8)
	}
	n.begin(!passive && !n.ListenOnly, false)
	n.tell(Event{What: Failed, Error: e, Field: field, Bit: bit})
	if (n.OneShot || n.withdraws) && own {
		n.drop()
	}
	n.changed()
}

// overloadFlag answers a dominant bit where none may be.
func (n *Node) overloadFlag() {
	n.begin(!n.ListenOnly, true)
	n.tell(Event{What: Overloaded})
}

// begin sends a flag from the next bit on.
func (n *Node) begin(active, overload bool) {
	if n.state != isOff {
		n.state = flagging
	}
	n.sending = false
	n.active, n.overload = active, overload
	n.count, n.equal, n.extra = 0, 0, 0
	n.next = !active
	if n.state == isOff {
		n.next = true
	}
	n.cross(&n.clock.nominal)
}

// blame adds errors to the counter of the part that the node played.
func (n *Node) blame(by int) {
	if n.ListenOnly {
		return
	}
	if !n.wasMine {
		n.rec = min(n.rec+by, 255)
		return
	}
	n.tec += by
	if n.tec > 255 {
		n.state, n.recovers = isOff, false
		n.quiet, n.rounds = 0, 0
	}
}

// flag takes a bit while the node sends its flag.
func (n *Node) flag(r bool) {
	if n.active {
		if r {
			// Its dominant bit did not arrive: an error in the flag, which
			// begins again.
			n.blame(8)
			n.count = 0
			n.changed()
			if n.state == isOff {
				return
			}
		} else {
			n.count++
		}
		n.next = n.count == 6
	} else {
		if !r && n.pendingBlame {
			n.pendingBlame = false
			n.blame(8)
			n.changed()
			if n.state == isOff {
				return
			}
		}
		if n.equal == 0 || r == (n.count > 0) {
			n.equal++
		} else {
			n.equal = 1
		}
		// count keeps the level of the run: 1 recessive.
		n.count = 0
		if r {
			n.count = 1
		}
	}
	if n.active && n.count == 6 || !n.active && n.equal == 6 {
		n.state, n.extra = flagEnds, 0
	}
}

// behindFlag takes a bit behind the node's flag: others may still send theirs.
func (n *Node) behindFlag(r bool) {
	if r {
		n.state, n.count = delimiting, 1
		return
	}
	n.extra++
	if n.extra == 1 && !n.wasMine && !n.overload {
		n.blame(8)
	}
	if n.extra%8 == 0 {
		n.blame(8)
	}
	n.changed()
}

// delimiter takes a bit of the delimiter behind the flags.
func (n *Node) delimiter(r bool) {
	n.count++
	switch {
	case !r && n.count == 8:
		n.overloadFlag()
	case !r:
		n.sending = n.wasMine
		n.fail(FormError, false)
	case n.count == 8:
		n.rest()
	}
}

// drop gives the first frame up.
func (n *Node) drop() {
	f := n.queue[0]
	n.queue, n.withdraws = n.queue[1:], false
	n.tell(Event{What: Dropped, Frame: f})
}

// changed tells of a new error state, or of counters that nothing else tells of.
func (n *Node) changed() {
	s := n.State()
	if s != n.shown {
		n.shown = s
		n.tell(Event{What: StateChanged})
	} else if n.tec != n.toldTEC || n.rec != n.toldREC {
		n.tell(Event{What: Counted})
	}
}

func (n *Node) tell(e Event) {
	n.toldTEC, n.toldREC = n.tec, n.rec
	if n.OnEvent == nil {
		return
	}
	e.At, e.TEC, e.REC, e.State = n.now, n.tec, n.rec, n.State()
	n.OnEvent(e)
}

// String gives the node's state and counters.
func (n *Node) String() string {
	return fmt.Sprintf("%s, transmit errors %d, receive errors %d", n.State(), n.tec, n.rec)
}
