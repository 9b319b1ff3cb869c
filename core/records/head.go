// Package records keeps records in order of their ends, compactly, and finds them:
// by time, link, sender, reader, kind and error. A List is written by one goroutine;
// a Reader of it never changes and is used by any.
package records

import (
	"encoding/binary"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Head is the fixed part of a record: all that a search needs to look at.
type Head struct {
	Start, End quantity.Time
	Each       quantity.Time // duration of one character; 0 where unknown
	at         uint64        // of the rest: the number of its chunk, and the place in there
	ID         uint32        // identifier of a can frame
	Flags      record.Flags  // all its error marks together
	seq        uint32        // how many records had come before it
	Link       uint16
	Kind       record.Kind
	Seen, From record.End
	Origin     record.Origin
	Bits       uint8
	Attr       record.Attr
	form       uint8
}

// Bits of a head's form.
const (
	more = 1 << iota
	wide
)

// Traffic says whether the record is of what went over a bus.
func (h *Head) Traffic() bool { return (&record.Record{Kind: h.Kind}).Traffic() }

func headOf(r *record.Record, seq uint32, at uint64) Head {
	h := Head{
		Start: r.Start, End: r.End, Each: r.Each, at: at, ID: r.ID, Flags: r.AllFlags(), seq: seq,
		Link: r.Link, Kind: r.Kind, Seen: r.Seen, From: r.From, Origin: r.Origin, Bits: r.Bits, Attr: r.Attr,
	}
	if r.More {
		h.form |= more
	}
	if r.Wide {
		h.form |= wide
	}
	return h
}

func (h *Head) key() Key { return Key{h.End, h.seq} }

// record gives the whole record; its bytes are those of the chunk in which it stands.
func (h *Head) record(chunk []byte) record.Record {
	r := record.Record{
		Start: h.Start, End: h.End, Each: h.Each, ID: h.ID, Link: h.Link, Kind: h.Kind, Seen: h.Seen, From: h.From,
		Origin: h.Origin, Bits: h.Bits, Attr: h.Attr, More: h.form&more != 0, Wide: h.form&wide != 0,
	}
	unpack(chunk[uint32(h.at):], &r)
	return r
}

// pack appends what a Head does not hold. Offsets are kept as what they differ from
// back to back, which mostly is nothing.
func pack(b []byte, r *record.Record) []byte {
	for _, n := range []int{len(r.Data), len(r.Back), len(r.Text), len(r.Offsets), len(r.Marks), len(r.Facts)} {
		b = binary.AppendUvarint(b, uint64(n))
	}
	b = append(b, r.Data...)
	b = append(b, r.Back...)
	b = append(b, r.Text...)
	last := -r.Each
	for _, o := range r.Offsets {
		b = binary.AppendVarint(b, int64(o-last-r.Each))
		last = o
	}
	for _, m := range r.Marks {
		b = binary.AppendVarint(b, int64(m.Index))
		b = binary.AppendUvarint(b, uint64(m.Flags))
	}
	for _, f := range r.Facts {
		b = append(b, byte(f.What))
		b = binary.AppendVarint(b, int64(f.Index))
		b = binary.AppendVarint(b, f.Value)
	}
	return b
}

func unpack(b []byte, r *record.Record) {
	var n [6]int
	for i := range n {
		v, k := binary.Uvarint(b)
		n[i], b = int(v), b[k:]
	}
	take := func(n int) []byte {
		if n == 0 {
			return nil
		}
		out := b[:n:n]
		b = b[n:]
		return out
	}
	r.Data, r.Back, r.Text = take(n[0]), take(n[1]), string(take(n[2]))
	if n[3] > 0 {
		r.Offsets = make([]quantity.Time, n[3])
		last := -r.Each
		for i := range r.Offsets {
			v, k := binary.Varint(b)
			last += r.Each + quantity.Time(v)
			r.Offsets[i], b = last, b[k:]
		}
	}
	if n[4] > 0 {
		r.Marks = make([]record.Mark, n[4])
		for i := range r.Marks {
			index, k := binary.Varint(b)
			flags, j := binary.Uvarint(b[k:])
			r.Marks[i], b = record.Mark{Index: int(index), Flags: record.Flags(flags)}, b[k+j:]
		}
	}
	if n[5] > 0 {
		r.Facts = make([]record.Fact, n[5])
		for i := range r.Facts {
			what := record.FactKind(b[0])
			index, k := binary.Varint(b[1:])
			value, j := binary.Varint(b[1+k:])
			r.Facts[i], b = record.Fact{What: what, Index: int(index), Value: value}, b[1+k+j:]
		}
	}
}
