package sim

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// canBeat is how often a bus is read, in bits, whatever else is due on it.
const canBeat = 256

// Nodes are the nodes of a can bus as they run, the MCU's first.
type Nodes struct {
	Ends []can.End
	// OffBus: the MCU's node does not take part: its unit has no clock, or it
	// never left its configuration.
	OffBus bool
	Unit   Unit
	// Queue is how many frames the MCU's unit keeps until its handler takes them.
	Queue int
	// OnFull says which is lost of a frame more.
	OnFull machine.Policy
	// Filtered: the acceptance filters were not set, so that nothing is stored.
	Filtered bool
	Tap      can.End // with whose timing the bus is read: the MCU's as it is stated
	Length   float64 // metres
	Metre    quantity.Time
}

// NodesOf gives the nodes as a bench states them, the MCU's as its firmware's
// start-up really brings it into the registers.
func NodesOf(link *bench.Link) Nodes {
	l := link.Model.(*bench.CAN)
	n := Nodes{Length: l.Length, Metre: l.PerMetre, Queue: link.Unit.Depth, OnFull: link.Unit.OnFull}
	for _, e := range l.Nodes {
		n.Ends = append(n.Ends, *e)
	}
	n.Tap = n.Ends[0]
	n.Tap.Messages = nil
	if p, err := started(link); err == nil {
		p.can(l, &n)
	}
	return n
}

// can gives what the registers make of the MCU's node.
func (p *peripheral) can(l *bench.CAN, n *Nodes) {
	own := &n.Ends[0]
	nominal, data, err := l.FromRegisters(p.value)
	n.OffBus = err != nil || !p.on("clock") || !p.on("join") || !p.on("enable")
	if err == nil {
		own.Nominal, own.Data = nominal, data
	}
	n.Unit.Undriven = !p.on("port-clock") || !p.on("transmit-pin")
	n.Unit.Deaf = !p.on("port-clock") || !p.on("receive-pin")
	n.Unit.Unserved = !p.emptied()
	n.Filtered = !p.on("filters")
}

func parseNodes(text string) (*Nodes, error) {
	n := &Nodes{}
	if err := unpacked(text, n); err != nil {
		return nil, err
	}
	if len(n.Ends) == 0 || len(n.Ends) > 1000 || n.Queue < 1 || n.Queue > 65536 || int(n.OnFull) >= len(machine.Policies) {
		return nil, fmt.Errorf("the nodes can't be read")
	}
	for i, e := range append([]can.End{n.Tap}, n.Ends...) {
		for _, b := range []*can.BitTiming{&e.Nominal, e.Data} {
			if b == nil {
				continue
			}
			if b.Clock <= 0 || b.Clock > 10*quantity.Gigahertz || b.Wanted <= 0 {
				return nil, fmt.Errorf("the timing of node %d is out of range", i)
			}
			again, err := can.ParseTiming(b.Clock, b.Wanted, b.Text())
			if err != nil || again != *b || b.Rate < quantity.Baud || b.Quantum() < 1000 {
				return nil, fmt.Errorf("the timing of node %d is out of range", i)
			}
		}
		for _, m := range e.Messages {
			if m.Period < can.LeastPeriod || m.Jitter < 0 || m.Frame.Check() != nil {
				return nil, fmt.Errorf("a message of node %d is out of range", i)
			}
		}
	}
	return n, nil
}

// due is a message that will be sent.
type due struct {
	node    int // index into ends
	message can.Message
	at      quantity.Time
}

// canBus is a simulated can bus: its nodes on one line, and an ideal tap.
type canBus struct {
	wires
	link string
	now  Nodes

	nodes   []*can.Node           // by end; nil where it is not on the bus
	sender  map[uint64]record.End // by identifier
	due     []due
	began   quantity.Time // the nodes were started then
	held    bool          // the line is held dominant
	waiting []uint32      // identifiers of the frames in the MCU's receive queue, oldest first
	lost    int
	states  []can.ErrorState
	books   []canBooks      // by end
	losers  []loser         // of arbitrations whose frame was not read yet
	off     map[string]bool // devices without supply
	asked   []asked         // frames that somebody waits for
	parts   []canPart       // by end; those of ends without registers are empty
	replies []canReply      // that devices will send
}

// canPart is a device whose registers are described, at its node.
type canPart struct {
	*device.Device // nil of the MCU
	*device.CANPart
	part  *device.Part
	cells *device.Cells
}

// canReply is a frame that a device will send.
type canReply struct {
	at    quantity.Time
	node  int
	frame can.Frame
}

// asked is a frame that the MCU was asked to send.
type asked struct {
	frame can.Frame
	done  func(link.Outcome)
	limit quantity.Time // when it is taken back
	late  bool          // it is
}

