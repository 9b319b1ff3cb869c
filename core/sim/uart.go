package sim

import (
	"fmt"
	"reflect"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/transfer"
	"gavrix.org/gavrix/core/wire"
)

// The two sides of a link, and the lines that they drive.
const (
	mcuSide    = 0
	deviceSide = 1
)

// answerTime is how long the firmware of an asking link waits for an answer
// before its next exchange.
const answerTime = 100 * quantity.Millisecond

// sender is a transmitter: it drives its line character by character.
type sender struct {
	queue []uint16
	busy  bool
	spilt bool // something was dropped since it was held back
}

// mostHeldBack is how many characters wait at a sender that is held back.
const mostHeldBack = 4096

// uartLink is a uart link: two transmitters, two wires, two receivers with
// clocks of their own, the device, and the MCU's receive register.
type uartLink struct {
	place
	name  string
	bench *bench.UART

	ends    Ends  // how the ends run now
	wanted  Ends  // how they will run from the next idle
	changed bool  // wanted differs from ends
	epoch   uint8 // counts changes of what the firmware asks: events of an earlier one don't count
	tx      [2]sender
	pin     [2]*wire.Line     // at the driver, where the tap is
	line    [2]*wire.Line     // at the far end of the wire
	rx      [2]*uart.Receiver // rx[0] is the device's, on the MCU's line
	tap     [2]*uart.Receiver
	cut     [2]bool          // the wire is broken
	resting [2]bool          // the level at which each line rests
	lookAt  [2]quantity.Time // the time of the look event that counts
	dev     *device.Running
	part    *device.Part  // its registers; nil where they are not described
	cells   *device.Cells // the bytes of its memory
	actsAt  quantity.Time
	scratch []quantity.Time

	flow   [2]flow
	shared sharedWire // one wire for both directions

	waits    int            // characters in the MCU's receive register
	moves    *transfer.Live // what takes them out of it; nil: a handler does, after the service time
	undriven bool           // the line from the MCU floats
	off      bool           // the device has no supply
	crossed  bool           // its two wires are exchanged: both ends send on one, and listen on the other
	crossing bool           // they will be from the next idle, or not any more
	both     *wire.Join     // what both drive then

	// The firmware of an asking link makes one exchange at a time.
	messages [][]byte
	waiting  bool // for an answer, until turnAt
	turnAt   quantity.Time
}

func newUART(p place, link *bench.Link) simulated {
	b := link.Model.(*bench.UART)
	l := &uartLink{place: p, name: link.Name, bench: b, ends: EndsOf(link), wanted: EndsOf(link), actsAt: quantity.Forever}
	for i := range l.line {
		rest := wire.DrivenHigh
		if b.Biased {
			rest = wire.BiasedHigh
		}
		l.pin[i] = wire.NewLine(0, rest)
		l.line[i] = wire.NewLine(b.Delay, rest)
		l.lookAt[i] = quantity.Forever
		l.resting[i] = true
	}
	for side, from := range []record.End{record.MCU, record.Device} {
		l.flow[side] = newFlow(l, from)
	}
	l.begins()
	l.receivers()
	l.beginShared()
	l.begin()
	l.beginFlow(deviceSide)
	l.scheduleDevice()
	l.startAsking()
	return l
}

// startAsking lets the firmware send by itself, in place of what it did so far.
func (l *uartLink) startAsking() {
	l.epoch++
	if a := l.ends.Ask; a != nil {
		l.at(l.w.now+a.Every/8, asks, l.epoch)
	}
}

// act implements actor.
func (l *uartLink) act(what eventKind, side uint8) {
	switch what {
	case sent:
		l.charSent(side)
	case look:
		l.look(side)
	case again:
		l.read(int(side))
	case acts:
		l.deviceActs()
	case asks:
		if side == l.epoch {
			l.ask()
		}
	case service:
		l.waits = 0
		l.judge(mcuSide)
	case cleared:
		l.cleared(int(side))
	case drains:
		l.drains()
	case worked:
		l.worked()
	case letGo:
		l.letsGo(int(side))
	case turn:
		l.nextExchange()
	}
}

// feed implements simulated.
func (l *uartLink) feed() {
	l.read(0)
	l.read(1)
	l.readReady()
}

func (l *uartLink) bit() quantity.Time { return quantity.PeriodOf(l.ends.MCU.Rate).Times(1) }

func (l *uartLink) state() string { return packed(l.wanted) }

