package wire

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// cutTo drops the toggles up to a time, as a trace does that is full.
func cutTo(w Window, from quantity.Time) Window {
	for len(w.Toggles) > 0 && w.Toggles[0] <= from {
		w.Toggles, w.High = w.Toggles[1:], !w.High
	}
	return w
}

// TestColumnsSayWhatTheWindowDoes: counted from the toggles themselves, each
// column is as Columns gives it, also where the oldest were given up.
func TestColumnsSayWhatTheWindowDoes(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		tr := NewTrace(rapid.Bool().Draw(rt, "high"), rapid.SampledFrom([]int{1 << 30, 60_000}).Draw(rt, "limit"))
		n := rapid.SampledFrom([]int{0, 1, 10, 5000, 30_000}).Draw(rt, "edges")
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		w := Window{High: tr.high}
		at := quantity.Time(0)
		for range n {
			at += 1 + quantity.Time(rng.Int64N(1000))
			w.Toggles = append(w.Toggles, at)
		}
		w.To = at + 1000
		tr.Append(&w)
		kept := tr.Kept()
		w = cutTo(w, kept.From)
		from := quantity.Time(rapid.Int64Range(0, int64(w.To)).Draw(rt, "from"))
		to := from + 1 + quantity.Time(rapid.Int64Range(0, int64(w.To)).Draw(rt, "span"))
		columns := rapid.IntRange(1, 200).Draw(rt, "columns")
		got := tr.Columns(from, to, columns)
		require.Len(rt, got, columns)
		k, level := 0, w.High
		for i, c := range got {
			a := from + (to-from)*quantity.Time(i)/quantity.Time(columns)
			b := from + (to-from)*quantity.Time(i+1)/quantity.Time(columns)
			for k < len(w.Toggles) && w.Toggles[k] < a {
				level = !level
				k++
			}
			edges := 0
			for j := k; j < len(w.Toggles) && w.Toggles[j] < b; j++ {
				edges++
			}
			require.Equal(rt, level, c.High)
			require.Equal(rt, edges, c.Edges)
			if edges > 0 {
				require.Equal(rt, w.Toggles[k], c.First)
			}
		}
		// The edges before and behind any time.
		x := quantity.Time(rapid.Int64Range(0, int64(w.To)).Draw(rt, "x"))
		next, before, ok := quantity.Forever, quantity.Time(0), false
		for _, e := range w.Toggles {
			if e > x && next == quantity.Forever {
				next = e
			}
			if e < x {
				before, ok = e, true
			}
		}
		require.Equal(rt, next, tr.Next(x))
		gotBefore, gotOK := tr.Previous(x)
		require.Equal(rt, ok, gotOK)
		require.Equal(rt, before, gotBefore)
	})
}

// TestMeasurements: of a pulse train with known widths.
func TestMeasurements(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		high := rapid.SliceOfN(rapid.Int64Range(1, 1000), 2, 40).Draw(rt, "high")
		low := rapid.SliceOfN(rapid.Int64Range(1, 1000), len(high), len(high)).Draw(rt, "low")
		var w Window
		at := quantity.Time(500)
		var up, down, period []int64
		for i := range high {
			w.Toggles = append(w.Toggles, at, at+quantity.Time(high[i]))
			at += quantity.Time(high[i] + low[i])
			up = append(up, high[i])
			if i+1 < len(high) {
				down, period = append(down, low[i]), append(period, high[i]+low[i])
			}
		}
		w.To = at
		m := Measure(&w)
		same := func(want []int64, got Times) {
			least, most, sum := want[0], want[0], int64(0)
			for _, x := range want {
				least, most, sum = min(least, x), max(most, x), sum+x
			}
			require.Equal(rt, Times{len(want), quantity.Time(least), quantity.Time(sum / int64(len(want))), quantity.Time(most)}, got)
		}
		same(up, m.High)
		same(down, m.Low)
		same(period, m.Period)
		require.Equal(rt, len(high), m.Rises)
		require.Equal(rt, len(high), m.Falls)
		total := int64(0)
		for _, x := range high {
			total += x
		}
		require.InDelta(rt, float64(total)/float64(w.To), m.HighShare, 1e-12)
		require.InEpsilon(rt, 1e12/float64(m.Period.Mean), m.Frequency().Hz(), 1e-6)
	})
	empty := Window{To: 100, High: true}
	m := Measure(&empty)
	assert.Zero(t, m.Frequency())
	assert.Equal(t, 1.0, m.HighShare)
	assert.Equal(t, IdleHigh, ActivityOf(&empty))
	assert.Equal(t, NotDriven, ActivityOf(&Window{To: 100, Unknown: []Span{{From: 0, To: 100}}}))
	assert.Equal(t, "idle low", ActivityOf(&Window{To: 100}).String())
	assert.Equal(t, Active, ActivityOf(&Window{To: 100, Toggles: []quantity.Time{5}}))
}

func TestSetUpAndHold(t *testing.T) {
	clock := Window{To: 1000, Toggles: []quantity.Time{100, 200, 300, 400}}
	data := Window{To: 1000, Toggles: []quantity.Time{60, 130, 290}}
	setUp, hold := SetUpHold(&clock, true, &data)
	assert.Equal(t, Times{2, 10, 25, 40}, setUp)
	assert.Equal(t, Times{1, 30, 30, 30}, hold, "after the last change nothing is known")
}

// BenchmarkColumns draws a line of 100 million edges 160 columns wide, at
// scales from all of it to a single bit.
func BenchmarkColumns(b *testing.B) {
	tr := NewTrace(true, 1<<30)
	at := quantity.Time(0)
	tog := make([]quantity.Time, 1<<16)
	for range 100_000_000 / len(tog) {
		from := at
		for i := range tog {
			at += 900_000 + quantity.Time(i%7)*50_000
			tog[i] = at
		}
		tr.Append(&Window{From: from, To: at + 1, Toggles: tog})
	}
	for b.Loop() {
		for span := at; span > 1000; span /= 100 {
			tr.Columns((at-span)/2, (at+span)/2, 160)
		}
	}
}
