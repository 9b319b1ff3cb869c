package wire

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

func anyToggles(rt *rapid.T, most int) []quantity.Time {
	var out []quantity.Time
	at := quantity.Time(0)
	for range rapid.IntRange(0, most).Draw(rt, "n") {
		at += quantity.Time(rapid.Int64Range(1, 1e6).Draw(rt, "step"))
		out = append(out, at)
	}
	return out
}

// level is the level at t by counting, the plain way.
func level(toggles []quantity.Time, t quantity.Time) bool {
	high := true
	for _, x := range toggles {
		if x <= t {
			high = !high
		}
	}
	return high
}

func TestTraceGivesBackWhatWentIn(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		tog := anyToggles(rt, 300)
		end := quantity.Time(1)
		if len(tog) > 0 {
			end = tog[len(tog)-1] + 5
		}
		tr := NewTrace(true, 1<<20)
		var from quantity.Time
		high, i := true, 0
		for from < end {
			to := min(end, from+quantity.Time(rapid.Int64Range(1, int64(end)).Draw(rt, "cut")))
			j := i
			for j < len(tog) && tog[j] < to {
				j++
			}
			w := Window{From: from, To: to, High: high, Toggles: tog[i:j]}
			tr.Append(&w)
			high, i, from = w.EndsHigh(), j, to
		}
		a := quantity.Time(rapid.Int64Range(0, int64(end)).Draw(rt, "a"))
		b := quantity.Time(rapid.Int64Range(int64(a), int64(end)).Draw(rt, "b"))
		w := tr.Window(a, b)
		require.Equal(rt, a, w.From)
		require.Equal(rt, level(tog, a-1), w.High)
		for _, x := range w.Toggles {
			require.True(rt, x >= a && x < b)
		}
		require.Equal(rt, level(tog, b-1), w.EndsHigh() || a == b && w.High)
	})
}

func TestTraceIsBounded(t *testing.T) {
	tr := NewTrace(true, 50_000)
	at := quantity.Time(0)
	high := true
	for range 200 {
		var tog []quantity.Time
		from := at
		for range 1000 {
			at += 1000
			tog = append(tog, at-1)
		}
		w := Window{From: from, To: at, High: high, Toggles: tog}
		tr.Append(&w)
		high = w.EndsHigh()
	}
	assert.LessOrEqual(t, tr.bytes, 50_000+2*blockToggles)
	kept := tr.Kept()
	assert.Positive(t, kept.From)
	assert.Equal(t, at, kept.To)
	w := tr.Window(0, at)
	assert.Equal(t, kept.From, w.From, "older levels are said to be gone")
	// Every toggle comes at k·1000 - 1, so the level before a time follows.
	assert.Equal(t, (int64(kept.From)+1)/1000%2 == 0, w.High)
}

func TestLineDelaysAndNeverTellsTheFuture(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		tog := anyToggles(rt, 60)
		l := NewLine(quantity.Time(rapid.Int64Range(0, 5000).Draw(rt, "delay")), DrivenHigh)
		l.Drive(tog)
		var got []quantity.Time
		at := quantity.Time(0)
		for range 20 {
			at += quantity.Time(rapid.Int64Range(1, 5e6).Draw(rt, "step"))
			w := l.Read(at)
			for _, x := range w.Toggles {
				require.True(rt, x >= w.From && x < at)
				got = append(got, x-l.Delay)
			}
		}
		require.Equal(rt, append([]quantity.Time(nil), tog[:len(got)]...), got)
	})
}

func TestBrokenWire(t *testing.T) {
	l := NewLine(10, DrivenHigh)
	l.Drive([]quantity.Time{100})
	l.Break(200)
	assert.True(t, l.Open())
	l.Drive([]quantity.Time{300, 400, 500})
	w := l.Read(600)
	assert.Equal(t, []quantity.Time{110}, w.Toggles)
	assert.Equal(t, []Span{{210, 600, true}}, w.Unknown)
	assert.True(t, w.Floating(300))
	assert.False(t, w.Floating(209))
	l.Mend(700)
	w = l.Read(800)
	assert.Equal(t, []quantity.Time{710}, w.Toggles, "the driver is high again by then")
	assert.True(t, w.EndsHigh())
	assert.Equal(t, []Span{{210, 710, true}}, w.Unknown)
	assert.Empty(t, l.Read(900).Unknown)
	assert.True(t, NewLine(0, Floating).Open())
	// With a pull-up at the reader the broken wire is high, and known to be.
	l = NewLine(0, BiasedHigh)
	l.Drive([]quantity.Time{100})
	l.Break(200)
	w = l.Read(300)
	assert.Equal(t, []quantity.Time{100, 200}, w.Toggles)
	assert.Empty(t, w.Unknown)
	l.Mend(400)
	assert.Equal(t, []quantity.Time{400}, l.Read(500).Toggles, "the driver still holds it low")
}
