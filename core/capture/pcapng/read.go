package pcapng

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// ErrForeign says that a file is pcapng, but holds no capture of this form.
var ErrForeign = errors.New("the file holds no serial capture that Gavrix wrote, or one of an older form")

// ErrNoEnd says that a file does not end as one that was closed.
var ErrNoEnd = errors.New("the capture has no end")

// mostLinks bounds the links of a file.
const mostLinks = 4096

// mostDescribed bounds a capture's description in bytes.
const mostDescribed = 64 << 20

// reader is a file being read, or a stretch of one.
type reader struct {
	r     *pcapgo.NgReader
	b     *blocks
	form  byte
	start time.Time
	meta  *capture.Meta
	ports map[int]uint16 // links by the interface of their own form
	lines []rest         // how the lines stood at the end
	n     int            // packets that were read
	// at is where what next returned last begins, to where the next begins.
	at, to int64
	broken bool          // something of it can't be read
	last   quantity.Time // start of the last record; -1: none was read
	whole  bool          // its end was read, and that it has so many records:
	wrote  uint64
	// levels: it has those of lines, which line takes where it is set.
	levels bool
	line   func(line int, w *wire.Window)
	// held: the packet behind bytes that are none waits.
	held bool
	pack packet // the last one
	*damages
}

// packet is one packet as it stands in the file.
type packet struct {
	data []byte
	gopacket.CaptureInfo
	comments []string
	err      error // why it is none
}

// gatherer puts what a reader gives into a store.
type gatherer struct {
	*reader
	store *capture.Store
	// soFar are records that were not finished yet; who takes their place comes behind.
	soFar map[running]unfinished
	// records is how many were finished.
	records int
	// Up to where the levels of each line are known, and how it stands there.
	lineTo   map[int]quantity.Time
	lineHigh map[int]bool
}

// gather begins to put what a reader gives into a store.
func gather(r *reader, store *capture.Store) *gatherer {
	g := &gatherer{reader: r, store: store, soFar: map[running]unfinished{}}
	r.line = g.take
	return g
}

// unfinished is a record that was not finished yet, and where it stands.
type unfinished struct {
	*record.Record
	at int64
}

// running names a record that goes on.
type running struct {
	link       uint16
	kind       record.Kind
	from, seen record.End
	start      quantity.Time
}

func runningOf(r *record.Record) running { return running{r.Link, r.Kind, r.From, r.Seen, r.Start} }

// put takes a record into the store, or keeps it until its end is known.
func (g *gatherer) put(rec *record.Record, soFar bool, at int64) (finished bool) {
	k := runningOf(rec)
	if soFar {
		g.soFar[k] = unfinished{rec, at}
		return false
	}
	delete(g.soFar, k)
	return true
}

// rest puts in what was never finished.
func (g *gatherer) rest() {
	var left []*record.Record
	for _, x := range g.soFar {
		left = append(left, x.Record)
	}
	slices.SortFunc(left, func(a, b *record.Record) int {
		return cmp.Or(cmp.Compare(a.End, b.End), cmp.Compare(a.Start, b.Start), cmp.Compare(a.Link, b.Link), cmp.Compare(a.Seen, b.Seen))
	})
	for _, rec := range left {
		g.store.Put(rec)
		g.store.Advance(rec.End)
	}
	for _, x := range g.lines {
		g.store.Rests(x.Line, capture.Rest{High: x.High, Since: x.Since, To: x.To})
		g.store.Advance(x.To)
	}
}

// ended says what the end of a file tells of the n records that were read before it.
func (r *reader) ended(n uint64) error {
	switch err := r.damages.err(); {
	case err != nil || r.form < sealed:
		return err
	case !r.whole:
		return fmt.Errorf("%w after %d records: it is still being recorded, the recording was broken off, or its end is gone", ErrNoEnd, n)
	case n != r.wrote:
		return fmt.Errorf("the capture has %d records where %d were written", n, r.wrote)
	}
	return nil
}

// Read loads a file. When it ends in the middle, or what follows is no file any more, the store
// holds what stood before, and the error says where it ended; of single records that can't be
// read the error is a Damage.
func Read(in io.Reader) (*capture.Store, error) {
	r, err := newReader(nil, newBlocks(in, 0), &damages{})
	if err != nil {
		return nil, err
	}
	g := gather(r, capture.NewStore(*r.meta))
	defer g.rest()
	for {
		rec, soFar, err := r.next()
		if errors.Is(err, io.EOF) {
			return g.store, r.ended(uint64(g.records))
		}
		if err != nil {
			return g.store, err
		}
		if rec != nil && g.put(rec, soFar, 0) {
			g.records++
			g.store.Put(rec)
			g.store.Advance(rec.End)
		}
	}
}

