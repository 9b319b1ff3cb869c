package follow

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/transfer"
	"gavrix.org/gavrix/demo"
)

func lock7(t testing.TB, edits ...finding.Edit) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	require.NoError(t, b.Apply(edits...))
	return b
}

func runFor(b *bench.Bench, d quantity.Time) *capture.Snapshot {
	h := sim.NewHeadless(b)
	h.World.RunTo(d)
	return h.Store().Snapshot()
}

func put(value string, path ...string) finding.Edit { return finding.Edit{Path: path, Value: value} }

// Every link of every kind has transfers, each of them sees the words that its link carries,
// and as the demo plans them none is lost or taken twice.
func TestEveryKind(t *testing.T) {
	b := lock7(t)
	s := runFor(b, 2*quantity.Second)
	f := New(b, s.Meta())
	for f.Take(s, 7) { // in small pieces
	}
	kinds := map[string]bool{}
	for _, l := range b.Links {
		require.NotEmpty(t, l.Transfers, l.Name)
		require.Len(t, f.Of(l.Index), len(l.Transfers))
		kinds[l.Kind.Name] = true
		for _, x := range f.Of(l.Index) {
			r := x.Live.Run()
			assert.Positive(t, r.Came, "%s.%s", l.Name, x.Transfer.Name)
			assert.Zero(t, r.Lost, "%s.%s", l.Name, x.Transfer.Name)
			assert.Empty(t, r.Harms, "%s.%s", l.Name, x.Transfer.Name)
			assert.LessOrEqual(t, r.Came-r.Moved, max(x.Transfer.Plan.Stream.Depth, 2), "%s.%s", l.Name, x.Transfer.Name)
			if r.Ring != nil {
				lost, doubled := r.Ring.Sums()
				assert.LessOrEqual(t, lost+doubled, 0)
			}
		}
	}
	assert.Len(t, kinds, 5)
	whole := New(b, s.Meta())
	for whole.Take(s, 1<<20) {
	}
	assert.Equal(t, whole.Words, f.Words)
	for i := range f.All {
		assert.Equal(t, whole.All[i].Live.Run().Moved, f.All[i].Live.Run().Moved)
	}
}

// What the unit loses is what Traffic shows as overrun: one number in both places.
func TestLossesAreTheOverruns(t *testing.T) {
	b := lock7(t, put("polled", "links", "upper-gauge", "transfers", "readings", "method"))
	s := runFor(b, 3*quantity.Second)
	overruns := 0
	for _, h := range s.After(0, records.Query{Link: 0, Seen: []record.End{record.MCU}, From: []record.End{record.Device}}) {
		for _, m := range s.Of(h).Marks {
			if m.Flags&record.Overrun != 0 {
				overruns++
			}
		}
	}
	require.Positive(t, overruns)
	f := New(b, s.Meta())
	for f.Take(s, 1<<20) {
	}
	assert.InDelta(t, overruns, f.Of(0)[0].Live.Run().Lost, 1, "a character that is on its way at the end is counted in one of them")
	assert.Contains(t, f.Of(0)[0].Live.Run().Harms, transfer.WordsLost)
}

// Three methods on the same traffic: the slow loop loses, the others don't, and each costs
// less than the one before it in interrupts.
func TestCompare(t *testing.T) {
	b := lock7(t)
	s := runFor(b, 2*quantity.Second)
	l := b.Link("upper-gauge")
	rows := Compare(s, l, l.Transfers[0], Means)
	require.Len(t, rows, 3)
	assert.Positive(t, rows[0].Run.Lost)
	assert.Zero(t, rows[1].Run.Lost)
	assert.Zero(t, rows[2].Run.Lost)
	assert.Equal(t, rows[1].Run.Moved, rows[2].Run.Moved, "equal content")
	assert.Greater(t, rows[1].Run.Share, rows[2].Run.Share, "different share of the processor")
	assert.Greater(t, rows[1].Interrupts, rows[2].Interrupts)
	for _, r := range rows {
		assert.Positive(t, r.Greatest)
		assert.NotEmpty(t, r.Limit)
	}
	pump := b.Link("pump")
	rows = Compare(s, pump, pump.Transfers[0], Means)
	assert.Contains(t, rows[2].Refused, "can1.receive")
	assert.Zero(t, rows[1].Run.Lost)
}

// A wrong plan shows its harm on the traffic of the demo.
func TestHarmOnTraffic(t *testing.T) {
	for slot, c := range map[string]struct {
		value string
		harm  transfer.Harm
	}{
		"memory-step":    {"no", transfer.OnlyLastKept},
		"unit-request":   {"off", transfer.NothingMoves},
		"mode":           {"one-shot", transfer.StopsAfterFirst},
		"handler":        {"missing", transfer.Hangs},
		"handler-clears": {"no", transfer.Endless},
		"memory":         {"close", transfer.BusError},
		"line":           {"off", transfer.NeverTold},
	} {
		b := lock7(t, put(c.value, "links", "upper-gauge", "transfers", "readings", slot))
		s := runFor(b, quantity.Second)
		f := New(b, s.Meta())
		for f.Take(s, 1<<20) {
		}
		assert.Contains(t, f.Of(0)[0].Live.Run().Harms, c.harm, "%s: %s", slot, c.value)
		var codes []string
		for _, x := range b.Link("upper-gauge").Lint() {
			codes = append(codes, x.Code)
		}
		assert.NotEmpty(t, codes, slot)
	}
}

// BenchmarkFollow runs a capture of a million words through a plan.
func BenchmarkFollow(b *testing.B) {
	bench := lock7(b)
	l := bench.Link("upper-gauge")
	bit := quantity.PeriodOf(quantity.FromBd(57600))
	for b.Loop() {
		live := l.Setup().Live(l.Transfers[0].Plan, 0)
		for k := range int64(1_000_000) {
			live.Word(bit.Times(10*k), bit.Times(10*k+10), uint64(k&0xff))
		}
		if r := live.Run(); r.Lost > 0 || r.Moved < 999_999 {
			b.Fatalf("%d moved, %d lost", r.Moved, r.Lost)
		}
	}
}
