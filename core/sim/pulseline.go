package sim

import (
	"fmt"
	"reflect"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Strip is a pulse line as it runs.
type Strip struct {
	// Off: the unit has no clock or is not enabled. NoPin: the pin is not the unit's.
	Off, NoPin bool
	Clock      quantity.Period // of the data line
	Patterns   pulse.Patterns
	Sends      pulse.Settings
	Takes      pulse.Settings
	Latch      quantity.Time
	Pause      quantity.Time // between bytes
	Frames     []bench.PulseFrame
}

// StripOf gives a pulse line as a bench states it, the MCU's end as its firmware's
// start-up really brings it into the registers.
func StripOf(link *bench.Link) Strip {
	l := link.Model.(*bench.Pulse)
	s := Strip{Patterns: l.Patterns, Sends: l.Sends, Takes: l.Takes, Latch: l.Latch, Pause: l.Clocking.Pause, Frames: l.Frames}
	rate := l.Choice.Rate
	if p, err := started(link); err == nil {
		if d, ok := l.FromRegisters(p.value); ok {
			rate = quantity.FromHz(link.Unit.Clock.Freq().Hz() / float64(d))
		}
		s.Off = !p.on("clock") || !p.on("enable")
		s.NoPin = !p.on("port-clock") || !p.on("out-pin")
	}
	s.Clock = quantity.PeriodOf(quantity.FromBd(rate.Hz()))
	return s
}

func parseStrip(text string) (*Strip, error) {
	s := &Strip{}
	if err := unpacked(text, s); err != nil {
		return nil, err
	}
	if s.Clock.Times(1) < 1 || s.Clock.Times(1) > quantity.Millisecond || s.Latch < 0 || s.Pause < 0 || s.Pause > quantity.Second || len(s.Frames) > 1000 {
		return nil, fmt.Errorf("the line is out of range")
	}
	for _, f := range s.Frames {
		if f.Every < quantity.Microsecond || len(f.Elements) > 100_000 {
			return nil, fmt.Errorf("frame %s is out of range", f.Name)
		}
	}
	if err := s.Patterns.Check(); err != nil {
		return nil, err
	}
	return s, s.Takes.Check()
}

// pulseLine is a simulated pulse line: the MCU's unit, the wire, and the strip at its
// end, which reads with its own limits.
type pulseLine struct {
	place
	name   string
	device string
	now    Strip

	line    *wire.Line
	tap     bus.Decoder
	queue   []sending
	busy    bool
	lookAt  quantity.Time
	due     []quantity.Time
	epoch   uint8 // counts changes: events of an earlier one don't count
	scratch []quantity.Time
	cut     bool
}

// sending is a frame that waits to be sent.
type sending struct {
	data []byte
	done func(link.Outcome)
}

func newPulseLine(p place, l *bench.Link) simulated {
	s := &pulseLine{place: p, name: l.Name, device: l.Ends[1].Name, line: wire.NewLine(0, wire.DrivenLow), lookAt: quantity.Forever}
	s.start(StripOf(l))
	return s
}

func (l *pulseLine) start(s Strip) {
	if l.tap == nil || !reflect.DeepEqual(s.Takes, l.now.Takes) {
		if l.tap != nil {
			l.tap.Flush(l.w.store)
		}
		l.tap = pulse.Kind.Decoder(l.index, []bus.Settings{s.Sends, s.Takes})
	}
	l.now = s
	l.epoch++
	l.due = l.due[:0]
	if (s.NoPin || l.cut) != l.line.Open() {
		if s.NoPin || l.cut {
			l.line.Break(l.w.now)
		} else {
			l.line.Mend(l.w.now)
		}
	}
	for i, f := range s.Frames {
		at := l.w.now + f.Every*quantity.Time(i+1)/quantity.Time(len(s.Frames)+1)
		l.due = append(l.due, at)
		l.at(at, asks, l.epoch)
	}
	l.wake(l.w.now + 1)
}

// act implements actor.
func (l *pulseLine) act(what eventKind, arg uint8) {
	switch what {
	case asks:
		if arg == l.epoch {
			l.ask()
		}
	case sent:
		l.busy = false
		l.next()
	case look:
		if l.w.now >= l.lookAt {
			l.lookAt = quantity.Forever
			l.feed()
		}
	}
}

// ask sends what is due, unless all of an earlier round still wait.
func (l *pulseLine) ask() {
	for i, f := range l.now.Frames {
		if l.due[i] > l.w.now {
			continue
		}
		l.due[i] += f.Every
		l.at(l.due[i], asks, l.epoch)
		if len(l.queue) <= len(l.now.Frames) {
			l.send(f.Elements, nil)
		}
	}
}

func (l *pulseLine) send(elements []uint32, done func(link.Outcome)) {
	if l.now.Off {
		return
	}
	l.queue = append(l.queue, sending{pulse.ToClocked(l.now.Takes, l.now.Patterns, elements...), done})
	l.next()
}

// next drives the next frame's levels: nobody else can interfere, so one event drives
// the whole of it.
func (l *pulseLine) next() {
	if l.busy || len(l.queue) == 0 {
		return
	}
	f := l.queue[0]
	l.queue = l.queue[1:]
	l.busy = true
	l.scratch = l.scratch[:0]
	end := l.w.now
	if l.now.Pause == 0 {
		l.scratch, end = pulse.Drive(l.scratch, l.now.Clock, end, f.data)
	} else {
		for _, b := range f.data {
			l.scratch, end = pulse.Drive(l.scratch, l.now.Clock, end, []byte{b})
			end += l.now.Pause
		}
	}
	l.line.Drive(l.scratch)
	l.at(end+max(l.now.Latch, 1), sent, 0)
	if f.done != nil {
		f.done(link.Outcome{At: end, OK: true, Text: "sent"})
	}
	l.wake(l.w.now + 1)
}

func (l *pulseLine) wake(t quantity.Time) {
	if t < l.lookAt {
		l.lookAt = t
		l.at(t, look, 0)
	}
}

// feed implements simulated.
func (l *pulseLine) feed() {
	w := l.line.Read(l.w.now)
	if w.From != w.To {
		l.tap.Feed([]wire.Window{w}, l.w.store)
		l.w.store.Levels(l.line0, &w)
	}
	if t := l.tap.Wake(); t != quantity.Forever {
		l.wake(max(t, l.w.now+1))
	} else if l.busy {
		// Driven levels lie ahead: they are read when the frame is over.
		l.wake(l.w.now + max(l.now.Latch, quantity.Microsecond))
	}
}

func (l *pulseLine) state() string      { return packed(l.now) }
func (l *pulseLine) bit() quantity.Time { return l.now.Clock.Times(int64(l.now.Patterns.Bits)) }

func (l *pulseLine) takes() map[string]string {
	takes := map[string]string{
		link.TransactVerb: "", link.CrossVerb: "a pulse line has one wire", link.LoopVerb: "a pulse line has no way back",
		link.CutVerb: "", link.ConfigureVerb: "",
		link.SendVerb:  "a pulse line sends elements: transact 3C0 3C1",
		link.HoldVerb:  "the MCU alone drives a pulse line: it can be cut",
		link.PowerVerb: "a strip without supply says nothing either way: cut the wire",
	}
	if l.now.Off {
		takes[link.TransactVerb] = "the MCU's unit is off: look at its startup"
	}
	return takes
}

// do implements simulated.
func (l *pulseLine) do(i link.Intent, done func(link.Outcome)) error {
	switch i := i.(type) {
	case link.Transact:
		elements, err := pulse.ParseElements(l.now.Takes, i.Text, nil)
		if err != nil {
			return err
		}
		l.send(elements, done)
		return nil
	case link.Cut:
		if i.End != "mcu" && i.End != "MCU" {
			return fmt.Errorf("only the MCU drives it: cut mcu")
		}
		l.cut = !i.Joined
		l.feed()
		l.start(l.now)
		l.note(l.w.now, "wire from the MCU %s", map[bool]string{true: "cut", false: "reconnected"}[l.cut])
	case link.Configure:
		s, err := parseStrip(i.State)
		if err != nil {
			return err
		}
		l.feed()
		l.start(*s)
		state := "bits of " + l.bit().Round(4)
		if s.Off {
			state = "off"
		}
		l.note(l.w.now, "MCU %s", state)
	}
	done(link.Outcome{At: l.w.now, OK: true})
	return nil
}
