package i2c

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
)

// Address is that of a device: seven bits, or ten with TenBit.
type Address uint16

// TenBit marks an address of ten bits.
const TenBit Address = 1 << 15

// Number gives the address without the mark.
func (a Address) Number() int { return int(a &^ TenBit) }

// Ten says whether it has ten bits.
func (a Address) Ten() bool { return a&TenBit != 0 }

// String gives the address in hex, as 4B, or 1A3 where it has ten bits.
func (a Address) String() string {
	if a.Ten() {
		return fmt.Sprintf("%03X", a.Number())
	}
	return fmt.Sprintf("%02X", a.Number())
}

// First gives the first byte on the wire, with the direction bit.
func (a Address) First(read bool) byte {
	b := byte(a) << 1
	if a.Ten() {
		b = 0xF0 | byte(a.Number()>>8)<<1
	}
	if read {
		b |= 1
	}
	return b
}

// Wire gives all bytes of the address as they go over the wire when a segment begins
// with it: of ten bits the second byte stands behind the first only when it writes.
func (a Address) Wire(read bool) []byte {
	if a.Ten() && !read {
		return []byte{a.First(false), byte(a)}
	}
	return []byte{a.First(read)}
}

// OnWire says how both directions look on the wire.
func (a Address) OnWire() string {
	if a.Ten() {
		return fmt.Sprintf("%02X %02X, %02X on the wire", a.First(false), byte(a), a.First(true))
	}
	return fmt.Sprintf("%02X, %02X on the wire", a.First(false), a.First(true))
}

// AddressType is an address as files write it.
var AddressType = doc.Scalar("a 7-bit address in hex, as 0x4B, or 10-bit 0x1A3", ParseAddress)

// ParseAddress reads an address in hex, with 0x in front: the byte with the direction
// bit, and a number that may be decimal, are refused with a question.
func ParseAddress(s string) (Address, error) {
	if rest, ten := strings.CutPrefix(strings.TrimSpace(s), "10-bit "); ten {
		digits, hex := strings.CutPrefix(strings.ToLower(strings.TrimSpace(rest)), "0x")
		n, err := strconv.ParseUint(digits, 16, 16)
		if err != nil || !hex || n > 0x3ff {
			return 0, fmt.Errorf("%q is no address of ten bits: write it as 10-bit 0x1A3, at most 0x3FF", s)
		}
		return Address(n) | TenBit, nil
	}
	digits, hex := strings.CutPrefix(strings.ToLower(s), "0x")
	n, err := strconv.ParseUint(digits, 16, 16)
	decimal, notDecimal := strconv.ParseUint(s, 10, 7)
	switch {
	case err != nil:
		return 0, fmt.Errorf("%q is no address: write two digits in hex, as 0x4B", s)
	case n > 0xff && n <= 0x3ff && hex:
		return 0, fmt.Errorf("%s is more than 7 bits: write 10-bit %s where it has ten", s, s)
	case n > 0xff:
		return 0, fmt.Errorf("%q is no address: write two digits in hex, as 0x4B", s)
	case n > 0x7f && !hex && notDecimal == nil:
		return 0, fmt.Errorf("%s is no 7-bit address in hex: did you mean 0x%02X (%s is the byte with the direction bit), or 0x%02X (%s in decimal)?", s, n>>1, s, decimal, s)
	case n > 0x7f:
		return 0, fmt.Errorf("%s is more than 7 bits: the byte with the direction bit? Did you mean 0x%02X?", s, n>>1)
	case !hex && notDecimal == nil:
		return 0, fmt.Errorf("%s may be hex or decimal: did you mean 0x%02X, or 0x%02X (%s in decimal)?", s, n, decimal, s)
	case !hex:
		return 0, fmt.Errorf("%s: did you mean 0x%02X?", s, n)
	}
	return Address(n), nil
}
