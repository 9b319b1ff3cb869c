package can

import (
	"encoding/binary"
	"errors"
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/record"
)

// packet is the SocketCAN form of a frame: the identifier with its flags, the length,
// the flags of the flexible format, two bytes of nothing, the data.
var packet = &bus.Packet{LinkType: 227, Encode: encodePacket, Decode: decodePacket}

// The flags of an identifier there, and of the flexible format.
const (
	packetExtended = 1 << 31
	packetRemote   = 1 << 30
	packetError    = 1 << 29

	packetHeader = 8
)

var packetFlags = map[record.Attr]byte{record.Switched: 1 << 0, record.Passive: 1 << 1, record.FD: 1 << 2}

func encodePacket(r *record.Record) [][]byte {
	id := r.ID
	if r.Attr&record.Extended != 0 {
		id |= packetExtended
	}
	length := byte(len(r.Data))
	if r.Attr&record.Remote != 0 {
		id |= packetRemote
		length = r.Bits & 0xf
	}
	flags := byte(0)
	for a, f := range packetFlags {
		if r.Attr&a != 0 {
			flags |= f
		}
	}
	if r.AllFlags()&(record.ErrorFlag|record.Overload|record.CutOff) != 0 || r.Attr&record.Incomplete != 0 {
		id |= packetError
	}
	b := binary.BigEndian.AppendUint32(nil, id)
	return [][]byte{append(append(b, length, flags, 0, 0), r.Data...)}
}

func decodePacket(b []byte, r *record.Record) error {
	if len(b) < packetHeader {
		return errors.New("it is shorter than the header of a CAN frame")
	}
	id := binary.BigEndian.Uint32(b)
	r.Kind, r.ID = record.Frame, id&^(packetExtended|packetRemote|packetError)
	if id&packetExtended != 0 {
		r.Attr |= record.Extended
	}
	for a, f := range packetFlags {
		if b[5]&f != 0 {
			r.Attr |= a
		}
	}
	r.Bits = b[4]
	if id&packetRemote != 0 {
		r.Attr |= record.Remote
		return nil
	}
	n := int(b[4])
	if n > len(b)-packetHeader || n > 64 {
		return fmt.Errorf("it says %d bytes of data and has %d", n, len(b)-packetHeader)
	}
	r.Data = b[packetHeader : packetHeader+n]
	return nil
}
