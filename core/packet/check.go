package packet

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strings"
)

// Kind is how a check is worked out.
type Kind uint8

// The kinds.
const (
	CRC Kind = iota // the remainder of a division by a polynomial
	Sum             // the bytes added up
	Xor             // the bytes, exclusive or
)

// Over says which bytes are checked.
type Over uint8

// The stretches.
const (
	OverLength  Over = iota // length and content
	OverContent             // the content alone
	OverAll                 // what begins the packet too
)

// Check is a field that tells damage.
type Check struct {
	Kind Kind
	Bits int // 4 to 32; of Xor 8
	// Polynomial of CRC, without its highest term; Start is what the register, the sum or the
	// byte holds before; Final what the result is exclusive or; Reflected: the least significant bit
	// of each byte goes first.
	Polynomial, Start, Final uint32
	Reflected                bool
	// Negated: of Sum, the two's complement is sent.
	Negated  bool
	Over     Over
	LowFirst bool
	// Hex: it is sent as digits, four bits each; else as whole bytes.
	Hex bool
	// Mark stands in front of it, and is not checked.
	Mark []byte
}

// Valid says what is wrong with a check.
func (c *Check) Valid() error {
	switch {
	case c.Bits < 4 || c.Bits > 32:
		return fmt.Errorf("a check has 4 to 32 bits, not %d", c.Bits)
	case c.Kind == Xor && c.Bits != 8:
		return errors.New("exclusive or of bytes has 8 bits")
	case c.Hex && c.Bits%4 != 0:
		return fmt.Errorf("%d bits are no whole number of hex digits", c.Bits)
	case c.Polynomial&^c.mask() != 0 || c.Start&^c.mask() != 0 || c.Final&^c.mask() != 0:
		return fmt.Errorf("polynomial, start and final value have %d bits", c.Bits)
	case c.Kind == CRC && c.Polynomial&1 == 0:
		return errors.New("the polynomial's lowest bit is 1")
	}
	return nil
}

func (c *Check) mask() uint32 { return uint32(1<<c.Bits - 1) }

// Of gives the check of bytes.
func (c *Check) Of(data []byte) uint32 {
	v := c.Start
	switch c.Kind {
	case Sum:
		for _, b := range data {
			v += uint32(b)
		}
		if c.Negated {
			v = -v
		}
	case Xor:
		for _, b := range data {
			v ^= uint32(b)
		}
	case CRC:
		v = c.crc(data)
	}
	return (v ^ c.Final) & c.mask()
}

// crc divides bit by bit: see "Check values" in docs/formulas.md.
func (c *Check) crc(data []byte) uint32 {
	top := uint32(1) << (c.Bits - 1)
	v := c.Start
	for _, b := range data {
		if c.Reflected {
			b = bits.Reverse8(b)
		}
		for i := 7; i >= 0; i-- {
			carry := v&top != 0
			v <<= 1
			if carry != (b>>i&1 == 1) {
				v ^= c.Polynomial
			}
		}
	}
	v &= c.mask()
	if c.Reflected {
		v = bits.Reverse32(v) >> (32 - c.Bits)
	}
	return v
}

// Size is the number of bytes that the check takes, with its mark.
func (c *Check) Size() int {
	if c.Hex {
		return len(c.Mark) + c.Bits/4
	}
	return len(c.Mark) + (c.Bits+7)/8
}

// bytes gives the check of data as it is sent, behind its mark.
func (c *Check) bytes(value uint32) []byte { return append(slices.Clone(c.Mark), c.alone(value)...) }

func (c *Check) alone(value uint32) []byte {
	raw := appendNumber(nil, uint64(value), (c.Bits+7)/8, c.LowFirst)
	if !c.Hex {
		return raw
	}
	digits := strings.ToUpper(hex.EncodeToString(raw))
	if c.Bits%8 != 0 {
		digits = digits[1:]
	}
	return []byte(digits)
}

// fits says whether what came is the check of data; hex digits may be small or capital.
func (c *Check) fits(data, came []byte) bool {
	n := len(c.Mark)
	if !bytes.HasPrefix(came, c.Mark) {
		return false
	}
	want := string(c.alone(c.Of(data)))
	if c.Hex {
		return strings.EqualFold(want, string(came[n:]))
	}
	return want == string(came[n:])
}
