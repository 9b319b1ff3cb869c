package pcapng

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix/core/capture"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// linkSocketCAN is the link type of can frames with a SocketCAN header.
const linkSocketCAN layers.LinkType = 227

// canKind is the kind of a link whose frames go to an interface of that type.
const canKind = "can"

// The flags of a SocketCAN identifier, and of the flexible format.
const (
	canExtended = 1 << 31
	canRemote   = 1 << 30
	canError    = 1 << 29

	canSwitched = 1 << 0
	canPassive  = 1 << 1
	canFD       = 1 << 2
)

const canHeader = 8

// mostBits is more than any frame has: marks of frames count bits.
const mostBits = 4096

// ownTypes are the link types of buses that have one.
var ownTypes = map[string]layers.LinkType{canKind: linkSocketCAN, i2cKind: linkLinuxI2C}

// ownPorts gives the interface for the frames or transactions of each link whose
// bus has a link type of its own, behind those of all links, by the link's index.
func ownPorts(links []capture.Link) map[uint16]int {
	out := map[uint16]int{}
	for i, l := range links {
		if _, has := ownTypes[l.Kind]; has {
			out[uint16(i)] = len(links) + len(out)
		}
	}
	return out
}

// writeFrame writes a can frame as any reader of that link type knows it, with what
// the link type has no place for in a comment.
func (w *Writer) writeFrame(r *record.Record, port int) error {
	id := r.ID
	if r.Attr&record.Extended != 0 {
		id |= canExtended
	}
	length := byte(len(r.Data))
	if r.Attr&record.Remote != 0 {
		id |= canRemote
		length = r.Bits
	}
	flags := byte(0)
	for a, f := range map[record.Attr]byte{record.FD: canFD, record.Switched: canSwitched, record.Passive: canPassive} {
		if r.Attr&a != 0 {
			flags |= f
		}
	}
	if r.AllFlags()&(record.ErrorFlag|record.Overload) != 0 {
		id |= canError
	}
	b := binary.BigEndian.AppendUint32(w.buf[:0], id)
	b = append(b, length, flags, 0, 0)
	b = append(b, r.Data...)
	w.buf = b
	comment := fmt.Sprintf("gavrix: length %d, remainder %d, from %d, seen %d, origin %d, bits %d, more %t", int64(r.End-r.Start), int64(r.Start%1000), r.From, r.Seen, r.Origin, r.Bits, r.More)
	if r.Text != "" {
		comment += ", text " + r.Text
	}
	return w.w.WritePacketWithOptions(gopacket.CaptureInfo{
		Timestamp: w.start.Add(time.Duration(r.Start / 1000)), InterfaceIndex: port, CaptureLength: len(b), Length: len(b),
	}, b, pcapgo.NgPacketOptions{Comments: append([]string{comment}, marksText(r.Marks)...)})
}

// readFrame is the inverse of writeFrame; a frame that something else wrote has no
// comment of ours, and no length in time.
func readFrame(b []byte, ci gopacket.CaptureInfo, comments []string, start time.Time, link uint16) (*record.Record, error) {
	if len(b) < canHeader {
		return nil, errors.New("it is shorter than the header of a can frame")
	}
	id := binary.BigEndian.Uint32(b)
	r := &record.Record{Kind: record.Frame, Link: link, Seen: record.Tap, Origin: record.FromFile, ID: id &^ (canExtended | canRemote | canError)}
	if id&canExtended != 0 {
		r.Attr |= record.Extended
	}
	for a, f := range map[record.Attr]byte{record.FD: canFD, record.Switched: canSwitched, record.Passive: canPassive} {
		if b[5]&f != 0 {
			r.Attr |= a
		}
	}
	if id&canRemote != 0 {
		r.Attr |= record.Remote
		r.Bits = b[4]
	} else {
		n := int(b[4])
		if n > len(b)-canHeader || n > 64 {
			return nil, fmt.Errorf("it says %d bytes of data and has %d", n, len(b)-canHeader)
		}
		r.Data = b[canHeader : canHeader+n]
	}
	since := ci.Timestamp.Sub(start)
	const limit = int64(quantity.Forever) / 4
	if since < 0 || int64(since) > limit/1000 {
		return nil, errors.New("its times are out of range")
	}
	r.Start = quantity.Time(since) * 1000
	r.End = r.Start
	for _, c := range comments {
		if !strings.HasPrefix(c, "gavrix: ") {
			r.Marks = append(r.Marks, parseMarks(c, mostBits)...)
			continue
		}
		c, text, _ := strings.Cut(c, ", text ")
		var length, rest int64
		var from, seen, origin, bits uint8
		var more bool
		if _, err := fmt.Sscanf(c, "gavrix: length %d, remainder %d, from %d, seen %d, origin %d, bits %d, more %t", &length, &rest, &from, &seen, &origin, &bits, &more); err != nil {
			return nil, fmt.Errorf("its comment can't be read: %w", err)
		}
		if length < 0 || length > limit || rest < 0 || rest > 999 {
			return nil, errors.New("its times are out of range")
		}
		r.Start += quantity.Time(rest)
		r.End = r.Start + quantity.Time(length)
		r.From, r.Seen, r.Origin, r.Bits, r.More, r.Text = record.End(from), record.End(seen), record.Origin(origin), bits, more, text
	}
	return r, nil
}
