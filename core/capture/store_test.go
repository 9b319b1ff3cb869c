package capture

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

func meta() Meta {
	var m Meta
	m.Add(Link{Name: "a"}, []string{"x", "y"}, []string{"a.x", "a.y"})
	return m
}

func run(i int) record.Record {
	at := quantity.Time(1000 * i)
	return record.Record{
		From: record.Device, Seen: record.MCU, Start: at, End: at + 300, Each: 100,
		Data: []byte{byte(i), byte(i >> 8), byte(i >> 16)}, Offsets: []quantity.Time{0, 100, 200},
		Marks: []record.Mark{{Index: i % 3, Flags: record.Parity}},
	}
}

// TestReadersSeeWholeRecords lets readers look while a writer appends: each
// snapshot holds the records in order and whole, and keeps them.
func TestReadersSeeWholeRecords(t *testing.T) {
	s := NewStore(meta())
	const total = 12_000
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			last := 0
			for last < total {
				snap := s.Snapshot()
				assert.GreaterOrEqual(t, snap.Len(), last)
				last = snap.Len()
				for i := max(0, last-50); i < last; i++ {
					want := run(i)
					assert.Equal(t, want, *snap.At(i))
				}
			}
		})
	}
	buf := run(0)
	for i := range total {
		r := run(i)
		// The writer uses its slices again.
		buf.Start, buf.End = r.Start, r.End
		copy(buf.Data, r.Data)
		copy(buf.Offsets, r.Offsets)
		copy(buf.Marks, r.Marks)
		s.Put(&buf)
	}
	wg.Wait()
	d := Direction{0, record.Device, record.MCU}
	c := s.Snapshot().Counters(d)
	assert.Equal(t, uint64(total), c.Runs)
	assert.Equal(t, uint64(3*total), c.Chars)
	assert.Equal(t, uint64(total), c.Bad)
	assert.Equal(t, uint64(total), c.Flags.Of(record.Parity))
}

func TestOpenRunsCountOnce(t *testing.T) {
	s := NewStore(meta())
	d := Direction{0, record.Device, record.MCU}
	r := run(1)
	s.Open(&r)
	snap := s.Snapshot()
	require.Len(t, snap.Running, 1)
	assert.Equal(t, uint64(3), snap.Counters(d).Chars)
	s.Put(&r)
	snap = s.Snapshot()
	assert.Empty(t, snap.Running)
	assert.Equal(t, uint64(3), snap.Counters(d).Chars)
	assert.Equal(t, uint64(1), snap.Counters(d).Runs)
}

func TestCountersGoBackToZero(t *testing.T) {
	s := NewStore(meta())
	d := Direction{0, record.Device, record.MCU}
	a, b := run(1), run(5)
	s.Put(&a)
	s.Zero(0, 2000)
	c := s.Snapshot().Counters(d)
	assert.Zero(t, c.Chars)
	assert.Equal(t, quantity.Time(2000), c.Zeroed)
	s.Put(&b)
	c = s.Snapshot().Counters(d)
	assert.Equal(t, uint64(3), c.Chars)
	assert.Equal(t, uint64(1), c.Bad)
	// A run that began before the zeroing counts from there on.
	long := run(9)
	s.Zero(0, long.Start+150)
	s.Put(&long)
	assert.Equal(t, uint64(2), s.Snapshot().Counters(d).Chars)
}

func TestLevels(t *testing.T) {
	s := NewStore(meta())
	_, ok := s.Snapshot().Window(0, 1, 0, 100)
	assert.False(t, ok)
	s.Levels(1, &wire.Window{To: 100, High: true, Toggles: []quantity.Time{10, 20, 30}})
	w, ok := s.Snapshot().Window(0, 1, 15, 100)
	assert.True(t, ok)
	assert.Equal(t, []quantity.Time{20, 30}, w.Toggles)
	assert.False(t, w.High)
	s.Advance(50)
	s.Advance(40)
	assert.Equal(t, quantity.Time(50), s.Snapshot().Now, "time never goes back")
}

func BenchmarkPut(b *testing.B) {
	s := NewStore(meta())
	r := run(1)
	r.Marks = nil
	b.ReportAllocs()
	for b.Loop() {
		s.Put(&r)
	}
}

func BenchmarkSnapshot(b *testing.B) {
	s := NewStore(meta())
	for i := range 100_000 {
		r := run(i)
		s.Put(&r)
	}
	b.ReportAllocs()
	for b.Loop() {
		s.Snapshot()
	}
}

// TestLinksShareLines: a line of one name is one line, and what is kept of it is seen
// in every role that it plays.
func TestLinksShareLines(t *testing.T) {
	var m Meta
	m.Add(Link{Name: "a"}, []string{"clock", "select"}, []string{"sck", "cs1"})
	m.Add(Link{Name: "b"}, []string{"clock", "in", "select"}, []string{"sck", "", "cs2"})
	assert.Equal(t, []string{"sck", "cs1", "cs2"}, m.Lines)
	require.NoError(t, m.Check())
	s := NewStore(m)
	s.Levels(0, &wire.Window{To: 100, Toggles: []quantity.Time{10, 20}})
	snap := s.Snapshot()
	for link := range uint16(2) {
		w, ok := snap.Window(link, 0, 0, 100)
		require.True(t, ok)
		assert.Equal(t, []quantity.Time{10, 20}, w.Toggles)
	}
	_, ok := snap.Kept(1, 1)
	assert.False(t, ok, "an absent line")
	_, ok = snap.Kept(7, 0)
	assert.False(t, ok, "no such link")
	m.Links[0].Lines[0] = 9
	assert.ErrorContains(t, m.Check(), "line 9 of 3")
}
