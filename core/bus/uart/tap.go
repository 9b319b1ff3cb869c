package uart

import (
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Tap decodes a link as an ideal observer would: both directions, each with
// the settings of the end that drives it, or one wire that both share; and the
// flow lines. Its lines are those of Kind, in that order; lines at the end may
// be left out.
type Tap struct {
	receivers
	flow [2]FlowLine
}

// NewTap gives the decoder for the lines from and to the MCU.
func NewTap(link uint16, mcu, device Settings) *Tap {
	side := func(s Settings, from record.End) *Receiver {
		cfg := s.Config(quantity.PeriodOf(s.Rate))
		cfg.Oversampling = 0 // it has no ticks of its own; a vote is taken a sixteenth beside the middle
		cfg.Link, cfg.Seen, cfg.From, cfg.Origin = link, record.Tap, from, record.FromLevels
		return NewReceiver(cfg)
	}
	t := &Tap{receivers: receivers{[3]*Receiver{side(mcu, record.MCU), side(device, record.Device), side(mcu, record.Nobody)}}}
	for i, from := range []record.End{record.MCU, record.Device} {
		t.flow[i] = NewFlowLine(link, from)
	}
	return t
}

// Feed implements bus.Decoder.
func (t *Tap) Feed(lines []wire.Window, out record.Sink) {
	for i := range lines {
		if i < len(t.lines) {
			t.lines[i].Feed(&lines[i], out)
		} else {
			t.flow[i-len(t.lines)].Feed(&lines[i], out)
		}
	}
}

// receivers reads the line from the MCU, the one to it, and the one that both share.
type receivers struct{ lines [3]*Receiver }

// newReceivers decodes a link as the receiver of each end does, with its own settings and samples:
// the device's what the MCU sends, the MCU's what comes from the device and on a wire that both
// share.
func newReceivers(link uint16, mcu, device Settings) *receivers {
	side := func(s Settings, from, seen record.End) *Receiver {
		cfg := s.Config(quantity.PeriodOf(s.Rate))
		cfg.Link, cfg.Seen, cfg.From, cfg.Origin = link, seen, from, record.FromLevels
		return NewReceiver(cfg)
	}
	return &receivers{[3]*Receiver{side(device, record.MCU, record.Device), side(mcu, record.Device, record.MCU), side(mcu, record.Nobody, record.MCU)}}
}

// Feed implements bus.Decoder.
func (r *receivers) Feed(lines []wire.Window, out record.Sink) {
	for i := range min(len(lines), len(r.lines)) {
		r.lines[i].Feed(&lines[i], out)
	}
}

// Wake implements bus.Decoder.
func (r *receivers) Wake() quantity.Time {
	return min(r.lines[0].Wake(), r.lines[1].Wake(), r.lines[2].Wake())
}

// Rest implements bus.Rester.
func (r *receivers) Rest(out record.Sink) {
	for _, x := range r.lines {
		x.Rest(out)
	}
}

// Flush implements bus.Decoder.
func (r *receivers) Flush(out record.Sink) {
	for _, x := range r.lines {
		x.End(out)
	}
}
