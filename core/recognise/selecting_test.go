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
