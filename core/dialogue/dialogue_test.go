package dialogue

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

func newStore() *capture.Store {
	return capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "a"}, {Name: "b"}}})
}

var lf = func(uint16) []byte { return []byte("\n") }

// TestNothingIsLostOrDoubled puts random runs in and takes the lines out
// again: together they are the bytes and the marks.
func TestNothingIsLostOrDoubled(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := newStore()
		var want []byte
		marks := 0
		at := quantity.Time(1000)
		for range rapid.IntRange(1, 20).Draw(rt, "runs") {
			r := record.Record{Kind: record.Chars, From: record.Device, Seen: record.MCU, Start: at, Each: 10}
			r.Data = rapid.SliceOfN(rapid.SampledFrom([]byte("ab\n")), 1, 12).Draw(rt, "data")
			for i := range r.Data {
				r.Offsets = append(r.Offsets, quantity.Time(10*i))
				if rapid.IntRange(0, 5).Draw(rt, "mark") == 0 {
					r.Marks = append(r.Marks, record.Mark{Index: i, Flags: record.Parity})
					marks++
				}
			}
			r.End = r.Start + quantity.Time(10*len(r.Data))
			at = r.End + quantity.Time(rapid.IntRange(0, 100).Draw(rt, "gap"))
			want = append(want, r.Data...)
			s.Put(&r)
			// A tap's reading of the same, and another link, stay out.
			r.Seen = record.Tap
			s.Put(&r)
			r.Link = 1
			s.Put(&r)
		}
		var got []byte
		seen := 0
		last := quantity.Time(-1)
		for _, l := range Newest(s.Snapshot(), Filter{End: lf}, 1000) {
			require.Greater(rt, l.At, last)
			last = l.At
			for i, b := range l.Data {
				require.True(rt, b != '\n' || i == len(l.Data)-1, "a line ends at its terminator")
				if l.FlagsAt(i) != 0 {
					seen++
				}
			}
			require.Equal(rt, l.At+quantity.Time(10*len(l.Data)), l.End)
			got = append(got, l.Data...)
		}
		require.Equal(rt, want, got)
		require.Equal(rt, marks, seen)
	})
}

func TestBothDirectionsWithGaps(t *testing.T) {
	s := newStore()
	s.Put(&record.Record{From: record.Device, Seen: record.MCU, Start: 500, End: 600, Data: []byte("ok\n")})
	s.Put(&record.Record{From: record.MCU, Seen: record.Device, Start: 100, End: 200, Data: []byte("ask\n")}) // finished later
	s.Put(&record.Record{Kind: record.Lost, Start: 650, End: 650, Text: "gone"})
	s.Put(&record.Record{Kind: record.Input, Start: 660, End: 660, Text: "not shown"})
	s.Open(&record.Record{From: record.Device, Seen: record.MCU, Start: 700, End: 720, Data: []byte("par")})
	ls := Newest(s.Snapshot(), Filter{End: lf}, 100)
	require.Len(t, ls, 4)
	assert.Equal(t, []string{"ask\n", "ok\n", "", "par"}, []string{string(ls[0].Data), string(ls[1].Data), string(ls[2].Data), string(ls[3].Data)})
	assert.Equal(t, quantity.Time(300), ls[1].Gap)
	assert.Equal(t, quantity.Time(100), ls[3].Gap)
	assert.True(t, ls[3].Running)
	assert.Equal(t, "gone", ls[2].Text)
	around := Around(s.Snapshot(), Filter{End: lf}, 600, 1, 1)
	assert.NotEmpty(t, around)
}

func TestWhatNobodyHeardIsShown(t *testing.T) {
	s := newStore()
	put := func(seen record.End, start quantity.Time, text string) {
		s.Put(&record.Record{From: record.MCU, Seen: seen, Start: start, End: start + 100, Each: 10, Data: []byte(text)})
	}
	put(record.Tap, 1000, "heard\n")
	put(record.Device, 1003, "haerd\n")
	put(record.Tap, 5000, "lost\n")
	s.Advance(9000)
	ls := Newest(s.Snapshot(), Filter{End: lf}, 10)
	require.Len(t, ls, 2)
	assert.Equal(t, "haerd\n", string(ls[0].Data))
	assert.False(t, ls[0].Unheard)
	assert.Equal(t, "lost\n", string(ls[1].Data))
	assert.True(t, ls[1].Unheard)
}

