// Package objects transfers contents of a dictionary of objects over can, each with an
// index and a sub-index, as CiA 301 has its service data: up to four bytes in one frame
// each way, more in segments of seven bytes whose toggle bit alternates.
//
// A Client asks, a Server answers, a Follower reads along. None knows what objects mean.
package objects

import (
	"encoding/binary"
	"fmt"
)

// Object is an entry of a dictionary.
type Object struct {
	Index uint16
	Sub   uint8
}

func (o Object) String() string { return fmt.Sprintf("0x%04X sub %d", o.Index, o.Sub) }

// Number gives the object as one number, the sub-index lowest.
func (o Object) Number() uint64 { return uint64(o.Index)<<8 | uint64(o.Sub) }

// ObjectOf is the inverse of Number.
func ObjectOf(number uint64) Object { return Object{uint16(number >> 8), uint8(number)} }

// Frame is what one frame carries.
type Frame [8]byte

// Code says why a transfer was ended; 0: it was not.
type Code uint32

// The codes that Gavrix gives itself.
const (
	NoToggle      Code = 0x05030000
	UnknownStep   Code = 0x05040001
	CantBeRead    Code = 0x06010001
	CantBeWritten Code = 0x06010002
	NoObject      Code = 0x06020000
	WrongLength   Code = 0x06070010
	NoSub         Code = 0x06090011
	OutOfRange    Code = 0x06090030
	NotNow        Code = 0x08000022
)

var codes = map[Code]string{
	NoToggle: "the toggle bit did not alternate", 0x05040000: "the transfer timed out", UnknownStep: "unknown command",
	0x05040005: "out of memory", 0x06010000: "the object can't be accessed", CantBeRead: "the object is write-only", CantBeWritten: "the object is read-only",
	NoObject: "the object does not exist", 0x06040041: "the object can't be mapped", 0x06040043: "parameters don't go together",
	0x06060000: "a hardware error", WrongLength: "the length does not fit", 0x06070012: "the length is too great", 0x06070013: "the length is too small",
	NoSub: "the sub-index does not exist", OutOfRange: "the value is out of range", 0x06090031: "the value is too great", 0x06090032: "the value is too small",
	0x08000000: "a general error", 0x08000020: "the value can't be stored", 0x08000021: "the value can't be stored under local control", NotNow: "not in the present state",
}

// Meanings gives the reasons for which transfers are ended, by their codes.
func Meanings() map[uint64]string {
	out := map[uint64]string{}
	for c, text := range codes {
		out[uint64(c)] = text
	}
	return out
}

func (c Code) String() string {
	if s := codes[c]; s != "" {
		return s
	}
	return "an unknown reason"
}

// What stands in the highest three bits of the first byte, for each side.
const (
	askSegmentIn  = 0 // client: a segment of what is written
	askWrite      = 1
	askRead       = 2
	askSegmentOut = 3
	abort         = 4 // either side
	gaveSegment   = 0 // server: a segment of what is read
	tookSegment   = 1
	gave          = 2
	took          = 3
)

func command(f Frame) byte { return f[0] >> 5 }

// Opens says whether a client's frame begins a transfer.
func Opens(f Frame) bool { return command(f) == askRead || command(f) == askWrite }

// Segmented says whether the content of what a frame opens follows in segments.
func Segmented(f Frame) bool {
	_, _, segments := carried(f)
	return segments
}

// SegmentOf gives the content of a client's segment; false where it is none.
func SegmentOf(f Frame) ([]byte, bool) {
	data, _ := part(f)
	return data, command(f) == askSegmentIn
}

func object(f Frame) Object {
	return Object{binary.LittleEndian.Uint16(f[1:]), f[3]}
}

// opening gives a frame with the object in its place.
func opening(first byte, o Object) Frame {
	f := Frame{first}
	binary.LittleEndian.PutUint16(f[1:], o.Index)
	f[3] = o.Sub
	return f
}

// Aborting gives the frame that ends a transfer.
func Aborting(o Object, c Code) Frame {
	f := opening(abort<<5, o)
	binary.LittleEndian.PutUint32(f[4:], uint32(c))
	return f
}

func codeOf(f Frame) Code { return Code(binary.LittleEndian.Uint32(f[4:])) }

// carrying gives an opening frame with up to four bytes of content.
func carrying(command byte, o Object, data []byte) Frame {
	f := opening(command<<5|byte(4-len(data))<<2|3, o)
	copy(f[4:], data)
	return f
}

// announcing gives an opening frame for a content that follows in segments.
func announcing(command byte, o Object, size int) Frame {
	f := opening(command<<5|1, o)
	binary.LittleEndian.PutUint32(f[4:], uint32(size))
	return f
}

// carried gives the content of an opening frame; size is that of what follows in
// segments, -1 where it is not said, and segments says that it does follow.
func carried(f Frame) (data []byte, size int, segments bool) {
	switch f[0] & 3 {
	case 3:
		return f[4 : 8-f[0]>>2&3], 0, false
	case 2:
		return f[4:], 0, false
	case 1:
		return nil, int(binary.LittleEndian.Uint32(f[4:])), true
	}
	return nil, -1, true
}

// most bytes of a content.
const most = 1 << 16

// segment gives the next seven bytes of a content, with command and toggle bit.
func segment(command byte, toggle bool, rest []byte) (f Frame, left []byte) {
	n := copy(f[1:], rest)
	f[0] = command<<5 | byte(7-n)<<1
	if toggle {
		f[0] |= 1 << 4
	}
	if len(rest) <= 7 {
		f[0] |= 1
	}
	return f, rest[n:]
}

func toggled(f Frame) bool { return f[0]&(1<<4) != 0 }

// part gives the bytes of a segment, and whether it is the last one.
func part(f Frame) (data []byte, last bool) {
	return f[1 : 8-f[0]>>1&7], f[0]&1 != 0
}
