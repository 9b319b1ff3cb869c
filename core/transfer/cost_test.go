package transfer

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// The stated example: 57600 8N1 with 25 µs for each handler, and a loop of 400 µs.
func TestStatedCosts(t *testing.T) {
	core := quantity.FromHz(80e6)
	l := Line{WordBits: 10, Bytes: 1, Rate: quantity.FromBd(57600), PerSecond: 5760}
	c := CostOf(l, Method{Way: EachWord, Core: core, Cycles: Cycles{Handler: 2000}, Depth: 1}, false)
	assert.InDelta(t, 5760, c.Interrupts, 1e-9)
	assert.InDelta(t, 0.144, c.Share, 1e-9)
	assert.True(t, c.Keeps())
	c = CostOf(l, Method{Way: Look, Core: core, Depth: 1, Period: 400 * quantity.Microsecond}, false)
	assert.InDelta(t, 173.6e-6, c.Deadline, 0.05e-6)
	assert.False(t, c.Keeps())
	c = CostOf(l, Method{Way: EachWord, Core: core, Cycles: Cycles{Handler: 32000}, Depth: 1}, false)
	assert.Greater(t, c.Share, 1.0, "a handler of 400 µs can't be carried: a character takes 173.6 µs")
	assert.False(t, c.Keeps())

	// The simulation loses at the same limit.
	ends := Ends([]Burst{{0, 400}}, quantity.PeriodOf(l.Rate), 10)
	for _, x := range []struct {
		us    float64
		loses bool
	}{{172, false}, {175, true}, {400, true}} {
		got := LossOf(ends, Reader{Way: Look, Core: core, Period: quantity.Time(x.us * 1e6), Phase: quantity.Microsecond, Depth: 1}, 0)
		assert.Equal(t, x.loses, len(got.Lost) > 0, "a loop of %v µs", x.us)
	}
}

// sweep draws a line and a reader.
func sweep(t *rapid.T) (Line, Reader) {
	l := Line{WordBits: 10, Bytes: 1, Rate: quantity.FromBd(float64(rapid.IntRange(9600, 921600).Draw(t, "rate")))}
	r := Reader{Way: AtLevel, Core: quantity.FromHz(float64(rapid.IntRange(8, 200).Draw(t, "MHz")) * 1e6), Depth: rapid.SampledFrom([]int{1, 2, 4, 16}).Draw(t, "depth"),
		Cycles: Cycles{Entry: rapid.IntRange(6, 40).Draw(t, "entry"), Read: rapid.IntRange(1, 60).Draw(t, "read"), Next: rapid.IntRange(5, 60).Draw(t, "next"), Exit: rapid.IntRange(4, 400).Draw(t, "exit")}}
	r.Level = rapid.IntRange(1, r.Depth).Draw(t, "level")
	return l, r
}

// The share of the processor that is calculated and the one that a run shows agree within
// 5 %, for interrupts and for looks, over rates, costs and depths.
func TestSharesAsPredicted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l, r := sweep(t)
		r.Level = 1
		l.PerSecond = 1 / l.Word() * rapid.Float64Range(0.05, 0.9).Draw(t, "load")
		gap := quantity.Time(1e12 / l.PerSecond)
		var ends []quantity.Time
		for k := range 400 {
			ends = append(ends, gap*quantity.Time(k+1))
		}
		k := r.Cycles
		m := Method{Way: EachWord, Core: r.Core, Depth: r.Depth, Cycles: Cycles{Entry: k.Entry, Handler: k.Read, Exit: k.Exit}}
		if rapid.Bool().Draw(t, "looks") {
			r.Way, r.Period = Look, quantity.Time(rapid.Float64Range(0.1, 0.9).Draw(t, "period")*float64(gap))
			r.Cycles.Look = rapid.IntRange(5, 60).Draw(t, "look")
			if r.Period <= 2*quantity.Time(float64(r.Cycles.Look+r.Cycles.Read)*1e12/r.Core.Hz()) {
				return // the loop has no time left
			}
			m.Way, m.Period, m.Cycles.Look, m.Cycles.Read = Look, r.Period, r.Cycles.Look, k.Read
		}
		want := CostOf(l, m, false)
		if want.Share > 0.9 {
			return
		}
		got := LossOf(ends, r, 0)
		require.Empty(t, got.Lost)
		share := float64(got.Busy) / float64(ends[len(ends)-1])
		require.InEpsilon(t, want.Share, share, 0.05, "%+v %+v", m, r)
	})
}

