package i2c

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

func TestPullUp(t *testing.T) {
	fast, err := ClassFor(400 * quantity.Kilobaud)
	require.NoError(t, err)
	p, err := PullUpFor(3.3, 200e-12, fast)
	require.NoError(t, err)
	assert.InDelta(t, 967, p.Least, 1)
	assert.InDelta(t, 1770, p.Most, 2)
	assert.Greater(t, RiseTime(3900, 200e-12), fast.Rise, "3.9 kΩ is too slow")
	assert.InDelta(t, float64(fast.Rise), float64(RiseTime(p.Most, 200e-12)), 10)
	_, err = PullUpFor(3.3, 400e-12, fast)
	assert.ErrorContains(t, err, "no pull-up serves")
	_, err = PullUpFor(0.3, 400e-12, fast)
	assert.Error(t, err)
	_, err = ClassFor(2 * quantity.Megabaud)
	assert.Error(t, err)
	// An exponential rise, stepped through, takes that long from 30 to 70 %.
	from, to, v := 0.0, 0.0, 0.0
	const r, c, step = 1500.0, 150e-12, 1e-13
	for at := 0.0; v < 0.7; at += step {
		v += (1 - v) * step / (r * c)
		if from == 0 && v >= 0.3 {
			from = at
		}
		to = at
	}
	assert.InEpsilon(t, to-from, RiseTime(r, c).Seconds(), 1e-3)
}

// No counters within the limits are faster without being too fast.
func TestCountersAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		c := Counters{Least: rapid.IntRange(0, 3).Draw(rt, "least"), Most: rapid.IntRange(20, 120).Draw(rt, "most"), LowPlus: rapid.IntRange(1, 4).Draw(rt, "low plus"), HighPlus: rapid.IntRange(1, 4).Draw(rt, "high plus"), Filter: rapid.IntRange(0, 3).Draw(rt, "filter")}
		clock := quantity.FromHz(rapid.Float64Range(2e6, 5e7).Draw(rt, "clock"))
		class := rapid.SampledFrom(Classes).Draw(rt, "class")
		want := quantity.FromBd(class.Rate.Bd() * rapid.Float64Range(0.3, 1).Draw(rt, "rate"))
		rise, fall := class.Rise/3, class.Fall/3
		best := 0.0
		for low := c.Least; low <= c.Most; low++ {
			for high := c.Least; high <= c.Most; high++ {
				x := c.Timing(clock, want, low, high, rise, fall)
				if x.Rate <= want+1 && x.LowTime+1 >= class.Low && x.HighTime+1 >= class.High {
					best = max(best, x.Rate.Bd())
				}
			}
		}
		got, err := c.SolveCounters(clock, want, class, rise, fall, 3)
		if best == 0 {
			require.Error(rt, err)
			return
		}
		require.NoError(rt, err)
		require.InEpsilon(rt, best, got[0].Rate.Bd(), 1e-6)
		require.LessOrEqual(rt, got[0].Error, 1e-9)
		require.GreaterOrEqual(rt, got[0].LowTime+1, class.Low)
		require.GreaterOrEqual(rt, got[0].HighTime+1, class.High)
		require.True(rt, math.Abs(float64(got[0].LowTime+got[0].HighTime+rise+fall-got[0].Time)) < 2)
	})
}

func TestBadCounters(t *testing.T) {
	for _, c := range []Counters{{Least: 1}, {Most: 5, Filter: -1, LowPlus: 1, HighPlus: 1}, {Most: 5}} {
		_, err := c.SolveCounters(quantity.Megahertz, 100*quantity.Kilobaud, Classes[0], 0, 0, 1)
		assert.Error(t, err)
	}
	c := Counters{Least: 1, Most: 255}
	_, err := c.SolveCounters(0, 1, Classes[0], 0, 0, 1)
	assert.Error(t, err)
	_, err = c.SolveCounters(8*quantity.Megahertz, 200*quantity.Kilobaud, Classes[0], 0, 0, 1)
	assert.ErrorContains(t, err, "above the")
}
