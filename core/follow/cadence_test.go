package follow

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// Bursts that are put together are told apart again: their number, their sizes, and the times
// between their starts.
func TestCadence(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const each = 100 * quantity.Microsecond
		var c Cadence
		var starts []quantity.Time
		var sizes []int
		at := quantity.Time(0)
		for range rapid.IntRange(3, 30).Draw(t, "bursts") {
			starts = append(starts, at)
			n := rapid.IntRange(1, 9).Draw(t, "words")
			sizes = append(sizes, n)
			for range n {
				c.word(at, at+each, each)
				at += each + quantity.Time(rapid.IntRange(0, 150).Draw(t, "between"))*quantity.Microsecond
			}
			at += each * quantity.Time(2+rapid.IntRange(0, 40).Draw(t, "pause"))
		}
		done := len(sizes) - 1 // the last one may go on
		require.Equal(t, done, c.Bursts)
		least, most := sizes[0], 0
		shortest, longest := quantity.Forever, quantity.Time(0)
		for i := range done {
			least, most = min(least, sizes[i]), max(most, sizes[i])
			if i > 0 {
				shortest, longest = min(shortest, starts[i]-starts[i-1]), max(longest, starts[i]-starts[i-1])
			}
		}
		require.Equal(t, []int{least, most}, []int{c.Least, c.Most})
		require.Equal(t, []quantity.Time{shortest, longest}, []quantity.Time{c.Shortest, c.Longest})
		require.Equal(t, (starts[done-1]-starts[0])/quantity.Time(done-1), c.Mean())
		require.NotEmpty(t, c.String())
	})
}
