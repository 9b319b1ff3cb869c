// Package pcapng writes captures to and reads them from pcapng files. The
// form of the packets is described in docs/formats.md.
package pcapng

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix/core/capture"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// linkUser is the first link type of the range that is free for private use.
const linkUser layers.LinkType = 147

const (
	version    = 1
	headerSize = 28

	flagMore    = 1 << 0
	flagWide    = 1 << 1
	flagOffsets = 1 << 2
)

// sectionMeta is what the section's comment holds, as JSON.
type sectionMeta struct {
	Gavrix  int            `json:"gavrix"`
	Seed    uint64         `json:"seed"`
	Started string         `json:"started,omitempty"`
	Links   []capture.Link `json:"links"`
	Bench   string         `json:"bench,omitempty"`
}

// maxComment is what fits into one option of a block.
const maxComment = 65_000

// Writer appends records to a file.
type Writer struct {
	w     *pcapgo.NgWriter
	start time.Time
	buf   []byte
	ports map[uint16]int // interfaces of buses with a link type of their own, by link
}

// NewWriter begins a file for a capture. A bench text that is too long for
// the header is left out.
func NewWriter(out io.Writer, meta *capture.Meta) (*Writer, error) {
	m := sectionMeta{Gavrix: version, Seed: meta.Seed, Links: meta.Links, Bench: meta.Bench}
	start := time.Unix(0, 0).UTC()
	if !meta.Started.IsZero() {
		start = meta.Started.UTC()
		m.Started = start.Format(time.RFC3339Nano)
	}
	comment, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	if len(comment) > maxComment {
		m.Bench = ""
		if comment, err = json.Marshal(m); err != nil {
			return nil, err
		}
	}
	if len(meta.Links) == 0 {
		return nil, errors.New("a capture without links can't be saved")
	}
	intf := func(l capture.Link) pcapgo.NgInterface {
		return pcapgo.NgInterface{Name: l.Name, Description: l.Kind, LinkType: linkUser, TimestampResolution: 9}
	}
	w, err := pcapgo.NewNgWriterInterface(out, intf(meta.Links[0]), pcapgo.NgWriterOptions{
		SectionInfo: pcapgo.NgSectionInfo{Application: "Gavrix", Comment: string(comment)},
	})
	if err != nil {
		return nil, err
	}
	for _, l := range meta.Links[1:] {
		if _, err := w.AddInterface(intf(l)); err != nil {
			return nil, err
		}
	}
	ports := ownPorts(meta.Links)
	for i, l := range meta.Links {
		if _, has := ports[uint16(i)]; !has {
			continue
		}
		own := intf(l)
		own.LinkType = ownTypes[l.Kind]
		if _, err := w.AddInterface(own); err != nil {
			return nil, err
		}
	}
	return &Writer{w: w, start: start, ports: ports}, nil
}

// ErrKind says that a record is of a bus that this form does not hold yet.
var ErrKind = errors.New("captures of this bus can't be kept as pcapng yet")

// Write appends one record.
func (w *Writer) Write(r *record.Record) error {
	if port, has := w.ports[r.Link]; has {
		switch r.Kind {
		case record.Frame:
			return w.writeFrame(r, port)
		case record.Transaction:
			return w.writeI2C(r, port)
		}
	}
	if r.Kind == record.Transaction || r.Kind == record.Frame {
		return ErrKind
	}
	b := append(w.buf[:0], version, byte(r.Kind), byte(r.From), byte(r.Seen), byte(r.Origin))
	var flags byte
	if r.More {
		flags |= flagMore
	}
	if r.Wide {
		flags |= flagWide
	}
	if r.Offsets != nil {
		flags |= flagOffsets
	}
	ns, ps := r.Start/1000, r.Start%1000
	b = append(b, flags)
	b = binary.LittleEndian.AppendUint16(b, uint16(ps))
	b = binary.LittleEndian.AppendUint64(b, uint64(r.End-r.Start))
	b = binary.LittleEndian.AppendUint64(b, uint64(r.Each))
	b = binary.LittleEndian.AppendUint32(b, uint32(r.Len()))
	last := quantity.Time(0)
	for _, o := range r.Offsets {
		b = binary.AppendUvarint(b, uint64(o-last))
		last = o
	}
	if r.Kind == record.Chars {
		b = append(b, r.Data...)
	} else {
		b = append(b, r.Text...)
	}
	w.buf = b
	opts := pcapgo.NgPacketOptions{Comments: marksText(r.Marks)}
	return w.w.WritePacketWithOptions(gopacket.CaptureInfo{
		Timestamp: w.start.Add(time.Duration(ns)), InterfaceIndex: int(r.Link), CaptureLength: len(b), Length: len(b),
	}, b, opts)
}

// Flush hands everything written to the file.
func (w *Writer) Flush() error { return w.w.Flush() }

// marksPerComment keeps a comment below the size of one option.
const marksPerComment = 500

func marksText(marks []record.Mark) []string {
	var out []string
	for len(marks) > 0 {
		n := min(len(marks), marksPerComment)
		var parts []string
		for _, m := range marks[:n] {
			parts = append(parts, fmt.Sprintf("%d %s", m.Index, m.Flags))
		}
		out = append(out, "errors: "+strings.Join(parts, ", "))
		marks = marks[n:]
	}
	return out
}

