package comb

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/stats"
)

var meta = capture.Meta{Links: []capture.Link{{Name: "bus", Kind: "can"}}}

func any(*record.Record) bool { return true }

// TestTheMissingOnesAreFound: of a sender with a period and some jitter, those are ticks that
// were left out, and no others; runs of three and more are missing.
func TestTheMissingOnesAreFound(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		store := capture.NewStore(meta)
		period := quantity.Time(rapid.Int64Range(1000, 100_000).Draw(rt, "period"))
		jitter := int64(period) / 60
		n := rapid.IntRange(60, 200).Draw(rt, "frames")
		out := map[int]bool{}
		for range rapid.IntRange(0, 2).Draw(rt, "gaps") {
			from := rapid.IntRange(5, n-5).Draw(rt, "gap at")
			for k := range rapid.IntRange(1, 5).Draw(rt, "gap of") {
				out[from+k] = true
			}
		}
		var sent []int
		for i := range n {
			if out[i] {
				continue
			}
			sent = append(sent, i)
			at := quantity.Time(i)*period + quantity.Time(rapid.Int64Range(-jitter, jitter).Draw(rt, "jitter")) + period
			store.Put(&record.Record{Kind: record.Frame, ID: 0x1a5, From: record.Device, Seen: record.Tap, Start: at, End: at + period/10, Data: []byte{byte(i), 7}})
		}
		c := New(any)
		for c.Take(store.Snapshot(), 7) {
		}
		require.Len(rt, c.Rows(), 1)
		r := c.Rows()[0]
		require.Equal(rt, len(sent), r.Count)
		require.InDelta(rt, float64(period), float64(r.Usual()), float64(2*jitter+1))
		require.LessOrEqual(rt, r.Jitter(), quantity.Time(4*jitter+2))
		require.Equal(rt, []bool{true, false}, r.Varies)
		now := quantity.Time(n)*period + period*3/4
		last := sent[len(sent)-1]
		var want []int
		for i := range last {
			if out[i] {
				want = append(want, i)
			}
		}
		for i := last + 1; i < n; i++ {
			want = append(want, i)
		}
		ticks := r.Ticks(0, now, now)
		var got []int
		for _, x := range ticks {
			got = append(got, int((x.At-period+period/2)/period))
		}
		require.Equal(rt, want, got)
		for k, x := range ticks {
			// The run of left-out ones that it is part of.
			run := 1
			for i := want[k] - 1; i >= 0 && !slices.Contains(sent, i); i-- {
				run++
			}
			for i := want[k] + 1; i < n && !slices.Contains(sent, i); i++ {
				run++
			}
			if run >= stats.MissingAfter {
				require.True(rt, x.Missing, "%d of a run of %d", want[k], run)
			}
			if run < stats.MissingAfter-1 {
				require.False(rt, x.Missing, "%d of a run of %d", want[k], run)
			}
		}
		require.Equal(rt, n-1-last >= stats.MissingAfter, r.Overdue(now) > 0)
	})
}

// TestNoPeriodIsUsual: what comes in pairs has none, and nothing of it is missing.
func TestNoPeriodIsUsual(t *testing.T) {
	store := capture.NewStore(meta)
	for i := range 60 {
		at := quantity.Time(i/2*100 + i%2*17)
		store.Put(&record.Record{Kind: record.Frame, ID: 1, Seen: record.Tap, Start: at, End: at + 1})
	}
	c := New(any)
	c.Take(store.Snapshot(), 100)
	r := c.Rows()[0]
	assert.Zero(t, r.Usual())
	assert.Empty(t, r.Ticks(0, 10_000, 10_000))
	assert.Zero(t, r.Overdue(10_000))
}

// TestWhatFailsIsNoArrival: frames that fail and are sent again at once neither make the period
// nor hide that none came.
func TestWhatFailsIsNoArrival(t *testing.T) {
	store := capture.NewStore(meta)
	for i := range 40 {
		at := quantity.Time(i * 1000)
		store.Put(&record.Record{Kind: record.Frame, ID: 1, Seen: record.Tap, Start: at, End: at + 1, Data: []byte{byte(i)}})
	}
	for i := range 5000 {
		at := quantity.Time(40_000 + i)
		store.Put(&record.Record{Kind: record.Frame, ID: 1, Seen: record.Tap, Start: at, End: at + 1, Data: []byte{99}, Marks: []record.Mark{{Flags: record.NotAcknowledged}}})
	}
	c := New(any)
	c.Take(store.Snapshot(), 10_000)
	r := c.Rows()[0]
	assert.EqualValues(t, 1000, r.Usual())
	assert.EqualValues(t, 6000, r.Overdue(45_000))
	assert.Len(t, r.Ticks(0, 45_000, 45_000), 5)
	assert.Equal(t, []byte{39}, r.Whole.Data)
	assert.Equal(t, 5000, r.Bad)
}

func TestChangesStayMarkedUntilSeen(t *testing.T) {
	store := capture.NewStore(meta)
	c := New(any)
	put := func(at int, data ...byte) {
		store.Put(&record.Record{Kind: record.Frame, ID: 1, Seen: record.Tap, Start: quantity.Time(at), End: quantity.Time(at), Data: data})
		c.Take(store.Snapshot(), 100)
	}
	put(10, 1, 2, 3)
	put(20, 1, 2, 4)
	put(30, 1, 2, 4)
	r := c.Rows()[0]
	assert.Equal(t, []bool{false, false, true}, r.Fresh)
	assert.Equal(t, []byte{1, 2, 3}, r.Before.Data)
	r.Seen()
	put(40, 1, 2, 4)
	assert.Equal(t, []bool{false, false, false}, r.Fresh)
	assert.Equal(t, []bool{false, false, true}, r.Varies)
	put(50, 1, 2, 4, 9)
	assert.Equal(t, []bool{false, false, false, true}, r.Fresh)
	put(45, 7, 7)
	assert.Equal(t, []byte{1, 2, 4, 9}, r.Latest.Data, "one that comes late is not the newest")
	assert.Equal(t, 6, r.Count)
}

// TestMessagesOfCharactersByTheirWord: messages that begin with different words are combs of their
// own, and what has none is one; no word is lost where there are very many.
func TestMessagesOfCharactersByTheirWord(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		store := capture.NewStore(meta)
		want, at := map[string]int{}, quantity.Time(0)
		words := rapid.SliceOfNDistinct(rapid.StringMatching(`[A-Z$][A-Za-z]{2,8}`), 1, 40, func(s string) string { return s }).Draw(rt, "words")
		n := rapid.IntRange(1, 200).Draw(rt, "messages")
		for range n {
			word := rapid.SampledFrom(append(words, "")).Draw(rt, "word")
			at += 1000
			store.Put(&record.Record{Kind: record.Chars, From: record.MCU, Seen: record.Tap, Start: at, End: at + 100, Data: []byte(word + rapid.StringMatching(`[=, ]?[0-9.]{0,5}\n`).Draw(rt, "rest"))})
			want[word]++
		}
		c := New(any)
		for c.Take(store.Snapshot(), 7) {
		}
		all := 0
		for _, r := range c.Rows() {
			if all += r.Count; r.Head != "" {
				require.Equal(rt, want[r.Head], r.Count, r.Head)
			}
		}
		require.Equal(rt, n, all)
		require.LessOrEqual(rt, len(c.Rows()), mostHeads+1)
		if len(want) <= mostHeads {
			require.Len(rt, c.Rows(), len(want))
		}
	})
}
