package uart

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Compare lists the settings in which two ends differ, each with its effect
// in both directions. Rates are compared by Mismatch and Limits, not here.
func Compare(a, b Settings, nameA, nameB string) []bus.Difference {
	var out []bus.Difference
	fa, fb := a.Frame, b.Frame
	effects := []string{
		nameA + " → " + nameB + ": " + effect(fa, fb),
		nameB + " → " + nameA + ": " + effect(fb, fa),
	}
	if fa.Data != fb.Data {
		out = append(out, bus.Difference{Code: "data-bits-differ", What: fmt.Sprintf("data bits: %s %d, %s %d", nameA, fa.Data, nameB, fb.Data), Effects: effects})
	}
	if fa.Parity != fb.Parity {
		d := bus.Difference{Code: "parity-differs", What: fmt.Sprintf("parity: %s %s, %s %s", nameA, fa.Parity, nameB, fb.Parity), Effects: effects}
		if len(out) > 0 {
			d.Effects = nil // already said with the data bits
		}
		out = append(out, d)
	}
	if fa.Inverted != fb.Inverted {
		normal, other := nameA, nameB
		if fa.Inverted {
			normal, other = nameB, nameA
		}
		out = append(out, bus.Difference{Code: "inversion-differs", What: fmt.Sprintf("line: %s inverted, %s not", other, normal), Effects: []string{
			other + " → " + normal + ": the resting line reads as a break, and no character is right",
			normal + " → " + other + ": the same the other way round",
		}})
	}
	if fa.MSBFirst != fb.MSBFirst && fa.Data == fb.Data {
		out = append(out, bus.Difference{Code: "bit-order-differs", What: "bit order: one end sends the most significant bit first", Effects: []string{
			fmt.Sprintf("both directions: every value is mirrored, %02X reads as %02X", 0x53&fa.Mask(), fa.Turned(0x53&fa.Mask())),
		}})
	}
	if fa.Address != fb.Address && fa.Data == fb.Data {
		out = append(out, bus.Difference{Code: "address-bit-differs", What: "address bit: one end takes the ninth bit for data", Effects: []string{
			"both directions: addresses are taken for values from 100 on, or such values for addresses",
		}})
	}
	if fa.stops() != fb.stops() {
		d := bus.Difference{
			Code: "stop-bits-differ", What: fmt.Sprintf("stop bits: %s %s, %s %s", nameA, fa.stops(), nameB, fb.stops()),
			Harmless: len(out) == 0,
		}
		if len(out) == 0 {
			d.Effects = effects
		}
		out = append(out, d)
	}
	return out
}

// effect says what the receiver makes of the sender's characters, cell by
// cell.
func effect(sender, receiver Frame) string {
	// The order of the bits is another difference.
	sender.MSBFirst, receiver.MSBFirst, sender.Address, receiver.Address = false, false, false, false
	s, r := sender.Cells(), receiver.Cells()
	needed := 1 + receiver.Data + receiver.parityBits() + 1
	var parts []string
	for i := 1; i < needed; i++ {
		from := "the next start bit"
		if i < len(s) {
			from = s[i]
		}
		if from == r[i] {
			continue
		}
		switch {
		case i >= len(s):
			parts = append(parts, fmt.Sprintf("where characters follow back to back the next start bit falls into the %s bit: %s", r[i], missed(r[i])))
		case r[i] == "stop":
			parts = append(parts, fmt.Sprintf("%s is taken for the stop bit: framing error whenever it is 0", from))
		case r[i] == ParityCell && from == "stop":
			parts = append(parts, "the stop bit (always 1) is taken for parity: parity error for every second value")
		case r[i] == ParityCell:
			parts = append(parts, fmt.Sprintf("%s is taken for parity: parity error where it does not happen to fit", from))
		case from == ParityCell:
			parts = append(parts, fmt.Sprintf("the parity bit lands in bit %s", strings.TrimPrefix(r[i], "b")))
		case from == "stop":
			parts = append(parts, fmt.Sprintf("the stop bit lands in bit %s, which is always 1", strings.TrimPrefix(r[i], "b")))
		}
	}
	if sender.Data == receiver.Data && sender.Parity != None && receiver.Parity != None && sender.Parity != receiver.Parity {
		if sender.Parity+receiver.Parity == Even+Odd || sender.Parity+receiver.Parity == Mark+Space {
			parts = append(parts, "parity error on every character")
		} else {
			parts = append(parts, "parity error for every second value")
		}
	}
	switch {
	case len(parts) > 0:
	case len(s) > needed && sender.HalfBits() > receiver.HalfBits() && sender.Data == receiver.Data && sender.Parity == receiver.Parity:
		parts = append(parts, "the second stop bit reads as idle line: harmless")
	case sender.HalfBits() < receiver.HalfBits() && sender.Data == receiver.Data && sender.Parity == receiver.Parity:
		parts = append(parts, "only the first stop bit is sampled: harmless")
	case len(s) > needed:
		parts = append(parts, fmt.Sprintf("the bits after the receiver's %s read as idle line or a new start bit", r[needed-1]))
	default:
		parts = append(parts, "no difference")
	}
	return strings.Join(parts, ", and ")
}

func missed(cell string) string {
	if cell == "stop" {
		return "framing error"
	}
	return "wrong " + cell
}

// Seen is what a receiver makes of one value: the characters it stores, with
// their marks.
type Seen struct {
	Chars []uint16
	Marks []record.Flags
}

// Outcome sends the values back to back from one end to the other over an
// ideal line and gives what the receiver stores. It runs the encoder and the
// receiver themselves.
func Outcome(sender, receiver Settings, values ...uint16) Seen {
	tog, end := Encode(nil, sender.Frame, quantity.PeriodOf(sender.Rate), quantity.Microsecond, values...)
	r := NewReceiver(receiver.Config(quantity.PeriodOf(receiver.Rate)))
	var seen Seen
	r.OnChar = func(c Char) record.Flags {
		seen.Chars = append(seen.Chars, c.Value)
		seen.Marks = append(seen.Marks, c.Flags)
		return 0
	}
	quiet := end + 40*quantity.PeriodOf(receiver.Rate).Times(1)
	r.Feed(&wire.Window{To: quiet, High: !sender.Frame.Inverted, Toggles: tog}, discard{})
	return seen
}

type discard struct{}

func (discard) Put(*record.Record)  {}
func (discard) Open(*record.Record) {}

// compareRates judges the rates of two ends by what the receiver at each stands.
func compareRates(a, b Settings, nameA, nameB string) []bus.Difference {
	if a.Rate == b.Rate {
		return nil
	}
	out := bus.Difference{Code: "rate-differs", What: fmt.Sprintf("rate: %s %s, %s %s", nameA, a.Rate.Round(6), nameB, b.Rate.Round(6)), Harmless: true}
	for _, x := range []struct {
		way      string
		from, to Settings
	}{{nameA + " → " + nameB, a, b}, {nameB + " → " + nameA, b, a}} {
		l := LimitsOf(x.from.Frame, x.to.Frame, x.to.Oversampling)
		e := Mismatch(x.to.Rate, x.from.Rate)
		j := l.Judge(e)
		text := fmt.Sprintf("%s: %+.2f %% of %+.2f / %+.2f %%: %s", x.way, 100*e, 100*l.Late, 100*l.Early, j)
		if m := l.Misread(e); m != "" {
			text += "; " + m
		}
		out.Effects = append(out.Effects, text)
		out.Harmless = out.Harmless && j == Fits
	}
	return []bus.Difference{out}
}
