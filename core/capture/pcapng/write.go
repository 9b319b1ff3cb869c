package pcapng

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Writer appends records to a file.
type Writer struct {
	w     *pcapgo.NgWriter
	start time.Time
	buf   []byte
	links []capture.Link
	ports map[uint16]int // interfaces of buses with a form that others know, by link
	n     uint64         // records
}

// NewWriter begins a file for a capture.
func NewWriter(out io.Writer, meta *capture.Meta) (*Writer, error) {
	if len(meta.Links) == 0 {
		return nil, errors.New("a capture without links can't be saved")
	}
	d := description{Seed: meta.Seed, Lines: meta.Lines, Links: meta.Links, Bench: meta.Bench, Files: meta.Files, Part: meta.Part}
	start := beginning(meta)
	if !meta.Started.IsZero() {
		d.Started = start.Format(time.RFC3339Nano)
	}
	text, err := json.Marshal(d)
	if err != nil {
		return nil, err
	}
	intf := func(l *capture.Link, t layers.LinkType) pcapgo.NgInterface {
		return pcapgo.NgInterface{Name: short(l.Name), Description: l.Kind, LinkType: t, TimestampResolution: 9}
	}
	w, err := pcapgo.NewNgWriterInterface(out, intf(&meta.Links[0], linkUser), pcapgo.NgWriterOptions{
		SectionInfo: pcapgo.NgSectionInfo{Application: "Gavrix", Comment: sectionMark},
	})
	if err != nil {
		return nil, err
	}
	x := &Writer{w: w, start: start, links: meta.Links, ports: ports(meta.Links)}
	for i := range meta.Links[1:] {
		if _, err := w.AddInterface(intf(&meta.Links[1+i], linkUser)); err != nil {
			return nil, err
		}
	}
	for i := range meta.Links {
		if _, has := x.ports[uint16(i)]; !has {
			continue
		}
		if _, err := w.AddInterface(intf(&meta.Links[i], layers.LinkType(packetOf(&meta.Links[i]).LinkType))); err != nil {
			return nil, err
		}
	}
	for {
		n, kind := min(len(text), perPiece), byte(isPiece)
		if n == len(text) {
			kind = isLast
		}
		if err := x.packet(0, 0, seal(append([]byte{version, kind}, text[:n]...), 0, 0, nil), nil); err != nil {
			return nil, err
		}
		if text = text[n:]; kind == isLast {
			return x, nil
		}
	}
}

// beginning is the time of day that stands for the start of a capture.
func beginning(meta *capture.Meta) time.Time {
	if meta.Started.IsZero() {
		return time.Unix(0, 0).UTC()
	}
	return meta.Started.UTC()
}

// short keeps a name below the size of one option.
func short(name string) string {
	if len(name) > 1000 {
		return name[:1000]
	}
	return name
}

func (w *Writer) packet(port int, at quantity.Time, b []byte, comments []string) error {
	return w.w.WritePacketWithOptions(gopacket.CaptureInfo{
		Timestamp: w.start.Add(time.Duration(at / 1000)), InterfaceIndex: port, CaptureLength: len(b), Length: len(b),
	}, b, pcapgo.NgPacketOptions{Comments: comments})
}

// Write appends one record.
func (w *Writer) Write(r *record.Record) error {
	w.n++
	marks := marksText(r.Marks)
	w.buf = seal(marshal(w.buf[:0], r, false), r.Start, r.Link, marks)
	port, has := w.ports[r.Link]
	if !has || r.Kind != record.Frame && r.Kind != record.Transaction {
		return w.packet(int(r.Link), r.Start, w.buf, marks)
	}
	// Any reader of the link type knows the packets; the first has all in a comment.
	comments := append(wholeText(w.buf), marks...)
	for _, b := range packetOf(&w.links[r.Link]).Encode(r) {
		if err := w.packet(port, r.Start, b, comments); err != nil {
			return err
		}
		comments = []string{goesOn}
	}
	return nil
}

// writeSoFar appends a record that is not finished: should nothing more come, it is not
// lost.
func (w *Writer) writeSoFar(r *record.Record) error {
	marks := marksText(r.Marks)
	w.buf = seal(marshal(w.buf[:0], r, true), r.Start, r.Link, marks)
	return w.packet(int(r.Link), r.Start, w.buf, marks)
}

// Flush hands everything written to the file.
func (w *Writer) Flush() error { return w.w.Flush() }

// SaveAll is Save with the levels of lines that are kept.
func SaveAll(out io.Writer, snap *capture.Snapshot) error { return save(out, snap, true) }

// Save writes a snapshot's records.
func Save(out io.Writer, snap *capture.Snapshot) error { return save(out, snap, false) }

func save(out io.Writer, snap *capture.Snapshot, withLevels bool) error {
	w, err := NewWriter(out, snap.Meta())
	if err != nil {
		return err
	}
	for i := snap.First(); i < snap.Len(); i++ {
		if err := w.Write(snap.At(i)); err != nil {
			return err
		}
	}
	if withLevels {
		l := levels{upTo: map[int]quantity.Time{}}
		if err := l.write(w, snap); err != nil {
			return err
		}
	}
	return w.end(snap)
}

// rest is how a line stood at the end, as the file has it.
type rest struct {
	Line  int           `json:"line"`
	High  bool          `json:"high"`
	Since quantity.Time `json:"since_ps"`
	To    quantity.Time `json:"to_ps"`
}

// end writes what is unfinished, and how the lines stand: levels are not kept, but a line
// that is held can be told from them alone.
func (w *Writer) end(snap *capture.Snapshot) error {
	for i := range snap.Running {
		if err := w.Write(&snap.Running[i]); err != nil {
			return err
		}
	}
	var rests []rest
	meta := snap.Meta()
	known := map[int]bool{}
	for l := range meta.Links {
		for role := range meta.Links[l].Lines {
			line := meta.Line(uint16(l), role)
			if line < 0 || line >= len(meta.Lines) || known[line] {
				continue
			}
			if r, ok := snap.Rest(uint16(l), role); ok {
				known[line] = true
				rests = append(rests, rest{line, r.High, r.Since, r.To})
			}
		}
	}
	if len(rests) > 0 {
		text, err := json.Marshal(rests)
		if err != nil {
			return err
		}
		if err := w.packet(0, 0, seal(append([]byte{version, isRests}, text...), 0, 0, nil), nil); err != nil {
			return err
		}
	}
	return w.finish()
}

// finish says that the file is whole.
func (w *Writer) finish() error {
	if err := w.packet(0, 0, seal(binary.AppendUvarint([]byte{version, isEnd}, w.n), 0, 0, nil), nil); err != nil {
		return err
	}
	return w.Flush()
}