func (l *uartLink) takes() map[string]string {
	return map[string]string{
		link.LoopVerb: "a jumper at a character link is not simulated",
		link.SendVerb: "", link.CutVerb: "", link.PowerVerb: "", link.ConfigureVerb: "", link.PresetVerb: "",
		link.CrossVerb:    "",
		link.HoldVerb:     "a character link has an output at each end: cut a wire, none can be held",
		link.TransactVerb: "a character link sends characters: send",
	}
}

// do implements simulated.
func (l *uartLink) do(i link.Intent, done func(link.Outcome)) error {
	switch i := i.(type) {
	case link.Send:
		if err := l.ends.MCU.Frame.Carries(i.Data); err != nil {
			return err
		}
		l.send(i.Data)
	case link.Cut:
		side, err := l.side(i.End)
		if err != nil {
			return err
		}
		l.cutWire(side, !i.Joined)
	case link.Cross:
		if l.shares() {
			return fmt.Errorf("one wire serves both directions: there is nothing to exchange")
		}
		if side, err := l.side(i.Device); err != nil || side == mcuSide {
			return fmt.Errorf("%q is no device on it; there is %s", i.Device, l.bench.Device.Name)
		}
		l.crossing = i.Right == l.crossed
		l.applyIfIdle()
	case link.Power:
		if side, err := l.side(i.Device); err != nil || side == mcuSide {
			return fmt.Errorf("%q is no device on it; there is %s", i.Device, l.bench.Device.Name)
		}
		l.power(i.On)
	case link.Preset:
		if i.Device != l.bench.Device.Name {
			return fmt.Errorf("%q is no device on it; there is %s", i.Device, l.bench.Device.Name)
		}
		return l.preset(l.part, i, done)
	case link.Configure:
		e, err := parseEnds(i.State)
		if err != nil {
			return err
		}
		l.wanted, l.changed = *e, true
		l.applyIfIdle()
	}
	done(link.Outcome{At: l.w.now, OK: true})
	return nil
}

// side finds an end by its name.
func (l *uartLink) side(end string) (int, error) {
	switch end {
	case "mcu", "MCU":
		return mcuSide, nil
	case "device", l.bench.Device.Name:
		return deviceSide, nil
	}
	return 0, fmt.Errorf("%q is no end of it; its ends are mcu and %s", end, l.bench.Device.Name)
}

// begins lets the device begin as it is after power-up.
func (l *uartLink) begins() {
	d := l.bench.Device
	l.powerLost(d.Name, l.part)
	if d.Map != nil && d.Map.Memory != nil && (l.cells == nil || !d.Map.Memory.Lasting) {
		l.cells = d.NewCells()
	}
	l.dev, l.part = d.Start(l.w.now, l.w.rng, l.cells)
}

// power takes the supply from the device or gives it back: it starts anew then.
func (l *uartLink) power(on bool) {
	if l.off == !on {
		return
	}
	l.off = !on
	if l.crossed {
		l.both.Drive(deviceSide, []wire.Driven{{At: l.w.now, High: l.resting[deviceSide], Driven: on}})
	}
	if on {
		l.begins()
		l.line[deviceSide].Mend(l.w.now)
		l.pin[deviceSide].Mend(l.w.now)
		l.scheduleDevice()
	} else {
		l.tx[deviceSide].queue = nil
		l.line[deviceSide].Break(l.w.now)
		l.pin[deviceSide].Break(l.w.now)
	}
	l.letsGo(deviceSide)
	l.beginFlow(deviceSide)
	l.wake(deviceSide, l.w.now+1)
	l.wakeAgain(deviceSide, l.w.now+l.line[deviceSide].Delay+1)
	l.note(l.w.now, "%s: supply %s", l.bench.Device.Name, map[bool]string{true: "on", false: "off"}[on])
}

// cross exchanges the wires at the device, or puts them right again.
func (l *uartLink) cross() {
	l.crossing, l.crossed = false, !l.crossed
	on := l.crossed
	if on {
		l.both = wire.NewJoin(2, l.w.now)
		l.both.Drive(mcuSide, []wire.Driven{{At: l.w.now, High: l.pin[mcuSide].EndHigh(), Driven: !l.undriven}})
		l.both.Drive(deviceSide, []wire.Driven{{At: l.w.now, High: l.pin[deviceSide].EndHigh(), Driven: !l.off}})
	}
	for side := range 2 {
		l.wake(side, l.w.now+1)
	}
	l.note(l.w.now, "%s: its wires are %s", l.bench.Device.Name, map[bool]string{true: "exchanged", false: "as they should be"}[on])
}

