package can

import (
	"math"
	"math/rand/v2"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// No segments within the limits give a smaller error, a nearer sample point or
// more quanta than the first timing.
func TestTimingAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		limits := Segments{
			Prescaler: rapid.IntRange(1, 40).Draw(rt, "prescaler"), Seg1: rapid.IntRange(1, 20).Draw(rt, "seg1"),
			Seg2: rapid.IntRange(1, 10).Draw(rt, "seg2"), Jump: rapid.IntRange(1, 4).Draw(rt, "jump limit"),
		}
		jump := rapid.IntRange(0, limits.Jump).Draw(rt, "jump")
		clock := quantity.FromHz(rapid.Float64Range(1e6, 8e7).Draw(rt, "clock"))
		rate := quantity.FromBd(rapid.Float64Range(1e4, 1e6).Draw(rt, "rate"))
		sample := rapid.Float64Range(0.5, 0.95).Draw(rt, "sample")
		got, err := SolveTiming(clock, rate, sample, limits, jump, 5)
		var best BitTiming
		found := false
		for p := 1; p <= limits.Prescaler; p++ {
			for s1 := 1; s1 <= limits.Seg1; s1++ {
				for s2 := max(jump, 1); s2 <= limits.Seg2; s2++ {
					if phase1 := min(s2, s1-1); jump > max(phase1, 1) {
						continue
					}
					if b := timingOf(clock, rate, p, s1, s2, max(jump, 1)); !found || b.better(&best, sample) {
						best, found = b, true
					}
				}
			}
		}
		if !found {
			require.Error(rt, err)
			return
		}
		require.NoError(rt, err)
		first := got[0]
		require.InDelta(rt, math.Abs(best.Error), math.Abs(first.Error), 1e-8)
		require.InDelta(rt, math.Abs(best.Sample-sample), math.Abs(first.Sample-sample), 1e-8)
		require.Equal(rt, best.Quanta(), first.Quanta())
		for _, b := range got {
			require.True(rt, b.Seg1 >= 1 && b.Seg1 <= limits.Seg1 && b.Seg2 >= 1 && b.Seg2 <= limits.Seg2 && b.Jump >= 1 && b.Jump <= limits.Jump && b.Jump <= b.Seg2 && b.Jump <= max(min(b.Seg2, b.Seg1-1), 1), "%+v", b)
		}
	})
}

func TestTimingWorked(t *testing.T) {
	got, err := SolveTiming(24*quantity.Megahertz, 250*quantity.Kilobaud, 0.875, UsualSegments, 1, 9)
	require.NoError(t, err)
	assert.Equal(t, 6, got[0].Prescaler)
	assert.Equal(t, "1+13+2", got[0].Split())
	assert.Zero(t, got[0].Error)
	got, err = SolveTiming(24*quantity.Megahertz, 250*quantity.Kilobaud, 0.8125, UsualSegments, 1, 9)
	require.NoError(t, err)
	assert.Equal(t, "1+12+3", got[0].Split())
	// Without an exact divisor the error is shown.
	got, err = SolveTiming(10*quantity.Megahertz, 300*quantity.Kilobaud, 0.8, UsualSegments, 0, 1)
	require.NoError(t, err)
	assert.NotZero(t, got[0].Error)
	for _, bad := range []func() ([]BitTiming, error){
		func() ([]BitTiming, error) { return SolveTiming(0, 1, 0.8, UsualSegments, 0, 1) },
		func() ([]BitTiming, error) { return SolveTiming(1, 1, 1.8, UsualSegments, 0, 1) },
		func() ([]BitTiming, error) { return SolveTiming(1, 1, 0.8, UsualSegments, 9, 1) },
		func() ([]BitTiming, error) { return SolveTiming(1, 1, 0.8, Segments{}, 0, 1) },
		func() ([]BitTiming, error) {
			return SolveTiming(quantity.Megahertz, quantity.Kilobaud, 0.8, Segments{1, 1, 1, 4}, 4, 1)
		},
	} {
		_, err := bad()
		assert.Error(t, err)
	}
}

