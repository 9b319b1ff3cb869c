package pcapng

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"
	"sync"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
)

// perPlace is how many records stand between two places that are known.
const perPlace = 256

// part is one file of which each record can be found again.
type part struct {
	path   string
	file   *os.File // to read
	head   []byte   // its section header and interfaces
	base   uint32   // number of arrival of its first record
	count  uint32   // records in it
	places []int64  // where every perPlace-th record begins
	end    int64    // behind the last one
}

// add takes note of a record that stands from one byte to another.
func (p *part) add(from, to int64) {
	if p.count%perPlace == 0 {
		p.places = append(p.places, from)
	}
	p.count++
	p.end = to
}

// reader reads what stands between two places.
func (p *part) reader(meta *capture.Meta, from, to int64, d *damages) (*reader, error) {
	in := io.MultiReader(bytes.NewReader(p.head), io.NewSectionReader(p.file, from, to-from))
	b := newBlocks(in, from-int64(len(p.head)))
	b.front = len(p.head)
	return newReader(meta, b, d)
}

// place gives where a record that has n before it, or an earlier one, begins, and how many
// are before that.
func (p *part) place(n uint32) (at int64, before uint32) {
	if i := int(n / perPlace); i < len(p.places) {
		return p.places[i], n / perPlace * perPlace
	}
	return p.end, p.count
}

// shelf is the home of a capture in files, each the continuation of the one before.
type shelf struct {
	meta     *capture.Meta
	*damages // of its files

	mu    sync.RWMutex
	parts []*part
	from  uint32 // records that came before this one are not looked for here
	ended bool   // nothing more is written
}

var errGone = errors.New("the file in which it stood is no longer there")

// Holds implements records.Home.
func (s *shelf) Holds(first, last uint32) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if len(s.parts) == 0 {
		return false
	}
	oldest, newest := s.parts[0], s.parts[len(s.parts)-1]
	return first >= max(s.from, oldest.base) && last < newest.base+newest.count
}

// Writes implements records.Home.
func (s *shelf) Writes() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return !s.ended
}

// end says that nothing more is written.
func (s *shelf) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
}

// Load implements records.Home.
func (s *shelf) Load(first, last uint32, take func(seq uint32, r *record.Record)) error {
	type piece struct {
		*part
		from, to int64
		seq, n   uint32
	}
	var pieces []piece
	s.mu.RLock()
	for _, p := range s.parts {
		if p.count == 0 || p.base > last || p.base+p.count <= first {
			continue
		}
		x := piece{part: p, seq: p.base}
		var before uint32
		x.from, before = p.place(max(first, p.base) - p.base)
		x.seq += before
		x.to, x.n = p.place(min(last, p.base+p.count-1) - p.base + perPlace)
		x.n -= before
		pieces = append(pieces, x)
	}
	gone := len(pieces) == 0 || pieces[0].seq > first
	s.mu.RUnlock()
	if gone {
		return errGone
	}
	for _, p := range pieces {
		if err := s.load(p.part, p.from, p.to, p.n, func(i uint32, r *record.Record) {
			if seq := p.seq + i; seq >= first && seq <= last {
				take(seq, r)
			}
		}); err != nil {
			return fmt.Errorf("%s: %w", p.path, err)
		}
	}
	return nil
}

// load gives the n records that stand between two places of a file. Of damaged ones a gap stands
// in each one's place.
func (s *shelf) load(p *part, from, to int64, n uint32, take func(i uint32, r *record.Record)) error {
	r, err := p.reader(s.meta, from, to, s.damages)
	if err != nil {
		return err
	}
	var taken uint32
	for {
		rec, soFar, err := r.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			if rec = r.gap(0, max(r.last, 0), err); taken < n {
				take(taken, rec)
				taken++
			}
			break
		}
		if rec == nil || soFar {
			continue
		}
		if taken < n {
			take(taken, rec)
		}
		taken++
	}
	if taken != n && !r.broken {
		return fmt.Errorf("%d records stand between bytes %d and %d in place of %d: %s is not the index of this file; remove it", taken, from, to, n, IndexName(p.path))
	}
	for ; taken < n; taken++ {
		take(taken, r.gap(0, max(r.last, 0), fmt.Errorf("nothing whole is left between bytes %d and %d", from, to)))
	}
	return nil
}

// placed gives the last known place at or before a byte, and the number of the record there.
func (p *part) placed(at int64) (place int64, n uint32) {
	if at >= p.end {
		return p.end, p.count
	}
	i := sort.Search(len(p.places), func(i int) bool { return p.places[i] > at }) - 1
	if i < 0 {
		return 0, 0
	}
	return p.places[i], uint32(i) * perPlace
}

// begin adds a file that goes on where the last one ended.
func (s *shelf) begin(p *part) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if n := len(s.parts); n > 0 {
		p.base = s.parts[n-1].base + s.parts[n-1].count
	}
	s.parts = append(s.parts, p)
}

// span is where a record stands.
type span struct{ from, to int64 }

// settle takes note of records that are in a file now.
func (s *shelf) settle(p *part, spans []span) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range spans {
		p.add(x.from, x.to)
	}
}

// newest gives the last file, how many records it has, and whether they are all that came.
func (s *shelf) newest() (p *part, count uint32, whole bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	p = s.parts[len(s.parts)-1]
	return p, p.count, s.from == 0
}

// align makes the numbers of arrival agree with a capture to which so many records had come:
// the last of them is the last here.
func (s *shelf) align(came uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := uint32(0)
	for _, p := range s.parts {
		n += p.count
	}
	if came > n {
		s.from = came
	}
	for _, p := range s.parts {
		p.base += came - n
	}
}

// forget lets the oldest file go.
func (s *shelf) forget() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.parts[0]
	s.parts = slices.Clone(s.parts[1:])
	p.file.Close()
	return p.path
}

func (s *shelf) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.parts {
		p.file.Close()
	}
}

// preface gives the section header and the interfaces with which a file begins.
func preface(in io.ReaderAt, size int64) ([]byte, error) {
	var head [8]byte
	at := int64(0)
	for {
		if _, err := in.ReadAt(head[:], at); err != nil {
			break
		}
		if kind := binary.LittleEndian.Uint32(head[:]); kind != blockSection && kind != blockInterface {
			break
		}
		n := int64(binary.LittleEndian.Uint32(head[4:]))
		if n < 12 || at+n > size || at+n > mostDescribed {
			return nil, errors.New("the capture ends before its links are described")
		}
		at += n
	}
	out := make([]byte, at)
	_, err := in.ReadAt(out, 0)
	return out, err
}
