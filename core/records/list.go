package records

import (
	"slices"
	"sort"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

const (
	// perSegment is the number of records in a sealed segment.
	perSegment = 4096
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
	// From is the earliest start of any of them.
	From() quantity.Time
	// Holds says whether any of them may belong to the link.
	Holds(link uint16) bool
}

// sealed is a Segment in memory.
type sealed struct {
	heads []Head
	from  quantity.Time
	links [4]uint64 // which links occur, by number modulo 256
	chunk int       // the first chunk that it needs
}

func seal(heads []Head) *sealed {
	s := &sealed{heads: heads, from: quantity.Forever, chunk: int(heads[0].at >> 32)}
	for i := range heads {
		h := &heads[i]
		s.from = min(s.from, h.Start)
		s.links[h.Link>>6&3] |= 1 << (h.Link & 63)
		s.chunk = min(s.chunk, int(h.at>>32))
	}
	return s
}

// Len implements Segment.
func (s *sealed) Len() int { return len(s.heads) }

// Head implements Segment.
func (s *sealed) Head(i int) *Head { return &s.heads[i] }

// From implements Segment.
func (s *sealed) From() quantity.Time { return s.from }

// Holds implements Segment.
func (s *sealed) Holds(link uint16) bool { return s.links[link>>6&3]>>(link&63)&1 == 1 }

// List keeps records. Its zero value is an empty one without a limit.
type List struct {
	// Limit is the memory in bytes that records may take, about; the oldest go
	// when there are more. 0: no limit.
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
}

// headSize is about what a head takes.
const headSize = 56

// Put keeps a record at its place in the order of ends.
func (l *List) Put(r *record.Record) {
	l.scratch = pack(l.scratch[:0], r)
	h := headOf(r, l.total, l.keep(l.scratch))
	l.total++
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
	s := l.segments[len(l.segments)-1]
	return s.Head(s.Len() - 1).End
}

// seal moves the oldest n open records to the segments.
func (l *List) seal(n int) {
	move := l.open[:n]
	l.open = append(make([]Head, 0, mostOpen+1), l.open[n:]...)
	k := len(l.segments)
	if k > 0 && l.segments[k-1].Len()+n <= perSegment {
		heads := append(slices.Clone(l.segments[k-1].(*sealed).heads), move...)
		l.segments = append(l.segments[:k-1:k-1], seal(heads))
	} else {
		l.segments = append(l.segments, seal(slices.Clone(move)))
		l.starts = append(l.starts, l.sealed)
	}
	l.sealed += n
	l.forget()
}

// late puts in a record that ended before what is sealed.
func (l *List) late(h Head) {
	k := sort.Search(len(l.segments), func(i int) bool { s := l.segments[i]; return s.Head(s.Len()-1).End > h.End })
	heads := l.segments[k].(*sealed).heads
	i := sort.Search(len(heads), func(i int) bool { return heads[i].End > h.End })
	l.segments = slices.Clone(l.segments)
	l.segments[k] = seal(slices.Insert(slices.Clone(heads), i, h))
	l.starts = slices.Clone(l.starts)
	for k++; k < len(l.starts); k++ {
		l.starts[k]++
	}
	l.sealed++
}

// forget lets the oldest segments go while there is too much.
func (l *List) forget() {
	if l.Limit == 0 || l.used <= l.Limit || len(l.segments) < 2 {
		return
	}
	for l.used > l.Limit && len(l.segments) > 1 {
		l.first += l.segments[0].Len()
		l.used -= l.segments[0].Len() * headSize
		l.segments, l.starts = l.segments[1:], l.starts[1:]
		needed := len(l.chunks)
		for _, s := range l.segments {
			needed = min(needed, s.(*sealed).chunk)
		}
		for i := range l.open {
			needed = min(needed, int(l.open[i].at>>32))
		}
		l.drop(needed)
	}
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
	return Reader{segments: l.segments, starts: l.starts, open: l.open, chunks: l.chunks, sealed: l.sealed, first: l.first, total: l.total}
}

// Used is the memory that is taken, about, in bytes.
func (l *List) Used() int { return l.used }
