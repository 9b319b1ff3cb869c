// Package uart encodes and decodes asynchronous characters: a start bit, data
// bits, an optional parity bit and stop bits. The line rests high unless it is
// inverted.
package uart

import (
	"fmt"
	"math/bits"
	"strings"

	"gavrix.org/gavrix/core/quantity"
)

// ParityRule says how the parity bit is made.
type ParityRule uint8

// The parity rules.
const (
	None ParityRule = iota
	Even            // the ones of data and parity together are even
	Odd
	Mark  // the parity bit is always 1
	Space // the parity bit is always 0
	// Rules is how many there are.
	Rules
)

func (p ParityRule) String() string { return [...]string{"none", "even", "odd", "mark", "space"}[p] }

// Letter gives the rule as in 7E1.
func (p ParityRule) Letter() string { return [...]string{"N", "E", "O", "M", "S"}[p] }

// Frame is the shape of one character.
type Frame struct {
	Data   int // data bits, 5 to 9
	Parity ParityRule
	Stop   int // whole stop bits, 1 or 2
	// Half adds half a stop bit: 1.5 in all.
	Half bool
	// MSBFirst sends the most significant data bit first.
	MSBFirst bool
	// Inverted: the line rests low, all levels are turned round.
	Inverted bool
	// Address: the ninth data bit marks an address, which begins a packet.
	Address bool
}

// The words behind the short form.
const (
	wordMSB      = "msb-first"
	wordInverted = "inverted"
	wordAddress  = "address-bit"
)

// ParseFrame reads the short form, as `8N1`, `5N1.5` or `9N1 address-bit`.
func ParseFrame(s string) (Frame, error) {
	words := strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' })
	t := ""
	if len(words) > 0 {
		t = strings.ToUpper(words[0])
	}
	var f Frame
	if cut, half := strings.CutSuffix(t, ".5"); half {
		t, f.Half = cut, true
	}
	if len(t) != 3 {
		return Frame{}, fmt.Errorf("%q is no frame: write data bits, parity and stop bits, as 8N1", s)
	}
	f.Data, f.Stop = int(t[0])-'0', int(t[2])-'0'
	switch t[1] {
	case 'N':
		f.Parity = None
	case 'E':
		f.Parity = Even
	case 'O':
		f.Parity = Odd
	case 'M':
		f.Parity = Mark
	case 'S':
		f.Parity = Space
	default:
		return Frame{}, fmt.Errorf("%q: the parity is N (none), E (even), O (odd), M (mark) or S (space)", s)
	}
	for _, w := range words[1:] {
		switch strings.ToLower(w) {
		case wordMSB:
			f.MSBFirst = true
		case wordInverted:
			f.Inverted = true
		case wordAddress:
			f.Address = true
		default:
			return Frame{}, fmt.Errorf("%q: after the frame may stand %s, %s and %s", s, wordMSB, wordInverted, wordAddress)
		}
	}
	return f, f.Check()
}

// Check says what is out of range.
func (f Frame) Check() error {
	switch {
	case f.Data < 5 || f.Data > 9:
		return fmt.Errorf("%d data bits: a frame has 5 to 9", f.Data)
	case f.Stop < 1 || f.Stop > 2 || f.Half && f.Stop != 1:
		return fmt.Errorf("%s stop bits: a frame has 1, 1.5 or 2", f.stops())
	case f.Parity >= Rules:
		return fmt.Errorf("unknown parity rule %d", f.Parity)
	case f.Address && f.Data != 9:
		return fmt.Errorf("%d data bits with an address bit: the ninth is the address bit", f.Data)
	}
	return nil
}

func (f Frame) stops() string {
	if f.Half {
		return fmt.Sprintf("%d.5", f.Stop)
	}
	return fmt.Sprint(f.Stop)
}

// Short gives data bits, parity and stop bits alone, as 8N1.
func (f Frame) Short() string {
	return fmt.Sprintf("%d%s%s", f.Data, f.Parity.Letter(), f.stops())
}

// String gives the form that ParseFrame reads.
func (f Frame) String() string {
	s := f.Short()
	if f.MSBFirst {
		s += " " + wordMSB
	}
	if f.Inverted {
		s += " " + wordInverted
	}
	if f.Address {
		s += " " + wordAddress
	}
	return s
}

// HalfBits is twice the number of bits of a character with start, parity and
// stop.
func (f Frame) HalfBits() int {
	n := 2 * (1 + f.Data + f.parityBits() + f.Stop)
	if f.Half {
		n++
	}
	return n
}

// Fits says whether a character has no more bits than the frame carries.
func (f Frame) Fits(v uint16) error {
	if v&^f.Mask() != 0 {
		return fmt.Errorf("%02X has more than the %d data bits of %s", v, f.Data, f)
	}
	return nil
}

// StopBits is the number of stop bits, 1, 1.5 or 2.
func (f Frame) StopBits() float64 {
	if f.Half {
		return float64(f.Stop) + 0.5
	}
	return float64(f.Stop)
}

// Bits is the number of bits of a character with start, parity and stop.
func (f Frame) Bits() float64 { return float64(f.HalfBits()) / 2 }