// newReader begins a file of which b has the blocks; of a stretch of one the description is known.
// What is damaged is put down in d.
func newReader(known *capture.Meta, b *blocks, d *damages) (*reader, error) {
	r := &reader{b: b, ports: map[int]uint16{}, meta: known, last: -1, damages: d}
	if err := r.begin(); err != nil {
		return nil, err
	}
	switch r.r.SectionInfo().Comment {
	case sectionMark:
		r.form = version
	case sectionMarkBefore:
		r.form = version - 1
	default:
		return nil, ErrForeign
	}
	if known == nil {
		if err := r.describe(); err != nil {
			return nil, err
		}
	}
	r.start = beginning(r.meta)
	for l, port := range ports(r.meta.Links) {
		r.ports[port] = l
	}
	if n := len(r.meta.Links) + len(r.ports); known == nil && r.r.NInterfaces() != n {
		return nil, fmt.Errorf("the capture is damaged: it has %d interfaces in place of %d", r.r.NInterfaces(), n)
	}
	return r, nil
}

// begin reads the section header.
func (r *reader) begin() error {
	ng, err := pcapgo.NewNgReader(r.b, pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		return fmt.Errorf("this is no pcapng file: %w", err)
	}
	r.r = ng
	return nil
}

// packet reads the next packet.
func (r *reader) packet() (*packet, error) {
	r.b.packets()
	data, ci, opts, err := r.r.ReadPacketDataWithOptions()
	switch {
	case err == nil:
		r.pack = packet{data, ci, opts.Comments, nil}
		return &r.pack, nil
	case r.b.over != nil:
		return nil, r.b.over
	}
	// The block is whole, what is in it does not hold: the next one is read by a new reader.
	r.b.again()
	if again := r.begin(); again != nil {
		return nil, again
	}
	r.pack = packet{CaptureInfo: gopacket.CaptureInfo{Timestamp: r.start.Add(-1)}, err: err}
	return &r.pack, nil
}

// next reads a packet; rec is nil for one that is no record of its own, and soFar says that
// it was not finished yet.
func (r *reader) next() (rec *record.Record, soFar bool, err error) {
	p := &r.pack
	if r.held {
		r.held = false
	} else {
		p, err = r.packet()
		switch {
		case errors.Is(err, io.EOF):
			return nil, false, io.EOF
		case err != nil:
			return nil, false, fmt.Errorf("the capture ends after %d records: %w", r.n, err)
		case r.b.hole >= 0:
			r.held, r.at, r.to = true, r.b.hole, r.b.at
			return r.gap(0, max(r.last, 0), fmt.Errorf("%s from byte %d on are no record", quantity.Count(int(r.to-r.at), "byte"), r.at)), false, nil
		}
	}
	r.n++
	r.at, r.to = r.b.at, r.b.next
	if err = p.err; err == nil {
		rec, soFar, err = r.record(p)
	}
	if err != nil {
		return r.inPlace(p, err), false, nil
	}
	if rec != nil {
		r.last = rec.Start
	}
	return rec, soFar, nil
}

// gap gives what stands in the place of a record that can't be read.
func (r *reader) gap(link uint16, at quantity.Time, why error) *record.Record {
	r.broken = true
	r.damages.add(r.at, true, why)
	return &record.Record{Kind: record.Gap, Link: link, Origin: record.FromGavrix, Start: at, End: at, Text: record.LostText + why.Error()}
}

// mostAhead is how far behind the one before a damaged record is believed to be.
const mostAhead = quantity.Time(60 * quantity.Second)

// inPlace gives what stands in the place of a packet that can't be read; nil of one that is
// no record of its own.
func (r *reader) inPlace(p *packet, why error) *record.Record {
	link := uint16(0)
	l, own := r.ports[p.InterfaceIndex]
	switch {
	case own:
		link = l
	case len(p.data) > 1 && p.data[0] == r.form && (p.data[1] == isRests || p.data[1] == isEnd && r.form >= sealed), r.form < sealed && len(p.data) > 5 && p.data[0] == r.form && p.data[5]&flagSoFar != 0:
		r.broken = true
		r.damages.add(r.b.at, false, why)
		return nil
	case p.InterfaceIndex >= 0 && p.InterfaceIndex < len(r.meta.Links):
		link = uint16(p.InterfaceIndex)
	}
	at := max(r.last, 0)
	if since := p.Timestamp.Sub(r.start); since >= 0 && int64(since) <= limit/1000 {
		if t := quantity.Time(since) * 1000; r.last < 0 || t-r.last <= mostAhead {
			at = t
		}
	}
	return r.gap(link, at, why)
}