func TestTolerancesWorked(t *testing.T) {
	b := timingOf(24*quantity.Megahertz, 250*quantity.Kilobaud, 6, 13, 2, 1)
	cs := Tolerances(b, b.Propagation(), nil, 0)
	require.Len(t, cs, 2)
	assert.InDelta(t, 0.003125, cs[0].Limit, 1e-9)
	assert.InDelta(t, 0.00485, cs[1].Limit, 1e-5)
	limit := Tightest(cs).Limit
	v := JudgeTolerance(limit, 0.005, -0.0001)
	assert.False(t, v.Conforms[0], "0.5 % is more than the standard gives a node")
	assert.True(t, v.Conforms[1])
	assert.True(t, v.Decodes, "0.51 % of 0.625 %")
	assert.InDelta(t, 0.00625, v.Pair, 1e-9)
	d := timingOf(40*quantity.Megahertz, 2*quantity.Megabaud, 1, 15, 4, 4)
	n := timingOf(40*quantity.Megahertz, 500*quantity.Kilobaud, 1, 63, 16, 16)
	cs = Tolerances(n, 47, &d, 11)
	require.Len(t, cs, 5)
	for _, c := range cs {
		assert.True(t, c.Limit > 0.001 && c.Limit < 0.02, "%s: %g", c.Name, c.Limit)
	}
	// 250 ns of propagation at 47 quanta of 25 ns: (1175 - 500) / 10 ns.
	assert.InDelta(t, 67.5, MostLength(n, 47, 250*quantity.Nanosecond, 5*quantity.Nanosecond), 1e-6)
	c := Compensate(d, 255*quantity.Nanosecond)
	assert.False(t, c.Needed)
	assert.Equal(t, 16, c.Offset)
	assert.True(t, Compensate(d, 401*quantity.Nanosecond).Needed)
	assert.Equal(t, 655*quantity.Nanosecond, c.Sample)
}

// Two nodes whose clocks are apart by what the pair's limit allows read each
// other without an error; by three times as much they do not.
func TestToleranceHoldsOnTheWire(t *testing.T) {
	for _, b := range []BitTiming{
		timingOf(24*quantity.Megahertz, 250*quantity.Kilobaud, 6, 13, 2, 1),
		timingOf(16*quantity.Megahertz, 500*quantity.Kilobaud, 2, 11, 4, 2),
		timingOf(40*quantity.Megahertz, 1*quantity.Megabaud, 2, 14, 5, 4),
	} {
		limit := Tightest(Tolerances(b, b.Propagation(), nil, 0)).Limit
		reads := func(off float64) bool {
			sent := b.Phase()
			sent.Bit, sent.Quanta = quantity.Period(float64(sent.Bit)*(1+off)), 0
			ok := true
			rng := rand.New(rand.NewPCG(1, 2))
			for range 60 {
				f := worst()
				for i := range f.Data {
					if rng.IntN(3) == 0 {
						f.Data[i] = byte(rng.Uint32())
					}
				}
				tog, end := Encode(nil, Build(f, true), Timing{sent, sent}, sent.Bit.Times(12))
				end += sent.Bit.Times(20)
				r := decode(NewDecoder(Timing{b.Phase(), b.Phase()}, 0), tog, end, wiretest.Whole(end))
				ok = ok && len(r) == 1 && r[0].AllFlags() == 0
			}
			return ok
		}
		for _, sign := range []float64{1, -1} {
			assert.True(t, reads(sign*2*limit*0.98), "%s at %+.3f %%", b.Split(), 200*sign*limit)
			assert.False(t, reads(sign*6*limit), "%s at %+.3f %%", b.Split(), 600*sign*limit)
		}
	}
}

// All wanted pass; no way to group them lets fewer others pass.
func TestFiltersAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		ids := rapid.SliceOfNDistinct(rapid.Uint32Range(0, 0x7ff), 1, 6, rapid.ID[uint32]).Draw(rt, "ids")
		n := rapid.IntRange(1, 4).Draw(rt, "n")
		fs, err := Filters(ids, false, n)
		require.NoError(rt, err)
		require.LessOrEqual(rt, len(fs), n)
		sum := uint64(0)
		for _, f := range fs {
			sum += f.through(11)
		}
		for _, id := range ids {
			passes := false
			for _, f := range fs {
				passes = passes || f.Passes(id)
			}
			require.True(rt, passes)
		}
		// Every assignment of identifiers to groups.
		best := ^uint64(0)
		total := 1
		for range ids {
			total *= n
		}
		for code := range total {
			groups := make([][]uint32, n)
			for i, c := 0, code; i < len(ids); i, c = i+1, c/n {
				groups[c%n] = append(groups[c%n], ids[i])
			}
			cost := uint64(0)
			for _, g := range groups {
				if len(g) > 0 {
					cost += group(g, 11).through(11)
				}
			}
			best = min(best, cost)
		}
		require.Equal(rt, best, sum)
		some, count := Unwanted(fs, ids, false, 5000)
		require.Equal(rt, int(count), len(some))
		for _, id := range some {
			require.NotContains(rt, ids, id)
		}
	})
}

