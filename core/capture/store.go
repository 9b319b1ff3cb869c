// Package capture keeps records and line levels. Writers append one after the
// other; any number of readers look at snapshots without holding them up.
package capture

import (
	"sync"
	"sync/atomic"
	"time"

	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
)

const segmentRecords = 4096

// segment is filled from the front and never moved; what stands before the
// published count never changes again.
type segment struct {
	records [segmentRecords]record.Record
}

// Link names one link of a capture and its ends.
type Link struct {
	Name   string
	Kind   string   // kind of bus
	MCU    string   // what the MCU's end is called
	Device string   // what the device's end is called
	Lines  []string // what its lines are called
	// Real says that a real port is behind it, and Resolution how exact its
	// times are; 0 is exact.
	Real       bool
	Resolution quantity.Time
	// OneSided says that only the MCU's own receiver can be watched.
	OneSided bool
}

// Meta describes a capture as a whole.
type Meta struct {
	Links   []Link
	Bench   string    // text of the bench file
	Seed    uint64    // of the simulated world
	Started time.Time // wall clock at time 0; zero for a simulation
}

// Counters are what has been seen on one direction of a link.
type Counters struct {
	Runs, Chars uint64
	Bad         uint64 // characters with an error mark
	Flags       map[record.Flags]uint64
	First, Last quantity.Time // of the characters; Last is the end of the newest
	FirstBad    quantity.Time
	LastBad     quantity.Time
	Zeroed      quantity.Time // since when it counts
}

// Direction is a sender and the receiver that saw it.
type Direction struct {
	Link       uint16
	From, Seen record.End
}

// Store is a capture that may still grow. All its methods may be called from
// any goroutine; the levels of one line must come from one.
type Store struct {
	Meta Meta

	segments atomic.Pointer[[]*segment]
	count    atomic.Int64
	now      atomic.Int64

	bytes []byte // arena of the records' data
	times []quantity.Time

	mu       sync.Mutex
	open     map[Direction]record.Record
	counters map[Direction]*Counters
	traces   map[[2]int]*wire.Trace
	version  atomic.Uint64
	limit    int
}

// DefaultLevels is the memory that line levels may take, for all lines.
const DefaultLevels = 256 << 20

// NewStore gives an empty capture.
func NewStore(meta Meta) *Store {
	s := &Store{
		Meta: meta, open: map[Direction]record.Record{},
		counters: map[Direction]*Counters{}, traces: map[[2]int]*wire.Trace{},
	}
	s.segments.Store(&[]*segment{})
	lines := 0
	for _, l := range meta.Links {
		lines += len(l.Lines)
	}
	s.limit = DefaultLevels / max(lines, 1)
	return s
}

func (s *Store) keepBytes(b []byte) []byte {
	if len(b) == 0 {
		return nil
	}
	if cap(s.bytes)-len(s.bytes) < len(b) {
		s.bytes = make([]byte, 0, max(1<<16, len(b)))
	}
	at := len(s.bytes)
	s.bytes = append(s.bytes, b...)
	return s.bytes[at:len(s.bytes):len(s.bytes)]
}

func (s *Store) keepTimes(b []quantity.Time) []quantity.Time {
	if len(b) == 0 {
		return nil
	}
	if cap(s.times)-len(s.times) < len(b) {
		s.times = make([]quantity.Time, 0, max(1<<13, len(b)))
	}
	at := len(s.times)
	s.times = append(s.times, b...)
	return s.times[at:len(s.times):len(s.times)]
}

// Put implements record.Sink.
func (s *Store) Put(r *record.Record) {
	s.mu.Lock()
	defer s.mu.Unlock()
	segs := *s.segments.Load()
	n := s.count.Load()
	if int(n) == len(segs)*segmentRecords {
		grown := append(append(make([]*segment, 0, len(segs)+1), segs...), &segment{})
		s.segments.Store(&grown)
		segs = grown
	}
	c := &segs[n/segmentRecords].records[n%segmentRecords]
	*c = *r
	c.Data, c.Back, c.Offsets = s.keepBytes(r.Data), s.keepBytes(r.Back), s.keepTimes(r.Offsets)
	if len(r.Marks) > 0 {
		c.Marks = append([]record.Mark(nil), r.Marks...)
	} else {
		c.Marks = nil
	}
	d := Direction{r.Link, r.From, r.Seen}
	if r.Kind == record.Chars {
		delete(s.open, d)
	}
	if r.Traffic() && r.Kind != record.Flow {
		s.counted(d).add(r)
	}
	s.count.Store(n + 1)
	s.version.Add(1)
}

// Open implements record.Sink.
func (s *Store) Open(r *record.Record) {
	c := r.Clone()
	s.mu.Lock()
	s.open[Direction{r.Link, r.From, r.Seen}] = c
	s.mu.Unlock()
	s.version.Add(1)
}

func (s *Store) counted(d Direction) *Counters {
	c := s.counters[d]
	if c == nil {
		c = &Counters{Flags: map[record.Flags]uint64{}}
		s.counters[d] = c
	}
	return c
}

