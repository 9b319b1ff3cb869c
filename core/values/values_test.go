package values

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

func bookOf(b *bench.Bench, s *capture.Snapshot, pieces int) *Book {
	book := NewBook(b, s.Meta(), 1<<20)
	for book.Take(s, pieces) {
	}
	return book
}

// What the simulated parts hold, by their formulas, is what the values of the traffic show, on
// each kind of bus; how the records are taken in pieces changes nothing.
func TestValuesFollowTheParts(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(8 * quantity.Second)
	s := h.Store().Snapshot()
	book, again := bookOf(b, s, 1<<20), bookOf(b, s, 13)
	for name, c := range map[string]struct {
		of   func(t float64) float64
		near float64
		late float64
	}{
		"pump-status.pressure": {func(t float64) float64 { return 118 + 6*math.Sin(t/5) }, 0.06, 0.002},
		"winch-status.speed":   {func(t float64) float64 { return 24 * math.Sin(t/7) }, 0.26, 0.002},
		"upper-gauge.level":    {func(t float64) float64 { return 5.236 + 0.041*math.Sin(t/9) + 0.006*math.Sin(t*2.3) }, 0.0006, 0.001},
	} {
		n, err := book.Find(name)
		require.NoError(t, err)
		x := book.Of(n)
		require.Greater(t, x.Len(), 50, name)
		for i := range x.Len() {
			at, v := x.At(i)
			lag := c.late
			if name == "upper-gauge.level" {
				lag = 0.004 // a line of a burst stands behind those before it
			}
			require.InDelta(t, c.of(at.Seconds()-lag), v, c.near, "%s at %s", name, at)
		}
		m, err := again.Find(name)
		require.NoError(t, err)
		assert.Equal(t, x.times, again.Of(m).times)
		assert.Equal(t, x.numbers, again.Of(m).numbers)
	}
	kinds := map[string]bool{}
	for _, x := range book.All() {
		if x.Message != "" || x.Part != s.Meta().Links[x.Link].Name {
			kinds[s.Meta().Links[x.Link].Kind] = true
		}
	}
	assert.Len(t, kinds, 4, "UART, SPI, I2C and CAN carry values; the strip has none")
	for _, l := range b.Links {
		n, err := book.Catalog().Find(l.Name + ".rate")
		require.NoError(t, err)
		assert.Positive(t, book.Of(n).Len(), l.Name)
	}
}

// Counts, changes and figures against loops over what went in.
func TestSeries(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := &Book{by: map[*Name]*Series{}, Limit: rapid.IntRange(5, 60).Draw(rt, "limit")}
		names := []*Name{{Value: "a"}, {Value: "b"}}
		type sample struct {
			at quantity.Time
			v  float64
		}
		in := map[*Name][]sample{}
		at := quantity.Time(0)
		for range rapid.IntRange(1, 80).Draw(rt, "samples") {
			at += quantity.Time(rapid.IntRange(1, 9).Draw(rt, "step"))
			n := rapid.SampledFrom(names).Draw(rt, "value")
			v := float64(rapid.IntRange(0, 4).Draw(rt, "number"))
			in[n] = append(in[n], sample{at, v})
			b.put(&Sample{Name: n, At: at, Number: v, Numeric: true, Text: strings.Repeat("x", int(v))})
		}
		kept := 0
		for _, n := range names {
			x, all := b.Of(n), in[n]
			if len(all) == 0 {
				require.Nil(rt, x)
				continue
			}
			changes := 0
			for i := 1; i < len(all); i++ {
				if all[i].v != all[i-1].v {
					changes++
				}
			}
			require.Equal(rt, len(all), x.Seen)
			require.Equal(rt, changes, x.Changes)
			require.Equal(rt, all[len(all)-1].at, x.LastAt)
			require.Equal(rt, len(all), x.Gone+x.Len())
			kept += x.Len()
			from := quantity.Time(rapid.IntRange(0, 300).Draw(rt, "from"))
			to := from + quantity.Time(rapid.IntRange(0, 300).Draw(rt, "span"))
			least, most, sum, n := math.Inf(1), math.Inf(-1), 0.0, 0
			for _, s := range all[x.Gone:] {
				if s.at >= from && s.at < to {
					least, most, sum, n = min(least, s.v), max(most, s.v), sum+s.v, n+1
				}
			}
			f := x.Figures(from, to)
			require.Equal(rt, n, f.N)
			if n > 0 {
				require.Equal(rt, least, f.Least)
				require.Equal(rt, most, f.Most)
				require.InDelta(rt, sum/float64(n), f.Mean, 1e-9)
				counts, _, _ := x.Histogram(from, to, 3)
				require.Equal(rt, n, counts[0]+counts[1]+counts[2])
			}
		}
		require.LessOrEqual(rt, kept, b.Limit)
	})
}

