package pcapng

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// The kinds of packets of the private link type that are no records.
const (
	isLevels = 0xfb // of a line
	isEnd    = 0xfc // nothing follows, and how many records the file has
	isRests  = 0xfd // how the lines stood at the end
	isPiece  = 0xfe // of the capture's description
	isLast   = 0xff // the last piece
)

// limit bounds the times of a record.
const limit = int64(quantity.Forever) / 4

// Bits of a record's form.
const (
	flagMore  = 1 << 0
	flagWide  = 1 << 1
	flagFacts = 1 << 2 // facts stand behind the times
	flagSoFar = 1 << 3 // as it was while it went on: one of the same start that follows takes its place
)

// marshal appends a record, without its link and its error marks, and with its start
// to the picosecond; soFar of one that goes on yet.
func marshal(b []byte, r *record.Record, soFar bool) []byte {
	flags := byte(0)
	if r.More {
		flags |= flagMore
	}
	if r.Wide {
		flags |= flagWide
	}
	if len(r.Facts) > 0 {
		flags |= flagFacts
	}
	if soFar {
		flags |= flagSoFar
	}
	b = append(b, version, byte(r.Kind), byte(r.From), byte(r.Seen), byte(r.Origin), flags, r.Bits, byte(r.Attr))
	b = binary.LittleEndian.AppendUint16(b, uint16(r.Start%1000))
	b = binary.LittleEndian.AppendUint32(b, r.ID)
	for _, n := range []uint64{uint64(r.End - r.Start), uint64(r.Each), uint64(len(r.Data)), uint64(len(r.Back)), uint64(len(r.Text)), uint64(len(r.Offsets))} {
		b = binary.AppendUvarint(b, n)
	}
	b = append(b, r.Data...)
	b = append(b, r.Back...)
	b = append(b, r.Text...)
	last := quantity.Time(0)
	for _, o := range r.Offsets {
		b = binary.AppendVarint(b, int64(o-last))
		last = o
	}
	if len(r.Facts) > 0 {
		b = binary.AppendUvarint(b, uint64(len(r.Facts)))
	}
	for _, f := range r.Facts {
		b = binary.AppendUvarint(append(b, byte(f.What)), uint64(f.Index))
		b = binary.AppendVarint(b, f.Value)
	}
	return b
}

// sum is the size of the checksum that a packet ends with.
const sum = 4

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// seal appends the checksum of a packet: over when it starts, its link, its bytes and its error
// marks, which are among its comments.
func seal(b []byte, at quantity.Time, link uint16, comments []string) []byte {
	return binary.LittleEndian.AppendUint32(b, checksum(b, at, link, comments))
}

func checksum(b []byte, at quantity.Time, link uint16, comments []string) uint32 {
	var head [10]byte
	binary.LittleEndian.PutUint64(head[:], uint64(at/1000))
	binary.LittleEndian.PutUint16(head[8:], link)
	c := crc32.Update(crc32.Update(0, castagnoli, head[:]), castagnoli, b)
	for _, m := range comments {
		if strings.HasPrefix(m, marksMark) {
			c = crc32.Update(c, castagnoli, []byte(m))
		}
	}
	return c
}

// unseal gives the bytes of a packet without their checksum; with an error too, where they do
// not agree with it.
func (r *reader) unseal(p *packet, at quantity.Time, link uint16) ([]byte, error) {
	if len(p.data) < 2 || p.data[0] != r.form {
		return nil, errors.New("it has no header of a known version")
	}
	if r.form < sealed {
		return p.data, nil
	}
	n := len(p.data) - sum
	if n < 2 {
		return nil, errDamaged
	}
	if checksum(p.data[:n], at, link, p.comments) != binary.LittleEndian.Uint32(p.data[n:]) {
		return p.data[:n], errors.New("its bytes are not those that were written: the checksum does not match")
	}
	return p.data[:n], nil
}

var errDamaged = errors.New("it is shorter than it says, or its values are out of range")

// unmarshal is the inverse of marshal for a record that starts in the nanosecond at.
func unmarshal(b []byte, at quantity.Time, r *record.Record) error {
	if len(b) < 14 {
		return errDamaged
	}
	r.Kind, r.From, r.Seen, r.Origin = record.Kind(b[1]), record.End(b[2]), record.End(b[3]), record.Origin(b[4])
	r.More, r.Wide, r.Bits, r.Attr = b[5]&flagMore != 0, b[5]&flagWide != 0, b[6], record.Attr(b[7])
	flags := b[5]
	ps := binary.LittleEndian.Uint16(b[8:])
	r.ID = binary.LittleEndian.Uint32(b[10:])
	b = b[14:]
	var n [6]uint64
	for i := range n {
		v, k := binary.Uvarint(b)
		if k <= 0 || v > uint64(limit) || i >= 2 && v > uint64(len(b)) {
			return errDamaged
		}
		n[i], b = v, b[k:]
	}
	if ps > 999 || n[2]+n[3]+n[4]+n[5] > uint64(len(b)) {
		return errDamaged
	}
	r.Start = at + quantity.Time(ps)
	r.End, r.Each = r.Start+quantity.Time(n[0]), quantity.Time(n[1])
	take := func(n uint64) []byte {
		if n == 0 {
			return nil
		}
		out := b[:n:n]
		b = b[n:]
		return out
	}
	r.Data, r.Back, r.Text = take(n[2]), take(n[3]), string(take(n[4]))
	last := quantity.Time(0)
	for range n[5] {
		d, k := binary.Varint(b)
		if k <= 0 || d > limit || d < -limit {
			return errDamaged
		}
		if last += quantity.Time(d); last > quantity.Time(limit) || last < -quantity.Time(limit) {
			return errDamaged
		}
		b = b[k:]
		r.Offsets = append(r.Offsets, last)
	}
	if flags&flagFacts != 0 {
		if err := unmarshalFacts(b, r); err != nil {
			return err
		}
	}
	if !sound(r) {
		return errDamaged
	}
	return nil
}

// unmarshalFacts reads the facts at the end of a record. Those that a later version
// writes are passed over.
func unmarshalFacts(b []byte, r *record.Record) error {
	n, k := binary.Uvarint(b)
	if k <= 0 || n > uint64(len(b)) {
		return errDamaged
	}
	b = b[k:]
	for range n {
		if len(b) == 0 {
			return errDamaged
		}
		f := record.Fact{What: record.FactKind(b[0])}
		index, k := binary.Uvarint(b[1:])
		if k <= 0 || index > 1<<31 {
			return errDamaged
		}
		value, j := binary.Varint(b[1+k:])
		if j <= 0 {
			return errDamaged
		}
		b = b[1+k+j:]
		if f.Index, f.Value = int(index), value; f.What.Known() {
			r.Facts = append(r.Facts, f)
		}
	}
	return nil
}

// sound says whether the parts of a record fit together, as all who read it take for
// granted.
func sound(r *record.Record) bool {
	words := r.Kind == record.Transaction && r.Bits > 8
	switch n := len(r.Offsets); {
	case r.Wide && (len(r.Data)%2 != 0 || r.Kind != record.Chars):
		return false
	case words && (len(r.Data)%((int(r.Bits)+7)/8) != 0 || r.Bits > 32):
		return false
	case r.Kind == record.Frame && len(r.Data) > 64:
		return false
	case n != 0 && n != r.Len():
		return false
	case n != 0 && (r.Offsets[0] < 0 || !slices.IsSorted(r.Offsets)):
		return false
	}
	return true
}
