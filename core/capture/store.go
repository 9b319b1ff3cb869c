// Package capture keeps records and line levels. Writers append one after the
// other; any number of readers look at snapshots without holding them up.
package capture

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/wire"
)

// Counters are what has been seen on one direction of a link.
type Counters struct {
	Runs, Chars uint64
	Bad         uint64 // characters with an error mark
	Flags       Tally
	First, Last quantity.Time // of the characters; Last is the end of the newest
	FirstBad    quantity.Time
	LastBad     quantity.Time
	Zeroed      quantity.Time // since when it counts
}

// Tally counts how often each error mark was raised.
type Tally [32]uint64

// Of gives the count of one mark.
func (t *Tally) Of(f record.Flags) uint64 { return t[bits.TrailingZeros32(uint32(f))&31] }

// String lists the marks with their counts.
func (t *Tally) String() string {
	var parts []string
	for i, n := range t {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, record.Flags(1)<<i))
		}
	}
	return strings.Join(parts, ", ")
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

	now atomic.Int64

	mu       sync.Mutex
	list     records.List
	open     map[Direction]record.Record
	counters map[Direction]*Counters
	traces   []*wire.Trace // by line; nil where nothing was kept
	rests    map[int]Rest  // by line, where a file without levels says so
	version  atomic.Uint64
	limit    int // of the levels of a line, in bytes
	values   int // of samples of values
}

// DefaultMemory is what a capture may take in bytes: its records, the levels of all lines, and
// what its values were.
const DefaultMemory = 512 << 20

// NewStore gives an empty capture.
func NewStore(meta Meta) *Store {
	s := &Store{Meta: meta, open: map[Direction]record.Record{}, counters: map[Direction]*Counters{}, traces: make([]*wire.Trace, len(meta.Lines))}
	s.Bound(DefaultMemory)
	return s
}

// Bound sets the memory that a capture may take: levels half of it, records three eighths, and
// samples of values, which others keep, what is left. When there is more the oldest go.
func (s *Store) Bound(bytes int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Limit = bytes / 8 * 3
	s.values = bytes / 8
	s.limit = bytes / 2 / max(len(s.Meta.Lines), 1)
	for _, t := range s.traces {
		if t != nil {
			t.Bound(s.limit)
		}
	}
}

// BoundRecords sets the memory that records alone may take.
func (s *Store) BoundRecords(bytes int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Limit = bytes
}

// ValuesMemory is what samples of values may take in bytes.
func (s *Store) ValuesMemory() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.values
}

// Keep says where records stand that there is no memory for. The first one counts.
func (s *Store) Keep(h records.Home) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Keep(h)
}

// State is what is known of a capture without its records, and without what is not finished.
type State struct {
	Now      quantity.Time
	Total    uint32 // records that came
	Counters []Counted
	Segments []records.Summary
	// Rest is the least number of arrival of the records that are in no segment.
	Rest uint32
}

// Counted is what was counted on a direction.
type Counted struct {
	Direction
	Counters
}

// State tells of a snapshot what is needed to restore it, as far as a home holds it.
func (s *Snapshot) State(h records.Home) *State {
	x := &State{Now: s.Now, Total: uint32(s.Mark())}
	x.Segments, x.Rest = s.Summaries(h)
	for d, c := range s.counters {
		if without, runs := s.finished[d]; runs {
			c = without
		}
		if c != (Counters{}) {
			x.Counters = append(x.Counters, Counted{d, c})
		}
	}
	slices.SortFunc(x.Counters, func(a, b Counted) int {
		return cmp.Or(cmp.Compare(a.Link, b.Link), cmp.Compare(a.From, b.From), cmp.Compare(a.Seen, b.Seen))
	})
	return x
}

// Restore brings an empty capture, which has a home, to a state. The records from Rest on that are in no
// segment are to be put by PutAs.
func (s *Store) Restore(x *State) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Restore(x.Segments, x.Total)
	for i := range x.Counters {
		c := x.Counters[i].Counters
		s.counters[x.Counters[i].Direction] = &c
	}
	s.Advance(x.Now)
	s.version.Add(1)
}

// PutAs puts a record that has its number of arrival from elsewhere; counted says that the
// counters know of it.
func (s *Store) PutAs(seq uint32, r *record.Record, counted bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.PutAs(seq, r)
	if !counted {
		s.count(r)
	}
	s.version.Add(1)
}

// Unread says what could not be read back of records that memory has no room for; nil: nothing.
func (s *Store) Unread() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list.Unread()
}

// Memory gives about how many bytes records and levels take.
func (s *Store) Memory() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := s.list.Used()
	for _, t := range s.traces {
		if t != nil {
			n += t.Bytes()
		}
	}
	return n
}

// Put implements record.Sink: records stand in the order of their ends, whenever
// they come.
func (s *Store) Put(r *record.Record) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list.Put(r)
	if r.Kind == record.Chars {
		delete(s.open, Direction{r.Link, r.From, r.Seen})
	}
	s.count(r)
	s.version.Add(1)
}

func (s *Store) count(r *record.Record) {
	if r.Traffic() && r.Kind != record.Flow {
		s.counted(Direction{r.Link, r.From, r.Seen}).add(r)
	}
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
		c = &Counters{}
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
		for i := range c.Flags {
			if m.Flags>>i&1 == 1 {
				c.Flags[i]++
			}
		}
	}
}

// Zero sets the counters of a link to zero at the time now, and leaves a record that
// says so.
func (s *Store) Zero(link uint16, now quantity.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for d := range s.counters {
		if d.Link == link {
			s.counters[d] = &Counters{Zeroed: now}
		}
	}
	s.list.Put(&record.Record{Kind: record.Changed, Link: link, Origin: record.FromGavrix, Start: now, End: now, Text: "counters set to zero"})
	s.version.Add(1)
}

