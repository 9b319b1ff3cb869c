package sim

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// spiBeat is how often an idle bus is read.
const spiBeat = 2 * quantity.Millisecond

// SPI is an spi bus as it runs.
type SPI struct {
	// Off: the MCU's unit has no clock or is not enabled.
	Off bool
	// NoClock, NoOut, NoIn and NoSelect: the pin does not belong to the unit.
	NoClock, NoOut, NoIn, NoSelect bool
	Unserved                       bool // nobody takes the results: the firmware waits for ever
	Devices                        []SPIPart
	Asks                           []bench.BusAsk
}

// SPIPart is a device with the settings that the unit has for it.
type SPIPart struct {
	Name string
	MCU  spi.Settings
	spi.Timing
	Idle    quantity.Time // between two spans
	End     spi.End
	Release bench.Release // of its select
}

// SPIOf gives the bus as a bench states it, the MCU's end as its firmware's start-up
// really brings it into the registers: that holds for the first device, the unit is set
// anew for each other one.
func SPIOf(l *bench.Link) SPI {
	b := l.Model.(*bench.SPI)
	out := SPI{Asks: b.Asks}
	for _, d := range b.Devices {
		half := quantity.Time(1e12/d.Margin.Rate.Hz()/2 + 0.5)
		out.Devices = append(out.Devices, SPIPart{d.Name, d.MCU, spi.Timing{Half: half, Lead: max(d.Lead, 1), Lag: max(d.Lag, 1)}, max(d.Idle, 1), d.End, d.Release})
	}
	if p, err := started(l); err == nil {
		first := &out.Devices[0]
		if set, divider, ok := b.FromRegisters(p.value); ok {
			first.MCU = set
			first.Half = quantity.Time(1e12*float64(divider)/b.Clocking.Clock.Hz()/2 + 0.5)
		}
		out.Off = !p.on("clock") || !p.on("enable")
		out.NoClock = !p.on("port-clock") || !p.on("clock-pin")
		out.NoOut = !p.on("port-clock") || !p.on("out-pin")
		out.NoIn = !p.on("port-clock") || !p.on("in-pin")
		out.NoSelect = !p.on("port-clock") || !p.on("select-pin")
		out.Unserved = !p.emptied()
	}
	return out
}

func parseSPI(text string) (*SPI, error) {
	b := &SPI{}
	if err := unpacked(text, b); err != nil {
		return nil, err
	}
	if len(b.Devices) == 0 || len(b.Devices) > 250 || len(b.Asks) > 1000 {
		return nil, errors.New("the bus is out of range")
	}
	for _, d := range b.Devices {
		if err := errors.Join(d.MCU.Check(), d.End.Check()); err != nil {
			return nil, err
		}
		for _, t := range []quantity.Time{d.Half, d.Lead, d.Lag, d.Idle} {
			if t < 1 || t > quantity.Second {
				return nil, fmt.Errorf("%s: a time is out of range", d.Name)
			}
		}
		if d.End.Most < quantity.Hertz || d.End.Valid < 0 || d.End.SetUp < 0 || d.End.Hold < 0 || d.End.Valid > quantity.Second {
			return nil, fmt.Errorf("%s: its end is out of range", d.Name)
		}
		if !slices.Contains([]bench.Release{bench.WhenSent, bench.WhenEmpty, bench.Never}, d.Release) {
			return nil, fmt.Errorf("%s: its select is released at an unknown moment", d.Name)
		}
	}
	for _, a := range b.Asks {
		if a.Every < quantity.Microsecond {
			return nil, errors.New("the firmware asks too often")
		}
	}
	return b, nil
}

// spiBus is a simulated spi bus: the MCU's unit drives clock, data and selects; each
// device follows them with its own settings, and all may drive the line back.
type spiBus struct {
	place
	parts []*device.Device
	cells []*device.Cells // the bytes of memories
	works []*device.Part  // the registers of each; nil where they are not described
	now   SPI

	roles  []bus.Role
	pin    []*wire.Line // at the MCU: clock, out, and the selects; nil in the place of in
	far    []*wire.Line // at the devices
	high   []bool       // the levels of pin behind all that is driven
	in     *wire.Join
	out    *wire.Join // the line out, of which the first output is the MCU's
	loop   bool       // a jumper joins out and in at the MCU
	cross  []bool     // devices whose data wires are exchanged
	target []*spi.Target
	tap    bus.Decoder

	queue []spiSpan
	busy  bool
	ahead spiSpan // the span that is on the way
	lines spi.Lines
	from  quantity.Time // its start
	due   []quantity.Time
	asked bool
	epoch uint8
	beat  quantity.Time
	cut   []bool // wires, by their roles
	drive []wire.Driven
	later []func()      // waits for the end of the span
	taken record.Record // the tap's record of the span
	took  bool
}

