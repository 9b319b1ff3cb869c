package records

import (
	"errors"
	"slices"
	"sort"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

func anyRecord(rt *rapid.T, about quantity.Time) record.Record {
	r := record.Record{
		Kind: record.Kind(rapid.IntRange(0, 10).Draw(rt, "kind")), Link: uint16(rapid.SampledFrom([]int{0, 1, 2, 3, 256, 259}).Draw(rt, "link")),
		From: record.End(rapid.IntRange(0, 5).Draw(rt, "from")), Seen: record.End(rapid.IntRange(0, 5).Draw(rt, "seen")), Origin: record.Origin(rapid.IntRange(0, 4).Draw(rt, "origin")),
		More: rapid.Bool().Draw(rt, "more"), Wide: rapid.Bool().Draw(rt, "wide"), Bits: rapid.Byte().Draw(rt, "bits"), Attr: record.Attr(rapid.Byte().Draw(rt, "attr")),
		ID: rapid.Uint32().Draw(rt, "id"), Each: quantity.Time(rapid.Int64Range(0, 1e9).Draw(rt, "each")), Text: rapid.StringN(0, 5, 20).Draw(rt, "text"),
	}
	r.End = max(about+quantity.Time(rapid.Int64Range(-50, 50).Draw(rt, "late")), 0)
	r.Start = r.End - quantity.Time(rapid.SampledFrom([]int64{0, 3, 40, 2000}).Draw(rt, "length"))
	if n := rapid.IntRange(0, 5).Draw(rt, "n"); n > 0 {
		r.Data = rapid.SliceOfN(rapid.Byte(), n, n).Draw(rt, "data")
		at := quantity.Time(0)
		for range n {
			at += quantity.Time(rapid.Int64Range(0, 2e9).Draw(rt, "step"))
			r.Offsets = append(r.Offsets, at)
		}
	}
	if rapid.IntRange(0, 5).Draw(rt, "bad") == 0 {
		r.Back = []byte{1, 2}
		r.Facts = []record.Fact{{What: record.FactKind(rapid.IntRange(0, 8).Draw(rt, "fact")), Index: rapid.IntRange(0, 300).Draw(rt, "of"), Value: rapid.Int64().Draw(rt, "value")}}
		r.Marks = []record.Mark{{Index: rapid.IntRange(0, 5).Draw(rt, "index"), Flags: record.Flags(rapid.IntRange(1, 1<<20).Draw(rt, "flags"))}}
	}
	return r
}

func TestAHeadIsSmall(t *testing.T) {
	assert.LessOrEqual(t, unsafe.Sizeof(Head{}), uintptr(64))
	assert.EqualValues(t, headSize, unsafe.Sizeof(Head{})+1)
}

// TestListIsASortedSlice holds the list against a slice that is sorted anew: through
// late records far behind what is sealed, readers of earlier moments, and searches.
func TestListIsASortedSlice(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var l List
		home := &shelf{}
		if rapid.Bool().Draw(rt, "with a home") {
			l.Keep(home)
			l.Limit = 100_000
		}
		var model []record.Record
		put := func(r record.Record) {
			model, home.all = append(model, r), append(home.all, r.Clone())
			if l.pages == nil {
				l.Put(&r)
				return
			}
			// The home writes a little later.
			home.written = max(home.written, len(home.all)-rapid.IntRange(0, 400).Draw(rt, "waits"))
			l.Limit = rapid.SampledFrom([]int{100_000, 1 << 30}).Draw(rt, "limit")
			l.Put(&r)
		}
		type moment struct {
			r    Reader
			want []record.Record
		}
		var moments []moment
		n := rapid.IntRange(0, 60).Draw(rt, "records")
		// Between the drawn ones plain records fill the segments.
		fill := rapid.SampledFrom([]int{0, 0, 40, 300}).Draw(rt, "fill")
		mark, seen := Mark(0), 0
		now := quantity.Time(0)
		for range n {
			for range fill {
				now += 7
				r := record.Record{Kind: record.Chars, Link: 1, Start: now - 5, End: now, Data: []byte{byte(now)}}
				model, home.all = append(model, r), append(home.all, r.Clone())
				home.written = len(home.all)
				l.Put(&r)
			}
			now += quantity.Time(rapid.IntRange(0, 20).Draw(rt, "pause"))
			at := now
			if rapid.IntRange(0, 9).Draw(rt, "very late") == 0 {
				at = quantity.Time(rapid.Int64Range(0, int64(now)).Draw(rt, "at"))
			}
			put(anyRecord(rt, at))
			if rapid.IntRange(0, 9).Draw(rt, "look") == 0 {
				r := l.Reader()
				require.Len(rt, r.Since(mark), len(model)-seen)
				mark, seen = r.Mark(), len(model)
				moments = append(moments, moment{r, slices.Clone(model)})
			}
		}
		moments = append(moments, moment{l.Reader(), slices.Clone(model)})
		for _, m := range moments {
			sort.SliceStable(m.want, func(i, j int) bool { return m.want[i].End < m.want[j].End })
			require.Equal(rt, len(m.want), m.r.Len())
			for i := range m.want {
				require.Equal(rt, m.want[i], *m.r.At(i))
			}
		}
		if l.pages != nil {
			home.written = len(home.all)
			restored(rt, &l, home, rapid.IntRange(0, len(model)).Draw(rt, "index at"))
		}
		last := moments[len(moments)-1]
		from := quantity.Time(rapid.Int64Range(-10, int64(now)+10).Draw(rt, "from"))
		to := from + quantity.Time(rapid.Int64Range(1, 500).Draw(rt, "span"))
		q := Query{Link: rapid.SampledFrom([]int{Any, 0, 1, 3, 259}).Draw(rt, "wanted link"), Traffic: rapid.Bool().Draw(rt, "traffic")}
		if rapid.Bool().Draw(rt, "flagged") {
			q.Flags = record.Framing | record.Parity
		}
		if rapid.Bool().Draw(rt, "of kinds") {
			q.Kinds, q.Seen = []record.Kind{record.Chars, record.Frame}, []record.End{record.Tap, record.Nobody}
		}
		var touching, after, before []int
		index := sort.Search(len(last.want), func(i int) bool { return last.want[i].End >= from })
		require.Equal(rt, index, last.r.IndexAt(from))
		for i := range last.want {
			r := &last.want[i]
			if q.Link != Any && int(r.Link) != q.Link || q.Traffic && !r.Traffic() || q.Flags != 0 && r.AllFlags()&q.Flags == 0 ||
				q.Kinds != nil && (!slices.Contains(q.Kinds, r.Kind) || !slices.Contains(q.Seen, r.Seen)) {
				continue
			}
			if r.End > from && r.Start < to {
				touching = append(touching, i)
			}
			if i >= index {
				after = append(after, i)
			} else {
				before = append(before, i)
			}
		}
		slices.Reverse(before)
		var got [3][]int
		for i := range last.r.Touching(from, to, q) {
			got[0] = append(got[0], i)
		}
		for i := range last.r.After(index, q) {
			got[1] = append(got[1], i)
		}
		for i := range last.r.Before(index, q) {
			got[2] = append(got[2], i)
		}
		require.Equal(rt, [3][]int{touching, after, before}, got)
	})
}