// Note writes down something about a moment on a link.
func (s *Store) Note(link uint16, at quantity.Time, text string) {
	s.Put(&record.Record{Kind: record.Note, Link: link, Origin: record.FromGavrix, Start: at, End: at, Text: text})
}

// Levels adds the window that follows the last one of a line.
func (s *Store) Levels(line int, w *wire.Window) {
	s.mu.Lock()
	t := s.traces[line]
	if t == nil {
		t = wire.NewTrace(w.High, s.limit)
		s.traces[line] = t
	}
	s.mu.Unlock()
	t.Append(w)
}

// Rest is the level on which a line stood at the end of what is known of it.
type Rest struct {
	High      bool
	Since, To quantity.Time
}

// Rests says how a line stood at the end, for captures that keep no levels.
func (s *Store) Rests(line int, r Rest) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rests == nil {
		s.rests = map[int]Rest{}
	}
	s.rests[line] = r
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
	records.Reader
	Now      quantity.Time
	Running  []record.Record // runs that are not finished, by link and sender
	counters map[Direction]Counters
	finished map[Direction]Counters // without those that run, where they are others
	store    *Store
}

// Snapshot gives the present state.
func (s *Store) Snapshot() *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	// Count and open runs are read under the writer's lock, so no run is
	// seen twice or missed.
	snap := &Snapshot{
		Now: quantity.Time(s.now.Load()), Reader: s.list.Reader(), counters: make(map[Direction]Counters, len(s.counters)), store: s,
	}
	for d, c := range s.counters {
		snap.counters[d] = *c
	}
	for d, r := range s.open {
		snap.Running = append(snap.Running, r)
		c := snap.counters[d]
		if snap.finished == nil {
			snap.finished = map[Direction]Counters{}
		}
		snap.finished[d] = c
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

// Counters gives what was counted for a direction.
func (s *Snapshot) Counters(d Direction) Counters { return s.counters[d] }

// Seen gives what was counted of a link by one reader, of all senders together.
func (s *Snapshot) Seen(link uint16, by record.End) Counters {
	var sum Counters
	for d, c := range s.counters {
		if d.Link != link || d.Seen != by {
			continue
		}
		sum.Runs += c.Runs
		sum.Chars += c.Chars
		sum.Bad += c.Bad
		sum.Last, sum.LastBad = max(sum.Last, c.Last), max(sum.LastBad, c.LastBad)
		sum.Zeroed = max(sum.Zeroed, c.Zeroed)
		for i, n := range c.Flags {
			sum.Flags[i] += n
		}
	}
	return sum
}

// ValuesMemory is what samples of values may take in bytes.
func (s *Snapshot) ValuesMemory() int { return s.store.ValuesMemory() }

// Meta describes the capture.
func (s *Snapshot) Meta() *Meta { return &s.store.Meta }

// Kept gives the stretch for which the levels of the line in a role are kept; ok is false
// where the capture has none.
func (s *Snapshot) Kept(link uint16, role int) (span wire.Span, ok bool) {
	t := s.trace(link, role)
	if t == nil {
		return wire.Span{}, false
	}
	return t.Kept(), true
}

func (s *Snapshot) trace(link uint16, role int) *wire.Trace {
	line := s.store.Meta.Line(link, role)
	if line < 0 {
		return nil
	}
	s.store.mu.Lock()
	defer s.store.mu.Unlock()
	return s.store.traces[line]
}

// Columns gives what a line does in n equal stretches from from to to; none
// where the capture has no levels of it.
func (s *Snapshot) Columns(link uint16, role int, from, to quantity.Time, n int) []wire.Column {
	if t := s.trace(link, role); t != nil && to > from {
		return t.Columns(from, to, n)
	}
	return nil
}

// NextEdge gives the first edge of a line after a time, or quantity.Forever.
func (s *Snapshot) NextEdge(link uint16, role int, after quantity.Time) quantity.Time {
	if t := s.trace(link, role); t != nil {
		return t.Next(after)
	}
	return quantity.Forever
}

// PreviousEdge gives the last edge of a line before a time; ok is false where
// there is none.
func (s *Snapshot) PreviousEdge(link uint16, role int, before quantity.Time) (edge quantity.Time, ok bool) {
	if t := s.trace(link, role); t != nil {
		return t.Previous(before)
	}
	return 0, false
}

// Rest says how the line in a role stood at the end; ok is false where nobody knows, or
// where its level was unknown.
func (s *Snapshot) Rest(link uint16, role int) (r Rest, ok bool) {
	line := s.store.Meta.Line(link, role)
	t := s.trace(link, role)
	if t == nil {
		s.store.mu.Lock()
		defer s.store.mu.Unlock()
		r, ok = s.store.rests[line]
		return r, ok
	}
	kept := t.Kept()
	if kept.To <= kept.From {
		return Rest{}, false
	}
	r = Rest{Since: kept.From, To: kept.To}
	if edge, found := t.Previous(kept.To); found {
		r.Since = max(edge, kept.From)
	}
	w := t.Window(r.Since, kept.To)
	return Rest{w.Level(kept.To - 1), r.Since, r.To}, len(w.Unknown) == 0
}

// Window gives the levels of a line; ok is false where the capture has none.
func (s *Snapshot) Window(link uint16, role int, from, to quantity.Time) (w wire.Window, ok bool) {
	t := s.trace(link, role)
	if t == nil {
		return wire.Window{}, false
	}
	return t.Window(from, to), true
}
