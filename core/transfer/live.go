package transfer

import (
	"fmt"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Live runs one plan against words as they come or go, for ever.
type Live struct {
	x       *running
	start   quantity.Time
	serial  int
	Refused int // starts of a send that found the one before still busy
	Starts  int
	dead    bool
}

// Live gives a run of a plan that begins at a time. Nothing else runs on the processor.
func (s *Setup) Live(p *Plan, at quantity.Time) *Live {
	x := &running{s: s, p: p, words: 1 << 62, run: &Run{Plan: p}, live: true}
	x.build()
	x.port.LineBusy = nil
	if !p.Receive {
		x.words = 0
		x.fill()
	}
	if p.Means == DMA && p.Goal.Rings() && p.Count > 0 {
		x.account = NewAccountant(p.Count*max(p.MemoryWidth/8, 1), ConsumerNamed(p.Consumer))
	}
	x.m.RunTo(at)
	x.port.Enabled = true
	x.port.OnReceive = p.WordInterrupt && p.Receive
	x.port.OnIdle = p.IdleInterrupt
	x.armed, x.enabled, x.deadline = at, at, quantity.Forever
	if x.ch != nil {
		x.port.ReceiveDMA = p.UnitRequest && !x.ch.Request.Room
		x.port.RoomDMA = p.UnitRequest && x.ch.Request.Room
		if p.Receive {
			x.ch.Arm()
		}
	}
	if p.Means == Polled && p.Receive {
		x.poll()
	}
	x.m.Changed()
	return &Live{x: x, start: at}
}

// Plan is the plan that runs.
func (l *Live) Plan() *Plan { return l.x.p }

// Next is when something happens by itself; quantity.Forever: never.
func (l *Live) Next() quantity.Time {
	if l.dead {
		return quantity.Forever
	}
	return l.x.m.Next()
}

// Waiting is the number of words that wait in the unit.
func (l *Live) Waiting() int { return l.x.port.Level() }

// Fill is how many bytes came that nobody has taken: in the unit, and in a ring.
func (l *Live) Fill() int {
	n := l.Waiting() * l.x.p.Stream.Bytes()
	if l.x.account != nil {
		n += l.x.account.Waiting(l.x.moved() * max(l.x.p.MemoryWidth/8, 1))
	}
	return n
}

// Now is how far it has come.
func (l *Live) Now() quantity.Time { return l.x.m.Now() }

// To lets it go on to a time.
func (l *Live) To(t quantity.Time) {
	m := l.x.m
	for !l.dead && m.Next() <= t {
		m.RunTo(m.Next())
		l.dead = l.x.halted()
	}
	if !l.dead {
		m.RunTo(t)
	}
}

// Word lets a word come in, from its first bit to the time at which it is complete, and says
// whether one was lost by it.
func (l *Live) Word(start, end quantity.Time, value uint64) (lost bool) {
	x := l.x
	if start < x.m.Now() {
		start = x.m.Now()
	}
	if end < x.m.Now() {
		end = x.m.Now()
	}
	l.To(start)
	x.port.Begin()
	l.To(end)
	w := machine.Word{Value: value, Serial: l.serial}
	l.serial++
	x.run.Came++
	lost = x.port.Receive(w)
	x.rearm()
	return lost
}

// Send starts a send of words at a time. One that finds the one before still busy is
// refused.
func (l *Live) Send(at quantity.Time, words []uint64) bool {
	x := l.x
	l.To(max(at, x.m.Now()))
	if x.moved()-x.base < x.words || x.port.Busy() {
		l.Refused++
		return false
	}
	l.Starts++
	bytes := x.p.Stream.Bytes()
	n := min(len(words), max(x.p.Bytes/bytes, 1))
	for k := range n {
		for b := range bytes {
			x.buf.Cells[k*bytes+b] = machine.Cell{Value: byte(words[k] >> (8 * b)), Serial: l.serial + k, Written: x.m.Now(), By: machine.ByCPU, Writes: 1}
		}
	}
	l.serial += n
	x.run.Came += n
	x.base, x.words, x.first = x.moved(), n, l.serial-n
	if x.ch != nil {
		x.ch.Count = n
		x.ch.Arm()
	} else {
		x.port.OnRoom = x.p.WordInterrupt
		if x.p.Means == Polled {
			x.armed = x.m.Now()
			x.poll()
		}
	}
	x.m.Changed()
	return true
}

// Run gives what became of everything so far.
func (l *Live) Run() *Run {
	x := l.x
	x.judge()
	if span := x.m.Now() - l.start; span > 0 {
		x.run.Share = float64(x.m.CPU.Busy) / float64(span)
	}
	return x.run
}

// Sound says whether a setup can be run at all: its numbers are in range.
func (s *Setup) Sound() error {
	p := &s.Part
	if p.Core < quantity.Hertz || p.Entry < 0 || p.Exit < 0 || p.BeatCycles < 0 || p.BeatCycles > 1000 || p.Channels < 0 || p.MostCount < 0 || s.StepTime < 0 || len(p.Regions) > 1000 || len(p.Others) > 1000 {
		return fmt.Errorf("the MCU's part in transfers is out of range")
	}
	for _, x := range s.Plans {
		t := x.Stream
		if x.Bytes < 1 || x.Bytes > 1<<20 || x.Length < 1 || x.Length > 1<<20 || x.Count < 0 || x.Count > 1<<20 || x.Burst < 0 || x.Burst > 64 || x.Address >= 1<<44 ||
			t.Bits < 1 || t.Bits > 512 || !(t.WordBits >= 1 && t.WordBits <= 1e4) || t.Rate < quantity.Baud || t.Depth < 1 || t.Depth > 1<<16 || t.SendDepth > 1<<16 ||
			x.Every < 0 || x.Work < 0 || x.Timeout < 0 || x.Level < 1 || x.Cycles.Handler < 0 || x.Cycles.Handler > 1e8 || x.Cycles.Each < 0 || x.Cycles.Each > 1e6 ||
			x.Cycles.Entry < 0 || x.Cycles.Exit < 0 || x.Cycles.Read < 0 || x.UnitWidth < 0 || x.UnitWidth > 64 || x.MemoryWidth < 0 || x.MemoryWidth > 64 ||
			int(x.Means) >= len(AllMeans) || int(x.Mode) >= len(machine.Modes) || int(x.Goal) >= len(Goals) || int(t.OnFull) >= len(machine.Policies) || int(x.Release) >= len(Releases) || int(x.Tells) >= len(Tellings) ||
			ConsumerNamed(x.Consumer) == nil {
			return fmt.Errorf("transfer %q is out of range", x.Name)
		}
	}
	return nil
}

// Position is the place of a ring that is written next.
func (l *Live) Position() int {
	if l.x.ch == nil {
		return 0
	}
	return (l.x.p.Count - l.x.ch.Left()) % max(l.x.p.Count, 1) * max(l.x.p.MemoryWidth/8, 1)
}

// LastLoss is when a word was lost last, as far as marks are kept; -1: none was.
func (l *Live) LastLoss() quantity.Time {
	marks := l.x.m.Log.Marks()
	for i := len(marks) - 1; i >= 0; i-- {
		if marks[i].Kind == machine.Lost {
			return marks[i].At
		}
	}
	return -1
}

// Events counts the events of a ring that its handler served: half, full and idle.
func (l *Live) Events() map[string]int {
	return map[string]int{"half": l.x.halves, "full": l.x.fulls, "idle": l.x.idleCalls}
}

// Active is when something happened last, but for looks of a main loop that found nothing.
func (l *Live) Active() quantity.Time { return l.x.m.Log.Active }
