package pcapng

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix/core/capture"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// ErrForeign says that a file is pcapng, but holds no capture of this form.
var ErrForeign = errors.New("the file holds no serial capture that Gavrix wrote, or one of an older form")

// mostLinks bounds the links of a file.
const mostLinks = 4096

// mostDescribed bounds a capture's description in bytes.
const mostDescribed = 64 << 20

// reader is a file being read.
type reader struct {
	r     *pcapgo.NgReader
	start time.Time
	store *capture.Store
	ports map[int]uint16 // links by the interface of their own form
}

// Read loads a file. When it ends in the middle, or is damaged further on,
// the store holds what stood before, and the error says where it ended.
func Read(in io.Reader) (*capture.Store, error) {
	ng, err := pcapgo.NewNgReader(bufio.NewReaderSize(in, 1<<16), pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		return nil, fmt.Errorf("this is no pcapng file: %w", err)
	}
	if ng.SectionInfo().Comment != sectionMark {
		return nil, ErrForeign
	}
	r := &reader{r: ng, ports: map[int]uint16{}}
	if err := r.describe(); err != nil {
		return nil, err
	}
	for n := 0; ; n++ {
		data, ci, opts, err := ng.ReadPacketDataWithOptions()
		if errors.Is(err, io.EOF) {
			return r.store, nil
		}
		if err != nil {
			return r.store, fmt.Errorf("the capture ends after %d records: %w", n, err)
		}
		rec, err := r.record(data, ci, opts.Comments)
		if err != nil {
			return r.store, fmt.Errorf("record %d: %w", n+1, err)
		}
		if rec != nil {
			r.store.Put(rec)
			r.store.Advance(rec.End)
		}
	}
}

// describe reads the capture's description and makes the store.
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
	meta := capture.Meta{Lines: d.Lines, Links: d.Links, Bench: d.Bench, Seed: d.Seed, Files: d.Files}
	if err := meta.Check(); err != nil {
		return fmt.Errorf("the capture is damaged: %w", err)
	}
	r.start = time.Unix(0, 0).UTC()
	if d.Started != "" {
		var err error
		if meta.Started, err = time.Parse(time.RFC3339Nano, d.Started); err != nil {
			return fmt.Errorf("the capture's start %q is no time", d.Started)
		}
		r.start = meta.Started
	}
	r.store = capture.NewStore(meta)
	for l, port := range ports(meta.Links) {
		r.ports[port] = l
	}
	return nil
}

// record reads one packet; nil for one that belongs to the record before.
func (r *reader) record(data []byte, ci gopacket.CaptureInfo, comments []string) (*record.Record, error) {
	since := ci.Timestamp.Sub(r.start)
	if since < 0 || int64(since) > limit/1000 {
		return nil, errors.New("its times are out of range")
	}
	at := quantity.Time(since) * 1000
	rec := &record.Record{Link: uint16(ci.InterfaceIndex), Start: at, End: at}
	l, own := r.ports[ci.InterfaceIndex]
	switch {
	case own:
		if slices.Contains(comments, goesOn) {
			return nil, nil
		}
		rec.Link, rec.Seen, rec.Origin = l, record.Tap, record.FromFile
		whole, err := parseWhole(comments)
		if err == nil && whole != nil {
			err = unmarshal(whole, at, rec)
		} else if err == nil {
			err = packetOf(&r.store.Meta.Links[l]).Decode(data, rec)
		}
		if err != nil {
			return nil, err
		}
	case ci.InterfaceIndex < 0 || ci.InterfaceIndex >= len(r.store.Meta.Links):
		return nil, fmt.Errorf("it belongs to link %d of %d", ci.InterfaceIndex, len(r.store.Meta.Links))
	default:
		if err := unmarshal(data, at, rec); err != nil {
			return nil, err
		}
	}
	for _, c := range comments {
		rec.Marks = append(rec.Marks, parseMarks(c, mostIndex(rec))...)
	}
	return rec, nil
}

// mostIndex bounds the index of a mark: marks of frames count bits.
func mostIndex(r *record.Record) int {
	if r.Kind == record.Frame {
		return 4096
	}
	return max(r.Len(), len(r.Data), len(r.Offsets)) + 1
}