// spiSpan is a span that waits to be driven.
type spiSpan struct {
	device int
	words  []uint32
	done   func(link.Outcome)
}

func newSPIBus(p place, l *bench.Link) simulated {
	b := &spiBus{place: p, roles: l.Roles(), now: SPIOf(l)}
	for _, d := range l.Model.(*bench.SPI).Devices {
		b.parts = append(b.parts, d.Part)
	}
	b.cut = make([]bool, len(b.roles))
	b.high = make([]bool, len(b.roles))
	for i := range b.roles {
		// Lines begin at the level at which they rest once the unit is set up.
		rest := wire.DrivenLow
		if b.rests(i) {
			rest, b.high[i] = wire.DrivenHigh, true
		}
		b.pin, b.far = append(b.pin, wire.NewLine(0, rest)), append(b.far, wire.NewLine(0, rest))
	}
	b.in = wire.NewJoin(len(b.now.Devices)+2, p.w.now) // a hand that holds it, and a jumper
	b.out = wire.NewJoin(len(b.now.Devices)+1, p.w.now)
	b.cross = make([]bool, len(b.now.Devices))
	b.target = make([]*spi.Target, len(b.now.Devices))
	b.works = make([]*device.Part, len(b.now.Devices))
	b.cells = make([]*device.Cells, len(b.now.Devices))
	for i := range b.target {
		b.power(i)
	}
	b.start(b.now)
	return b
}

const inRole = 2

// rests gives the level of a line while nothing is sent.
func (b *spiBus) rests(role int) bool {
	switch i := b.deviceOf(role); {
	case role == 0:
		return b.now.Devices[0].MCU.ClockIdleHigh
	case i >= 0:
		return b.now.Devices[i].MCU.Select == spi.ActiveLow
	case role >= 3:
		return true // the line for other devices that are selected
	}
	return false
}

// deviceOf gives the device whose select a role is; -1 of other roles.
func (b *spiBus) deviceOf(role int) int {
	i := role - 3
	if i < 0 || i >= len(b.now.Devices) {
		return -1
	}
	return i
}

// power gives a device that has its supply since now.
func (b *spiBus) power(i int) {
	d := b.now.Devices[i]
	if m := b.parts[i].Map; m != nil && m.Memory != nil && (b.cells[i] == nil || !m.Memory.Lasting) {
		b.cells[i] = b.parts[i].NewCells()
	}
	dev, part := b.parts[i].OnSPI(b.w.now, b.cells[i])
	b.works[i] = part
	b.target[i] = &spi.Target{End: d.End, Device: dev, Doubt: func() bool { return b.w.rng.IntN(2) == 1 }}
}

// start brings a state into force, from the present time on.
func (b *spiBus) start(n SPI) {
	b.now = n
	b.epoch++
	b.asked = false
	var ends []bus.Settings
	ends = append(ends, n.Devices[0].End.Settings)
	for _, d := range n.Devices {
		ends = append(ends, d.End.Settings)
	}
	b.tap = spi.Kind.Decoder(b.index, ends)
	for i := range n.Devices {
		if t := b.target[i]; t != nil {
			t.End = n.Devices[i].End
		}
	}
	for i, d := range n.Devices {
		if d.Release != bench.Never && b.high[3+i] != b.rests(3+i) {
			b.put(3+i, []quantity.Time{b.w.now})
		}
	}
	b.connect()
	b.due = b.due[:0]
	for i, a := range n.Asks {
		at := b.w.now + a.Every*quantity.Time(i+1)/quantity.Time(len(n.Asks)+1)
		b.due = append(b.due, at)
		b.at(at, asks, b.epoch)
	}
	b.again()
}

// connect breaks and joins wires as pins and cuts say.
func (b *spiBus) connect() {
	pins := []bool{b.now.NoClock, b.now.NoOut, false}
	for i := range b.roles {
		if i == inRole {
			continue
		}
		dead := i < len(pins) && pins[i] || b.deviceOf(i) >= 0 && b.now.NoSelect
		set := func(l *wire.Line, broken bool) {
			if broken != l.Open() {
				if broken {
					l.Break(b.w.now)
				} else {
					l.Mend(b.w.now)
				}
			}
		}
		set(b.pin[i], dead)
		set(b.far[i], dead || b.cut[i])
	}
	b.out.Drive(0, []wire.Driven{{At: b.w.now, High: b.high[1], Driven: !b.now.NoOut}})
}

