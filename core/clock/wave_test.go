package clock

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

func TestCounterWorked(t *testing.T) {
	w, err := Counter{Width: 10, Up: true, Toggles: true}.Solve(quantity.FromHz(2.6e6), quantity.FromHz(1900), 0)
	require.NoError(t, err)
	assert.Equal(t, 684, w.Counts)
	assert.Equal(t, 0x154, w.Reload)
	assert.InDelta(t, 1900.6, w.Real.Hz(), 0.05)
	assert.Equal(t, "+0.03 %", Percent(w.Error))
	w, err = Counter{Width: 8}.Solve(quantity.Megahertz, 5*quantity.Kilohertz, 0.25)
	require.NoError(t, err)
	assert.Equal(t, 200, w.Reload)
	assert.Equal(t, 50, w.Compare)
	for _, f := range []func() (Wave, error){
		func() (Wave, error) { return Counter{Width: 1}.Solve(1, 1, 0) },
		func() (Wave, error) { return Counter{Width: 8}.Solve(0, 1, 0) },
		func() (Wave, error) { return Counter{Width: 8}.Solve(1, 1, 1) },
		func() (Wave, error) { return Counter{Width: 8, Toggles: true}.Solve(1, 1, 0.5) },
		func() (Wave, error) { return Counter{Width: 8}.Solve(quantity.Megahertz, quantity.Hertz, 0) },
	} {
		_, err := f()
		assert.Error(t, err)
	}
}

// No number of counts comes nearer, and the counter, counted through, overflows
// after that many clocks.
func TestCounterAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		c := Counter{Width: rapid.IntRange(2, 11).Draw(rt, "width"), Up: rapid.Bool().Draw(rt, "up"), Toggles: rapid.Bool().Draw(rt, "toggles")}
		clock := quantity.FromHz(rapid.Float64Range(1e5, 1e7).Draw(rt, "clock"))
		want := quantity.FromHz(rapid.Float64Range(500, 1e5).Draw(rt, "want"))
		per := 1.0
		if c.Toggles {
			per = 2
		}
		best := math.Inf(1)
		for n := 1; n <= 1<<c.Width; n++ {
			best = min(best, math.Abs(clock.Hz()/per/float64(n)/want.Hz()-1))
		}
		w, err := c.Solve(clock, want, 0)
		if err != nil {
			require.Greater(rt, clock.Hz()/per/want.Hz(), float64(int(1)<<c.Width))
			return
		}
		require.InDelta(rt, best, math.Abs(w.Error), 1e-9)
		counts, at := 0, w.Reload
		for {
			counts++
			if c.Up {
				at = (at + 1) & (1<<c.Width - 1)
			} else {
				at = (at - 1) & (1<<c.Width - 1)
			}
			if at == 0 {
				break
			}
		}
		require.Equal(rt, w.Counts, counts)
	})
}
