package sim

import (
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// flowRole is the first of the roles of the ready lines.
const flowRole = 3

// flow is what an end of a character link does to keep the other from sending more than
// it can take, and what it was told itself.
type flow struct {
	ready bool // it says that it can take more
	held  bool // an XOFF made it hold back
	clear bool // the other end's ready line, as it arrives here
	// Its own ready line at the pin, where the tap is, and at the other end.
	pin, line *wire.Line
	low       bool // as it drives it
	tap       uart.FlowLine
	signs     []uint16    // XOFF and XON that go out before all else
	queue     []uart.Char // of the device: what it received and has not worked on
}

func newFlow(l *uartLink, from record.End) flow {
	f := flow{ready: true, pin: wire.NewLine(0, wire.BiasedHigh), line: wire.NewLine(l.bench.Delay, wire.BiasedHigh), tap: uart.NewFlowLine(l.index, from)}
	f.pin.Break(l.w.now)
	f.line.Break(l.w.now)
	return f
}

// beginFlow is an end's flow control as it is after its start.
func (l *uartLink) beginFlow(side int) {
	f := &l.flow[side]
	s, _ := l.settings(side)
	stopped := !f.ready
	f.ready, f.held, f.signs, f.queue = true, false, nil, nil
	drives := l.ends.Wires == 4 && s.Flow == uart.Hardware
	if side == mcuSide {
		drives = drives && !l.ends.Unit.Undriven && !l.ends.Unit.Deaf
	} else {
		drives = drives && !l.off
	}
	for _, line := range []*wire.Line{f.pin, f.line} {
		if drives {
			line.Mend(l.w.now)
		} else {
			line.Break(l.w.now)
		}
	}
	l.driveReady(side)
	if stopped && s.Flow == uart.Software {
		l.says(side, true)
	}
	l.judge(side)
}

// driveReady brings the ready line to what the end says: low is ready. Where nobody drives
// it, it reads as not ready.
func (l *uartLink) driveReady(side int) {
	f := &l.flow[side]
	if f.low != f.ready {
		f.low = f.ready
		f.pin.Drive([]quantity.Time{l.w.now})
		f.line.Drive([]quantity.Time{l.w.now})
	}
	l.at(l.w.now+l.bench.Delay+1, cleared, uint8(side))
}

// cleared brings what an end says to the other.
func (l *uartLink) cleared(side int) {
	l.readReady()
	other := &l.flow[1-side]
	if other.clear = !l.flow[side].line.EndHigh(); other.clear && !l.tx[1-side].busy {
		l.startChar(1 - side)
	}
	l.applyIfIdle()
}

// readReady gives the capture the ready lines up to now.
func (l *uartLink) readReady() {
	if l.ends.Wires != 4 {
		return
	}
	for side := range l.flow {
		f := &l.flow[side]
		w := f.line.Read(l.w.now)
		if w.From == w.To {
			continue
		}
		pin := f.pin.Read(l.w.now)
		f.tap.Feed(&pin, l.w.store)
		l.w.store.Levels(l.line0+flowRole+side, &w)
	}
}

// maySend says whether an end's flow control lets it send.
func (l *uartLink) maySend(side int) bool {
	s, _ := l.settings(side)
	switch s.Flow {
	case uart.Hardware:
		return l.flow[side].clear
	case uart.Software:
		return !l.flow[side].held
	}
	return true
}

// says lets an end say that it can take more, or can't.
func (l *uartLink) says(side int, ready bool) {
	f := &l.flow[side]
	f.ready = ready
	if s, _ := l.settings(side); s.Flow != uart.Software {
		l.driveReady(side)
		return
	}
	if side == mcuSide && l.ends.Unit.Mute || side == deviceSide && l.off {
		return
	}
	sign := uint16(uart.XOFF)
	if ready {
		sign = uart.XON
	}
	f.signs = append(f.signs, sign)
	if !l.tx[side].busy {
		l.startChar(side)
	}
}

// judge lets an end say stop when its queue is full up to the place set for it, and go when
// half of that is free again.
func (l *uartLink) judge(side int) {
	s, _ := l.settings(side)
	depth, level := l.ends.Holds, len(l.flow[side].queue)
	if side == mcuSide {
		depth, level = l.ends.Depth, l.waits
		if l.moves != nil {
			level = l.moves.Waiting()
		}
	}
	if s.Flow == uart.NoFlow || depth == 0 {
		return
	}
	stop := s.StopAt(depth)
	switch f := &l.flow[side]; {
	case f.ready && level >= stop:
		l.says(side, false)
	case !f.ready && level <= stop/2:
		l.says(side, true)
	}
	if !l.flow[side].ready && side == mcuSide && l.moves != nil {
		if t := l.moves.Next(); t < quantity.Forever {
			l.at(max(t, l.w.now+1), drains, 0)
		}
	}
}

// drains looks whether the MCU's queue is empty enough again.
func (l *uartLink) drains() {
	if l.moves == nil || l.flow[mcuSide].ready {
		return
	}
	if l.rx[deviceSide].Busy() {
		l.at(l.w.now+l.bit(), drains, 0) // the machine must hear of that character first
		return
	}
	l.moves.To(l.w.now)
	l.judge(mcuSide)
}

// obeys says whether a received character was XOFF or XON for an end that obeys them.
func (l *uartLink) obeys(side int, c uart.Char) bool {
	s, _ := l.settings(side)
	if s.Flow != uart.Software || c.Flags != 0 || c.Value != uart.XOFF && c.Value != uart.XON {
		return false
	}
	l.flow[side].held = c.Value == uart.XOFF
	if !l.flow[side].held && !l.tx[side].busy {
		l.startChar(side)
	}
	return true
}

// deviceReceives is the device's receive queue.
func (l *uartLink) deviceReceives(c uart.Char) record.Flags {
	f := &l.flow[deviceSide]
	switch {
	case l.off || l.obeys(deviceSide, c):
	case l.ends.Holds == 0:
		l.dev.Receive(c)
		l.scheduleDevice()
	case len(f.queue) >= l.ends.Holds:
		return record.Overrun
	default:
		if f.queue = append(f.queue, c); len(f.queue) == 1 {
			l.at(c.Ready+l.ends.Each, worked, 0)
		}
		l.judge(deviceSide)
	}
	return 0
}

// worked is the device done with a character.
func (l *uartLink) worked() {
	f := &l.flow[deviceSide]
	if l.off || len(f.queue) == 0 {
		return
	}
	c := f.queue[0]
	f.queue = f.queue[1:]
	c.Ready, c.End = l.w.now, l.w.now
	l.dev.Receive(c)
	l.scheduleDevice()
	if len(f.queue) > 0 {
		l.at(l.w.now+l.ends.Each, worked, 0)
	}
	l.judge(deviceSide)
}