// begin is the MCU's unit after its firmware's start-up.
func (l *uartLink) begin() {
	u := l.ends.Unit
	if u.Undriven != l.undriven {
		l.undriven = u.Undriven
		if l.crossed {
			l.both.Drive(mcuSide, []wire.Driven{{At: l.w.now, High: l.resting[mcuSide], Driven: !u.Undriven}})
		}
		for _, line := range []*wire.Line{l.pin[mcuSide], l.line[mcuSide]} {
			if u.Undriven {
				line.Break(l.w.now)
			} else if line != l.line[mcuSide] || !l.cut[mcuSide] {
				line.Mend(l.w.now)
			}
		}
		l.wake(mcuSide, l.w.now+1)
		l.wakeAgain(mcuSide, l.w.now+l.line[mcuSide].Delay+1)
	}
	l.waits = 0
	l.moves = nil
	if m := l.ends.Moves; m != nil && !u.Unserved {
		l.moves = m.Live(m.Plans[0], l.w.now)
	}
	note := ""
	switch {
	case u.LeftOver != "" && u.Unserved:
		note = fmt.Sprintf("1 stale character (%s) waits in the receive register", u.LeftOver)
		l.waits = 1
	case u.LeftOver != "":
		note = fmt.Sprintf("1 stale character (%s) was handed to the first message", u.LeftOver)
	case u.Drained != "":
		note = fmt.Sprintf("startup took away 1 stale character (%s)", u.Drained)
	}
	if note != "" {
		l.note(l.w.now, "%s", note)
	}
	l.beginFlow(mcuSide)
}

// settings gives the settings of a side, at the rate at which it really runs.
func (l *uartLink) settings(side int) (uart.Settings, quantity.Period) {
	if side == mcuSide {
		return l.ends.MCU, quantity.PeriodOf(l.ends.MCU.Rate)
	}
	return l.ends.Device, quantity.PeriodOf(l.ends.Device.Rate).Scaled(l.ends.ClockOff)
}

// receivers makes the receivers anew, each with a tick phase of its own.
func (l *uartLink) receivers() {
	for side := range 2 {
		sender, period := l.settings(side)
		receiver, rPeriod := l.settings(1 - side)
		from, seen := record.MCU, record.Device
		if side == deviceSide {
			from, seen = record.Device, record.MCU
		}
		tap, cfg := sender.Config(period), receiver.Config(rPeriod)
		tap.Oversampling, tap.Vote = 0, false
		tap.Link, tap.From, tap.Seen, tap.Origin = l.index, from, record.Tap, record.FromLevels
		cfg.Link, cfg.From, cfg.Seen, cfg.Origin = l.index, from, seen, record.FromLevels
		l.tap[side] = uart.NewReceiver(tap)
		l.rest(side, !sender.Frame.Inverted)
		if os := receiver.Oversampling; os > 0 {
			cfg.Phase = quantity.Period(l.w.rng.Int64N(max(int64(rPeriod)/int64(os), 1)))
		}
		l.rx[side] = uart.NewReceiver(cfg)
	}
	l.rx[mcuSide].OnChar = l.deviceReceives
	l.rx[deviceSide].OnChar = l.mcuReceives
}

// rest drives a side's line to its resting level.
func (l *uartLink) rest(side int, high bool) {
	if l.resting[side] == high {
		return
	}
	l.resting[side] = high
	l.pin[side].Drive([]quantity.Time{l.w.now})
	l.line[side].Drive([]quantity.Time{l.w.now})
	l.wake(side, l.w.now+1)
	l.wakeAgain(side, l.w.now+l.line[side].Delay+1)
}

// mcuReceives is the MCU's receive register: it holds as many characters as the unit
// is deep, and is emptied by the handler after the service time. What completes while
// it is full is lost.
func (l *uartLink) mcuReceives(c uart.Char) record.Flags {
	if l.waiting {
		// Without a line end a pause ends the answer.
		if end := l.bench.Device.Talks.LineEnd; len(end) == 0 || byte(c.Value) == end[len(end)-1] {
			l.waitUntil(c.Ready + quantity.PeriodOf(l.ends.MCU.Rate).Times(20))
		}
	}
	if l.obeys(mcuSide, c) {
		return 0
	}
	if l.moves != nil {
		lost := l.moves.Word(c.Start, c.End, uint64(c.Value))
		l.judge(mcuSide)
		if lost {
			return record.Overrun
		}
		return 0
	}
	if l.waits > l.ends.Depth-1 {
		return record.Overrun
	}
	l.waits++
	l.judge(mcuSide)
	if !l.ends.Unit.Unserved && l.waits == 1 {
		l.at(c.Ready+l.ends.Service, service, 0)
	}
	return 0
}