// shelf is a home in memory. What is not written yet it does not give.
type shelf struct {
	all     []record.Record
	written int
	first   int // before it all is lost
	ended   bool
}

func (s *shelf) Holds(first, last uint32) bool { return int(first) >= s.first && int(last) < s.written }

func (s *shelf) Writes() bool { return !s.ended }

func (s *shelf) Load(first, last uint32, take func(seq uint32, r *record.Record)) error {
	if !s.Holds(first, last) {
		return errors.New("the shelf is empty")
	}
	for i := first; i <= last; i++ {
		r := s.all[i].Clone()
		take(i, &r)
	}
	return nil
}

// restored makes the list anew: from what it told of itself when it had n records, and from
// the home's records behind that.
func restored(rt *rapid.T, whole *List, home *shelf, n int) {
	half := List{Limit: 1}
	half.Keep(home)
	for i := range n {
		half.Put(&home.all[i])
	}
	r := half.Reader()
	segments, rest := r.Summaries(home)
	l := List{Limit: 1}
	l.Keep(home)
	l.Restore(segments, uint32(n))
	for seq := int(rest); seq < len(home.all); seq++ {
		x := &home.all[seq]
		if k := (Key{x.End, uint32(seq)}); seq >= n || len(segments) == 0 || segments[len(segments)-1].Last.before(k) {
			l.PutAs(uint32(seq), x)
		}
	}
	got, want := l.Reader(), whole.Reader()
	require.Equal(rt, want.Len(), got.Len())
	require.Equal(rt, want.Mark(), got.Mark())
	for i := range want.Len() {
		require.Equal(rt, *want.At(i), *got.At(i))
	}
	var a, b Trail
	for more := true; more; {
		var x, y []int
		x, more = a.Next(&want, 1000)
		y, _ = b.Next(&got, 1000)
		require.Equal(rt, x, y)
	}
}