// add counts what of the run lies after the time of the last zeroing.
func (c *Counters) add(r *record.Record) {
	n := uint64(0)
	for i := range r.Len() {
		at := r.End
		if i < len(r.Offsets) {
			at = r.Start + r.Offsets[i] + r.Each
		}
		if at <= c.Zeroed {
			continue
		}
		if c.Chars+n == 0 {
			c.First = at - r.Each
		}
		n++
		c.Last = at
	}
	c.Chars += n
	switch {
	case n > 0:
		c.Runs++
	case r.Kind != record.Chars && r.End > c.Zeroed: // a frame without data
		c.Runs++
		c.Last = r.End
	}
	for _, m := range r.Marks {
		at := r.End
		if m.Index < len(r.Offsets) {
			at = r.Start + r.Offsets[m.Index] + r.Each
		}
		if at <= c.Zeroed {
			continue
		}
		c.Bad++
		if c.FirstBad == 0 {
			c.FirstBad = at
		}
		c.LastBad = at
		for b := record.Flags(1); b != 0; b <<= 1 {
			if m.Flags&b != 0 {
				c.Flags[b]++
			}
		}
	}
}

// Zero sets the counters of a link to zero at the time now.
func (s *Store) Zero(link uint16, now quantity.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for d := range s.counters {
		if d.Link == link {
			s.counters[d] = &Counters{Flags: map[record.Flags]uint64{}, Zeroed: now}
		}
	}
	s.version.Add(1)
}

// Levels adds the window that follows the last one of a line.
func (s *Store) Levels(link uint16, line int, w *wire.Window) {
	k := [2]int{int(link), line}
	s.mu.Lock()
	t := s.traces[k]
	if t == nil {
		t = wire.NewTrace(w.High, s.limit)
		s.traces[k] = t
	}
	s.mu.Unlock()
	t.Append(w)
}

// Advance says that the capture has come to the time now.
func (s *Store) Advance(now quantity.Time) {
	for {
		old := s.now.Load()
		if int64(now) <= old || s.now.CompareAndSwap(old, int64(now)) {
			return
		}
	}
}

// Version changes whenever something was added or counted.
func (s *Store) Version() uint64 { return s.version.Load() }

// Snapshot is a capture as it stood at one moment. It never changes.
type Snapshot struct {
	Now      quantity.Time
	segments []*segment
	n        int
	Running  []record.Record // runs that are not finished, by link and sender
	counters map[Direction]Counters
	store    *Store
}

// Snapshot gives the present state.
func (s *Store) Snapshot() *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	// Count and open runs are read under the writer's lock, so no run is
	// seen twice or missed.
	snap := &Snapshot{
		Now: quantity.Time(s.now.Load()), n: int(s.count.Load()), segments: *s.segments.Load(),
		counters: make(map[Direction]Counters, len(s.counters)), store: s,
	}
	for d, c := range s.counters {
		k := *c
		k.Flags = make(map[record.Flags]uint64, len(c.Flags))
		for f, n := range c.Flags {
			k.Flags[f] = n
		}
		snap.counters[d] = k
	}
	for d, r := range s.open {
		snap.Running = append(snap.Running, r)
		c, ok := snap.counters[d]
		if !ok {
			c = Counters{Flags: map[record.Flags]uint64{}}
		}
		c.add(&r)
		snap.counters[d] = c
	}
	sortRunning(snap.Running)
	return snap
}

func sortRunning(rs []record.Record) {
	for i := 1; i < len(rs); i++ {
		for j := i; j > 0 && rs[j].Start < rs[j-1].Start; j-- {
			rs[j], rs[j-1] = rs[j-1], rs[j]
		}
	}
}

// Len is the number of finished records.
func (s *Snapshot) Len() int { return s.n }

// At gives a finished record, in the order in which they were finished.
func (s *Snapshot) At(i int) *record.Record {
	return &s.segments[i/segmentRecords].records[i%segmentRecords]
}

// Counters gives what was counted for a direction.
func (s *Snapshot) Counters(d Direction) Counters { return s.counters[d] }

// Meta describes the capture.
func (s *Snapshot) Meta() *Meta { return &s.store.Meta }

// Kept gives the stretch for which the levels of a line are kept; ok is false
// where the capture has none.
func (s *Snapshot) Kept(link uint16, line int) (span wire.Span, ok bool) {
	t := s.trace(link, line)
	if t == nil {
		return wire.Span{}, false
	}
	return t.Kept(), true
}

func (s *Snapshot) trace(link uint16, line int) *wire.Trace {
	s.store.mu.Lock()
	defer s.store.mu.Unlock()
	return s.store.traces[[2]int{int(link), line}]
}

// Columns gives what a line does in n equal stretches from from to to; none
// where the capture has no levels of it.
func (s *Snapshot) Columns(link uint16, line int, from, to quantity.Time, n int) []wire.Column {
	if t := s.trace(link, line); t != nil && to > from {
		return t.Columns(from, to, n)
	}
	return nil
}

// NextEdge gives the first edge of a line after a time, or quantity.Forever.
func (s *Snapshot) NextEdge(link uint16, line int, after quantity.Time) quantity.Time {
	if t := s.trace(link, line); t != nil {
		return t.Next(after)
	}
	return quantity.Forever
}

// PreviousEdge gives the last edge of a line before a time; ok is false where
// there is none.
func (s *Snapshot) PreviousEdge(link uint16, line int, before quantity.Time) (edge quantity.Time, ok bool) {
	if t := s.trace(link, line); t != nil {
		return t.Previous(before)
	}
	return 0, false
}

// Window gives the levels of a line; ok is false where the capture has none.
func (s *Snapshot) Window(link uint16, line int, from, to quantity.Time) (w wire.Window, ok bool) {
	t := s.trace(link, line)
	if t == nil {
		return wire.Window{}, false
	}
	return t.Window(from, to), true
}