// Time is the duration of a character.
func (f Frame) Time(p quantity.Period) quantity.Time { return p.Halves(int64(f.HalfBits())) }

func (f Frame) parityBits() int {
	if f.Parity == None {
		return 0
	}
	return 1
}

// Mask covers the data bits.
func (f Frame) Mask() uint16 { return 1<<f.Data - 1 }

// Carries says which byte has more bits than the frame; nil where none has.
func (f Frame) Carries(data []byte) error {
	for i, b := range data {
		if uint16(b)&^f.Mask() != 0 {
			return fmt.Errorf("byte %d, %02X, does not fit the %d data bits of %s: nothing is sent; take other bytes, or a frame with more bits", i+1, b, f.Data, f)
		}
	}
	return nil
}

// ParityBit gives the parity bit of a value.
func (f Frame) ParityBit(v uint16) uint16 {
	return f.Parity.Bit(v & f.Mask())
}

// Bit gives the parity bit of v under the rule; 0 for None.
func (p ParityRule) Bit(v uint16) uint16 {
	ones := uint16(bits.OnesCount16(v)) & 1
	switch p {
	case Even:
		return ones
	case Odd:
		return ones ^ 1
	case Mark:
		return 1
	}
	return 0
}

// Turned gives the data bits in the opposite order.
func (f Frame) Turned(v uint16) uint16 { return bits.Reverse16(v) >> (16 - f.Data) }

// Levels gives the bits of a character in wire order, the first in bit 0: the
// start bit 0, the data, the parity bit and the whole stop bits 1. On an
// inverted line the levels are the opposite.
func (f Frame) Levels(v uint16) uint32 {
	n := 1 + f.Data
	v &= f.Mask()
	if f.MSBFirst {
		v = f.Turned(v)
	}
	w := uint32(v) << 1
	if f.Parity != None {
		w |= uint32(f.ParityBit(v)) << n // the same for both orders
		n++
	}
	return w | (1<<f.Stop-1)<<n
}

// Cells names the bits of a character in wire order. With half a stop bit the
// ParityCell names the parity bit among the cells of a frame.
const ParityCell = "parity"

// last one is half as long.
func (f Frame) Cells() []string {
	out := []string{"start"}
	for i := range f.Data {
		if f.MSBFirst {
			i = f.Data - 1 - i
		}
		if f.Address && i == 8 {
			out = append(out, "address")
			continue
		}
		out = append(out, fmt.Sprintf("b%d", i))
	}
	if f.Parity != None {
		out = append(out, ParityCell)
	}
	for range f.Stop {
		out = append(out, "stop")
	}
	if f.Half {
		out = append(out, "stop")
	}
	return out
}

// CellEnd gives the end of a bit of Cells in half bits from the start.
func (f Frame) CellEnd(i int) int64 { return int64(min(2*(i+1), f.HalfBits())) }

// Settings are the frame settings of one end.
type Settings struct {
	Rate  quantity.Rate
	Frame Frame
	// Wanted is the rate that the end is meant to have, where Rate is what its divider
	// or its clock makes of it; else 0.
	Wanted quantity.Rate
	// Oversampling is the number of receiver samples a bit, 16, 8 or 4. With
	// 0 the receiver is ideal: it sees the start edge when it happens.
	Oversampling int
	// Vote takes the majority of three samples around the middle of each bit.
	Vote bool
	// GapBits and Gap are the pause that ends a packet, in bits or as a time;
	// with neither it is two characters.
	GapBits int
	Gap     quantity.Time
	// Flow is the flow control; Stop how many waiting characters make the end say stop,
	// 0 for the usual number.
	Flow Flow
	Stop int
	// TurnRound is how long the end's driver holds a shared wire behind its last stop
	// bit.
	TurnRound quantity.Time
}

// Config gives the configuration of a receiver with these settings that counts
// its bits with the given period.
func (s Settings) Config(p quantity.Period) Config {
	return Config{Frame: s.Frame, Period: p, Oversampling: s.Oversampling, Vote: s.Vote, GapBits: s.GapBits, Gap: s.Gap}
}

// Describe implements bus.Settings.
func (s Settings) Describe() string { return s.Frame.String() }

// Encode appends to dst the toggles of the characters, sent back to back from
// the time start on, and gives the end of the last stop bit. The toggles are
// those of a line that rests high as of one that is inverted and rests low.
func Encode(dst []quantity.Time, f Frame, p quantity.Period, start quantity.Time, chars ...uint16) ([]quantity.Time, quantity.Time) {
	n := 1 + f.Data + f.parityBits() + f.Stop
	for _, c := range chars {
		w := f.Levels(c)
		// A set bit in edges is a level unlike the one before it; before the
		// start bit the line is high.
		edges := w ^ (w<<1 | 1)
		for edges != 0 {
			i := bits.TrailingZeros32(edges)
			if i >= n {
				break
			}
			dst = append(dst, start+p.Times(int64(i)))
			edges &= edges - 1
		}
		start += f.Time(p)
	}
	return dst, start
}
