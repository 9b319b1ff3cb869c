package records

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"sync"
	"sync/atomic"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Home keeps the records of a list elsewhere, as in a file, in the order in which they came
// and under the numbers of that order. It is used by several goroutines.
type Home interface {
	// Holds says whether all records from one number to another are there.
	Holds(first, last uint32) bool
	// Writes says that more will come to stand there.
	Writes() bool
	// Load gives them in order, with their numbers; a record is the taker's for the time of
	// the call.
	Load(first, last uint32, take func(seq uint32, r *record.Record)) error
}

// Key is a place in the order of ends: what ended at the same time stands as it came.
type Key struct {
	End quantity.Time
	Seq uint32
}

func (k Key) before(o Key) bool { return k.End < o.End || k.End == o.End && k.Seq < o.Seq }

// idBits is the size of a Summary's map of identifiers; identifiers of 29 bits are folded
// into it.
const idBits = 2048

// Summary tells of a segment what a search needs to pass it by, and where it stands in its
// home.
type Summary struct {
	N           int
	First, Last Key
	Earliest    quantity.Time // start of any of them
	// FromSeq and ToSeq are the least and the greatest number of arrival.
	FromSeq, ToSeq uint32
	Links          [4]uint64 // which links occur, by number modulo 256
	Kinds          uint32    // bit n: kind n occurs
	Flags          record.Flags
	// IDs says which identifiers of frames occur; nil: no frame.
	IDs *[idBits / 64]uint64
}

func idBit(id uint32) (word int, bit uint64) {
	n := (id ^ id>>11 ^ id>>22) % idBits
	return int(n / 64), 1 << (n % 64)
}

func summarise(heads []Head) Summary {
	s := Summary{
		N: len(heads), First: heads[0].key(), Last: heads[len(heads)-1].key(), Earliest: quantity.Forever,
		FromSeq: heads[0].seq, ToSeq: heads[0].seq,
	}
	for i := range heads {
		h := &heads[i]
		s.Earliest = min(s.Earliest, h.Start)
		s.FromSeq, s.ToSeq = min(s.FromSeq, h.seq), max(s.ToSeq, h.seq)
		s.Links[h.Link>>6&3] |= 1 << (h.Link & 63)
		s.Kinds |= 1 << h.Kind
		s.Flags |= h.Flags
		if h.Kind == record.Frame {
			if s.IDs == nil {
				s.IDs = new([idBits / 64]uint64)
			}
			w, b := idBit(h.ID)
			s.IDs[w] |= b
		}
	}
	return s
}

// Holds says whether any of the records may belong to the link.
func (s *Summary) Holds(link uint16) bool { return s.Links[link>>6&3]>>(link&63)&1 == 1 }

// HoldsID says whether any of them may be a frame with the identifier.
func (s *Summary) HoldsID(id uint32) bool {
	if s.IDs == nil {
		return s.HoldsKind(record.Frame) // nobody knows which
	}
	w, b := idBit(id)
	return s.IDs[w]&b != 0
}

// HoldsKind says whether any of the records is of the kind.
func (s *Summary) HoldsKind(k record.Kind) bool { return s.Kinds>>k&1 == 1 }

// may says whether any record may be one that is looked for.
func (s *Summary) may(q *Query) bool {
	return (q.Link == Any || s.Holds(uint16(q.Link))) && (q.Flags == 0 || s.Flags&q.Flags != 0) && (len(q.Kinds) == 0 || slices.ContainsFunc(q.Kinds, s.HoldsKind))
}

// away is a Segment whose records stand in the home; they are in memory only while somebody
// looks at them.
type away struct {
	Summary
	id      int
	pages   *pages
	in      atomic.Pointer[page]
	loading sync.Mutex
}

// page is what an away segment has in memory.
type page struct {
	heads []Head
	links []byte
	chunk []byte
	used  atomic.Int64
	// lost are the numbers of records that could not be read; away is how many of them would
	// stand elsewhere.
	lost []uint32
	away int
}

// Len implements Segment.
func (a *away) Len() int { return a.N }

// Head implements Segment.
func (a *away) Head(i int) *Head { return &a.page().heads[i] }

// About implements Segment.
func (a *away) About() *Summary { return &a.Summary }

// Links implements Segment.
func (a *away) Links() []byte { return a.page().links }

func (a *away) page() *page {
	if p := a.in.Load(); p != nil {
		p.used.Store(a.pages.clock.Load())
		return p
	}
	return a.pages.load(a)
}

// pages are the away segments of a list, of which some are in memory.
type pages struct {
	home  Home
	clock atomic.Int64

	mu  sync.Mutex // of what follows, never held while the home is asked
	all []*away
	in  []*away
	// failed is what the home said first when it could not give records back.
	failed error
}

// mostPages is how many away segments are in memory at most.
const mostPages = 96

func (p *pages) add(s Summary) *away {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := &away{Summary: s, id: len(p.all), pages: p}
	p.all = append(p.all, a)
	return a
}

