package pcapng

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix/core/quantity"
	"gavrix/core/record"
)

// linkLinuxI2C is the link type of i2c messages as Linux hands them over: a byte
// with the number of the bus, four bytes of flags, the address byte and the data.
const linkLinuxI2C layers.LinkType = 209

const i2cKind = "i2c"

const i2cHeader = 5

// ofTransaction is what the link type has no place for.
type ofTransaction struct {
	Length    int64           `json:"length"`
	Remainder int64           `json:"remainder"`
	From      record.End      `json:"from"`
	Seen      record.End      `json:"seen"`
	Origin    record.Origin   `json:"origin"`
	More      bool            `json:"more,omitempty"`
	Each      quantity.Time   `json:"each,omitempty"`
	Data      []byte          `json:"data"`
	Back      []byte          `json:"back"`
	Offsets   []quantity.Time `json:"offsets,omitempty"`
	Text      string          `json:"text,omitempty"`
}

// writeI2C writes a transaction as one message for each start, as any reader of the
// link type knows it. The comment of the first has the whole of it.
func (w *Writer) writeI2C(r *record.Record, port int) error {
	whole, err := json.Marshal(ofTransaction{
		int64(r.End - r.Start), int64(r.Start % 1000), r.From, r.Seen, r.Origin, r.More, r.Each, r.Data, r.Back, r.Offsets, r.Text,
	})
	if err != nil {
		return err
	}
	comments := append([]string{"gavrix: " + string(whole)}, marksText(r.Marks)...)
	for from := 0; from < len(r.Data) || from == 0; {
		to := from + 1
		for to < len(r.Data) && (to >= len(r.Back) || r.Back[to]&record.Addressing == 0) {
			to++
		}
		to = min(to, len(r.Data))
		b := append(w.buf[:0], byte(r.Link&0x7f))
		b = binary.BigEndian.AppendUint32(b, 0)
		b = append(b, r.Data[from:to]...)
		w.buf = b
		err := w.w.WritePacketWithOptions(gopacket.CaptureInfo{
			Timestamp: w.start.Add(time.Duration(r.Start / 1000)), InterfaceIndex: port, CaptureLength: len(b), Length: len(b),
		}, b, pcapgo.NgPacketOptions{Comments: comments})
		if err != nil {
			return err
		}
		comments = []string{"gavrix: goes on"}
		from = max(to, from+1)
	}
	return nil
}

// readI2C is the inverse of writeI2C; nil for a message that goes on with the one
// before. What something else wrote counts as one transaction a message.
func readI2C(b []byte, ci gopacket.CaptureInfo, comments []string, start time.Time, link uint16) (*record.Record, error) {
	if len(b) < i2cHeader {
		return nil, errors.New("it is shorter than the header of an i2c message")
	}
	since := ci.Timestamp.Sub(start)
	const limit = int64(quantity.Forever) / 4
	if since < 0 || int64(since) > limit/1000 {
		return nil, errors.New("its times are out of range")
	}
	r := &record.Record{Kind: record.Transaction, Link: link, Seen: record.Tap, Origin: record.FromFile, Start: quantity.Time(since) * 1000, Data: b[i2cHeader:]}
	r.End = r.Start
	for i := range r.Data {
		back := byte(record.Acked)
		if i == 0 {
			back |= record.Addressing
		}
		r.Back = append(r.Back, back)
	}
	for _, c := range comments {
		text, ours := strings.CutPrefix(c, "gavrix: ")
		switch {
		case !ours:
			r.Marks = append(r.Marks, parseMarks(c, len(r.Data))...)
			continue
		case text == "goes on":
			return nil, nil
		}
		var t ofTransaction
		if err := json.Unmarshal([]byte(text), &t); err != nil {
			return nil, fmt.Errorf("its comment can't be read: %w", err)
		}
		if t.Length < 0 || t.Length > limit || t.Remainder < 0 || t.Remainder > 999 || len(t.Back) > len(t.Data) {
			return nil, errors.New("its comment is out of range")
		}
		r.Start += quantity.Time(t.Remainder)
		r.End = r.Start + quantity.Time(t.Length)
		r.From, r.Seen, r.Origin, r.More, r.Each, r.Data, r.Back, r.Offsets, r.Text = t.From, t.Seen, t.Origin, t.More, t.Each, t.Data, t.Back, t.Offsets, t.Text
	}
	return r, nil
}
