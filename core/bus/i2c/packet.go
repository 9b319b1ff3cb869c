package i2c

import (
	"errors"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/record"
)

// packet is the form of messages as Linux hands them over, one for each start: a byte
// with the number of the bus, four bytes of flags, the address byte, the data.
var packet = &bus.Packet{LinkType: 209, Encode: encodePacket, Decode: decodePacket}

const packetHeader = 5

func encodePacket(r *record.Record) [][]byte {
	var out [][]byte
	for from := 0; from < len(r.Data) || from == 0; {
		to := from + 1
		for to < len(r.Data) && (to >= len(r.Back) || r.Back[to]&record.Addressing == 0) {
			to++
		}
		to = min(to, len(r.Data))
		out = append(out, append([]byte{byte(r.Link & 0x7f), 0, 0, 0, 0}, r.Data[from:to]...))
		from = max(to, from+1)
	}
	return out
}

func decodePacket(b []byte, r *record.Record) error {
	if len(b) < packetHeader {
		return errors.New("it is shorter than the header of an I2C message")
	}
	r.Kind, r.Data, r.Attr = record.Transaction, b[packetHeader:], record.Stopped
	for i := range r.Data {
		back := byte(record.Acked)
		if i == 0 {
			back |= record.Addressing
		}
		r.Back = append(r.Back, back)
	}
	return nil
}