// askedLimit is how long a frame that was asked for may wait for the bus and for somebody
// to acknowledge it.
const askedLimit = quantity.Second

// hold makes the line stick dominant, or lets it go; all nodes start anew.
func (b *canBus) hold(on bool) {
	b.read()
	b.held = on
	b.start(b.now)
	text := "the line is released"
	if on {
		text = "the line is held dominant"
	}
	b.note(b.w.now, "%s", text)
}

func newCANBus(p place, l *bench.Link) simulated {
	b := &canBus{wires: wires{place: p}, link: l.Name, off: map[string]bool{}, parts: make([]canPart, len(l.Ends))}
	for i, e := range l.Ends {
		b.parts[i].Device = e.Part
		if e.Part != nil && e.Part.Map != nil {
			b.begins(i)
		}
	}
	b.start(NodesOf(l))
	return b
}

// begins lets a device begin as it is after power-up.
func (b *canBus) begins(i int) {
	p := &b.parts[i]
	if p.Device == nil || p.Map == nil {
		return
	}
	b.powerLost(p.Name, p.part)
	if m := p.Map.Memory; m != nil && (p.cells == nil || !m.Lasting) {
		p.cells = p.Device.NewCells()
	}
	p.CANPart, p.part = p.Device.OnCAN(b.w.now, p.cells)
}

// key identifies a frame's identifier.
func key(f can.Frame) uint64 {
	if f.Extended {
		return uint64(f.ID) | 1<<32
	}
	return uint64(f.ID)
}

// start puts the nodes on a bus anew, from the present time on.
func (b *canBus) start(n Nodes) {
	// The tap reads on, unless it is to read with another timing.
	tap := b.tap
	if timing := n.Tap.Timing(); tap == nil || timing != b.now.Tap.Timing() {
		tap = can.NewDecoder(timing, b.index)
	}
	for _, a := range b.asked {
		a.done(link.Outcome{At: b.w.now, Text: "the bus was begun anew"})
	}
	b.asked = nil
	b.now, b.began = n, b.w.now
	b.fresh(1, tap, b)
	b.nodes, b.due, b.waiting, b.lost, b.replies = make([]*can.Node, len(n.Ends)), nil, nil, 0, nil
	b.states = make([]can.ErrorState, len(n.Ends))
	b.books, b.losers = make([]canBooks, len(n.Ends)), nil
	b.sender = map[uint64]record.End{}
	if b.held {
		b.bus.Join(holder{0}, 0)
	}
	cable := quantity.Time(n.Length * float64(n.Metre) / 2)
	for i := range n.Ends {
		e := &n.Ends[i]
		if i == 0 && n.OffBus || b.off[e.Name] {
			continue
		}
		node := can.NewNode(e.Timing(), quantity.PPM(e.Off*1e6))
		node.Classic = e.Classic()
		node.ListenOnly, node.OneShot, node.StayOff = e.ListenOnly, e.OneShot, e.StayOff
		node.OnEvent = func(ev can.Event) { b.event(i, ev) }
		b.nodes[i] = node
		var on bus.Node = node
		if i == 0 && (n.Unit.Undriven || n.Unit.Deaf) {
			on = &gate{Node: node, mute: []bool{n.Unit.Undriven}, deaf: []bool{n.Unit.Deaf}}
		}
		b.bus.Join(on, e.Delay/2+cable)
		end := record.MCU
		if i > 0 {
			end = record.Device + record.End(i-1)
		}
		for k, m := range e.Messages {
			b.sender[key(m.Frame)] = end
			b.due = append(b.due, due{i, m, b.w.now + b.beat() + m.Period*quantity.Time(k+1)/quantity.Time(len(e.Messages)+1)})
		}
		if i < len(b.parts) && b.parts[i].Device != nil && b.parts[i].Map != nil {
			talk := b.parts[i].Map.Dialogue
			b.sender[key(can.Frame{ID: talk.Response.ID, Extended: talk.Response.Extended})] = end
			b.sender[key(can.Frame{ID: talk.Request.ID, Extended: talk.Request.Extended})] = record.MCU
		}
	}
	b.again(b.w.now + b.beat())
}

// beat is the time from one reading to the next. It is short while somebody waits for a
// frame, who may have the next one to send as soon as it is out.
func (b *canBus) beat() quantity.Time {
	bits := int64(canBeat)
	if len(b.asked) > 0 {
		bits /= 32
	}
	return b.now.Tap.Nominal.Phase().Bit.Times(bits)
}

