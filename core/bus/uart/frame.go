// Package uart encodes and decodes asynchronous characters: a start bit, data
// bits least significant first, an optional parity bit and stop bits, on a
// line that rests high.
package uart

import (
	"fmt"
	"math/bits"
	"strings"

	"gavrix/core/quantity"
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
	Stop   int // stop bits, 1 or 2
}

// ParseFrame reads the short form, as `8N1`.
func ParseFrame(s string) (Frame, error) {
	t := strings.ToUpper(strings.TrimSpace(s))
	if len(t) != 3 {
		return Frame{}, fmt.Errorf("%q is no frame: write data bits, parity and stop bits, as 8N1", s)
	}
	f := Frame{Data: int(t[0]) - '0', Stop: int(t[2]) - '0'}
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
	return f, f.Check()
}

// Check says what is out of range.
func (f Frame) Check() error {
	switch {
	case f.Data < 5 || f.Data > 9:
		return fmt.Errorf("%d data bits: a frame has 5 to 9", f.Data)
	case f.Stop < 1 || f.Stop > 2:
		return fmt.Errorf("%d stop bits: a frame has 1 or 2", f.Stop)
	case f.Parity >= Rules:
		return fmt.Errorf("unknown parity rule %d", f.Parity)
	}
	return nil
}

func (f Frame) String() string { return fmt.Sprintf("%d%s%d", f.Data, f.Parity.Letter(), f.Stop) }

// Bits is the number of bits of a character with start, parity and stop.
func (f Frame) Bits() int { return 1 + f.Data + f.parityBits() + f.Stop }

func (f Frame) parityBits() int {
	if f.Parity == None {
		return 0
	}
	return 1
}

// Mask covers the data bits.
func (f Frame) Mask() uint16 { return 1<<f.Data - 1 }

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

// Levels gives the bits of a character in wire order, the first in bit 0: the
// start bit 0, the data, the parity bit and the stop bits 1.
func (f Frame) Levels(v uint16) uint32 {
	n := 1 + f.Data
	w := uint32(v&f.Mask()) << 1
	if f.Parity != None {
		w |= uint32(f.ParityBit(v)) << n
		n++
	}
	return w | (1<<f.Stop-1)<<n
}

// Cells names the bits of a character in wire order.
func (f Frame) Cells() []string {
	out := []string{"start"}
	for i := range f.Data {
		out = append(out, fmt.Sprintf("b%d", i))
	}
	if f.Parity != None {
		out = append(out, "parity")
	}
	for range f.Stop {
		out = append(out, "stop")
	}
	return out
}

// Settings are the frame settings of one end.
type Settings struct {
	Rate  quantity.Rate
	Frame Frame
	// Oversampling is the number of receiver samples a bit, 16, 8 or 4. With
	// 0 the receiver is ideal: it sees the start edge when it happens.
	Oversampling int
	// Vote takes the majority of three samples around the middle of each bit.
	Vote bool
}

// Describe implements bus.Settings.
func (s Settings) Describe() string { return s.Frame.String() }

// Encode appends to dst the toggles of the characters, sent back to back from
// the time start on over a line that rests high, and gives the end of the
// last stop bit.
func Encode(dst []quantity.Time, f Frame, p quantity.Period, start quantity.Time, chars ...uint16) ([]quantity.Time, quantity.Time) {
	n := f.Bits()
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
		start += p.Times(int64(n))
	}
	return dst, start
}