// chunk gives the bytes of an away segment by its number.
func (p *pages) chunk(id int) []byte {
	p.mu.Lock()
	a := p.all[id]
	p.mu.Unlock()
	return a.page().chunk
}

// away marks the place of a record as one in the chunk of an away segment.
const awayPlace = 1 << 63

// unread says what the home could not give back.
func (p *pages) unread() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.failed
}

func (p *pages) load(a *away) *page {
	a.loading.Lock()
	defer a.loading.Unlock()
	if x := a.in.Load(); x != nil {
		return x
	}
	x, err := p.read(a)
	x.used.Store(p.clock.Add(1))
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil && p.failed == nil {
		p.failed = err
		slog.Error("records can't be read back", "why", err.Error())
	}
	a.in.Store(x)
	p.in = append(p.in, a)
	if len(p.in) > mostPages {
		oldest := 0
		for i, b := range p.in {
			if b.in.Load().used.Load() < p.in[oldest].in.Load().used.Load() {
				oldest = i
			}
		}
		p.in[oldest].in.Store(nil)
		p.in = slices.Delete(p.in, oldest, oldest+1)
	}
	return x
}

// read gets the records of a segment from the home. What can't be read stands as a gap that
// says so.
func (p *pages) read(a *away) (*page, error) {
	x := &page{heads: make([]Head, 0, min(a.N, perSegment))}
	err := p.home.Load(a.FromSeq, a.ToSeq, func(seq uint32, r *record.Record) {
		if k := (Key{r.End, seq}); k.before(a.First) || a.Last.before(k) {
			if r.Lost() {
				x.away++
			}
			return
		}
		if r.Lost() {
			x.lost = append(x.lost, seq)
		}
		at := uint64(len(x.chunk))
		x.chunk = pack(x.chunk, r)
		x.heads = append(x.heads, headOf(r, seq, awayPlace|uint64(a.id)<<32|at))
	})
	if err == nil {
		err = x.suit(a)
	}
	if err != nil {
		x.heads, x.chunk = x.heads[:0], pack(nil, &record.Record{Text: "what was here can't be read back: " + err.Error()})
		for i := range a.N {
			h := Head{Kind: record.Gap, Origin: record.FromGavrix, Start: a.First.End, End: a.First.End, seq: a.FromSeq + uint32(i), at: awayPlace | uint64(a.id)<<32}
			if i == a.N-1 {
				h.End = a.Last.End
			}
			x.heads = append(x.heads, h)
		}
		return x, err
	}
	x.links = linksOf(x.heads)
	return x, nil
}

// suit brings what was read in order, and holds it against what is known of the segment. A record
// that could not be read may be thought to have ended elsewhere: it is counted where one is
// missing.
func (x *page) suit(a *away) error {
	damaged := len(x.lost) > 0
	for i := len(x.lost) - 1; i >= 0 && len(x.heads) > a.N; i-- {
		x.heads = slices.DeleteFunc(x.heads, func(h Head) bool { return h.seq == x.lost[i] })
	}
	if n := a.N - len(x.heads); n > 0 && x.away >= n {
		damaged = true
		there := make(map[uint32]bool, len(x.heads))
		for i := range x.heads {
			there[x.heads[i].seq] = true
		}
		at := uint64(len(x.chunk))
		x.chunk = pack(x.chunk, &record.Record{Text: record.LostText + "it is damaged"})
		for seq := a.FromSeq; n > 0 && seq <= a.ToSeq; seq++ {
			if !there[seq] {
				x.heads = append(x.heads, Head{Kind: record.Gap, Origin: record.FromGavrix, Start: a.Last.End, End: a.Last.End, seq: seq, at: awayPlace | uint64(a.id)<<32 | at})
				n--
			}
		}
	}
	slices.SortFunc(x.heads, func(a, b Head) int { return cmp.Or(cmp.Compare(a.End, b.End), cmp.Compare(a.seq, b.seq)) })
	switch {
	case len(x.heads) != a.N:
		return fmt.Errorf("%d records stand where %d were written", len(x.heads), a.N)
	case damaged:
		return nil
	}
	if s := summarise(x.heads); !s.same(&a.Summary) {
		return errors.New("other records stand there than were written")
	}
	return nil
}

func (s *Summary) same(o *Summary) bool {
	a, b := *s, *o
	a.IDs, b.IDs = nil, nil
	return a == b && (s.IDs == nil || o.IDs == nil || *s.IDs == *o.IDs)
}

// split takes an away segment apart before the first record that ends after a time; either
// part may be nil.
func (p *pages) split(a *away, t quantity.Time) (before, behind Segment) {
	heads := a.page().heads
	i := sort.Search(len(heads), func(i int) bool { return heads[i].End > t })
	if i > 0 {
		before = p.add(summarise(heads[:i]))
	}
	if i < len(heads) {
		behind = p.add(summarise(heads[i:]))
	}
	return before, behind
}
