package pcapng

import (
	"bufio"
	"cmp"
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
)

// ErrForeign says that a file is pcapng, but holds no capture of this form.
var ErrForeign = errors.New("the file holds no serial capture that Gavrix wrote, or one of an older form")

// mostLinks bounds the links of a file.
const mostLinks = 4096

// mostDescribed bounds a capture's description in bytes.
const mostDescribed = 64 << 20

// reader is a file being read, or a stretch of one.
type reader struct {
	r     *pcapgo.NgReader
	start time.Time
	meta  *capture.Meta
	ports map[int]uint16 // links by the interface of their own form
	lines []rest         // how the lines stood at the end
	n     int            // packets that were read
	// damage is what can't be read of it so far; nil: nothing.
	damage *Damage
}

// Damage says that records of a file can't be read. What is behind them is there; in the place of
// each stands a gap.
type Damage struct {
	N     int
	First error
}

// Error implements error.
func (d *Damage) Error() string {
	if d.N == 1 {
		return fmt.Sprintf("a record can't be read: %v; a gap stands in its place", d.First)
	}
	return fmt.Sprintf("%d records can't be read, a gap stands in the place of each; the first: %v", d.N, d.First)
}

// gatherer puts what a reader gives into a store.
type gatherer struct {
	*reader
	store *capture.Store
	// soFar are records that were not finished yet; who takes their place comes behind.
	soFar map[running]unfinished
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

// Read loads a file. When it ends in the middle, or what follows is no file any more, the store
// holds what stood before, and the error says where it ended; of single records that can't be
// read the error is a Damage.
func Read(in io.Reader) (*capture.Store, error) {
	r, err := newReader(nil, in)
	if err != nil {
		return nil, err
	}
	g := &gatherer{reader: r, store: capture.NewStore(*r.meta), soFar: map[running]unfinished{}}
	defer g.rest()
	for {
		rec, soFar, err := r.next()
		if errors.Is(err, io.EOF) {
			return g.store, r.damaged()
		}
		if err != nil {
			return g.store, err
		}
		if rec != nil && g.put(rec, soFar, 0) {
			g.store.Put(rec)
			g.store.Advance(rec.End)
		}
	}
}

// newReader begins a file; of a stretch of one the description is known.
func newReader(known *capture.Meta, in io.Reader) (*reader, error) {
	if _, apart := in.(*blocks); !apart {
		in = bufio.NewReaderSize(in, 1<<16)
	}
	ng, err := pcapgo.NewNgReader(in, pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		return nil, fmt.Errorf("this is no pcapng file: %w", err)
	}
	if ng.SectionInfo().Comment != sectionMark {
		return nil, ErrForeign
	}
	r := &reader{r: ng, ports: map[int]uint16{}, meta: known}
	if known == nil {
		if err := r.describe(); err != nil {
			return nil, err
		}
	}
	r.start = beginning(r.meta)
	for l, port := range ports(r.meta.Links) {
		r.ports[port] = l
	}
	return r, nil
}

// next reads a packet; rec is nil for one that is no record of its own, and soFar says that
// it was not finished yet.
func (r *reader) next() (rec *record.Record, soFar bool, err error) {
	data, ci, opts, err := r.r.ReadPacketDataWithOptions()
	if errors.Is(err, io.EOF) {
		return nil, false, io.EOF
	}
	if err != nil {
		return nil, false, fmt.Errorf("the capture ends after %d records: %w", r.n, err)
	}
	r.n++
	rec, soFar, err = r.record(data, ci, opts.Comments)
	if err != nil {
		return r.inPlace(data, ci, err), false, nil
	}
	return rec, soFar, nil
}

// inPlace gives what stands in the place of a record that can't be read; nil of a packet that is
// none of its own.
func (r *reader) inPlace(data []byte, ci gopacket.CaptureInfo, why error) *record.Record {
	if r.damage == nil {
		r.damage = &Damage{First: fmt.Errorf("record %d: %w", r.n, why)}
	}
	r.damage.N++
	l, own := r.ports[ci.InterfaceIndex]
	switch {
	case own:
	case len(data) > 1 && data[0] == version && data[1] == isRests, len(data) > 5 && data[0] == version && data[5]&flagSoFar != 0:
		return nil
	case ci.InterfaceIndex >= 0 && ci.InterfaceIndex < len(r.meta.Links):
		l = uint16(ci.InterfaceIndex)
	}
	at := quantity.Time(0)
	if since := ci.Timestamp.Sub(r.start); since > 0 && int64(since) <= limit/1000 {
		at = quantity.Time(since) * 1000
	}
	return &record.Record{Kind: record.Gap, Link: l, Origin: record.FromGavrix, Start: at, End: at, Text: "a record can't be read: " + why.Error()}
}

// damaged is what could not be read, as an error.
func (r *reader) damaged() error {
	if r.damage == nil {
		return nil
	}
	return r.damage
}

// describe reads the capture's description.
func (r *reader) describe() error {
	var text []byte
	for last := false; !last; {
		data, _, _, err := r.r.ReadPacketDataWithOptions()
		if err != nil || len(data) < 2 || data[0] != version || data[1] != isPiece && data[1] != isLast || len(text) > mostDescribed {
			return errors.New("the capture ends before its links are described")
		}
		text = append(text, data[2:]...)
		last = data[1] == isLast
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
func (r *reader) record(data []byte, ci gopacket.CaptureInfo, comments []string) (rec *record.Record, soFar bool, err error) {
	since := ci.Timestamp.Sub(r.start)
	if since < 0 || int64(since) > limit/1000 {
		return nil, false, errors.New("its times are out of range")
	}
	at := quantity.Time(since) * 1000
	rec = &record.Record{Link: uint16(ci.InterfaceIndex), Start: at, End: at}
	l, own := r.ports[ci.InterfaceIndex]
	switch {
	case own:
		if slices.Contains(comments, goesOn) {
			return nil, false, nil
		}
		rec.Link, rec.Seen, rec.Origin = l, record.Tap, record.FromFile
		var whole []byte
		whole, err = parseWhole(comments)
		if err == nil && whole != nil {
			err = unmarshal(whole, at, rec)
		} else if err == nil {
			err = packetOf(&r.meta.Links[l]).Decode(data, rec)
		}
		if err != nil {
			return nil, false, err
		}
	case ci.InterfaceIndex < 0 || ci.InterfaceIndex >= len(r.meta.Links):
		return nil, false, fmt.Errorf("it belongs to link %d of %d", ci.InterfaceIndex, len(r.meta.Links))
	case len(data) > 1 && data[0] == version && data[1] == isRests:
		return nil, false, r.rests(data[2:])
	default:
		if err := unmarshal(data, at, rec); err != nil {
			return nil, false, err
		}
		soFar = data[5]&flagSoFar != 0
	}
	for _, c := range comments {
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