// TestATrailGivesEachRecordOnce: through records that come late, a home and a limit, each
// record is given once and in the order in which they came.
func TestATrailGivesEachRecordOnce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		home := &shelf{}
		l := List{Limit: 1}
		l.Keep(home)
		var trail Trail
		var got []byte
		now, came := quantity.Time(0), 0
		for range rapid.IntRange(1, 30).Draw(rt, "steps") {
			for range rapid.IntRange(0, 600).Draw(rt, "records") {
				now += 10
				r := record.Record{Start: now, End: now, Data: []byte{byte(came)}}
				if came%37 == 0 {
					r.Start = quantity.Time(rapid.Int64Range(0, int64(now)).Draw(rt, "late"))
					r.End = r.Start
				}
				came++
				home.all = append(home.all, r)
				home.written = len(home.all)
				l.Put(&r)
			}
			r := l.Reader()
			numbers, more := trail.Next(&r, rapid.IntRange(0, 900).Draw(rt, "most"))
			for _, i := range numbers {
				got = append(got, r.At(i).Data[0])
			}
			require.Equal(rt, came-len(got), trail.Behind)
			require.Equal(rt, trail.Behind > 0, more)
		}
		for i := range got {
			require.Equal(rt, byte(i), got[i])
		}
	})
}

// TestATrailOnAnotherList: where a list took the place of a longer one, its records are given
// from the first on.
func TestATrailOnAnotherList(t *testing.T) {
	var long, short List
	for i := range 100 {
		long.Put(&record.Record{Start: quantity.Time(i), End: quantity.Time(i)})
	}
	r := long.Reader()
	var trail Trail
	trail.Next(&r, 1000)
	mark := r.Mark()
	for i := range 3 {
		short.Put(&record.Record{Start: quantity.Time(i), End: quantity.Time(i)})
	}
	r = short.Reader()
	numbers, more := trail.Next(&r, 1000)
	assert.Equal(t, []int{0, 1, 2}, numbers)
	assert.False(t, more)
	assert.Equal(t, []int{0, 1, 2}, r.Since(mark))
}