// describe reads the capture's description.
func (r *reader) describe() error {
	var text []byte
	for last := false; !last; {
		p, err := r.packet()
		if err != nil || p.err != nil || r.b.hole >= 0 || len(p.data) < 2 || p.data[0] != r.form || p.data[1] != isPiece && p.data[1] != isLast || len(text) > mostDescribed {
			return errors.New("the capture ends before its links are described")
		}
		data, err := r.unseal(p, 0, 0)
		if err != nil {
			// What can be understood of it is better than nothing.
			r.damages.add(r.b.at, false, fmt.Errorf("the description of the links: %w", err))
		}
		text = append(text, data[2:]...)
		last = p.data[1] == isLast
	}
	var d description
	if err := json.Unmarshal(text, &d); err != nil || len(d.Links) == 0 || len(d.Links) > mostLinks {
		return ErrForeign
	}
	meta := capture.Meta{Lines: d.Lines, Links: d.Links, Bench: d.Bench, Seed: d.Seed, Files: d.Files, Part: d.Part}
	if err := meta.Check(); err != nil {
		return fmt.Errorf("the capture is damaged: %w", err)
	}
	if d.Started != "" {
		var err error
		if meta.Started, err = time.Parse(time.RFC3339Nano, d.Started); err != nil {
			return fmt.Errorf("the capture's start %q is no time", d.Started)
		}
	}
	r.meta = &meta
	return nil
}

// record reads one packet; nil for one that belongs to the record before. SoFar says that
// it was not finished yet.
func (r *reader) record(p *packet) (rec *record.Record, soFar bool, err error) {
	since := p.Timestamp.Sub(r.start)
	if since < 0 || int64(since) > limit/1000 {
		return nil, false, errors.New("its times are out of range")
	}
	at := quantity.Time(since) * 1000
	rec = &record.Record{Link: uint16(p.InterfaceIndex), Start: at, End: at}
	l, own := r.ports[p.InterfaceIndex]
	switch {
	case own:
		if slices.Contains(p.comments, goesOn) {
			return nil, false, nil
		}
		rec.Link, rec.Seen, rec.Origin = l, record.Tap, record.FromFile
		whole, err := parseWhole(p.comments)
		switch {
		case err != nil:
			return nil, false, err
		case whole != nil:
			if whole, err = r.unseal(&packet{data: whole, comments: p.comments}, at, l); err == nil {
				err = unmarshal(whole, at, rec)
			}
		case r.form >= sealed:
			err = errors.New("what Gavrix knows of it is missing in its comment")
		default:
			err = packetOf(&r.meta.Links[l]).Decode(p.data, rec)
		}
		if err != nil {
			return nil, false, err
		}
	case p.InterfaceIndex < 0 || p.InterfaceIndex >= len(r.meta.Links):
		return nil, false, fmt.Errorf("it belongs to link %d of %d", p.InterfaceIndex, len(r.meta.Links))
	default:
		data, err := r.unseal(p, at, rec.Link)
		switch {
		case err != nil:
			return nil, false, err
		case data[1] == isRests:
			return nil, false, r.rests(data[2:])
		case data[1] == isLevels && r.form >= sealed:
			r.levels = true
			line, w, err := parseLevels(data[2:], len(r.meta.Lines))
			if err == nil && r.line != nil {
				r.line(line, &w)
			}
			return nil, false, err
		case data[1] == isEnd && r.form >= sealed:
			var k int
			if r.wrote, k = binary.Uvarint(data[2:]); k <= 0 {
				return nil, false, errDamaged
			}
			r.whole = true
			return nil, false, nil
		}
		if err := unmarshal(data, at, rec); err != nil {
			return nil, false, err
		}
		soFar = data[5]&flagSoFar != 0
	}
	for _, c := range p.comments {
		rec.Marks = append(rec.Marks, parseMarks(c, mostIndex(rec))...)
	}
	return rec, soFar, nil
}

// rests takes how the lines stood at the end.
func (r *reader) rests(text []byte) error {
	var all []rest
	if err := json.Unmarshal(text, &all); err != nil {
		return errDamaged
	}
	for _, x := range all {
		if x.Line < 0 || x.Line >= len(r.meta.Lines) || x.Since < 0 || x.To < x.Since || int64(x.To) > limit {
			return errDamaged
		}
	}
	r.lines = append(r.lines, all...)
	return nil
}

// mostIndex bounds the index of a mark: marks of frames count bits.
func mostIndex(r *record.Record) int {
	if r.Kind == record.Frame {
		return 4096
	}
	return max(r.Len(), len(r.Data), len(r.Offsets)) + 1
}
