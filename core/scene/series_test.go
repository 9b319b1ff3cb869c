package scene

import (
	"math"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestTicksAreRound: numbers beside a scale lie on it, at one distance that is 1, 2 or 5 with zeros,
// are no more than asked for but where that would be a single one, leave less than a step free at either end, and are written as numbers
// without a power of ten that say just where they stand.
func TestTicksAreRound(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		power := math.Pow(10, float64(rapid.IntRange(-5, 9).Draw(rt, "power")))
		low := float64(rapid.IntRange(-9999, 9999).Draw(rt, "low")) * power / 100
		s := Scale{Low: low, High: low + float64(rapid.IntRange(1, 99999).Draw(rt, "span"))*power/100}
		most := rapid.IntRange(2, 12).Draw(rt, "most")
		ticks := s.Ticks(most)
		require.LessOrEqual(rt, len(ticks), 2*most)
		if most >= 3 {
			require.GreaterOrEqual(rt, len(ticks), 2)
		}
		eps := (s.High - s.Low) * 1e-6
		for i, k := range ticks {
			require.True(rt, k.At >= s.Low-eps && k.At <= s.High+eps)
			require.NotContains(rt, k.Label, "e")
			if i == 0 {
				continue
			}
			step := k.At - ticks[i-1].At
			lead := strings.TrimRight(strings.TrimLeft(strings.ReplaceAll(strconv.FormatFloat(step, 'f', 14, 64), ".", ""), "0"), "0")
			n, err := strconv.ParseFloat("0."+lead, 64)
			require.NoError(rt, err)
			require.Contains(rt, []float64{0.1, 0.2, 0.5, 1}, math.Round(n*1000)/1000, "step %v", step)
			v, err := strconv.ParseFloat(k.Label, 64)
			require.NoError(rt, err)
			require.InDelta(rt, k.At, v, step/100)
			_, a, _ := strings.Cut(k.Label, ".")
			_, b, _ := strings.Cut(ticks[0].Label, ".")
			require.Len(rt, a, len(b), "as many decimals")
			require.Less(rt, ticks[0].At-s.Low, step+eps)
			require.Less(rt, s.High-ticks[len(ticks)-1].At, step+eps)
		}
	})
	words := Scale{Low: 0, High: 2, Words: []Level{{0, "stop"}, {1, "raise"}, {5, "lost"}}}
	require.Equal(t, []Level{{0, "stop"}, {1, "raise"}}, words.Ticks(5))
	require.Equal(t, "200000 m", (&Scale{Unit: "m"}).Text(2e5))
	require.Equal(t, "0.00001234", (&Scale{}).Text(1.234e-5))
}
