package sim

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
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
	// Stretch and Stuck are how long the unit waits for a clock that is held low, and
	// for data that are, before it ends the transaction or frees the bus; 0: for ever.
	Stretch, Stuck quantity.Time
	Bit            quantity.Time
	Rise           quantity.Time // Forever without a pull-up
	Devices        []i2c.End
	Asks           []bench.BusAsk
}

// wanted is a transaction that waits for the bus, or is on it.
type wanted struct {
	done  func(link.Outcome) // nil for the firmware's own
	since quantity.Time
	late  quantity.Time // when the one who asked for it gives it up
}

// mostHeld is how long a transaction that was asked for waits for a bus on which nothing
// moves, beside the time that it takes itself.
const mostHeld = 250 * quantity.Millisecond

// I2COf gives the bus as a bench states it, the MCU's end as its firmware's
// start-up really brings it into the registers.
func I2COf(link *bench.Link) I2C {
	b := link.Model.(*bench.I2C)
	out := I2C{Rise: b.Rise, Asks: slices.Clone(b.Asks), Stretch: b.Stretch, Stuck: b.Stuck}
	if b.PullUp == 0 {
		out.Rise = quantity.Forever
	}
	for _, d := range b.Devices {
		end := d.End
		end.Address = d.Strapped
		out.Devices = append(out.Devices, end)
	}
	t := b.Timing
	if p, err := started(link); err == nil {
		if read, err := b.FromRegisters(p.value); err == nil {
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
	if b.Bit < 8 || b.Bit > quantity.Second || b.Rise < 0 || b.Stretch < 0 || b.Stuck < 0 || len(b.Devices) > 1000 || len(b.Asks) > 1000 {
		return nil, fmt.Errorf("the bus is out of range")
	}
	for _, a := range b.Asks {
		if a.Every < quantity.Microsecond {
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
	queued     quantity.Time   // what waits takes so long on the bus
	asked      bool
	wanted     []wanted        // the transactions that wait
	off        map[string]bool // devices without supply
	parts      map[string]i2c.Device
	works      map[string]*device.Part // their registers, where they are described
	described  map[string]*device.Device
	cells      map[string]*device.Cells // the bytes of memories
	ended      []ended
	seen       []record.Record // transactions that the tap saw when it last read
	held       []bool          // lines that are held low
	crossed    map[string]bool // devices whose clock and data are exchanged
}

func newI2CBus(p place, l *bench.Link) simulated {
	b := &i2cBus{wires: wires{place: p}, link: l.Name, off: map[string]bool{}, crossed: map[string]bool{}, parts: map[string]i2c.Device{}, works: map[string]*device.Part{}, cells: map[string]*device.Cells{}, described: map[string]*device.Device{}}
	for _, d := range l.Model.(*bench.I2C).Devices {
		b.described[d.Name] = d.Part
		b.power(d.Name)
	}
	b.start(I2COf(l))
	return b
}

// power lets a device begin as it is after power-up.
func (b *i2cBus) power(name string) {
	delete(b.parts, name)
	if d := b.described[name]; d != nil && d.Map != nil {
		b.powerLost(name, b.works[name])
		if m := d.Map.Memory; m != nil && (b.cells[name] == nil || !m.Lasting) {
			b.cells[name] = d.NewCells()
		}
		if on, part := d.OnI2C(func() quantity.Time { return b.w.now }, b.cells[name]); on != nil {
			b.parts[name], b.works[name] = on, part
		}
	}
}

// start puts the parties on a bus anew, from the present time on.
func (b *i2cBus) start(n I2C) {
	b.now, b.asked, b.due = n, false, nil
	for _, w := range b.wanted {
		if w.done != nil {
			w.done(link.Outcome{At: b.w.now, Text: "the bus was begun anew"})
		}
	}
	b.wanted, b.queued = nil, 0
	for _, e := range b.ended {
		e.done(e.Outcome)
	}
	b.ended = nil
	b.fresh(2, i2c.NewDecoder(i2c.Settings{Stuck: 25 * quantity.Millisecond}, b.index), b)
	for i := range b.bus.Rise {
		b.bus.Rise[i] = n.Rise
	}
	b.controller = i2c.NewController(n.Bit)
	b.controller.Stretch, b.controller.Stuck = n.Stretch, n.Stuck
	b.controller.OnEvent = b.event
	var on bus.Node = b.controller
	if n.NoClock || n.NoData {
		pins := []bool{n.NoClock, n.NoData}
		on = &gate{Node: b.controller, mute: pins, deaf: pins}
	}
	b.bus.Join(on, 0)
	for i, held := range b.held {
		if held {
			b.bus.Join(holder{i}, 0)
		}
	}
	for _, d := range n.Devices {
		if b.off[d.Name] {
			continue
		}
		on := b.parts[d.Name]
		if on == nil {
			on = &i2c.Memory{Bytes: slices.Clone(d.Holds), Pointer: d.Pointer}
			b.parts[d.Name] = on
		}
		t := &i2c.Target{Device: on, Address: d.Address.Number(), Ten: d.Address.Ten()}
		if part := b.works[d.Name]; part != nil {
			t.Ready = func() bool { return part.Answering(b.w.now) }
		}
		if d.Stretch > 0 {
			t.Stretch = func(int) quantity.Time { return d.Stretch }
		}
		if b.crossed[d.Name] {
			b.bus.Join(swapped{t}, 0)
			continue
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
	b.read()
	b.giveUp()
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
func (b *i2cBus) ask(a bench.BusAsk) {
	if b.now.Off || b.controller.Queued() > len(b.now.Asks) || b.now.Unserved && b.asked {
		return
	}
	b.asked = true
	for _, text := range a.Texts {
		if t, err := i2c.ParseTransaction(text); err == nil {
			b.queue(t, nil)
		}
	}
}

// queue hands a transaction to the unit; done is told what came of it.
func (b *i2cBus) queue(t i2c.Transaction, done func(link.Outcome)) {
	b.controller.Queue(t)
	b.queued += quantity.Time(t.Bytes()+1) * 10 * b.now.Bit
	b.wanted = append(b.wanted, wanted{done, b.w.now, b.w.now + mostHeld + 8*b.queued})
	b.bus.Wake()
}

// giveUp ends what was asked for and did not come on a bus that is held.
func (b *i2cBus) giveUp() {
	for i := 0; i < len(b.wanted); {
		w := b.wanted[i]
		if w.done == nil || b.w.now < w.late {
			i++
			continue
		}
		why := b.standing()
		b.controller.Drop(i)
		b.wanted = slices.Delete(b.wanted, i, i+1)
		b.bus.Wake()
		w.done(link.Outcome{At: b.w.now, Text: fmt.Sprintf("%s; it was given up after %s", why, (b.w.now - w.since).Round(3))})
	}
}

// standing says what keeps the bus from going on, as its lines show it.
func (b *i2cBus) standing() string {
	high := b.bus.Levels()
	lets := make([]bool, 2)
	lets[0], lets[1] = b.controller.Lets()
	switch clock, data := !high[0] && lets[0], !high[1] && lets[1]; {
	case clock && data:
		return "clock and data are held low"
	case clock:
		return "the clock is held low"
	case data:
		return "data is held low"
	}
	return "another transaction keeps the unit"
}

// event tells who waits for a transaction how it ended.
func (b *i2cBus) event(e i2c.Event) {
	if e.What == i2c.Lost || e.What == i2c.Freed || len(b.wanted) == 0 {
		return // it is tried again, or begins now
	}
	done := b.wanted[0].done
	b.wanted = b.wanted[1:]
	b.queued = max(b.queued-quantity.Time(e.Transaction.Bytes()+1)*10*b.now.Bit, 0)
	if done != nil {
		// The tap has not read so far yet.
		b.ended = append(b.ended, ended{link.Outcome{At: e.At, OK: e.What == i2c.Done, Text: said(e)}, done})
	}
}

// ended is a transaction that is over, and who waits for it.
type ended struct {
	link.Outcome
	done func(link.Outcome)
}

// read gives tap and capture the levels up to now, and tells who waits how transactions
// ended.
func (b *i2cBus) read() {
	b.seen = b.seen[:0]
	b.wires.read()
	over := b.ended
	b.ended = nil
	for _, e := range over {
		for i := range b.seen {
			if r := b.seen[i]; r.End >= e.At-b.now.Bit && r.Start < e.At {
				e.Record = &r
				break
			}
		}
		e.done(e.Outcome)
	}
}

// said gives the end of a transaction in words.
func said(e i2c.Event) string {
	text := e.What.String()
	if e.Transaction.Free {
		return freed(e)
	}
	if e.What == i2c.NotAcknowledged {
		b, address := e.Transaction.At(e.Byte)
		text = fmt.Sprintf("byte %d, %02X, was not acknowledged", e.Byte+1, b)
		if address != "" {
			text = fmt.Sprintf("the address was not acknowledged: %s (%02X on the wire)", address, b)
		}
	}
	for _, r := range e.Read {
		if len(r) > 0 {
			text += fmt.Sprintf(", read % X", r)
		}
	}
	return text
}

// freed says what came of pulses that were to free the bus.
func freed(e i2c.Event) string {
	switch {
	case e.What == i2c.Done && e.Clocks == 1:
		return "data is high after 1 pulse of the clock: nobody held it, or not for longer; a stop was sent"
	case e.What == i2c.Done:
		return fmt.Sprintf("data is high after %d pulses of the clock; a stop was sent", e.Clocks)
	case e.Clocks == 0:
		return "the clock is held low: no pulses can be sent; look for who holds it, or switch the devices off one by one"
	}
	return "data is still low after 9 pulses of the clock: it is shorted, or a device without supply pulls it down"
}

// Put implements record.Sink for the tap: the MCU begins every transaction here.
func (b *i2cBus) Put(r *record.Record) {
	if r.Kind == record.Transaction {
		r.From = record.MCU
	}
	b.w.store.Put(r)
	if r.Kind == record.Transaction && len(b.ended) > 0 {
		b.seen = append(b.seen, r.Clone())
	}
	r.From = record.Nobody
}

// Open implements record.Sink.
func (b *i2cBus) Open(r *record.Record) { b.w.store.Open(r) }

// act implements actor.
func (b *i2cBus) act(eventKind, uint8) { b.runs() }

// feed implements simulated: a shared bus is read at times of its own.
func (b *i2cBus) feed() {}

func (b *i2cBus) state() string      { return packed(b.now) }
func (b *i2cBus) bit() quantity.Time { return b.now.Bit }

func (b *i2cBus) takes() map[string]string {
	takes := map[string]string{
		link.TransactVerb: "", link.LoopVerb: "all parties of an I2C bus share its lines: each reads back what it sends",
		link.HoldVerb: "", link.CrossVerb: "", link.PowerVerb: "", link.ConfigureVerb: "", link.PresetVerb: "",
		link.SendVerb: "on an I2C bus transactions are sent: transact start 3A ack 07 ack stop",
		link.CutVerb:  "all parties of an I2C bus share its lines: they can be held, and devices switched off",
	}
	if b.now.Off {
		takes[link.TransactVerb] = "the MCU's unit is off: look at its startup"
	}
	return takes
}

// do implements simulated.
func (b *i2cBus) do(i link.Intent, done func(link.Outcome)) error {
	switch i := i.(type) {
	case link.Transact:
		t, err := i2c.ParseTransaction(i.Text)
		if err != nil {
			return err
		}
		b.read()
		b.queue(t, done)
		return nil
	case link.Hold:
		line := slices.IndexFunc(i2c.Kind.Lines, func(r bus.Role) bool { return r.Name == i.Role })
		if line < 0 {
			return fmt.Errorf("it has no line %q; there are clock and data", i.Role)
		}
		if b.held == nil {
			b.held = make([]bool, 2)
		}
		b.held[line] = !i.Release
		b.anew("the %s line is %s", i.Role, map[bool]string{true: "released", false: "held low"}[i.Release])
	case link.Cross:
		if b.parts[i.Device] == nil {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		b.crossed[i.Device] = !i.Right
		b.anew("%s: clock and data are %s", i.Device, map[bool]string{true: "as they should be", false: "exchanged"}[i.Right])
	case link.Power:
		if !slices.ContainsFunc(b.now.Devices, func(e i2c.End) bool { return e.Name == i.Device }) {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		b.off[i.Device] = !i.On
		b.power(i.Device)
		b.anew("%s: supply %s", i.Device, map[bool]string{true: "on", false: "off"}[i.On])
	case link.Preset:
		return b.preset(b.works[i.Device], i, done)
	case link.Configure:
		n, err := parseI2C(i.State)
		if err != nil {
			return err
		}
		state := fmt.Sprintf("clock of %s", n.Bit.Round(4))
		if n.Off {
			state = "off"
		}
		b.now = *n
		b.anew("MCU %s", state)
	}
	done(link.Outcome{At: b.w.now, OK: true})
	return nil
}

// anew starts all parties again, and says why.
func (b *i2cBus) anew(format string, args ...any) {
	b.read()
	b.tap.Flush(b)
	b.start(b.now)
	b.note(b.w.now, format, args...)
}