func (l *uartLink) scheduleDevice() {
	if at := l.dev.Wake(); at < l.actsAt && !l.off {
		l.actsAt = at
		l.at(at, acts, 0)
	}
}

func (l *uartLink) deviceActs() {
	if l.w.now < l.actsAt {
		return // an earlier wish replaced this event
	}
	l.actsAt = quantity.Forever
	if l.off {
		return
	}
	l.queueBytes(deviceSide, l.dev.Step(l.w.now))
	l.scheduleDevice()
}

// send lets the MCU send. On an asking link messages wait their turn.
func (l *uartLink) send(data []byte) {
	if l.ends.Ask == nil {
		l.queueBytes(mcuSide, data)
		return
	}
	l.messages = append(l.messages, data)
	if !l.waiting {
		l.nextExchange()
	}
}

func (l *uartLink) ask() {
	l.at(l.w.now+l.ends.Ask.Every, asks, l.epoch)
	if len(l.messages) == 0 && len(l.tx[mcuSide].queue) == 0 {
		l.send(l.ends.Ask.Text)
	}
}

func (l *uartLink) nextExchange() {
	if l.waiting && l.w.now < l.turnAt {
		return // an answer put the turn off or an earlier one replaced it
	}
	l.waiting = false
	if len(l.messages) == 0 {
		return
	}
	m := l.messages[0]
	l.messages = l.messages[1:]
	l.waiting = true
	l.waitUntil(l.w.now + uart.Duration(l.ends.MCU, len(m)) + answerTime)
	l.queueBytes(mcuSide, m)
}

func (l *uartLink) waitUntil(t quantity.Time) {
	l.turnAt = t
	l.at(t, turn, 0)
}

func (l *uartLink) queueBytes(side int, data []byte) {
	if side == mcuSide && l.ends.Unit.Mute {
		return // a unit that does not run loses what is written to it
	}
	s := &l.tx[side]
	if len(s.queue)+len(data) > mostHeldBack && !l.maySend(side) {
		if !s.spilt {
			l.note(l.w.now, "%s: held back for so long that what it has to send is dropped", []string{"the MCU", l.bench.Device.Name}[side])
		}
		s.spilt = true
		return
	}
	s.spilt = false
	for _, b := range data {
		s.queue = append(s.queue, uint16(b))
	}
	if !s.busy {
		l.startChar(side)
	}
}

// startChar drives the next character's levels: nobody else can interfere on
// this line, so one event drives the whole word.
func (l *uartLink) startChar(side int) {
	s, f := &l.tx[side], &l.flow[side]
	var c uint16
	switch {
	case len(f.signs) > 0:
		c, f.signs = f.signs[0], f.signs[1:]
	case len(s.queue) > 0 && l.maySend(side):
		c, s.queue = s.queue[0], s.queue[1:]
	default:
		return
	}
	s.busy = true
	set, period := l.settings(side)
	var end quantity.Time
	l.scratch, end = uart.Encode(l.scratch[:0], set.Frame, period, l.w.now, c)
	if l.shares() {
		l.driveShared(side, l.scratch)
		l.at(end, sent, uint8(side))
		return
	}
	high := l.pin[side].EndHigh()
	l.pin[side].Drive(l.scratch)
	l.line[side].Drive(l.scratch)
	l.drives(side, high, l.scratch)
	l.at(end, sent, uint8(side))
	l.wake(side, l.w.now+1)
	l.wakeAgain(side, l.w.now+l.line[side].Delay+1)
}

// drives tells the wire that both ends drive, where they do, what one does to it; high is
// the level before.
func (l *uartLink) drives(side int, high bool, toggles []quantity.Time) {
	if !l.crossed || side == mcuSide && l.undriven {
		return
	}
	var driven []wire.Driven
	for _, t := range toggles {
		high = !high
		driven = append(driven, wire.Driven{At: t, High: high, Driven: true})
	}
	l.both.Drive(side, driven)
	if side == deviceSide {
		l.wake(mcuSide, l.w.now+1)
	}
}

// wakeAgain lets the receivers be fed at the time t too, whatever else is due.
func (l *uartLink) wakeAgain(side int, t quantity.Time) {
	l.at(t, again, uint8(side))
}

func (l *uartLink) charSent(side uint8) {
	l.tx[side].busy = false
	l.startChar(int(side))
	if l.shares() && !l.tx[side].busy {
		set, _ := l.settings(int(side))
		l.at(l.w.now+set.TurnRound, letGo, side)
	}
	l.applyIfIdle()
}