// TestAHomeKeepsMemoryFlat: with a home nothing goes, and memory stays below twice the limit,
// until it writes no more.
func TestAHomeKeepsMemoryFlat(t *testing.T) {
	home := &shelf{}
	l := List{Limit: 2 << 20}
	l.Keep(home)
	const n = 100_000
	for i := range n {
		r := record.Record{Start: quantity.Time(i), End: quantity.Time(i), Data: make([]byte, 100)}
		r.Data[0] = byte(i)
		home.all = append(home.all, r)
		home.written = max(0, len(home.all)-1000)
		l.Put(&r)
		require.Less(t, l.Used(), 4<<20)
	}
	r := l.Reader()
	require.Equal(t, 0, r.First())
	for i := range n {
		require.Equal(t, byte(i), r.At(i).Data[0])
	}
	assert.LessOrEqual(t, len(l.pages.in), mostPages)

	// When it writes no more, the oldest go as without it.
	home.ended, home.written = true, 0
	l.Limit = 1 << 20
	for i := range 3 * perSegment {
		x := record.Record{Start: quantity.Time(n + i), End: quantity.Time(n + i), Data: make([]byte, 200)}
		home.all = append(home.all, x)
		l.Put(&x)
		require.Less(t, l.Used(), 3<<20)
	}
	ended := l.Reader()
	assert.Positive(t, ended.First())
	assert.Equal(t, n+3*perSegment, ended.Len())
}

// TestAHomeThatGivesUp: what the home gives up is gone for the list too, and what it can't
// give stands as a gap.
func TestAHomeThatGivesUp(t *testing.T) {
	home := &shelf{}
	l := List{Limit: 2 << 20}
	l.Keep(home)
	const n = 100_000
	for i := range n {
		r := record.Record{Start: quantity.Time(i), End: quantity.Time(i), Data: make([]byte, 100)}
		home.all = append(home.all, r)
		home.written = len(home.all)
		l.Put(&r)
	}
	r := l.Reader()
	_ = r.At(0)
	home.first = n / 2
	require.Greater(t, r.Len(), 0)
	for i := range mostOpen + 1 {
		x := record.Record{Start: quantity.Time(n + i), End: quantity.Time(n + i)}
		home.all = append(home.all, x)
		l.Put(&x)
	}
	after := l.Reader()
	assert.InDelta(t, n/2, after.First(), perSegment)
	for _, a := range l.pages.in {
		a.in.Store(nil)
	}
	lost := r.At(0)
	assert.Equal(t, record.Gap, lost.Kind)
	assert.Contains(t, lost.Text, "the shelf is empty")
	var trail Trail
	numbers, _ := trail.Next(&after, 1)
	assert.Equal(t, []int{after.First()}, numbers)
}

// TestTheOldestGo: with a limit the newest stay, whole, and readers of earlier
// moments keep theirs.
func TestTheOldestGo(t *testing.T) {
	l := List{Limit: 2 << 20}
	data := make([]byte, 100)
	var early Reader
	const n = 100_000
	for i := range n {
		data[0] = byte(i)
		l.Put(&record.Record{Start: quantity.Time(i), End: quantity.Time(i), Data: data})
		if i == 1000 {
			early = l.Reader()
		}
		require.Less(t, l.Used(), 4<<20)
	}
	r := l.Reader()
	assert.Equal(t, n, r.Len())
	assert.Greater(t, r.First(), n/2)
	assert.Less(t, r.First(), n-2*perSegment)
	for i := r.First(); i < n; i += 997 {
		require.Equal(t, byte(i), r.At(i).Data[0])
		require.Equal(t, quantity.Time(i), r.Head(i).End)
	}
	assert.Equal(t, r.First(), r.IndexAt(0))
	for i := range r.After(0, Query{}) {
		require.Equal(t, r.First(), i)
		break
	}
	for i := range early.Len() {
		require.Equal(t, byte(i), early.At(i).Data[0])
	}
}

func BenchmarkPut(b *testing.B) {
	var l List
	r := &record.Record{Kind: record.Chars, Data: []byte("12.345\n"), Offsets: []quantity.Time{0, 10, 20, 30, 40, 50, 60}, Each: 10}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		r.Start, r.End = quantity.Time(i*100), quantity.Time(i*100+70)
		l.Put(r)
	}
	b.ReportMetric(float64(l.Used())/float64(l.total), "B/record")
}