func parseMarks(comment string, n int) []record.Mark {
	list, ok := strings.CutPrefix(comment, "errors: ")
	if !ok {
		return nil
	}
	var out []record.Mark
	for p := range strings.SplitSeq(list, ", ") {
		index, flags, _ := strings.Cut(p, " ")
		i, err := strconv.Atoi(index)
		if f := record.ParseFlags(flags); err == nil && i >= 0 && i <= n && f != 0 {
			out = append(out, record.Mark{Index: i, Flags: f})
		}
	}
	return out
}

// ErrForeign says that a file is pcapng, but holds no capture of this form.
var ErrForeign = errors.New("the file holds no serial capture that Gavrix wrote")

// Read loads a file. When it ends in the middle, or is damaged further on,
// the store holds what stood before, and the error says where it ended.
func Read(in io.Reader) (*capture.Store, error) {
	r, err := pcapgo.NewNgReader(bufio.NewReaderSize(in, 1<<16), pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		return nil, fmt.Errorf("this is no pcapng file: %w", err)
	}
	var m sectionMeta
	if err := json.Unmarshal([]byte(r.SectionInfo().Comment), &m); err != nil || m.Gavrix != version || len(m.Links) == 0 || len(m.Links) > 1000 {
		return nil, ErrForeign
	}
	meta := capture.Meta{Links: m.Links, Bench: m.Bench, Seed: m.Seed}
	start := time.Unix(0, 0).UTC()
	if m.Started != "" {
		if meta.Started, err = time.Parse(time.RFC3339Nano, m.Started); err != nil {
			return nil, fmt.Errorf("the capture's start %q is no time", m.Started)
		}
		start = meta.Started
	}
	store := capture.NewStore(meta)
	ofPort := map[int]uint16{}
	for l, port := range ownPorts(m.Links) {
		ofPort[port] = l
	}
	for n := 0; ; n++ {
		data, ci, opts, err := r.ReadPacketDataWithOptions()
		if errors.Is(err, io.EOF) {
			return store, nil
		}
		if err != nil {
			return store, fmt.Errorf("the capture ends after %d records: %w", n, err)
		}
		if l, has := ofPort[ci.InterfaceIndex]; has {
			read := readFrame
			if m.Links[l].Kind == i2cKind {
				read = readI2C
			}
			rec, err := read(data, ci, opts.Comments, start, l)
			if err != nil {
				return store, fmt.Errorf("record %d: %w", n+1, err)
			}
			if rec == nil {
				continue // it goes on with the one before
			}
			store.Put(rec)
			store.Advance(rec.End)
			continue
		}
		rec, err := decode(data, ci, start, len(m.Links))
		if err != nil {
			return store, fmt.Errorf("record %d: %w", n+1, err)
		}
		for _, c := range opts.Comments {
			rec.Marks = append(rec.Marks, parseMarks(c, rec.Len())...)
		}
		store.Put(rec)
		store.Advance(rec.End)
	}
}

func decode(b []byte, ci gopacket.CaptureInfo, start time.Time, links int) (*record.Record, error) {
	if len(b) < headerSize || b[0] != version {
		return nil, errors.New("it has no header of a known version")
	}
	if ci.InterfaceIndex < 0 || ci.InterfaceIndex >= links {
		return nil, fmt.Errorf("it belongs to link %d of %d", ci.InterfaceIndex, links)
	}
	ps := binary.LittleEndian.Uint16(b[6:])
	length, each := binary.LittleEndian.Uint64(b[8:]), binary.LittleEndian.Uint64(b[16:])
	n := binary.LittleEndian.Uint32(b[24:])
	const limit = uint64(quantity.Forever) / 4
	since := ci.Timestamp.Sub(start)
	if ps > 999 || length > limit || each > limit || since < 0 || uint64(since) > limit/1000 {
		return nil, errors.New("its times are out of range")
	}
	r := &record.Record{
		Kind: record.Kind(b[1]), From: record.End(b[2]), Seen: record.End(b[3]), Origin: record.Origin(b[4]), Link: uint16(ci.InterfaceIndex),
		More: b[5]&flagMore != 0, Wide: b[5]&flagWide != 0, Each: quantity.Time(each),
	}
	r.Start = quantity.Time(since)*1000 + quantity.Time(ps)
	r.End = r.Start + quantity.Time(length)
	rest := b[headerSize:]
	if b[5]&flagOffsets != 0 {
		if uint64(n) > uint64(len(rest)) {
			return nil, errors.New("it is shorter than its number of characters")
		}
		r.Offsets = make([]quantity.Time, 0, n)
		last := uint64(0)
		for range n {
			d, k := binary.Uvarint(rest)
			if k <= 0 || d > limit || last+d > limit {
				return nil, errors.New("its character times are damaged")
			}
			last += d
			rest = rest[k:]
			r.Offsets = append(r.Offsets, quantity.Time(last))
		}
	}
	if r.Kind != record.Chars {
		r.Text = string(rest)
		return r, nil
	}
	r.Data = rest
	if uint32(r.Len()) != n || r.Wide && len(rest)%2 != 0 {
		return nil, errors.New("it is shorter than its number of characters")
	}
	return r, nil
}