// again asks for the next reading of an idle bus.
func (b *spiBus) again() {
	b.beat = b.w.now + spiBeat
	b.at(b.beat, look, b.epoch)
}

// act implements actor.
func (b *spiBus) act(what eventKind, arg uint8) {
	switch what {
	case asks:
		if arg == b.epoch {
			b.ask()
		}
	case look:
		if arg == b.epoch && b.w.now >= b.beat {
			if !b.busy {
				b.read()
			}
			b.again()
		}
	case sent:
		b.over()
	}
}

// ask sends what is due, unless all of an earlier round still wait.
func (b *spiBus) ask() {
	for i, a := range b.now.Asks {
		if b.due[i] > b.w.now {
			continue
		}
		b.due[i] += a.Every
		b.at(b.due[i], asks, b.epoch)
		if b.now.Off || len(b.queue) > 2*len(b.now.Asks) || b.now.Unserved && b.asked {
			continue
		}
		b.asked = true
		for _, text := range a.Texts {
			if dev, words, err := b.parse(text); err == nil {
				b.send(spiSpan{dev, words, nil})
			}
		}
	}
}

func (b *spiBus) parse(text string) (int, []uint32, error) {
	return spi.ParseWords(text, len(b.now.Devices), func(i int) int { return b.now.Devices[i].MCU.Word })
}

func (b *spiBus) send(s spiSpan) {
	b.queue = append(b.queue, s)
	b.next()
}

// next drives the next span: nobody else drives clock and data, so one event drives the
// whole of it.
func (b *spiBus) next() {
	if b.busy || len(b.queue) == 0 {
		return
	}
	b.ahead = b.queue[0]
	b.queue = b.queue[1:]
	b.busy, b.took = true, false
	d := &b.now.Devices[b.ahead.device]
	at := b.w.now + 1
	if b.high[0] != d.MCU.ClockIdleHigh {
		// The unit is set for this device: its clock rests at the other level.
		b.put(0, []quantity.Time{at})
		at += d.Half
	}
	l, end := spi.EncodeTimed(d.MCU, d.Timing, at, b.ahead.words, nil)
	b.lines, b.from = l, at
	b.put(0, l.Clock)
	b.jumper(l.Out)
	b.drives(d, l, end)
	b.put(1, l.Out)
	b.put(3+b.ahead.device, b.moved(d, l.Select, at))
	b.at(end+d.Idle, sent, 0)
}

// moved gives the toggles of select, of those that the span wants.
func (b *spiBus) moved(d *SPIPart, toggles []quantity.Time, at quantity.Time) []quantity.Time {
	switch {
	case len(toggles) < 2:
		return toggles
	case d.Release == bench.WhenEmpty:
		last := at + d.Lead + 2*d.Half*quantity.Time((len(b.ahead.words)-1)*d.MCU.Word)
		return []quantity.Time{toggles[0], min(toggles[1], last+d.Lag)}
	case d.Release == bench.Never && b.high[3+b.ahead.device] != b.rests(3+b.ahead.device):
		return nil // it was never let go
	case d.Release == bench.Never:
		return toggles[:1]
	}
	return toggles
}

// drives tells the line out what the MCU's output does to it in a span.
func (b *spiBus) drives(d *SPIPart, l spi.Lines, end quantity.Time) {
	if b.now.NoOut {
		return
	}
	high := b.high[1]
	var driven []wire.Driven
	for _, t := range l.Out {
		high = !high
		if t < l.Turn || t >= end {
			driven = append(driven, wire.Driven{At: t, High: high, Driven: true})
		}
	}
	if l.Turn < end {
		driven = append(driven, wire.Driven{At: l.Turn}, wire.Driven{At: end, Driven: true})
		slices.SortStableFunc(driven, func(x, y wire.Driven) int { return cmp.Compare(x.At, y.At) })
	}
	b.out.Drive(0, driven)
}

// jumper lets the line back follow out, where they are joined; toggles are those that out
// goes on with.
func (b *spiBus) jumper(toggles []quantity.Time) {
	if !b.loop || b.now.NoOut {
		return
	}
	high := b.high[1]
	var driven []wire.Driven
	for _, t := range toggles {
		high = !high
		driven = append(driven, wire.Driven{At: t, High: high, Driven: true})
	}
	b.in.Drive(len(b.target)+1, driven)
}