// event takes note of what a node says: what the MCU receives, and error states.
func (b *canBus) event(i int, ev can.Event) {
	b.keep(i, ev)
	if i > 0 {
		if ev.What == can.Received && i < len(b.parts) && b.parts[i].CANPart != nil {
			b.parts[i].Takes(ev.Frame, b.parts[i].part, ev.At)
			answers, after := b.parts[i].Take(ev.At, ev.Frame)
			for _, f := range answers {
				b.replies = append(b.replies, canReply{ev.At + after, i, f})
			}
		}
		return
	}
	b.answer(ev)
	if ev.What == can.Joined {
		b.note(ev.At, "the MCU takes part: it saw 11 recessive bits, %s after it began to wait for them", (ev.At - b.began).Round(4))
	}
	if ev.What != can.Received {
		return
	}
	if b.now.Filtered {
		if b.lost++; b.lost == 1 {
			b.note(ev.At, "no acceptance filter of the MCU is set: frame %X was acknowledged and not stored, nor are those that follow", ev.Frame.ID)
		}
		return
	}
	if !b.now.Unit.Unserved {
		return // the handler takes each frame before three more have come
	}
	if len(b.waiting) < b.now.Queue {
		b.waiting = append(b.waiting, ev.Frame.ID)
		return
	}
	b.overruns(ev)
}

// overruns takes a frame that finds the receive queue full: which one is lost is the unit's way.
func (b *canBus) overruns(ev can.Event) {
	id, last := ev.Frame.ID, len(b.waiting)-1
	what := fmt.Sprintf("frame %X is lost, and all that follow", id)
	switch b.now.OnFull {
	case machine.KeepNewest:
		what = fmt.Sprintf("frame %X, the oldest that waited, gives way to frame %X and is lost; each that follows costs one", b.waiting[0], id)
		copy(b.waiting, b.waiting[1:])
		b.waiting[last] = id
	case machine.ReplaceLast:
		what = fmt.Sprintf("frame %X, the last that waited, is overwritten by frame %X and lost; each that follows costs one", b.waiting[last], id)
		b.waiting[last] = id
	}
	if b.lost++; b.lost == 1 {
		b.note(ev.At, "the MCU's receive queue of %d is full and nobody empties it: %s", b.now.Queue, what)
	}
}

// answer tells who waits for a frame that it was sent, or given up.
func (b *canBus) answer(ev can.Event) {
	for k, a := range b.asked {
		same := a.frame.ID == ev.Frame.ID && a.frame.Extended == ev.Frame.Extended
		switch {
		case same && ev.What == can.Sent:
			a.done(link.Outcome{At: ev.At, OK: true, Text: "sent and acknowledged"})
		case same && ev.What == can.Failed && b.now.Ends[0].OneShot:
			a.done(link.Outcome{At: ev.At, Text: ev.Error.String()})
		case same && ev.What == can.Dropped && a.late:
			a.done(link.Outcome{At: ev.At, Text: fmt.Sprintf("not sent within %s, and taken back: nobody acknowledges it, or the bus is never free for it", askedLimit)})
		default:
			continue
		}
		b.asked = append(b.asked[:k], b.asked[k+1:]...)
		return
	}
}

// runs lets the bus go on to the present, sends what is due, and asks for the next
// turn.
func (b *canBus) runs() {
	if b.w.now < b.turn {
		return // the nodes were started anew since
	}
	b.read()
	b.takeBack()
	next := b.w.now + b.beat()
	next = min(next, b.reply())
	for i := range b.due {
		d := &b.due[i]
		if d.at <= b.w.now {
			// A node with a full queue skips its turn.
			if node := b.nodes[d.node]; node != nil && node.Queued() < len(b.now.Ends[d.node].Messages) {
				f := d.message.Frame
				if p := &b.parts[d.node]; p.Device != nil {
					f = p.Fill(f, p.part, b.w.now)
				}
				node.Send(f)
				b.bus.Wake()
			}
			d.at += d.message.Period
			if d.message.Jitter > 0 {
				d.at += quantity.Time(b.w.rng.Int64N(int64(d.message.Jitter)))
			}
		}
		next = min(next, max(d.at, b.w.now+1))
	}
	b.again(next)
}

// takeBack gives up frames that were asked for and could not be sent in time.
func (b *canBus) takeBack() {
	for i := 0; i < len(b.asked); i++ {
		if a := &b.asked[i]; !a.late && b.w.now >= a.limit {
			a.late = true
			b.nodes[0].Withdraw(a.frame)
			i = -1 // whom it told may be gone
		}
	}
}

// reply sends the answers that are due, and gives the time of the next.
func (b *canBus) reply() quantity.Time {
	next := quantity.Forever
	rest := b.replies[:0]
	for _, r := range b.replies {
		switch node := b.nodes[r.node]; {
		case r.at > b.w.now:
			rest, next = append(rest, r), min(next, r.at)
		case node != nil:
			node.Send(r.frame)
			b.bus.Wake()
		}
	}
	b.replies = rest
	return next
}

