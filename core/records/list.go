package records

import (
	"slices"
	"sort"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

const (
	// perSegment is the number of records in a sealed segment.
	perSegment = 2048
	// mostOpen is how many records are kept where late ones are put in cheaply;
	// half of them are sealed when there are more.
	mostOpen = 512
	// perChunk is the size of a chunk of what heads do not hold.
	perChunk = 1 << 18
)

// Segment is a run of records that never changes, in order of their ends.
type Segment interface {
	Len() int
	Head(i int) *Head
	// About says what is in it without looking at its records.
	About() *Summary
	// Links gives the number of the link of each record, modulo 256; nil where each head is
	// to be looked at.
	Links() []byte
}

// sealed is a Segment in memory.
type sealed struct {
	Summary
	heads []Head
	links []byte
	chunk int // the first chunk that it needs
}

func seal(heads []Head) *sealed {
	s := &sealed{Summary: summarise(heads), heads: heads, links: linksOf(heads), chunk: int(heads[0].at >> 32)}
	for i := range heads {
		s.chunk = min(s.chunk, int(heads[i].at>>32))
	}
	return s
}

// Len implements Segment.
func (s *sealed) Len() int { return len(s.heads) }

// Head implements Segment.
func (s *sealed) Head(i int) *Head { return &s.heads[i] }

// Links implements Segment.
func (s *sealed) Links() []byte { return s.links }

func linksOf(heads []Head) []byte {
	out := make([]byte, len(heads))
	for i := range heads {
		out[i] = byte(heads[i].Link)
	}
	return out
}

// About implements Segment.
func (s *sealed) About() *Summary { return &s.Summary }

// List keeps records. Its zero value is an empty one without a limit.
type List struct {
	// Limit is the memory in bytes that records may take, about. When there are more the
	// oldest are left to the home that keeps them; where it does not, they go. 0: no limit.
	Limit int

	segments []Segment
	starts   []int  // number of records before each segment, since the beginning
	open     []Head // the newest, behind the segments
	chunks   [][]byte
	fill     int // of the last chunk
	sealed   int // records in segments, those that went too
	first    int // records that went
	total    uint32
	used     int
	scratch  []byte
	pages    *pages
	near     int // no segment before this one is in memory
}

// Keep says where the records stand that the list has no memory for. The first one counts.
func (l *List) Keep(h Home) {
	if l.pages == nil {
		l.pages = &pages{home: h}
	}
}

// Unread says what the home could not give back of what was asked for; nil: it gave everything.
func (l *List) Unread() error {
	if l.pages == nil {
		return nil
	}
	return l.pages.unread()
}

// Restore fills an empty list with segments that its home has, as Reader.Summaries gave them,
// of a list to which total records had come.
func (l *List) Restore(segments []Summary, total uint32) {
	for _, s := range segments {
		l.segments = append(l.segments, l.pages.add(s))
		l.starts = append(l.starts, l.sealed)
		l.sealed += s.N
	}
	l.total, l.near = total, len(segments)
}

// headSize is about what a head takes, with the number of its link beside it.
const headSize = 57

// Put keeps a record at its place in the order of ends.
func (l *List) Put(r *record.Record) { l.PutAs(l.total, r) }

// PutAs keeps a record that has its number of arrival from elsewhere. No other has it.
func (l *List) PutAs(seq uint32, r *record.Record) {
	l.scratch = pack(l.scratch[:0], r)
	h := headOf(r, seq, l.keep(l.scratch))
	l.total = max(l.total, seq+1)
	l.used += headSize
	switch n := len(l.open); {
	case len(l.segments) > 0 && l.lastSealed() > h.End:
		l.late(h)
	case n == 0 || l.open[n-1].End <= h.End:
		l.open = append(l.open, h)
	default:
		// Readers have the old list, so the new one is another.
		i := sort.Search(n, func(i int) bool { return l.open[i].End > h.End })
		l.open = slices.Insert(append(make([]Head, 0, mostOpen+1), l.open...), i, h)
	}
	if len(l.open) > mostOpen {
		l.seal(mostOpen / 2)
	}
}

// keep gives the place of bytes in a chunk.
func (l *List) keep(b []byte) uint64 {
	n := len(l.chunks)
	if n == 0 || len(l.chunks[n-1])-l.fill < len(b) {
		l.chunks = append(l.chunks, make([]byte, max(perChunk, len(b))))
		l.used += len(l.chunks[n])
		l.fill = 0
		n++
	}
	at := uint64(n-1)<<32 | uint64(l.fill)
	l.fill += copy(l.chunks[n-1][l.fill:], b)
	return at
}

func (l *List) lastSealed() quantity.Time {
	return l.segments[len(l.segments)-1].About().Last.End
}

// seal moves the oldest n open records to the segments.
func (l *List) seal(n int) {
	move := l.open[:n]
	l.open = append(make([]Head, 0, mostOpen+1), l.open[n:]...)
	k := len(l.segments)
	if last, ok := l.last(); ok && last.Len()+n <= perSegment {
		heads := append(slices.Clone(last.heads), move...)
		l.segments = append(l.segments[:k-1:k-1], seal(heads))
	} else {
		l.segments = append(l.segments, seal(slices.Clone(move)))
		l.starts = append(l.starts, l.sealed)
	}
	l.sealed += n
	l.forget()
}

// last gives the newest segment, where it is in memory.
func (l *List) last() (*sealed, bool) {
	if len(l.segments) == 0 {
		return nil, false
	}
	s, ok := l.segments[len(l.segments)-1].(*sealed)
	return s, ok
}

// late puts in a record that ended before what is sealed.
func (l *List) late(h Head) {
	k := sort.Search(len(l.segments), func(i int) bool { return l.segments[i].About().Last.End > h.End })
	var parts []Segment
	switch s := l.segments[k].(type) {
	case *sealed:
		i := sort.Search(len(s.heads), func(i int) bool { return s.heads[i].End > h.End })
		parts = []Segment{seal(slices.Insert(slices.Clone(s.heads), i, h))}
	case *away:
		before, behind := l.pages.split(s, h.End)
		parts = []Segment{seal([]Head{h}), behind}
		if before != nil {
			parts = append([]Segment{before}, parts...)
		}
	}
	l.replace(k, parts...)
	l.near = min(l.near, k)
	l.sealed++
}

// replace puts segments in the place of one.
func (l *List) replace(k int, parts ...Segment) {
	// Readers have the old ones.
	l.segments = append(append(slices.Clone(l.segments[:k]), parts...), l.segments[k+1:]...)
	starts := slices.Clone(l.starts[:min(k+1, len(l.starts))])
	for i := k; i < len(l.segments)-1; i++ {
		starts = append(starts, starts[i]+l.segments[i].Len())
	}
	l.starts = starts
}

// forget leaves the oldest segments to the home while there is too much in memory, or lets
// them go.
func (l *List) forget() {
	l.lose()
	if l.Limit == 0 || l.used <= l.Limit || len(l.segments) < 2 {
		return
	}
	if l.leave() {
		return
	}
	for l.used > l.Limit && len(l.segments) > 1 {
		l.dropFirst()
		l.free()
	}
}

func (l *List) dropFirst() {
	l.first += l.segments[0].Len()
	if _, here := l.segments[0].(*sealed); here {
		l.used -= l.segments[0].Len() * headSize
	}
	l.segments, l.starts = l.segments[1:], l.starts[1:]
	l.near = max(l.near-1, 0)
}

// lose lets the oldest segments go that the home has given up, as a ring of files does.
func (l *List) lose() {
	for len(l.segments) > 1 {
		a, left := l.segments[0].(*away)
		if !left || l.pages.home.Holds(a.FromSeq, a.ToSeq) {
			return
		}
		l.dropFirst()
	}
}

// leave leaves the oldest segments to the home; false where it does not keep them, and never
// will.
func (l *List) leave() bool {
	if l.pages == nil {
		return false
	}
	segments := slices.Clone(l.segments)
	stuck := len(segments)
	left := false
	for k := l.near; k < len(segments)-1 && l.used > l.Limit; k++ {
		s, here := segments[k].(*sealed)
		if !here {
			continue
		}
		if !l.pages.home.Holds(s.FromSeq, s.ToSeq) {
			stuck = min(stuck, k)
			continue
		}
		segments[k] = l.pages.add(s.Summary)
		l.used -= s.Len() * headSize
		l.near, left = k+1, true
	}
	l.near = min(l.near, stuck)
	if left {
		l.segments = segments
		l.free()
	}
	return stuck == len(segments) || l.pages.home.Writes()
}

// free lets the chunks go that no segment in memory needs.
func (l *List) free() {
	needed := len(l.chunks)
	for _, s := range l.segments[min(l.near, len(l.segments)):] {
		if s, here := s.(*sealed); here {
			needed = min(needed, s.chunk)
		}
	}
	for i := range l.open {
		needed = min(needed, int(l.open[i].at>>32))
	}
	l.drop(needed)
}

// drop lets the chunks before one go.
func (l *List) drop(needed int) {
	var kept [][]byte
	for i, c := range l.chunks {
		if i < needed && c != nil {
			if kept == nil {
				kept = slices.Clone(l.chunks)
			}
			l.used -= len(c)
			kept[i] = nil
		}
	}
	if kept != nil {
		l.chunks = kept
	}
}

// Reader gives what there is now.
func (l *List) Reader() Reader {
	return Reader{segments: l.segments, starts: l.starts, open: l.open, chunks: l.chunks, pages: l.pages, sealed: l.sealed, first: l.first, total: l.total}
}

// Used is the memory that is taken, about, in bytes.
func (l *List) Used() int { return l.used }