// A sweep of 17 set-points: the line and the greatest error are found; a part that works the
// wrong way round is named.
func TestAgainst(t *testing.T) {
	set, seen := &Series{Name: &Name{Value: "set"}}, &Series{Name: &Name{Value: "seen"}}
	for k := range 17 {
		at := quantity.Time(k) * quantity.Second
		v := float64(k) * 10
		set.take(&Sample{At: at, Number: v, Numeric: true, Text: "s"})
		answer := 2 + 0.95*v
		if k == 11 {
			answer += 5
		}
		seen.take(&Sample{At: at + 30*quantity.Millisecond, Number: answer, Numeric: true, Text: "a"})
	}
	f := FitOf(Pairs(set, seen, 0, quantity.Forever))
	assert.Equal(t, 17, f.N)
	assert.InDelta(t, 0.95, f.Slope, 0.02)
	assert.Equal(t, 110.0, f.WorstAt)
	assert.InDelta(t, 5, f.Worst, 0.6)
	assert.Equal(t, 160.0, f.ErrorAt)
	assert.InDelta(t, 2+0.95*160-160, f.Error, 1e-9)
	assert.NotContains(t, f.String(), "wrong way")
	for i := range seen.numbers {
		seen.numbers[i] = 160 - seen.numbers[i]
	}
	f = FitOf(Pairs(set, seen, 0, quantity.Forever))
	assert.Contains(t, f.String(), "wrong way")

	// Each change followed 30 ms later, but for the one that was off.
	for i := range seen.numbers {
		seen.numbers[i] = set.numbers[i]
	}
	seen.numbers[11] = 0
	l := LagsOf(set, seen, 0, 17*quantity.Second, 0.01)
	assert.Equal(t, Lags{Changes: 16, Followed: 15, Least: 30 * quantity.Millisecond, Mean: 30 * quantity.Millisecond, Longest: 30 * quantity.Millisecond}, l)
}

// A value rewritten with the same number came once more, and did not change (L7).
func TestRewritten(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(3 * quantity.Second)
	book := bookOf(b, h.Store().Snapshot(), 1<<20)
	n, err := book.Find("valve-bank.VALVES")
	require.NoError(t, err)
	x := book.Of(n)
	assert.Equal(t, 12, x.Seen)
	assert.Zero(t, x.Changes)
	assert.True(t, x.Wrote)
	assert.Less(t, 3*quantity.Second-x.LastAt, 250*quantity.Millisecond)
}

// A source that is switched off is stale soon, and not before.
func TestStale(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(2 * quantity.Second)
	book := NewBook(b, &h.Store().Meta, 1<<20)
	up := func(to quantity.Time) *Series {
		h.World.RunTo(to)
		for book.Take(h.Store().Snapshot(), 1<<20) {
		}
		n, err := book.Find("upper-gauge.level")
		require.NoError(t, err)
		return book.Of(n)
	}
	for k := range 10 {
		now := 2*quantity.Second + quantity.Time(k)*37*quantity.Millisecond
		assert.False(t, up(now).Stale(now), "%s", now)
	}
	require.NoError(t, h.World.Do("upper-gauge", link.Power{Device: "upper-gauge"}, nil))
	assert.True(t, up(3*quantity.Second).Stale(3*quantity.Second))
}

// A name is found by as much of it as is needed, and only then.
func TestFind(t *testing.T) {
	b := lock7(t)
	meta := sim.MetaOf(b)
	c := Of(b, &meta)
	for _, n := range c.All {
		found, err := c.Find(n.String())
		require.NoError(t, err)
		require.Same(t, n, found, n.String())
		short, err := c.Find(strings.ToUpper(c.Short(n)))
		require.NoError(t, err)
		require.Same(t, n, short, c.Short(n))
	}
	_, err := c.Find("mode")
	require.ErrorContains(t, err, "can be")
	_, err = c.Find("leaf-angle.angel")
	require.ErrorContains(t, err, "did you mean")
	assert.Empty(t, NewReader(nil, &meta).Take(&record.Record{Kind: record.Changed}))
}

// TestBufferFill: what waits in a ring at the end of a burst is what came since the ring was
// served last, as counting alone has it.
func TestBufferFill(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(20 * quantity.Second)
	s := h.Store().Snapshot()
	l := b.Link("upper-gauge")
	plan := l.Transfers[0].Plan
	require.True(t, plan.Receive && plan.TellHalf)
	book := bookOf(b, s, 100)
	n, err := book.Find("upper-gauge." + l.Transfers[0].Name + ".fill")
	require.NoError(t, err)
	fills := book.Of(n)
	came, k, full := 0, 0, 0
	for i := range s.Len() {
		r := s.At(i)
		if r.Link != l.Index || r.Kind != record.Chars || r.Seen != record.Tap || r.From != record.Device {
			continue
		}
		want := 0
		for range r.Data {
			came++
			if want++; came%(plan.Count/2) == 0 {
				want, full = 0, full+1
			}
		}
		at, v := fills.At(k)
		k++
		require.Equal(t, r.End, at)
		if want > 0 { // else the handler is about to run
			require.Equal(t, float64(want), v, "%d bytes to %s", came, at)
		}
	}
	assert.Equal(t, fills.Len(), k)
	assert.Greater(t, full, 10)
}
