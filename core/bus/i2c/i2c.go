// Package i2c encodes and decodes transactions on a two-wire bus: a clock and
// a data line that every party can only pull low.
package i2c

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Byte is one byte on the bus with its acknowledge.
type Byte struct {
	Value byte
	Acked bool
	// Start says that a start, or a repeated start, stands before the byte,
	// which then carries an address.
	Start bool
}

// Encode gives the toggles of clock and data for a transaction that begins at
// the time start and runs at the given bit time. Both lines rest high. Data
// changes a quarter of a bit into the clock's low half. With stop the bus is
// released at the end; else the clock stays low. It also gives the end.
func Encode(start, bit quantity.Time, bytes []Byte, stop bool) (clock, data []quantity.Time, end quantity.Time) {
	q := bit / 4
	t := start
	scl, sda := true, true
	setC := func(at quantity.Time, high bool) {
		if scl != high {
			scl = high
			clock = append(clock, at)
		}
	}
	setD := func(at quantity.Time, high bool) {
		if sda != high {
			sda = high
			data = append(data, at)
		}
	}
	put := func(high bool) {
		// t is at the clock's fall: data changes at q, the clock rises at 2q.
		setD(t+q, high)
		setC(t+2*q, true)
		setC(t+4*q, false)
		t += 4 * q
	}
	for i, b := range bytes {
		if b.Start {
			if i > 0 {
				setD(t+q, true)
				setC(t+2*q, true)
				t += 3 * q
			}
			setD(t, false)
			setC(t+q, false)
			t += q
		}
		for k := 7; k >= 0; k-- {
			put(b.Value>>k&1 == 1)
		}
		put(!b.Acked)
	}
	if stop {
		setD(t+q, false)
		setC(t+2*q, true)
		setD(t+3*q, true)
		t += 3 * q
	}
	return clock, data, t
}

// Duration is the time of a transaction of n bytes on the wire, the address
// counted: nine bits a byte, start and stop one bit each.
func Duration(bit quantity.Time, n int) quantity.Time { return bit * quantity.Time(9*n+2) }

// Part is what follows one start: an address and the bytes that went one way.
type Part struct {
	Address int // 7-bit, or 10-bit with Ten, or NoAddress
	Ten     bool
	Read    bool
	Acked   bool // the address was acknowledged
	Fast    bool // behind the code of high-speed mode
	Data    []byte
	Acks    []bool // of Data
	First   int    // index of the address among the record's bytes
}

// NoAddress is the address of a Part that goes on from an earlier record.
const NoAddress = -1

// Parts takes a transaction apart at its starts. A read after a 10-bit
// address repeats only the address's first byte; the rest is remembered.
func Parts(r *record.Record) []Part {
	var out []Part
	ten, fast := 0, false
	n := min(len(r.Data), len(r.Back)) // a file may have anything
	for i := 0; i < n; i++ {
		b, back := r.Data[i], r.Back[i]
		if back&record.Addressing == 0 && len(out) > 0 {
			p := &out[len(out)-1]
			p.Data = append(p.Data, b)
			p.Acks = append(p.Acks, back&record.Acked != 0)
			continue
		}
		if back&record.Addressing == 0 {
			// The record goes on where another one broke off.
			out = append(out, Part{First: i, Address: NoAddress, Acked: true, Data: []byte{b}, Acks: []bool{back&record.Acked != 0}})
			continue
		}
		p := Part{First: i, Address: int(b >> 1), Read: b&1 == 1, Acked: back&record.Acked != 0, Fast: fast}
		fast = fast || highSpeed(b, back)
		if b>>3 == 0b11110 {
			p.Ten = true
			high := int(b>>1&3) << 8
			switch {
			case p.Read && ten>>8 == high>>8:
				p.Address = ten
			case !p.Read && i+1 < n && r.Back[i+1]&record.Addressing == 0:
				i++
				p.Address = high | int(r.Data[i])
				p.Acked = p.Acked && r.Back[i]&record.Acked != 0
				ten = p.Address
			default:
				p.Address = high
			}
		}
		out = append(out, p)
	}
	return out
}

// highSpeed says whether a byte is the code with which a bus controller enters
// high-speed mode: in the place of an address, and not acknowledged.
func highSpeed(b, back byte) bool {
	return b>>3 == 1 && back&record.Addressing != 0 && back&record.Acked == 0
}

// Reserved says what a 7-bit address, with its direction, is reserved for, or "".
func Reserved(address int, read bool) string {
	switch {
	case address == 0 && read:
		return "start byte"
	case address == 0:
		return "general call"
	case address == 1:
		return "CBUS"
	case address == 2:
		return "other bus formats"
	case address == 3:
		return "future use"
	case address >= 4 && address <= 7:
		return "high-speed mode"
	case address >= 0x78 && address <= 0x7b:
		return "10-bit addresses"
	case address >= 0x7c && address <= 0x7f:
		return "device identity"
	}
	return ""
}

// Describe gives a transaction in words: `start 96 ack 12 ack … stop`.
func Describe(r *record.Record) string {
	var w []string
	for i, b := range r.Data {
		back := byte(0)
		if i < len(r.Back) {
			back = r.Back[i]
		}
		if back&record.Addressing != 0 {
			if i == 0 {
				w = append(w, "start")
			} else {
				w = append(w, "restart")
			}
		}
		ack := "nack"
		if back&record.Acked != 0 {
			ack = "ack"
		}
		w = append(w, fmt.Sprintf("%02X", b), ack)
		if highSpeed(b, back) {
			w = append(w, "high-speed")
		}
	}
	if r.Attr&record.Stopped != 0 {
		w = append(w, "stop")
	}
	return strings.Join(w, " ")
}

// PEC is the packet error code of SMBus: CRC-8 with the polynomial
// x⁸ + x² + x + 1 and a zero start, over all bytes with their addresses.
func PEC(data []byte) byte {
	var crc byte
	for _, b := range data {
		crc ^= b
		for range 8 {
			if crc&0x80 != 0 {
				crc = crc<<1 ^ 0x07
			} else {
				crc <<= 1
			}
		}
	}
	return crc
}

// Chunk is a stretch of a memory.
type Chunk struct {
	At   int
	Data []byte
}

// Pages splits what is to be written at a place of a memory whose writing goes
// round within pages.
func Pages(at, page int, data []byte) []Chunk {
	var out []Chunk
	for len(data) > 0 {
		n := min(page-at%page, len(data))
		out = append(out, Chunk{at, data[:n]})
		at, data = at+n, data[n:]
	}
	return out
}
