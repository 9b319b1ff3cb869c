// Package machine is the inside of a simulated MCU in virtual time: a processor with
// handlers that nest by priority, an interrupt controller, a DMA engine, ports with
// queues of stated depth, and memory whose every cell knows what became of it.
//
// A machine is an agenda of events and knows no wire: its host feeds words to a port as
// they are complete, and is told of those that are read and that leave. Work takes whole cycles of the
// core's clock; nothing loops over cycles.
package machine

import (
	"math"

	"gavrix.org/gavrix/core/agenda"
	"gavrix.org/gavrix/core/quantity"
)

// Word is one unit of traffic: a character, a word or a frame's data.
type Word struct {
	Value  uint64
	Serial int // its place in its stream, from 0; less where it belongs to none
}

type eventKind uint8

const (
	called   eventKind = iota // a function of the host
	stepped                   // a handler's cycles are over
	looked                    // the main loop looks
	shifted                   // a port has sent the last bit of a word
	rested                    // a port's pause between words is over
	quiet                     // a port's line may have been quiet long enough
	asked                     // a channel's request has reached the engine
	beaten                    // the engine has moved an element
	flagRise                  // the processor takes note of an interrupt
)

type event struct {
	kind eventKind
	who  uint16
	gen  uint32
}

// Machine is the inside of an MCU. It is not safe for use by several goroutines.
type Machine struct {
	CPU    CPU
	DMA    Engine
	Memory Memory
	Log    Log

	hz     float64
	now    quantity.Time
	agenda agenda.Agenda[event]
	calls  map[uint32]func()
	nextID uint32
	ports  []*Port
	lines  []*Interrupt
	Steps  int  // events so far
	dirty  bool // something changed that the processor or the engine may answer
}

// New gives a machine whose core runs at a clock.
func New(core quantity.Freq) *Machine {
	m := &Machine{hz: core.Hz(), calls: map[uint32]func(){}}
	m.CPU.m, m.DMA.m = m, m
	return m
}

// Now is the machine's time.
func (m *Machine) Now() quantity.Time { return m.now }

// Cycles is how long a number of cycles of the core lasts.
func (m *Machine) Cycles(n int) quantity.Time {
	return quantity.Time(math.Round(float64(n) * 1e12 / m.hz))
}

// Next is the time of the next thing that happens by itself.
func (m *Machine) Next() quantity.Time { return m.agenda.Next() }

// RunTo lets the machine go on to a time, all that is due then included.
func (m *Machine) RunTo(t quantity.Time) {
	m.settle()
	for m.agenda.Next() <= t {
		m.step()
	}
	m.now = max(m.now, t)
}

func (m *Machine) step() {
	at, e := m.agenda.Pop()
	m.now = at
	m.Steps++
	switch e.kind {
	case called:
		f := m.calls[e.gen]
		delete(m.calls, e.gen)
		f()
		m.dirty = true
	case stepped:
		m.CPU.stepped(e.gen)
	case looked:
		m.CPU.looked(e.gen)
	case shifted:
		m.ports[e.who].sent()
	case rested:
		m.ports[e.who].push()
	case quiet:
		m.ports[e.who].quiet(e.gen)
	case asked:
		m.DMA.channels[e.who].asked(e.gen)
	case beaten:
		m.DMA.beaten(e.who)
	case flagRise:
		m.dirty = true
	}
	m.settle()
}

// settle lets the engine and the processor answer what changed.
func (m *Machine) settle() {
	for m.dirty {
		m.dirty = false
		m.DMA.requests()
		m.CPU.dispatch()
	}
}

func (m *Machine) at(t quantity.Time, kind eventKind, who int, gen uint32) {
	m.agenda.Push(max(t, m.now), event{kind, uint16(who), gen})
}

// At lets the host act at a time.
func (m *Machine) At(t quantity.Time, f func()) {
	m.nextID++
	m.calls[m.nextID] = f
	m.at(t, called, 0, m.nextID)
}

// Changed says that the host changed a setting of a part.
func (m *Machine) Changed() {
	m.dirty = true
	m.settle()
}