func TestFiltersWorked(t *testing.T) {
	f := Filter{ID: 0x2A0, Mask: 0x7F0}
	for id := range uint32(0x800) {
		assert.Equal(t, id >= 0x2A0 && id <= 0x2AF, f.Passes(id))
	}
	fs, err := Filters([]uint32{0x2A1, 0x2A6, 0x3C0}, false, 2)
	require.NoError(t, err)
	some, n := Unwanted(fs, []uint32{0x2A1, 0x2A6, 0x3C0}, false, 99)
	assert.Equal(t, uint64(6), n)
	assert.Equal(t, []uint32{0x2A0, 0x2A2, 0x2A3, 0x2A4, 0x2A5, 0x2A7}, some)
	// Many identifiers, extended ones too.
	var many []uint32
	for i := range uint32(40) {
		many = append(many, 0x18FF0000|i*5)
	}
	fs, err = Filters(many, true, 4)
	require.NoError(t, err)
	assert.Len(t, fs, 4)
	for _, id := range many {
		ok := false
		for _, f := range fs {
			ok = ok || f.Passes(id)
		}
		assert.True(t, ok)
	}
	_, n = Unwanted(fs, many, true, 3)
	assert.Positive(t, n)
	for _, bad := range [][]uint32{nil, {0x800}} {
		_, err := Filters(bad, false, 2)
		assert.Error(t, err)
	}
	_, err = Filters([]uint32{1}, false, 0)
	assert.Error(t, err)
}

func TestLoadWorked(t *testing.T) {
	var ms []Message
	for i := range uint32(12) {
		ms = append(ms, Message{Name: "m", Frame: Frame{ID: 0x100 + i, Data: make([]byte, 8)}, Period: 10 * quantity.Millisecond})
	}
	l, err := LoadOf(ms, UsualTiming(250*quantity.Kilobaud, 0))
	require.NoError(t, err)
	assert.InDelta(t, 0.533, l.Least, 0.0005)
	assert.InDelta(t, 0.648, l.Most, 0.0005)
	assert.Equal(t, 111, l.Messages[0].LeastBits)
	assert.Equal(t, 135, l.Messages[0].MostBits)
	assert.Equal(t, 2*540*quantity.Microsecond, l.Messages[0].Response, "one that has begun, then itself")
	for _, bad := range [][]Message{nil, {{Frame: Frame{ID: 1}}}, {{Frame: Frame{ID: 0x800}, Period: 1}}} {
		_, err := LoadOf(bad, UsualTiming(250*quantity.Kilobaud, 0))
		assert.Error(t, err)
	}
}

// No simulated queue of frames, with any offsets, waits longer than the worst
// that was reckoned; some come near.
func TestResponseAgainstSimulation(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var ms []Message
		for i := range rapid.IntRange(2, 6).Draw(rt, "messages") {
			ms = append(ms, Message{
				Frame:  Frame{ID: uint32(i + 1), Data: make([]byte, rapid.IntRange(0, 8).Draw(rt, "length"))},
				Period: quantity.Time(rapid.IntRange(2, 20).Draw(rt, "period")) * quantity.Millisecond,
			})
		}
		l, err := LoadOf(ms, UsualTiming(250*quantity.Kilobaud, 0))
		require.NoError(rt, err)
		due := make([]quantity.Time, len(ms))
		waiting := make([][]quantity.Time, len(ms))
		for i := range due {
			due[i] = quantity.Time(rapid.Int64Range(0, int64(ms[i].Period)).Draw(rt, "offset"))
		}
		for now := quantity.Time(0); now < 200*quantity.Millisecond; {
			next := quantity.Forever
			for i := range due {
				for due[i] <= now {
					waiting[i] = append(waiting[i], due[i])
					due[i] += ms[i].Period
				}
				next = min(next, due[i])
			}
			sent := false
			for i := range waiting {
				if len(waiting[i]) > 0 {
					now += l.Messages[i].Most
					if m := &l.Messages[i]; !m.Late {
						require.LessOrEqual(rt, now-waiting[i][0], m.Response)
					}
					waiting[i] = waiting[i][1:]
					sent = true
					break
				}
			}
			if !sent {
				now = next
			}
		}
	})
}

func BenchmarkSolveTiming(b *testing.B) {
	for b.Loop() {
		_, _ = SolveTiming(80*quantity.Megahertz, 250*quantity.Kilobaud, 0.875, Segments{1024, 256, 128, 128}, 0, 10)
	}
}

func BenchmarkFilters(b *testing.B) {
	ids := []uint32{0x2A1, 0x2A6, 0x3C0, 0x111, 0x112, 0x222, 0x7FF, 0x010, 0x333, 0x444, 0x555}
	for b.Loop() {
		_, _ = Filters(ids, false, 4)
	}
}

// TestComparisonHasOneBase: which end is named first does not change how far their rates
// are apart, and rates that differ are never passed over.
func TestComparisonHasOneBase(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a := UsualTiming(500*quantity.Kilobaud, 0)
		b := UsualTiming(quantity.FromBd(500e3*rapid.Float64Range(0.3, 3).Draw(rt, "ratio")), 0)
		forth, back := Compare(a, b, "a", "b"), Compare(b, a, "b", "a")
		if a.Nominal.Bit == b.Nominal.Bit {
			return
		}
		require.NotEmpty(rt, forth)
		apart := regexp.MustCompile(`[0-9.]+ % apart`)
		require.NotEmpty(rt, apart.FindString(forth[0].What))
		require.Equal(rt, apart.FindString(forth[0].What), apart.FindString(back[0].What))
		require.Equal(rt, forth[0].Harmless, back[0].Harmless)
	})
}