// Put implements record.Sink for the tap: who sends an identifier is known here.
func (b *canBus) Put(r *record.Record) {
	id := uint64(r.ID)
	if r.Attr&record.Extended != 0 {
		id |= 1 << 32
	}
	if r.AllFlags()&(record.ErrorFlag|record.Overload) == 0 && r.Attr&record.Incomplete == 0 {
		r.From = b.sender[id]
	}
	own := len(r.Facts)
	b.told(r, id)
	b.w.store.Put(r)
	r.From, r.Facts = record.Nobody, r.Facts[:own]
}

// Open implements record.Sink.
func (b *canBus) Open(r *record.Record) { b.w.store.Open(r) }

// act implements actor.
func (b *canBus) act(eventKind, uint8) { b.runs() }

// feed implements simulated: a shared bus is read at times of its own.
func (b *canBus) feed() {}

func (b *canBus) state() string { return packed(b.now) }

func (b *canBus) bit() quantity.Time { return quantity.PeriodOf(b.now.Ends[0].Nominal.Rate).Times(1) }

func (b *canBus) takes() map[string]string {
	takes := map[string]string{
		link.TransactVerb: "", link.CrossVerb: "the pair of a CAN bus is simulated as one line: switch the node off, or cut its wire", link.LoopVerb: "all nodes of a CAN bus share one pair: each reads back what it sends",
		link.HoldVerb: "", link.PowerVerb: "", link.ConfigureVerb: "", link.PresetVerb: "",
		link.SendVerb: "a CAN node sends frames: transact 2A0 10 00",
		link.CutVerb:  "all nodes of a CAN bus share one pair: its line can be held, and devices switched off",
	}
	if b.now.OffBus {
		takes[link.TransactVerb] = "the MCU's node is off the bus: look at its startup"
	}
	return takes
}

// resends takes other contents of what the MCU sends again and again; false where more than that
// is another.
func (b *canBus) resends(n *Nodes) bool {
	old, now := b.now.Ends[0].Messages, n.Ends[0].Messages
	same := *n
	same.Ends = slices.Clone(n.Ends)
	same.Ends[0].Messages = old
	if len(old) != len(now) || !reflect.DeepEqual(same, b.now) {
		return false
	}
	for i := range now {
		if now[i].Name != old[i].Name || key(now[i].Frame) != key(old[i].Frame) || now[i].Period != old[i].Period {
			return false
		}
	}
	for i := range b.due {
		d := &b.due[i]
		for k := range old {
			if d.node == 0 && d.message.Name == old[k].Name {
				d.message = now[k]
			}
		}
	}
	b.now = *n
	return true
}

// messagesText lists what messages hold.
func messagesText(list []can.Message) string {
	var out []string
	for _, m := range list {
		out = append(out, fmt.Sprintf("%03X % X", m.Frame.ID, m.Frame.Data))
	}
	return strings.Join(out, ", ")
}

// do implements simulated. A node that is started anew waits for the bus to be idle.
func (b *canBus) do(i link.Intent, done func(link.Outcome)) error {
	switch i := i.(type) {
	case link.Hold:
		if i.Role != "line" {
			return fmt.Errorf("it has no line %q; there is one: line", i.Role)
		}
		b.hold(!i.Release)
	case link.Power:
		if !slices.ContainsFunc(b.now.Ends[1:], func(e can.End) bool { return e.Name == i.Device }) {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		b.read()
		b.off[i.Device] = !i.On
		b.begins(slices.IndexFunc(b.now.Ends, func(e can.End) bool { return e.Name == i.Device }))
		b.start(b.now)
		b.note(b.w.now, "%s: supply %s", i.Device, map[bool]string{true: "on", false: "off"}[i.On])
	case link.Preset:
		k := slices.IndexFunc(b.now.Ends, func(e can.End) bool { return e.Name == i.Device })
		if k < 0 || k >= len(b.parts) {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		return b.preset(b.parts[k].part, i, done)
	case link.Configure:
		n, err := parseNodes(i.State)
		if err != nil {
			return err
		}
		b.read()
		if b.resends(n) {
			b.note(b.w.now, "the MCU sends %s", messagesText(n.Ends[0].Messages))
			break
		}
		b.start(*n)
		own := "off the bus"
		if !n.OffBus {
			own = n.Ends[0].Nominal.Rate.BitRate() + " " + n.Ends[0].Nominal.Split()
		}
		b.note(b.w.now, "MCU %s", own)
	case link.Transact:
		f, err := can.ParseFrame(i.Text)
		if err != nil {
			return err
		}
		b.read()
		b.nodes[0].Send(f)
		b.bus.Wake()
		b.asked = append(b.asked, asked{frame: f, done: done, limit: b.w.now + askedLimit})
		b.again(min(b.turn, b.w.now+b.beat()))
		b.sender[key(f)] = record.MCU
		return nil
	}
	done(link.Outcome{At: b.w.now, OK: true})
	return nil
}
