package pcapng

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/regular"
)

// IndexName is the file in which the index of a capture file is kept.
func IndexName(path string) string { return path + ".index" }

// indexForm is the form of index files, as docs/formats.md describes it.
const indexForm = 2

// leastIndexed is how many records a file has for which an index is written.
var leastIndexed uint32 = 50_000

// index is what a capture file holds, and where: with it a file is shown at once.
type index struct {
	Form int `json:"form"`
	// Covered is how much of the file it tells of, Head and Tail the checksums of the first
	// and the last bytes of that.
	Covered int64  `json:"covered"`
	Head    uint32 `json:"head"`
	Tail    uint32 `json:"tail"`
	// Places are where every Per-th record begins, as differences, in base 64.
	Per    int    `json:"records_a_place"`
	Places []byte `json:"places"`
	Count  uint32 `json:"records"`
	// Again is where to go on reading: all records that are in no segment stand behind it.
	Again int64 `json:"again"`

	State *capture.State `json:"state"`
}

// sample is how many bytes a checksum is taken of.
const sample = 4096

// sums gives the checksums of a file's beginning and of what lies before a place.
func sums(f io.ReaderAt, covered int64) (head, tail uint32, err error) {
	b := make([]byte, min(sample, covered))
	if _, err := f.ReadAt(b, 0); err != nil {
		return 0, 0, err
	}
	head = crc32.ChecksumIEEE(b)
	if _, err := f.ReadAt(b, covered-int64(len(b))); err != nil {
		return 0, 0, err
	}
	return head, crc32.ChecksumIEEE(b), nil
}

// indexOf makes the index of a part whose records a snapshot has.
func indexOf(p *part, snap *capture.Snapshot, home *shelf) (*index, error) {
	state := snap.State(home)
	home.mu.RLock()
	x := index{Form: indexForm, Covered: p.end, Per: perPlace, Count: p.count, State: state}
	last := int64(0)
	for _, at := range p.places {
		x.Places = binary.AppendUvarint(x.Places, uint64(at-last))
		last = at
	}
	// What came behind the last record that the file has is no part of this.
	x.Again, _ = p.place(min(x.State.Rest, x.Count))
	home.mu.RUnlock()
	var err error
	if x.Head, x.Tail, err = sums(p.file, x.Covered); err != nil {
		return nil, err
	}
	if x.State.Total < x.Count {
		return nil, errors.New("the file has more records than the capture")
	}
	return &x, nil
}

// writeIndex keeps an index beside its file.
func writeIndex(path string, x *index) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	b = append(b, '\n')
	return regular.Replace(IndexName(path), fmt.Appendf(b, indexEnd, crc32.Checksum(b, castagnoli)), 0o600)
}

// indexEnd is the last line of an index, with the checksum of what is before.
const indexEnd = "%08x\n"

// whole gives what an index says, without its checksum.
func whole(b []byte) ([]byte, error) {
	n := len(b) - len("00000000\n")
	if n < 0 || !bytes.Equal(b[n:], fmt.Appendf(nil, indexEnd, crc32.Checksum(b[:n], castagnoli))) {
		return nil, errors.New("it is damaged, or of another form: its checksum does not match")
	}
	return b[:n], nil
}

// largestIndex bounds the size of an index file that is read.
const largestIndex = 1 << 30

// readIndex reads the index of a file; an error says why there is none that holds.
func readIndex(path string, f *os.File, size int64, front []byte, meta *capture.Meta) (*index, *part, error) {
	b, err := regular.Read(IndexName(path), largestIndex)
	if err != nil {
		return nil, nil, err
	}
	if b, err = whole(b); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", IndexName(path), err)
	}
	var x index
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(&x); err != nil {
		return nil, nil, fmt.Errorf("%s is damaged: %w", IndexName(path), err)
	}
	p := &part{path: path, file: f, head: front, count: x.Count, end: x.Covered}
	if err := x.check(p, size, meta); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", IndexName(path), err)
	}
	head, tail, err := sums(f, x.Covered)
	if err != nil || head != x.Head || tail != x.Tail {
		return nil, nil, fmt.Errorf("%s is not the index of this file", IndexName(path))
	}
	return &x, p, nil
}

var errIndex = errors.New("its values are out of range")

// check says what does not fit together, as in a damaged or crafted index, and fills the
// places of the part.
func (x *index) check(p *part, size int64, meta *capture.Meta) error {
	if x.Form != indexForm || x.Per != perPlace {
		return errors.New("it is of another form")
	}
	if x.Covered > size {
		return fmt.Errorf("the file had %d bytes when its index was written and has %d: its end is gone", x.Covered, size)
	}
	if x.Covered <= 0 || x.Again < 0 || x.Again > x.Covered || x.State == nil || x.State.Total < x.Count || x.State.Rest > x.State.Total || x.Count == 0 || int64(x.State.Now) > limit || x.State.Now < 0 {
		return errIndex
	}
	at := int64(0)
	for b := x.Places; len(b) > 0; {
		d, n := binary.Uvarint(b)
		if n <= 0 || d == 0 || d > uint64(x.Covered-at) {
			return errIndex
		}
		at += int64(d)
		p.places, b = append(p.places, at), b[n:]
	}
	if again, _ := p.placed(x.Again); uint32(len(p.places)) != (x.Count+perPlace-1)/perPlace || again != x.Again {
		return errIndex
	}
	sum := uint64(0)
	for i := range x.State.Segments {
		s := &x.State.Segments[i]
		if s.N <= 0 || s.FromSeq > s.ToSeq || s.ToSeq >= x.Count || uint32(s.N) > s.ToSeq-s.FromSeq+1 || s.Last.End < s.First.End || i > 0 && s.First.End < x.State.Segments[i-1].Last.End || int64(s.Last.End) > limit {
			return errIndex
		}
		sum += uint64(s.N)
	}
	// Whatever has come is in a segment, or comes behind the place at which reading goes on.
	if _, again := p.placed(x.Again); sum > uint64(x.Count) || sum+uint64(x.State.Total-again) < uint64(x.State.Total) {
		return errIndex
	}
	for _, c := range x.State.Counters {
		if int(c.Link) >= len(meta.Links) {
			return errIndex
		}
	}
	return nil
}
