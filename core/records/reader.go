package records

import (
	"bytes"
	"iter"
	"math"
	"slices"
	"sort"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Reader gives the records of a List as they stood at one moment, numbered in the
// order of their ends. Numbers of records that come later may lie between: who
// follows a growing list uses Since.
type Reader struct {
	segments []Segment
	starts   []int
	open     []Head
	chunks   [][]byte
	pages    *pages
	sealed   int
	first    int
	total    uint32
}

// Len is the number behind the last record.
func (r *Reader) Len() int { return r.sealed + len(r.open) }

// First is the number of the first record that is still kept.
func (r *Reader) First() int { return r.first }

// Gone says how many records went because there were too many, and the end of the first
// that is left: what ended before it is not whole any more.
func (r *Reader) Gone() (n int, before quantity.Time) {
	if r.first == 0 || r.Len() == r.first {
		return r.first, 0
	}
	return r.first, r.Head(r.first).End
}

// Head gives the fixed part of the record with the number i.
func (r *Reader) Head(i int) *Head {
	if i >= r.sealed {
		return &r.open[i-r.sealed]
	}
	k := sort.SearchInts(r.starts, i+1) - 1
	return r.segments[k].Head(i - r.starts[k])
}

// At gives the record with the number i.
func (r *Reader) At(i int) *record.Record {
	return r.Of(r.Head(i))
}

// Of gives the record of a head.
func (r *Reader) Of(h *Head) *record.Record {
	var chunk []byte
	if h.at&awayPlace != 0 {
		chunk = r.pages.chunk(int(h.at &^ awayPlace >> 32))
	} else {
		chunk = r.chunks[h.at>>32]
	}
	rec := h.record(chunk)
	return &rec
}

// IndexAt gives the number of the first record that ends at a time or after it.
func (r *Reader) IndexAt(t quantity.Time) int {
	if n := len(r.open); n > 0 && len(r.segments) > 0 && r.segments[len(r.segments)-1].About().Last.End < t || len(r.segments) == 0 {
		return r.sealed + sort.Search(n, func(i int) bool { return r.open[i].End >= t })
	}
	k := sort.Search(len(r.segments), func(i int) bool { return r.segments[i].About().Last.End >= t })
	if k == len(r.segments) {
		return r.sealed
	}
	s := r.segments[k]
	return r.starts[k] + sort.Search(s.Len(), func(i int) bool { return s.Head(i).End >= t })
}

// Mark is how far somebody has followed a growing list.
type Mark uint32

// Mark gives the present end.
func (r *Reader) Mark() Mark { return Mark(r.total) }

// Since gives the numbers of the records that came after a mark, in the order in which
// they came: it does not depend on how often one looks.
func (r *Reader) Since(m Mark) []int {
	t := Trail{mark: m}
	out, _ := t.Next(r, math.MaxInt32)
	return out
}

// Summaries tells of the oldest records, as far as a home holds them, and gives the least
// number of arrival of those that it does not tell of.
func (r *Reader) Summaries(home Home) (segments []Summary, rest uint32) {
	ago := uint32(0) // how long before the end
	whole := r.first == 0
	for _, s := range r.segments {
		a := s.About()
		if whole = whole && home.Holds(a.FromSeq, a.ToSeq); whole {
			segments = append(segments, *a)
		} else {
			ago = max(ago, r.total-a.FromSeq)
		}
	}
	for i := range r.open {
		ago = max(ago, r.total-r.open[i].seq)
	}
	return segments, r.total - ago
}

// Stretch gives the records that stand together with the one of number i, from one number to
// before another, and what is known of them without looking at each.
func (r *Reader) Stretch(i int) (from, to int, about *Summary) {
	s := r.run(r.runAt(i))
	return s.start, s.start + s.seg.Len(), s.seg.About()
}

// Any of Link in a Query: all links.
const Any = -1

// Query says which records are looked for; its zero value wants link 0, of any kind.
type Query struct {
	Link    int           // Any for all
	Kinds   []record.Kind // empty for all
	From    []record.End  // senders; empty for all
	Seen    []record.End  // readers; empty for all
	Flags   record.Flags  // any of them; 0 for all
	Traffic bool          // only what went over a bus
}

// Wants says whether a record is one of those.
func (q *Query) Wants(h *Head) bool {
	return (q.Link == Any || h.Link == uint16(q.Link)) && (!q.Traffic || h.Traffic()) && (q.Flags == 0 || h.Flags&q.Flags != 0) &&
		(len(q.Kinds) == 0 || slices.Contains(q.Kinds, h.Kind)) && (len(q.From) == 0 || slices.Contains(q.From, h.From)) &&
		(len(q.Seen) == 0 || slices.Contains(q.Seen, h.Seen))
}

// column gives what tells a segment's records of other links; nil where nothing does.
func (q *Query) column(s Segment) []byte {
	if q.Link == Any {
		return nil
	}
	return s.Links()
}

// next gives the first of n records from number i on that may be wanted; n where there is none.
func (q *Query) next(links []byte, i, n int) int {
	if links == nil || i >= n {
		return min(i, n)
	}
	if k := bytes.IndexByte(links[i:], byte(q.Link)); k >= 0 {
		return i + k
	}
	return n
}

// prior gives the last record before number i that may be wanted; -1 where there is none.
func (q *Query) prior(links []byte, i int) int {
	if links == nil {
		return i - 1
	}
	return bytes.LastIndexByte(links[:max(i, 0)], byte(q.Link))
}

// WantsRecord is Wants for a record that is not in a list yet.
func (q *Query) WantsRecord(r *record.Record) bool {
	h := headOf(r, 0, 0)
	return q.Wants(&h)
}

// run is a stretch of records: a segment, or the open ones.
type run struct {
	start int
	seg   Segment
}

// openRun is the newest records as a Segment.
type openRun []Head

func (o openRun) Len() int         { return len(o) }
func (o openRun) Head(i int) *Head { return &o[i] }
func (o openRun) About() *Summary  { return &anything }
func (o openRun) Links() []byte    { return nil }

// anything is the summary of a segment of which nothing is known.
var anything = Summary{Earliest: -quantity.Forever, Last: Key{End: quantity.Forever}, Links: [4]uint64{^uint64(0), ^uint64(0), ^uint64(0), ^uint64(0)}, Kinds: ^uint32(0), Flags: ^record.Flags(0)}

func (r *Reader) run(k int) run {
	if k == len(r.segments) {
		return run{r.sealed, openRun(r.open)}
	}
	return run{r.starts[k], r.segments[k]}
}

// runAt gives the number of the run in which a record stands.
func (r *Reader) runAt(i int) int {
	if i >= r.sealed {
		return len(r.segments)
	}
	return max(sort.SearchInts(r.starts, i+1)-1, 0)
}

// After gives the records from a number on that are wanted, in order.
func (r *Reader) After(from int, q Query) iter.Seq2[int, *Head] {
	return r.after(max(from, r.first), quantity.Forever, q)
}

func (r *Reader) after(from int, to quantity.Time, q Query) iter.Seq2[int, *Head] {
	return func(yield func(int, *Head) bool) {
		for k := r.runAt(from); k <= len(r.segments); k++ {
			s := r.run(k)
			if about := s.seg.About(); !about.may(&q) || about.Earliest >= to {
				continue
			}
			links, n := q.column(s.seg), s.seg.Len()
			for i := q.next(links, max(from-s.start, 0), n); i < n; i = q.next(links, i+1, n) {
				if h := s.seg.Head(i); h.Start < to && q.Wants(h) && !yield(s.start+i, h) {
					return
				}
			}
		}
	}
}

// Before gives the records before a number that are wanted, the newest first.
func (r *Reader) Before(to int, q Query) iter.Seq2[int, *Head] {
	to = min(to, r.Len())
	return func(yield func(int, *Head) bool) {
		for k := r.runAt(to - 1); k >= 0; k-- {
			s := r.run(k)
			if !s.seg.About().may(&q) {
				continue
			}
			links := q.column(s.seg)
			for i := q.prior(links, min(to-s.start, s.seg.Len())); i >= 0; i = q.prior(links, i) {
				if h := s.seg.Head(i); q.Wants(h) && !yield(s.start+i, h) {
					return
				}
			}
		}
	}
}

// Touching gives the records that reach into a stretch of time and are wanted, in
// the order of their ends; long ones too that end far behind it.
func (r *Reader) Touching(from, to quantity.Time, q Query) iter.Seq2[int, *Head] {
	return r.after(r.IndexAt(from+1), to, q)
}
