package vcd

import (
	"encoding/binary"
	"math/bits"
)

// times reads the numbers of a file's times, of which each has nearly always
// as many digits as the one before and the same in front of the last eight.
type times struct {
	digits int
	mask   uint64 // of the bytes in front of the last eight
	front  uint64 // these bytes
	value  int64  // and what they are worth
}

// like reads a number that is like the last one and ends with a line. Where it
// ends does not follow from its digits, so the processor need not wait for them.
func (t *times) like(b []byte) (n int64, end int, ok bool) {
	if t.digits < 8 {
		return 0, 0, false
	}
	v, good := values(binary.LittleEndian.Uint64(b[t.digits-8:]))
	if good != 8 || b[t.digits] != '\n' || binary.LittleEndian.Uint64(b)&t.mask != t.front {
		return 0, 0, false
	}
	return t.value + eight(v), t.digits, true
}

// read reads up to sixteen digits.
func (t *times) read(b []byte) (n int64, end int) {
	first := binary.LittleEndian.Uint64(b)
	v, digits := values(first)
	n = eight(v << (8 * (8 - digits))) // with zeros in front
	if digits == 8 {
		w, more := values(binary.LittleEndian.Uint64(b[8:]))
		for k := range more {
			n = n*10 + int64(w>>(8*k)&0xff)
		}
		digits += more
	}
	*t = times{digits: digits}
	if digits >= 8 {
		t.mask = 1<<(8*(digits-8)) - 1
		t.front = first & t.mask
		t.value = n / 1e8 * 1e8
	}
	return n, digits
}

// values makes the digits that eight bytes begin with values, and counts them.
// The first is in the lowest byte.
func values(x uint64) (v uint64, digits int) {
	const ones = 0x0101010101010101
	v = x ^ ones*'0'
	// A nibble above 0 in the upper half, or 10 and more in the lower one, is
	// no digit.
	return v, bits.TrailingZeros64(((v+ones*6)|v)&(ones*0xf0)) / 8
}

// eight gives the number of eight digits, by pairs, fours and all.
func eight(v uint64) int64 {
	v = v * (10<<8 + 1) >> 8 & 0x00ff00ff00ff00ff
	v = v * (100<<16 + 1) >> 16 & 0x0000ffff0000ffff
	return int64(v * (10000<<32 + 1) >> 32)
}
