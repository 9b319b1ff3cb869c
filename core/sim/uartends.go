package sim

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

// Ends are the settings with which a link's two ends run.
type Ends struct {
	MCU, Device uart.Settings
	ClockOff    quantity.PPM // of the device's clock
	Service     quantity.Time
	Depth       int // characters that the receive register holds
	Wires       int // between the ends
	// Holds is how many characters wait in the device, Each how long it works on one; 0:
	// it takes whatever comes.
	Holds int
	Each  quantity.Time
	Unit  Unit
	// Ask is what the firmware sends by itself; nil where it sends nothing.
	Ask *bench.Ask
	// Moves is the transfer that takes the received characters out of the unit, alone; nil
	// where the bench describes none.
	Moves *transfer.Setup
}

// EndsOf gives the settings with which a link's ends run: those that the bench
// states, the MCU's as its firmware's start-up really brings them into the
// registers.
func EndsOf(link *bench.Link) Ends {
	l := link.Model.(*bench.UART)
	e := Ends{MCU: l.MCU, Device: l.DeviceEnd.Settings, ClockOff: l.ClockOff, Service: l.Service, Depth: l.Unit.Depth, Wires: l.Wires, Holds: l.DeviceEnd.Holds, Each: l.DeviceEnd.Each}
	if p, err := started(link); err == nil {
		e.Unit, e.MCU = p.uart(l)
	}
	for _, t := range link.Transfers {
		if t.Plan.Receive {
			all := link.Setup()
			e.Moves = &transfer.Setup{Part: all.Part, Plans: []*transfer.Plan{t.Plan}, Order: all.Order, StepTime: all.StepTime}
		}
	}
	if l.Ask != nil {
		ask := *l.Ask
		e.Ask = &ask
	}
	return e
}

// parseEnds reads the state of a character link and holds it to what can run.
func parseEnds(text string) (*Ends, error) {
	e := &Ends{}
	if err := unpacked(text, e); err != nil {
		return nil, err
	}
	for _, s := range []uart.Settings{e.MCU, e.Device} {
		if s.Rate < quantity.Baud || s.Rate > 1000*quantity.Megabaud {
			return nil, fmt.Errorf("the rate is 1 Bd to 1000 MBd")
		}
		if err := s.Frame.Check(); err != nil {
			return nil, err
		}
		if os := s.Oversampling; os != 0 && (os < 4 || os > 256) || s.GapBits < 0 || s.GapBits > 1_000_000 || s.Gap < 0 {
			return nil, fmt.Errorf("oversampling or idle gap is out of range")
		}
		if s.Flow >= uart.Flows || s.Stop < 0 || s.TurnRound < 0 {
			return nil, fmt.Errorf("flow control or turn-round time is out of range")
		}
	}
	if e.Ask != nil && e.Ask.Every < quantity.Microsecond {
		return nil, fmt.Errorf("the firmware asks too often")
	}
	if !(e.ClockOff > -500_000 && e.ClockOff <= 1_000_000) || e.Service < 0 || e.Depth < 1 || e.Depth > 65536 {
		return nil, fmt.Errorf("clock deviation, service time or depth is out of range")
	}
	if e.Wires != 1 && e.Wires != 2 && e.Wires != 4 || e.Holds < 0 || e.Holds > 65536 || e.Each < 0 || e.Holds > 0 && e.Each == 0 {
		return nil, fmt.Errorf("wires or the device's queue is out of range")
	}
	if e.Moves != nil {
		if len(e.Moves.Plans) != 1 || e.Moves.Plans[0] == nil {
			return nil, fmt.Errorf("one transfer takes the characters out of the unit")
		}
		if err := e.Moves.Sound(); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// uart gives what the registers make of a uart, and of the MCU's settings.
func (p *peripheral) uart(l *bench.UART) (Unit, uart.Settings) {
	s, err := l.FromRegisters(p.value)
	alive := err == nil && p.on("clock") && p.on("enable")
	u := Unit{
		Undriven: !p.on("port-clock") || !p.on("transmit-pin"),
		Mute:     !alive || !p.on("transmit-enable"),
		Deaf:     !alive || !p.on("receive-enable") || !p.on("port-clock") || !p.on("receive-pin"),
		Unserved: !p.emptied(),
	}
	if len(p.link.LeftOver) > 0 {
		left := fmt.Sprintf("%02X", p.link.LeftOver)
		switch {
		case p.handed || p.waiting:
			u.LeftOver = left
		default:
			u.Drained = left
		}
	}
	if err != nil {
		s = l.MCU
	}
	return u, s
}