// wake makes sure that a line's receivers are fed at the time t.
func (l *uartLink) wake(side int, t quantity.Time) {
	if t >= l.lookAt[side] {
		return
	}
	l.lookAt[side] = t
	l.at(t, look, uint8(side))
}

func (l *uartLink) look(side uint8) {
	if l.w.now < l.lookAt[side] {
		return // an earlier wish replaced this event
	}
	l.lookAt[side] = quantity.Forever
	l.read(int(side))
	l.applyIfIdle()
}

// read gives a line's receivers and the capture the levels up to now.
func (l *uartLink) read(side int) {
	if l.shares() {
		l.readShared()
		return
	}
	w := l.line[side].Read(l.w.now)
	if w.From != w.To {
		pin := l.pin[side].Read(l.w.now)
		if l.crossed {
			w, pin = l.exchanged(side, w)
		}
		if side == mcuSide || !l.ends.Unit.Deaf {
			heard := w
			if l.crossed {
				heard.High, heard.Toggles, heard.Unknown = l.resting[side], nil, []wire.Span{{From: w.From, To: w.To, Open: true}}
			}
			l.rx[side].Feed(&heard, l.w.store)
		}
		l.tap[side].Feed(&pin, l.w.store)
		l.w.store.Levels(l.line0+side, &w)
	}
	t := l.tap[side].Wake()
	if side == mcuSide || !l.ends.Unit.Deaf {
		t = min(t, l.rx[side].Wake())
	}
	if t != quantity.Forever {
		l.wake(side, max(t, l.w.now+1))
	}
}

// exchanged gives what receiver and tap see of a wire while those at the device are
// exchanged: nobody drives the wire at which both ends listen.
func (l *uartLink) exchanged(side int, w wire.Window) (at, tap wire.Window) {
	open := []wire.Span{{From: w.From, To: w.To, Open: true}}
	if side == deviceSide {
		w.High, w.Toggles, w.Unknown = l.resting[side], nil, open
		return w, w
	}
	joined := l.both.Read(l.w.now)
	return joined, joined
}

// cutWire breaks the wire from a side, or joins it again, and notes it as what an
// engineer did.
func (l *uartLink) cutWire(side int, broken bool) {
	l.cut[side] = broken
	l.letsGo(side)
	if broken {
		l.line[side].Break(l.w.now)
	} else if side == deviceSide && !l.off || side == mcuSide && !l.undriven {
		l.line[side].Mend(l.w.now)
	}
	l.wake(side, l.w.now+l.line[side].Delay+1)
	l.note(l.w.now, "wire from %s %s", []string{"the MCU", l.bench.Device.Name}[side], map[bool]string{true: "cut", false: "reconnected"}[broken])
}

// applyIfIdle brings changed settings into force when nothing is on the way.
func (l *uartLink) applyIfIdle() {
	if !l.changed && !l.crossing {
		return
	}
	for side := range 2 {
		if l.tx[side].busy || len(l.tx[side].queue) > 0 && l.maySend(side) || l.rx[side].Busy() || l.tap[side].Busy() {
			return
		}
	}
	for side := range 2 {
		l.read(side)
		l.rx[side].Flush(l.w.store)
		l.tap[side].Flush(l.w.store)
	}
	if l.crossing {
		l.cross()
	}
	if !l.changed {
		return
	}
	asked := l.ends.Ask
	rest := l.wanted
	rest.Ask = asked
	alike := reflect.DeepEqual(rest, l.ends)
	l.ends, l.changed = l.wanted, false
	if !reflect.DeepEqual(asked, l.ends.Ask) {
		l.startAsking()
		l.note(l.w.now, "the firmware asks %s", asking(l.ends.Ask))
	}
	if alike {
		return
	}
	l.receivers()
	l.beginShared()
	l.begin()
	l.beginFlow(deviceSide)
	for side := range 2 {
		if !l.tx[side].busy {
			l.startChar(side)
		}
	}
	l.note(l.w.now, "MCU %s, %s %s", describe(l.ends.MCU), l.bench.Device.Name, describe(l.ends.Device))
}

func asking(a *bench.Ask) string {
	if a == nil {
		return "nothing by itself"
	}
	return fmt.Sprintf("%s every %s", safe.Bytes(a.Text), a.Every)
}

func describe(s uart.Settings) string {
	out := s.Rate.Round(6) + " " + s.Frame.String()
	if s.Flow != uart.NoFlow {
		out += " " + s.Flow.String()
	}
	return out
}
