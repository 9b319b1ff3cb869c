package sim

import (
	"fmt"
	"reflect"
	"slices"

	"gavrix/core/bench"
	"gavrix/core/bus"
	"gavrix/core/bus/i2c"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// i2cBeat is how often a bus is read, in bits, whatever else is due on it.
const i2cBeat = 64

// I2C is an i2c bus as it runs.
type I2C struct {
	// Off: the MCU's unit has no clock or is not enabled.
	Off bool
	// NoClock and NoData: the pin does not belong to the unit.
	NoClock, NoData bool
	Unserved        bool // nobody takes the results: the firmware waits for ever
	Bit             quantity.Time
	Rise            quantity.Time // Forever without a pull-up
	Devices         []i2c.End
	Asks            []bench.I2CAsk
}

// I2COf gives the bus as a bench states it, the MCU's end as its firmware's
// start-up really brings it into the registers.
func I2COf(l *bench.Bus) I2C {
	b := l.I2C
	out := I2C{Rise: b.Rise, Asks: slices.Clone(b.Asks)}
	if b.PullUp == 0 {
		out.Rise = quantity.Forever
	}
	for _, d := range b.Devices {
		out.Devices = append(out.Devices, d.End)
	}
	t := b.Timing
	if p, err := started(&l.Common); err == nil {
		if read, err := l.I2CTiming(p.value); err == nil {
			t = read
		}
		out.Off = !p.on("clock") || !p.on("enable")
		out.NoClock = !p.on("port-clock") || !p.on("clock-pin")
		out.NoData = !p.on("port-clock") || !p.on("data-pin")
		out.Unserved = !p.emptied()
	}
	out.Bit = max(t.LowTime+t.HighTime, 8)
	return out
}

func parseI2C(text string) (*I2C, error) {
	b := &I2C{}
	if err := unpacked(text, b); err != nil {
		return nil, err
	}
	if b.Bit < 8 || b.Bit > quantity.Second || b.Rise < 0 || len(b.Devices) > 1000 || len(b.Asks) > 1000 {
		return nil, fmt.Errorf("the bus is out of range")
	}
	for _, a := range b.Asks {
		if a.Every < quantity.Microsecond || a.Read < 0 || a.Read > 255 || a.Address > 0x7f {
			return nil, fmt.Errorf("what the firmware asks is out of range")
		}
	}
	return b, nil
}

// i2cBus is a simulated i2c bus: the MCU's unit and its devices on two lines.
type i2cBus struct {
	wires
	link string
	now  I2C

	controller *i2c.Controller
	due        []quantity.Time // of each ask
	asked      bool
}

func newI2CBus(w *World, l *bench.Bus) *i2cBus {
	b := &i2cBus{wires: wires{w: w, index: l.Index}, link: l.Name}
	b.start(I2COf(l))
	return b
}

// start puts the parties on a bus anew, from the present time on.
func (b *i2cBus) start(n I2C) {
	b.now, b.asked, b.due = n, false, nil
	b.fresh(2, i2c.NewDecoder(i2c.Settings{Stuck: 25 * quantity.Millisecond}, b.index), b)
	for i := range b.bus.Rise {
		b.bus.Rise[i] = n.Rise
	}
	b.controller = i2c.NewController(n.Bit)
	var on bus.Node = b.controller
	if n.NoClock || n.NoData {
		pins := []bool{n.NoClock, n.NoData}
		on = &gate{Node: b.controller, mute: pins, deaf: pins}
	}
	b.bus.Join(on, 0)
	for _, d := range n.Devices {
		t := &i2c.Target{Device: &i2c.Memory{Bytes: slices.Clone(d.Holds), Pointer: d.Pointer}, Address: int(d.Address)}
		if d.Stretch > 0 {
			t.Stretch = func(int) quantity.Time { return d.Stretch }
		}
		b.bus.Join(t, 0)
	}
	for i, a := range n.Asks {
		b.due = append(b.due, b.w.now+b.beat()+a.Every*quantity.Time(i+1)/quantity.Time(len(n.Asks)+1))
	}
	b.again(b.w.now + b.beat())
}

// beat is the time from one reading to the next.
func (b *i2cBus) beat() quantity.Time { return max(b.now.Bit*i2cBeat, 10*quantity.Microsecond) }

// runs lets the bus go on to the present, asks what is due, and asks for the next
// turn.
func (b *i2cBus) runs() {
	if b.w.now < b.turn {
		return // the bus was begun anew since
	}
	b.feed()
	next := b.w.now + b.beat()
	for i := range b.due {
		if b.due[i] <= b.w.now {
			b.ask(b.now.Asks[i])
			b.due[i] += b.now.Asks[i].Every
		}
		next = min(next, max(b.due[i], b.w.now+1))
	}
	b.again(next)
}

// ask queues a transaction, unless all of an earlier round still wait.
func (b *i2cBus) ask(a bench.I2CAsk) {
	if b.now.Off || b.controller.Queued() > len(b.now.Asks) || b.now.Unserved && b.asked {
		return
	}
	b.asked = true
	var t i2c.Transaction
	if len(a.Write) > 0 {
		t.Segments = append(t.Segments, i2c.Segment{Address: int(a.Address), Data: a.Write})
	}
	if a.Read > 0 {
		t.Segments = append(t.Segments, i2c.Segment{Address: int(a.Address), Read: a.Read})
	}
	b.controller.Queue(t)
	b.bus.Wake()
}

// Put implements record.Sink for the tap: the MCU begins every transaction here.
func (b *i2cBus) Put(r *record.Record) {
	if r.Kind == record.Transaction {
		r.From = record.MCU
	}
	b.w.store.Put(r)
	r.From = record.Nobody
}

// Open implements record.Sink.
func (b *i2cBus) Open(r *record.Record) { b.w.store.Open(r) }

func (b *i2cBus) name() string       { return b.link }
func (b *i2cBus) bit() quantity.Time { return b.now.Bit }

func (b *i2cBus) changed(l *bench.Bus) *Input {
	n := I2COf(l)
	if reflect.DeepEqual(b.now, n) {
		return nil
	}
	return &Input{Link: b.link, I2C: &n}
}

func (b *i2cBus) put(in Input) error {
	if in.Wire != nil || in.Hold != nil {
		return fmt.Errorf("link %s is an i2c bus: its lines can't be cut or held; without a pull-up they stay low", b.link)
	}
	if in.I2C == nil {
		return fmt.Errorf("link %s is an i2c bus: its firmware asks what the bench says", b.link)
	}
	b.feed()
	b.tap.Flush(b)
	b.start(*in.I2C)
	state := fmt.Sprintf("clock of %s", b.now.Bit.Round(4))
	if b.now.Off {
		state = "off"
	}
	b.note(b.w.now, "MCU %s", state)
	return nil
}
