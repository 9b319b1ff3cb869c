package recognise

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// TestSelectsMoveWithEdges: a line that changes anywhere near the bursts of a clock, also just before
// or behind them, is judged, and each burst belongs to one span.
func TestSelectsMoveWithEdges(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		step := func(name string) quantity.Time {
			return quantity.Time(rapid.Int64Range(1, 12).Draw(rt, name)) * 100
		}
		var all []burst
		at := step("start")
		for range rapid.IntRange(1, 6).Draw(rt, "bursts") {
			b := burst{from: at, to: at + step("long"), edges: 16}
			all, at = append(all, b), b.to+step("pause")
		}
		l := &wire.Window{High: rapid.Bool().Draw(rt, "high"), To: at + step("end")}
		for x := step("first"); x < l.To; x += step("next") {
			l.Toggles = append(l.Toggles, x)
		}
		s, ok := selecting(l, 0, all, step("slack"))
		if !ok {
			return
		}
		require.Len(rt, s.upTo, len(s.spans))
		require.Equal(rt, len(s.bursts), s.upTo[len(s.upTo)-1])
		first := 0
		for _, k := range s.upTo {
			require.Greater(rt, k, first, "a span has bursts")
			first = k
		}
		s.slack()
	})
}

// TestWhatMaySelect: a line with few long pulses may be a select that something disturbs, also where
// its pauses were taken for spikes; one that rests but for pulses shorter than half a clock may not.
func TestWhatMaySelect(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		const period = 100 * quantity.Nanosecond
		long := rapid.Bool().Draw(rt, "long")
		var w wire.Window
		at := quantity.Time(0)
		for range rapid.IntRange(1, 4).Draw(rt, "pulses") {
			width := quantity.Time(rapid.Int64Range(1, int64(period/2)-1).Draw(rt, "width"))
			if long {
				width += period
			}
			at += 10 * period
			w.Toggles = append(w.Toggles, at, at+width)
			at += width
		}
		w.To = at + 10*period
		line := look{untouched: w} // all of its edges were taken out
		require.Equal(rt, long, mayselect([]look{{}, line}, []int{0}, 5, period))
		require.False(rt, mayselect([]look{{}, line}, []int{0, 1}, 5, period), "it is a line of the bus")
	})
}