// Just below the greatest rate nothing is lost, just above it something is.
func TestGreatestRates(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		_, r := sweep(t)
		const bits = 10
		m := Method{Way: AtLevel, Core: r.Core, Cycles: r.Cycles, Depth: r.Depth, Level: r.Level}
		all := r.Level > 1
		if !all {
			m.Way = EachWord
		} else {
			// A run reads just as many as raised it, and then looks once more.
			m.Cycles.Exit += r.Cycles.Next
		}
		if rapid.Bool().Draw(t, "looks") {
			r.Way, r.Level = Look, 1
			r.Period = quantity.Time(rapid.IntRange(20, 900).Draw(t, "period")) * quantity.Microsecond
			r.Cycles = Cycles{}
			all = rapid.Bool().Draw(t, "all")
			m = Method{Way: Look, Core: r.Core, Depth: r.Depth, Period: r.Period}
		}
		r.All = all
		l := LimitOf(bits, m, all)
		run := func(rate float64, blocked bool) int {
			word := 1e12 * bits / rate
			var ends []quantity.Time
			for k := range 3000 {
				ends = append(ends, quantity.Time(float64(k+1)*word))
			}
			x := r
			if blocked {
				x.Phase = quantity.Time(word * 1.001)
			}
			return len(LossOf(ends, x, 0).Lost)
		}
		require.Zero(t, run(l.Rate*0.98, false), "at %.0f, %+v", l.Rate*0.98, m)
		if m.Way == EachWord || m.Way == Look && !all { // where one is read at a time the limit is sharp
			require.Positive(t, run(l.Rate*1.03, true), "at %.0f, %+v", l.Rate*1.03, m)
		}
	})
}

// The smallest sizes: one place less is too small, found by trying.
func TestSmallestSizes(t *testing.T) {
	// most is how many words wait at once when they come every word and are taken at given
	// times.
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.Float64Range(1e-6, 1e-3).Draw(t, "word")
		late := word * rapid.Float64Range(0.1, 30).Draw(t, "late")
		// A ring: of which size is a place written again before its half is done?
		ring := RingSize(word, late, AnySize).Least
		safe := func(n int) bool { return late < float64(n/2+1)*word }
		require.True(t, safe(ring))
		if ring > 2 {
			require.False(t, safe(ring-2))
		}
		// A buffer that is emptied every period: count what comes between two times.
		period := word * rapid.Float64Range(0.5, 30).Draw(t, "period")
		most := 0
		for phase := 0.0; phase < 1; phase += 0.01 {
			n := 0
			for at := phase * word; at <= period+late; at += word {
				n++
			}
			most = max(most, n)
		}
		drain := DrainSize(word, period, late, false, AnySize).Least
		require.LessOrEqual(t, most, drain)
		require.GreaterOrEqual(t, most, drain-1)
		// A burst with a slow consumer, word by word.
		n := rapid.IntRange(1, 60).Draw(t, "burst")
		work := word * rapid.Float64Range(0.1, 4).Draw(t, "work")
		waits, peak, taken, next := 0, 0, 0, late
		for step := 0.0; step < float64(n)*(word+work)+late; step += word / 64 {
			came := min(int(step/word)+1, n)
			for next <= step && taken < came {
				taken++
				next = math.Max(next+work, float64(taken)*word)
			}
			waits = came - taken
			peak = max(peak, waits)
		}
		got := BurstSize(word, n, late, work, false, AnySize).Least
		require.InDelta(t, peak, got, 1)
		require.GreaterOrEqual(t, got, peak)
	})
	assert.Equal(t, 8, PowerOfTwo.Fit(5))
	assert.Equal(t, 6, EvenSize.Fit(5))
	assert.Equal(t, 1, AnySize.Fit(0))
}

// The stated burst: 20 bytes at 115200 into a queue of 8 that is emptied every millisecond.
func TestStatedQueue(t *testing.T) {
	ends := Ends([]Burst{{0, 20}}, quantity.PeriodOf(quantity.FromBd(115200)), 10)
	for policy, lost := range map[machine.Policy][]int{machine.KeepOldest: {8, 9, 10, 19}, machine.KeepNewest: {0, 1, 2, 11}, machine.ReplaceLast: {7, 8, 9, 18}} {
		got := LossOf(ends, Reader{Way: Look, Core: quantity.FromHz(1e9), Period: quantity.Millisecond, Phase: quantity.Millisecond, Depth: 8, All: true, OnFull: policy}, 0)
		require.Equal(t, lost, got.Lost, "%s: 11 words come before the first look, 9 before the next", policy)
	}
	got := LossOf(ends, Reader{Way: Look, Core: quantity.FromHz(1e9), Period: quantity.Millisecond / 2, Phase: quantity.Millisecond / 2, Depth: 8, All: true}, 0)
	assert.Empty(t, got.Lost)
	assert.LessOrEqual(t, got.High, 6)
}