func TestAroundFindsThePlace(t *testing.T) {
	s := newStore()
	for i := range 5000 {
		s.Put(&record.Record{From: record.Device, Seen: record.MCU, Start: quantity.Time(100 * i), End: quantity.Time(100*i + 50), Data: []byte{byte(i)}})
	}
	ls := Around(s.Snapshot(), Filter{}, 250_000, 40, 40)
	found := false
	for _, l := range ls {
		found = found || l.At == 250_000
	}
	assert.True(t, found)
	assert.Less(t, len(ls), 260)
	assert.GreaterOrEqual(t, len(ls), 80)
}

// Faulty frames that say the same come as one line with their count; together the lines
// stand for just the records, whatever lies between and wherever one looks from.
func TestFolds(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := newStore()
		at := quantity.Time(1000)
		runs, last := 0, ""
		total := rapid.IntRange(1, 300).Draw(rt, "records")
		for range total {
			r := record.Record{Kind: record.Frame, Seen: record.Tap, Start: at, End: at + 50, ID: uint32(rapid.IntRange(1, 2).Draw(rt, "id"))}
			bad := rapid.IntRange(0, 9).Draw(rt, "bad") > 0
			if bad {
				r.Marks = []record.Mark{{Index: 0, Flags: record.NotAcknowledged}}
			}
			if name := fmt.Sprint(r.ID, bad); !bad || name != last {
				runs, last = runs+1, name
			}
			s.Put(&r)
			at = r.End + quantity.Time(rapid.IntRange(0, 100).Draw(rt, "gap"))
		}
		f := Filter{Sentence: func(r *record.Record) string { return fmt.Sprint(r.ID) }}
		snap := s.Snapshot()
		for _, lines := range [][]Line{Newest(snap, f, 1000), Around(snap, f, quantity.Time(rapid.Int64Range(0, int64(at)).Draw(rt, "around")), 1000, 1000)} {
			require.Len(rt, lines, runs)
			n := 0
			for i, l := range lines {
				n += max(l.Times, 1)
				if i > 0 {
					require.GreaterOrEqual(rt, l.At, lines[i-1].End, "a fold ends before the next begins")
				}
			}
			require.Equal(rt, total, n)
		}
	})
}

// A fault that goes on without end costs a bounded look.
func TestEndlessFold(t *testing.T) {
	s := newStore()
	for i := range 3 * foldLimit {
		s.Put(&record.Record{Kind: record.Frame, Seen: record.Tap, Start: quantity.Time(100 * i), End: quantity.Time(100*i + 50), Marks: []record.Mark{{Flags: record.NotAcknowledged}}})
	}
	lines := Newest(s.Snapshot(), Filter{Sentence: func(*record.Record) string { return "x" }}, 10)
	require.Len(t, lines, 1)
	assert.Equal(t, foldLimit, lines[0].Times)
	assert.Contains(t, lines[0].Repeats(), "and more before")
}

// TestAnEchoIsTold: what comes back as it was sent is an echo, once; an answer is none.
func TestAnEchoIsTold(t *testing.T) {
	s := newStore()
	put := func(at int, from, seen record.End, text string) {
		s.Put(&record.Record{Kind: record.Chars, From: from, Seen: seen, Start: quantity.Time(at), End: quantity.Time(at + 50), Each: 10, Data: []byte(text)})
	}
	put(100, record.MCU, record.Device, "LEVEL\n")
	put(200, record.Device, record.MCU, "LEVEL\r\n")
	put(300, record.Device, record.MCU, "LEVEL\n")
	put(400, record.MCU, record.Device, "TEMP\n")
	put(500, record.Device, record.MCU, "11.4\n")
	put(600, record.Device, record.MCU, "TEMP\n")
	var echoes []quantity.Time
	for _, l := range Newest(s.Snapshot(), Filter{End: lf}, 100) {
		if l.Echo {
			echoes = append(echoes, l.At)
		}
	}
	assert.Equal(t, []quantity.Time{200, 600}, echoes)
}