func (b *spiBus) put(role int, toggles []quantity.Time) {
	b.pin[role].Drive(toggles)
	b.far[role].Drive(toggles)
	b.high[role] = b.high[role] != (len(toggles)%2 == 1)
}

// over ends the span that is on the way.
func (b *spiBus) over() {
	if !b.busy {
		return
	}
	out, in := b.read()
	read := b.unitReads(out, in)
	if !b.took || spi.Kind.Sentence(read) != spi.Kind.Sentence(&b.taken) {
		b.w.store.Put(read) // the unit reads otherwise than the tap
	}
	done := b.ahead.done
	b.busy = false
	for _, f := range b.later {
		f()
	}
	b.later = nil
	if done != nil {
		out := link.Outcome{At: b.w.now, OK: true, Record: read}
		out.Text = "read " + spi.Kind.Sentence(read)
		if f := read.AllFlags(); f != 0 {
			out.Text += ", " + f.String()
		}
		done(out)
	}
	b.next()
}

// unitReads gives the span as the MCU's unit reads it: with its own settings, at the
// edges that it makes itself.
func (b *spiBus) unitReads(out, in wire.Window) *record.Record {
	d := &b.now.Devices[b.ahead.device]
	w := func(high bool, toggles []quantity.Time) wire.Window {
		return wire.Window{From: in.From, To: in.To, High: high, Toggles: toggles}
	}
	if b.now.NoIn || b.cut[inRole] {
		in = wire.Window{From: in.From, To: in.To, Unknown: []wire.Span{{From: in.From, To: in.To, Open: true}}}
	}
	dec := spi.NewDecoder(d.MCU, b.index, record.Device+record.End(b.ahead.device))
	var seen record.List
	if !d.MCU.Shared {
		out = w(false, b.lines.Out) // it knows what it sends
	}
	dec.Feed([]wire.Window{w(d.MCU.ClockIdleHigh, b.lines.Clock), out, in, w(d.MCU.Select == spi.ActiveLow, b.lines.Select)}, &seen)
	got := seen.Done[0]
	got.Seen = record.MCU
	return &got
}

// read gives devices, tap and capture the levels up to now, and the windows of both data
// lines.
func (b *spiBus) read() (out, in wire.Window) {
	to := b.w.now
	pins := make([]wire.Window, len(b.roles))
	fars := make([]wire.Window, len(b.roles))
	for i := range b.roles {
		if i != inRole {
			pins[i], fars[i] = clone(b.pin[i].Read(to)), clone(b.far[i].Read(to))
		}
	}
	if pins[0].From == to {
		return pins[1], wire.Window{From: to, To: to}
	}
	for i, t := range b.target {
		if t == nil || b.cross[i] {
			continue
		}
		b.drive = t.Feed(&fars[0], &fars[1], &fars[3+i], b.drive[:0])
		if t.Shared {
			b.out.Drive(1+i, b.drive)
		} else {
			b.in.Drive(i, b.drive)
		}
	}
	in = b.in.Read(to)
	for i, t := range b.target {
		if t != nil && b.cross[i] {
			b.drive = t.Feed(&fars[0], &in, &fars[3+i], b.drive[:0])
			b.out.Drive(1+i, b.drive)
		}
	}
	if joined := b.out.Read(to); !b.cut[1] {
		pins[1] = joined
	}
	pins[inRole] = in
	if b.cut[inRole] {
		pins[inRole].Unknown = []wire.Span{{From: in.From, To: to, Open: true}}
	}
	b.tap.Feed(pins, b)
	for i := range pins {
		b.w.store.Levels(b.line0+i, &pins[i])
	}
	return pins[1], in
}

func clone(w wire.Window) wire.Window {
	w.Toggles = slices.Clone(w.Toggles)
	return w
}

// Put implements record.Sink for the tap.
func (b *spiBus) Put(r *record.Record) {
	if r.Kind == record.Transaction && int(r.From-record.Device) == b.ahead.device {
		b.taken, b.took = r.Clone(), true
	}
	b.w.store.Put(r)
}

// Open implements record.Sink.
func (b *spiBus) Open(r *record.Record) { b.w.store.Open(r) }

// feed implements simulated: the bus is read at times of its own, so that records do not
// depend on how the world is watched.
func (b *spiBus) feed() {}

func (b *spiBus) state() string      { return packed(b.now) }
func (b *spiBus) bit() quantity.Time { return 2 * b.now.Devices[0].Half }

