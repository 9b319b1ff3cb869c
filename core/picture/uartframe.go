// Package picture builds scenes from the rest of the core.
package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
)

// FrameEnds is one direction over a uart link.
type FrameEnds struct {
	Sender, Receiver         string
	SenderSet, ReceiverSet   uart.Settings
	SenderRate, ReceiverRate quantity.Rate // at which they really run
	// Inverted draws the line as it is behind an inverting driver, beyond what
	// the sender's frame says.
	Inverted bool
}

// Ends gives one direction over a link of a bench.
func Ends(l *bench.UART, fromMCU bool) FrameEnds {
	if fromMCU {
		return FrameEnds{
			Sender: "MCU", Receiver: l.Device.Name, SenderSet: l.MCU, ReceiverSet: l.DeviceEnd.Settings,
			SenderRate: l.MCU.Rate, ReceiverRate: l.DeviceRate(),
		}
	}
	return FrameEnds{
		Sender: l.Device.Name, Receiver: "MCU", SenderSet: l.DeviceEnd.Settings, ReceiverSet: l.MCU,
		SenderRate: l.DeviceRate(), ReceiverRate: l.MCU.Rate,
	}
}

// Frame draws one character on the wire: the sender's bits, the levels, what
// the receiver takes them for and where it samples. Everything is true to
// scale; the receiver's bits count from the same edge in its own clock.
func Frame(e FrameEnds, value uint16) *scene.Scene {
	ps, pr := quantity.PeriodOf(e.SenderRate), quantity.PeriodOf(e.ReceiverRate)
	value &= e.SenderSet.Frame.Mask()
	sc, rc := e.SenderSet.Frame.Cells(), e.ReceiverSet.Frame.Cells()
	bits := max(len(sc), len(rc))
	s := &scene.Scene{
		Title: fmt.Sprintf("%s sends %s to %s", e.Sender, Named(value), e.Receiver),
		From:  -ps.Times(1), To: max(ps.Times(int64(bits)), pr.Times(int64(bits))) + ps.Times(1),
	}
	sender := scene.Lane{Name: e.Sender, Detail: e.SenderSet.Frame.Short()}
	for i, name := range sc {
		sender.Cells = append(sender.Cells, scene.Cell{From: ps.Times(int64(i)), To: ps.Halves(e.SenderSet.Frame.CellEnd(i)), Label: name})
	}
	tog, _ := uart.Encode(nil, e.SenderSet.Frame, ps, 0, value)
	line := scene.Lane{Name: "line", Levels: &scene.Levels{High: e.Inverted == e.SenderSet.Frame.Inverted, Toggles: tog}}
	receiver := scene.Lane{Name: e.Receiver, Detail: e.ReceiverSet.Frame.Short()}
	samples := scene.Lane{Name: "samples"}
	needed := len(rc)
	if f := e.ReceiverSet.Frame; f.Stop == 2 || f.Half {
		needed-- // only the first stop bit is sampled
	}
	tick := quantity.Time(0)
	if os := e.ReceiverSet.Oversampling; os > 0 {
		tick = pr.Times(1) / quantity.Time(os)
	}
	for i, name := range rc {
		c := scene.Cell{From: pr.Times(int64(i)), To: pr.Halves(e.ReceiverSet.Frame.CellEnd(i)), Label: name}
		if i < needed {
			c.Tone = agrees(sc, i, name)
			if c.Tone == scene.Plain && name == uart.ParityCell && e.SenderSet.Frame.Parity != e.ReceiverSet.Frame.Parity {
				c.Tone, sender.Cells[i].Tone = scene.Differ, scene.Differ
			}
			if e.SenderSet.Frame.Inverted != e.ReceiverSet.Frame.Inverted {
				c.Tone = scene.Differ
			}
			at := pr.Halves(int64(2*i + 1))
			m := scene.Mark{At: at, Label: "sample of " + name}
			// The sample lies up to one tick later than drawn.
			first, last := cellAt(at, ps), cellAt(at+tick, ps)
			switch {
			case first != i && last != i:
				m.Tone = scene.Differ
			case first != i || last != i:
				m.Tone = scene.Doubt
			}
			samples.Marks = append(samples.Marks, m)
		}
		receiver.Cells = append(receiver.Cells, c)
	}
	s.Lanes = []scene.Lane{sender, line, receiver, samples}
	s.Notes = notes(e, value)
	return s
}

// agrees compares the meaning of a bit at both ends. What lies behind the
// sender's frame is idle line, which reads as a stop bit.
func agrees(sender []string, i int, name string) scene.Tone {
	from := "stop"
	if i < len(sender) {
		from = sender[i]
	}
	if from == name {
		return scene.Plain
	}
	return scene.Differ
}

func cellAt(t quantity.Time, p quantity.Period) int {
	return int(float64(t) * 1000 / float64(p))
}

// Named gives a value in hex, with its character where it has one.
func Named(v uint16) string {
	if v > 0xff {
		return fmt.Sprintf("%03X", v)
	}
	return fmt.Sprintf("'%c' (%02X)", safe.Byte(byte(v)), v)
}

func notes(e FrameEnds, value uint16) []string {
	from, to := e.SenderSet, e.ReceiverSet
	from.Rate, to.Rate = e.SenderRate, e.ReceiverRate
	seen := uart.Outcome(from, to, value)
	var out []string
	switch {
	case len(seen.Chars) == 0:
		out = append(out, e.Receiver+" sees no character.")
	case seen.Marks[0] == 0 && seen.Chars[0] == value:
		out = append(out, fmt.Sprintf("%s stores %02X, as sent.", e.Receiver, seen.Chars[0]))
	case seen.Marks[0] == 0:
		out = append(out, fmt.Sprintf("%s stores %02X, no error flag.", e.Receiver, seen.Chars[0]))
	default:
		out = append(out, fmt.Sprintf("%s stores %02X with %s.", e.Receiver, seen.Chars[0], flagWords(seen.Marks[0])))
	}
	f := e.SenderSet.Frame
	if f.Parity != uart.None {
		out = append(out, fmt.Sprintf("parity of %s: %s; sent %d", Named(value), uart.ParityNote(f, value), f.ParityBit(value)))
	}
	if g := e.ReceiverSet.Frame; f.Parity != g.Parity && f.Parity != uart.None && g.Parity != uart.None {
		out = append(out, fmt.Sprintf("%s expects %s", e.Receiver, g.Parity))
	}
	if f.MSBFirst {
		out = append(out, fmt.Sprintf("%s sends the most significant bit first", e.Sender))
	}
	if f.Inverted {
		out = append(out, fmt.Sprintf("%s drives the line inverted: it rests low", e.Sender))
	}
	bit, char := quantity.PeriodOf(e.SenderRate).Times(1), f.Time(quantity.PeriodOf(e.SenderRate))
	out = append(out, fmt.Sprintf("1 bit %s, %g bits %s", bit.Round(4), f.Bits(), char.Round(4)))
	return out
}

func flagWords(f record.Flags) string {
	n := f.Names()
	if len(n) == 1 {
		return n[0] + " error"
	}
	return f.String() + " errors"
}
