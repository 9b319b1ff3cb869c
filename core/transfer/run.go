package transfer

import (
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// State is how a run ended.
type State string

// The states.
const (
	IsDone    State = "done"
	IsRunning State = "running"   // a ring that is alive
	IsStopped State = "stopped"   // nothing moves any more, and nobody knows
	TimedOut  State = "timed out" // it was given up
	IsWaiting State = "waiting"   // it would wait for ever
	Repeating State = "repeats"   // it began again unasked
	IsEndless State = "endless"   // its handler is called for ever
	IsHung    State = "hung"
	IsBroken  State = "bus error"
)

// Run is what became of one plan's words.
type Run struct {
	Plan    *Plan
	State   State
	Came    int // words that came, or were to go
	Moved   int // between unit and memory
	Lost    int // by the unit
	Calls   int // of the handler; -1: for ever
	Buffer  *machine.Buffer
	Wire    []uint64 // words that went out, at most two times the length
	Share   float64  // of the processor
	Latest  quantity.Time
	High    int
	Ended   quantity.Time
	Account *Account    // of a ring
	Ring    *Accountant // of a ring that DMA fills for ever; nil of others
	Harms   []Harm
	Machine *machine.Machine
	Port    *machine.Port
	Channel *machine.Channel
}

// Data is byte i of the data that runs move.
func Data(i int) byte { return byte(1 + (7*i+3)%251) }

// dataWord is word k of that data.
func dataWord(k, bytes int) uint64 {
	v := uint64(0)
	for b := range bytes {
		v |= uint64(Data(k*bytes+b)) << (8 * b)
	}
	return v
}

// mostSteps bounds the events of a run that nothing ends: it waits then.
const mostSteps = 1_000_000

// mostCalls is how many calls of a handler in a row that change nothing are taken for
// endless.
const mostCalls = 1000

// RunOf runs one plan alone, with so many words that come or are to be sent, one behind the
// other from the moment at which its unit is enabled. The other handlers each run once, at
// the worst moment.
func (s *Setup) RunOf(p *Plan, words int) *Run {
	x := &running{s: s, p: p, words: words, run: &Run{Plan: p, Came: words}}
	x.build()
	x.start()
	x.simulate()
	x.judge()
	return x.run
}

type running struct {
	s     *Setup
	p     *Plan
	words int
	run   *Run
	m     *machine.Machine
	port  *machine.Port
	ch    *machine.Channel
	line  *machine.Interrupt
	buf   *machine.Buffer
	at    int // CPU: the word that is moved next

	services  []Service
	idleCalls int
	halves    int // events that the handler saw
	fulls     int
	armed     quantity.Time
	deadline  quantity.Time // of the time-out
	enabled   quantity.Time
	stuck     int
	progress  int
	given     bool // the time-out gave it up
	early     bool // words moved before any had come
	doneAt    quantity.Time
	foreign   bool

	live    bool
	served  int // bytes that a ring's services have seen
	first   int // serial of its first word
	base    int // words that were moved before the present send
	account *Accountant
}

func (x *running) build() {
	p, part := x.p, &x.s.Part
	core := part.Core
	if core <= 0 {
		core = quantity.FromHz(80e6)
	}
	x.m = machine.New(core)
	x.m.Log.Keep = 1 << 14
	x.m.DMA.Clock = p.EngineClock
	x.m.Memory.Regions = append(x.m.Memory.Regions, part.Regions...)
	x.buf = x.m.Memory.Add(p.Name, p.Address, p.Bytes)
	bytes := p.Stream.Bytes()
	x.port = x.m.AddPort(&machine.Port{
		Name: p.Unit, Depth: p.Stream.Depth, SendDepth: p.Stream.SendDepth, OnFull: p.Stream.OnFull, Bytes: bytes,
		Threshold: p.Level, WordTime: p.Stream.Word(),
	})
	if p.IdleInterrupt || p.EndIdle > 0 {
		x.port.IdleAfter = p.Stream.Word()
		x.port.LineBusy = func() bool { return x.port.Arrivals < x.words }
		if p.EndIdle > 0 {
			x.port.IdleAfter = p.EndIdle
		}
	}
	x.port.OnFinished = func(w machine.Word) {
		if len(x.run.Wire) < 2*x.p.Words() {
			x.run.Wire = append(x.run.Wire, w.Value)
		}
	}
	if !p.Receive {
		x.fill()
	}
	x.line = &machine.Interrupt{Name: p.Name, Priority: p.Urgency, Enabled: p.LineOn && p.Global, Entry: p.Cycles.Entry, Exit: p.Cycles.Exit}
	if p.Handler {
		x.line.Handler = machine.RoutineFunc(x.handler)
	}
	x.m.AddInterrupt(x.line, x.port)
	if p.Means == DMA {
		x.channel()
	}
	if !x.live {
		x.others()
	}
	x.run.Machine, x.run.Port, x.run.Buffer, x.run.Channel = x.m, x.port, x.buf, x.ch
}

// fill puts the data into the buffer, as far as the engine can see it.
func (x *running) fill() {
	r := x.s.Part.Region(x.p.Memory)
	if x.p.Means == DMA && r != nil && r.Cached && r.Writable && x.p.Cache != Clean {
		return // the data is in the cache, memory holds what it held
	}
	bytes := x.p.Stream.Bytes()
	for i := range min(x.p.Bytes, x.p.Length) {
		x.buf.Cells[i] = machine.Cell{Value: Data(i), Serial: i / bytes, Written: 0, By: machine.ByCPU, Writes: 1}
	}
}

func (x *running) channel() {
	p := x.p
	unit, memory := machine.Cursor{Address: x.port.Data(), Width: p.UnitWidth / 8, Moves: p.UnitSteps}, machine.Cursor{Address: p.Address, Width: p.MemoryWidth / 8, Moves: p.MemorySteps}
	count := p.Count
	if most := x.s.Part.MostCount; most > 0 {
		count %= most + 1
	}
	c := &machine.Channel{
		Number: p.Channel, Priority: p.ChannelPriority, Count: count, Mode: p.Mode, Chain: p.Chain, Burst: p.Burst,
		Cycles: x.s.Part.BeatCycles, Steals: x.s.Part.BeatCycles > 0,
		OnHalf: p.TellHalf, OnFull: p.TellFull,
		Mapped: slices.Contains(x.s.Part.Requests[p.Request], p.Channel),
	}
	c.From, c.To = memory, unit
	if p.FromUnit {
		c.From, c.To = unit, memory
	}
	c.Other = p.Address + uint64(count*p.MemoryWidth/8)
	c.Request = machine.Line{Port: x.port, Room: p.Request == p.Unit+".send"}
	if p.Request != p.Unit+".send" && p.Request != p.Unit+".receive" {
		c.Mapped = false // another unit's line, which never asks here
	}
	// What is set up later takes the channel away.
	for i, o := range x.s.Plans {
		if o != p && o.Means == DMA && o.Channel == p.Channel && i > slices.Index(x.s.Plans, p) {
			c.Mapped = false
		}
	}
	x.ch = x.m.AddChannel(c)
	x.line.Source(c)
}

// others are the handlers that may come before: they run once, when a word is complete.
func (x *running) others() {
	p := x.p
	at := x.enableTime() + x.p.Stream.Word()*quantity.Time(max(1, min(x.words/2, 2*max(1, p.Stream.Depth))))
	for _, o := range x.s.Part.Others {
		if o.Urgency > p.Urgency || !p.LineOn {
			continue
		}
		i := x.m.AddInterrupt(&machine.Interrupt{Name: o.Name, Priority: o.Urgency, Enabled: true, Handler: machine.RoutineFunc(func(phase int) (quantity.Time, bool) {
			return o.Worst, phase > 0
		})})
		x.m.At(at, func() { x.m.Pend(i) })
	}
}

// enableTime is when the unit is enabled.
func (x *running) enableTime() quantity.Time {
	for i, st := range x.s.Steps() {
		if st.Of == x.p.Unit && st.What == "enable" {
			return quantity.Time(i) * x.s.StepTime
		}
	}
	return 0
}

// start does the steps of starting.
func (x *running) start() {
	p := x.p
	last := quantity.Time(0)
	for i, st := range x.s.Steps() {
		at := quantity.Time(i) * x.s.StepTime
		switch {
		case st.Of == p.Unit && st.What == "enable":
			x.enabled = at
			x.m.At(at, func() {
				x.port.Enabled = true
				x.port.OnReceive = p.WordInterrupt && p.Receive
				x.port.OnRoom = p.WordInterrupt && !p.Receive
				x.port.OnIdle = p.IdleInterrupt
			})
		case st.Of == p.Name && st.What == "channel" && x.ch != nil:
			x.m.At(at, x.ch.Arm)
		case st.Of == p.Name && st.What == "request" && x.ch != nil:
			x.m.At(at, func() {
				x.port.ReceiveDMA = p.UnitRequest && !x.ch.Request.Room
				x.port.RoomDMA = p.UnitRequest && x.ch.Request.Room
			})
		default:
			continue
		}
		last = max(last, at)
	}
	x.armed = last
	x.deadline = quantity.Forever
	if p.Timeout > 0 && p.Goal == Fixed {
		x.deadline = last + p.Timeout
	}
	if p.Means == Polled {
		x.poll()
	}
}

// poll lets the main loop move the words: without a pause while its caller waits for them.
func (x *running) poll() {
	every := x.p.Every
	if x.p.Tells == ByWaiting {
		every = 0
	}
	x.m.SetLoop(&machine.Loop{Phase: x.armed + 1, Period: every, Look: func() quantity.Time {
		if x.moved()-x.base >= x.words && (x.p.Goal == Fixed || x.live) && !x.p.Receive || !x.live && x.moved() >= x.words && x.p.Goal == Fixed {
			x.m.StopLoop()
			return 0
		}
		cost := max(x.p.Cycles.Look, 8)
		for x.ready() {
			x.moveOne()
			cost += max(x.p.Cycles.Read, 4)
			if every == 0 {
				break
			}
		}
		return x.m.Cycles(cost)
	}})
}

func (x *running) moved() int {
	if x.p.Means == DMA {
		return x.ch.Moved
	}
	return x.at
}

// ready says whether the processor can move a word.
func (x *running) ready() bool {
	if x.p.Receive {
		return x.port.Level() > 0
	}
	return x.port.Room() && x.at-x.base < x.words
}

// moveOne lets the processor move one word.
func (x *running) moveOne() {
	p, bytes := x.p, x.p.Stream.Bytes()
	places := max(p.Bytes/bytes, 1)
	if p.Receive {
		w, ok := x.port.Take()
		if !ok {
			return
		}
		a := p.Address + uint64(x.at%places*bytes)
		for b := range bytes {
			x.m.Memory.Put(a+uint64(b), byte(w.Value>>(8*b)), w.Serial, machine.ByCPU, x.m.Now())
			if p.Means == Polled || p.Goal == Unending {
				x.m.Memory.Get(a + uint64(b)) // it is worked off at once
			}
		}
		x.at++
		return
	}
	v := uint64(0)
	for b := range bytes {
		c, _ := x.m.Memory.Get(p.Address + uint64((x.at-x.base)*bytes+b))
		v |= uint64(c) << (8 * b)
	}
	x.port.Write(machine.Word{Value: v, Serial: x.at - x.base + x.first})
	x.at++
}

// handler is the transfer's interrupt handler.
func (x *running) handler(phase int) (quantity.Time, bool) {
	p, m := x.p, x.m
	if phase == 0 {
		return m.Cycles(max(p.Cycles.Read, 1)), false
	}
	if phase > 1 {
		return 0, true
	}
	before := x.moved()
	rest := max(p.Cycles.Handler-p.Cycles.Read, 0)
	if p.Means == Interrupt {
		if x.ready() {
			x.moveOne()
			rest += p.Cycles.Each
		}
		if !p.Receive && x.at-x.base >= x.words {
			x.port.OnRoom = false
		}
		if p.Receive && p.Goal == Fixed && x.at >= x.words {
			x.doneAt = m.Now()
		}
	}
	var ev Events
	if x.ch != nil {
		if x.ch.HalfFlag && x.ch.OnHalf {
			ev |= HalfEvent
			x.halves++
		}
		if x.ch.FullFlag && x.ch.OnFull {
			ev |= FullEvent
			x.fulls++
		}
		if p.Goal.Rings() {
			x.serve(&ev)
		}
	}
	idle := x.port.IdleFlag && x.port.OnIdle
	if idle {
		x.idleCalls++
	}
	if p.Receive && (idle && p.Means == Interrupt || p.Goal == Fixed && (ev&FullEvent != 0 || x.doneAt == m.Now() && p.Means == Interrupt)) {
		m.At(m.Now()+p.Work, func() { x.buf.Read() })
	}
	if p.Clears {
		x.port.IdleFlag, x.port.SentFlag = false, false
		if x.ch != nil {
			x.ch.HalfFlag, x.ch.FullFlag = false, false
		}
		if x.live {
			x.rearm()
		}
	}
	if x.moved() == x.progress && before == x.moved() {
		x.stuck++
	} else {
		x.stuck = 0
	}
	x.progress = x.moved()
	return m.Cycles(rest), false
}

// serve notes a run of a ring's handler, and what its consumer reads.
func (x *running) serve(ev *Events) {
	if x.port.IdleFlag && x.port.OnIdle {
		*ev |= IdleEvent
	}
	bytes := max(x.p.MemoryWidth/8, 1)
	written := x.ch.Moved * bytes
	size := max(x.p.Count*bytes, 1)
	v := Service{At: x.m.Now(), Events: *ev, Pos: written % size, Written: written}
	from := x.served
	x.served = written
	if x.live {
		if x.account != nil {
			x.account.Serve(v)
		}
		if written-from > size {
			from = written - size
		}
	} else {
		x.services = append(x.services, v)
	}
	x.m.At(x.m.Now()+x.p.Work, func() {
		for i := from; i < written; i++ {
			if place := i % size; place < len(x.buf.Cells) {
				x.buf.Cells[place].Reads++
			}
		}
	})
}

// simulate runs the words, then until nothing more happens.
func (x *running) simulate() {
	p, m := x.p, x.m
	word := p.Stream.Word()
	step := func(t quantity.Time) bool {
		for m.Next() <= t {
			if x.halted() || m.Now() > x.deadline {
				break
			}
			m.RunTo(m.Next())
			x.watch()
		}
		if m.Next() > t && t != quantity.Forever {
			m.RunTo(t)
		}
		return !x.halted()
	}
	limit := x.armed + word*quantity.Time(x.words+4)*2 + p.Work*2 + quantity.Millisecond + x.s.Part.Before(p.Urgency)
	if p.Timeout > 0 && p.Goal == Fixed {
		limit = max(limit, x.deadline+1)
	}
	if p.Receive {
		for k := range x.words {
			at := x.enabled + word*quantity.Time(k+1)
			if at > x.deadline && !x.complete() {
				break
			}
			if !step(at) {
				break
			}
			x.port.Receive(machine.Word{Value: dataWord(k, p.Stream.Bytes()), Serial: k})
			x.watch()
		}
	}
	for m.Next() <= limit && m.Next() != quantity.Forever {
		if !step(m.Next()) || x.over() || m.Now() > x.deadline {
			break
		}
	}
	if x.deadline < quantity.Forever && !x.complete() && !m.CPU.Hung && x.stuck <= mostCalls {
		for m.Next() <= x.deadline && !x.halted() {
			m.RunTo(m.Next())
		}
		x.given = true
	}
}

// halted says whether nothing of interest can follow: the processor is stopped, or a handler
// or a channel goes on for ever without a word that comes or goes.
func (x *running) halted() bool {
	return x.m.CPU.Hung || x.stuck > mostCalls || !x.live && x.m.Steps > mostSteps+1000*x.words || x.ch != nil && x.ch.Moved > 10*(x.run.Port.Arrivals+x.port.Finished+x.p.Count)+mostCalls
}

// watch looks at what can only be seen while it happens.
func (x *running) watch() {
	if x.p.Receive && x.moved() > 0 && x.port.Arrivals == 0 {
		x.early = true
	}
	if x.p.Stack && x.p.Tells != ByWaiting && x.moved() > 0 {
		x.foreign = true
	}
	if x.doneAt == 0 && x.complete() {
		x.doneAt = x.m.Now()
	}
}

// complete says whether a fixed transfer has moved what its plan counts.
func (x *running) complete() bool {
	switch {
	case x.p.Goal != Fixed:
		return false
	case x.p.Means == DMA:
		return x.ch.Laps > 0
	}
	return x.at >= x.words
}

// over says whether nothing of interest can follow.
func (x *running) over() bool {
	if x.p.Receive {
		return false
	}
	if x.p.Goal != Fixed || x.p.Means == DMA && x.p.Mode == machine.Circular {
		return x.port.Finished >= 2*x.words
	}
	return x.complete() && !x.port.Busy() && len(x.m.CPU.Running()) == 0 && x.m.Now() > x.doneAt+x.p.Stream.Word()
}

// judge gives the run's figures, state and harms.
func (x *running) judge() {
	r, p, m := x.run, x.p, x.m
	r.Moved, r.Lost, r.High = x.moved(), x.port.Losses, x.port.High
	r.Calls, r.Latest, r.Ended = x.line.Count, x.line.Latest, m.Now()
	if m.Now() > 0 {
		r.Share = float64(m.CPU.Busy) / float64(m.Now())
	}
	if !x.live && p.Means == DMA && p.Goal.Rings() && p.Count > 1 {
		size := p.Count * max(p.MemoryWidth/8, 1)
		a := AccountOf(size, ConsumerNamed(p.Consumer), x.services, x.ch.Moved*max(p.MemoryWidth/8, 1), AllEvents)
		r.Account = &a
	}
	switch {
	case m.CPU.Hung:
		r.State = IsHung
	case x.stuck > mostCalls:
		r.State, r.Calls = IsEndless, -1
	case x.ch != nil && x.ch.ErrorFlag:
		r.State = IsBroken
	case x.given:
		r.State = TimedOut
	case p.Goal == Fixed && x.ch != nil && p.Mode == machine.Circular && x.ch.Moved > 0:
		r.State = Repeating
	case p.Goal == Fixed && x.complete():
		r.State = IsDone
	case p.Goal == Fixed:
		r.State = IsWaiting
	case r.Moved == 0, x.ch != nil && !x.ch.Enabled, p.Tells == ByInterrupt && r.Calls == 0:
		r.State = IsStopped
	default:
		r.State = IsRunning
	}
	r.Ring = x.account
	r.Harms = x.harms()
}

// rearm arms a receive of a fixed length again when it is over, where the plan says so.
func (x *running) rearm() {
	if x.p.Goal != Fixed || !x.p.Rearms || x.ch == nil || x.ch.Enabled || x.ch.Laps == 0 || x.p.Mode != machine.OneShot || x.ch.ErrorFlag {
		return
	}
	if x.p.Tells == ByInterrupt && x.ch.FullFlag {
		return // its handler has not run yet
	}
	x.ch.Arm()
}