func (b *spiBus) takes() map[string]string {
	takes := map[string]string{
		link.TransactVerb: "", link.CutVerb: "", link.PowerVerb: "", link.ConfigureVerb: "", link.HoldVerb: "", link.PresetVerb: "", link.LoopVerb: "", link.CrossVerb: "",
		link.SendVerb: "on an SPI bus words are exchanged: transact select 1 out 83 00 00",
	}
	if b.now.Off {
		takes[link.TransactVerb] = "the MCU's unit is off: look at its startup"
	}
	return takes
}

// do implements simulated.
func (b *spiBus) do(i link.Intent, done func(link.Outcome)) error {
	switch i := i.(type) {
	case link.Transact:
		dev, words, err := b.parse(i.Text)
		if err != nil {
			return err
		}
		b.send(spiSpan{dev, words, done})
		return nil
	case link.Cut:
		role, err := b.role(i.End)
		if err != nil {
			return err
		}
		b.between(func() {
			b.cut[role] = !i.Joined
			b.connect()
			b.note(b.w.now, "wire %s %s", b.roles[role].Name, map[bool]string{true: "reconnected", false: "cut"}[i.Joined])
		})
	case link.Hold:
		if i.Role != "in" {
			return errors.New("the MCU drives clock, out and the selects alone: only the line in can be held")
		}
		b.between(func() {
			b.in.Drive(len(b.target), []wire.Driven{{At: b.w.now, Driven: !i.Release, Strong: true}})
			b.note(b.w.now, "the line in is %s", map[bool]string{true: "released", false: "held low"}[i.Release])
		})
	case link.Loop:
		b.between(func() {
			b.loop = i.On
			b.in.Drive(len(b.target)+1, []wire.Driven{{At: b.w.now, High: b.high[1], Driven: i.On && !b.now.NoOut}})
			b.note(b.w.now, "out and in %s", map[bool]string{true: "joined by a jumper", false: "apart again"}[i.On])
		})
	case link.Cross:
		k := slices.IndexFunc(b.now.Devices, func(d SPIPart) bool { return d.Name == i.Device })
		switch {
		case k < 0:
			return fmt.Errorf("%q is no device on it", i.Device)
		case b.now.Devices[k].End.Shared:
			return fmt.Errorf("%s has one data line: there are no two to exchange", i.Device)
		}
		b.between(func() {
			off := []wire.Driven{{At: b.w.now}}
			b.in.Drive(k, off)
			b.out.Drive(1+k, off)
			b.cross[k] = !i.Right
			b.note(b.w.now, "%s: out and in are %s", i.Device, map[bool]string{true: "as they should be", false: "exchanged"}[i.Right])
		})
	case link.Power:
		k := slices.IndexFunc(b.now.Devices, func(d SPIPart) bool { return d.Name == i.Device })
		if k < 0 {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		b.between(func() {
			switch has := b.target[k] != nil; {
			case has == i.On:
				return
			case i.On:
				b.power(k)
			default:
				b.target[k] = nil
				b.powerLost(i.Device, b.works[k])
				b.in.Drive(k, []wire.Driven{{At: b.w.now}})
				b.out.Drive(1+k, []wire.Driven{{At: b.w.now}})
			}
			b.note(b.w.now, "%s: supply %s", i.Device, map[bool]string{true: "on", false: "off"}[i.On])
		})
	case link.Preset:
		k := slices.IndexFunc(b.now.Devices, func(d SPIPart) bool { return d.Name == i.Device })
		if k < 0 {
			return fmt.Errorf("%q is no device on it", i.Device)
		}
		return b.preset(b.works[k], i, done)
	case link.Configure:
		n, err := parseSPI(i.State)
		if err != nil {
			return err
		}
		if len(n.Devices) != len(b.now.Devices) {
			return errors.New("it has other devices: start the simulation again")
		}
		b.between(func() {
			b.start(*n)
			state := "clock of " + (2 * n.Devices[0].Half).Round(4)
			if n.Off {
				state = "off"
			}
			b.note(b.w.now, "MCU %s", state)
		})
	}
	done(link.Outcome{At: b.w.now, OK: true})
	return nil
}

// between does something when no span is on the way.
func (b *spiBus) between(f func()) {
	if b.busy {
		b.later = append(b.later, f)
		return
	}
	b.read()
	f()
}

// role finds a wire by its name.
func (b *spiBus) role(name string) (int, error) {
	var names []string
	for i, r := range b.roles {
		if i >= 3 && b.deviceOf(i) < 0 {
			continue
		}
		if r.Name == name {
			return i, nil
		}
		names = append(names, r.Name)
	}
	return 0, fmt.Errorf("it has no wire %q; there are %s", name, strings.Join(names, ", "))
}
