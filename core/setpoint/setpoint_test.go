package setpoint

import (
	"context"
	"io/fs"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/values"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// do carries a move out on the simulation.
func do(t require.TestingT, h *sim.Headless, b *bench.Bench, p *Point, m *Move) {
	switch {
	case m.Edit != nil:
		require.NoError(t, b.Apply(*m.Edit))
		require.NoError(t, h.World.Apply(b))
	case m.Intent != nil:
		require.NoError(t, h.World.Do(p.Link.Name, m.Intent, func(link.Outcome) {}))
	default:
		op, err := operation.Parse(m.Operation, p.Link.Parts())
		require.NoError(t, err, m.Operation)
		_, err = operate.On(h, b, p.Link).Do(context.Background(), m.Operation, op)
		require.NoError(t, err)
	}
}

func last(s *capture.Snapshot, l uint16) func(yield func(*record.Record) bool) {
	return func(yield func(*record.Record) bool) {
		for i := range s.Before(s.Len(), records.Query{Link: int(l), Traffic: true}) {
			if !yield(s.At(i)) {
				return
			}
		}
	}
}

// What is set goes over the wire, and is what the traffic then shows; what answers follows.
func TestSetOverTheWire(t *testing.T) {
	for _, c := range []struct{ name, link, text, shown, follows string }{
		{"pump-command.wanted", "pump", "123 bar", "123 bar", "pump-status.aim"},
		{"pump-command.mode", "pump", "raise", "raise", ""},
		{"winch-set-point.wanted-speed", "winch", "-20.5 rpm", "-20.5 rpm", ""},
		{"pump-drive.TARGET", "pump", "77.5 bar", "77.5 bar", ""},
		{"boat-lamps.LAMPS.ALONG", "hull", "5", "5", ""},
	} {
		b := lock7(t)
		h := sim.NewHeadless(b)
		h.World.RunTo(600 * quantity.Millisecond)
		book := values.NewBook(b, &h.Store().Meta, 1<<20)
		n, err := book.Catalog().Find(c.name)
		require.NoError(t, err)
		p, err := Of(b, n, c.link)
		require.NoError(t, err)
		m, err := p.To(c.text, p.Last(last(h.Store().Snapshot(), n.Link)))
		require.NoError(t, err, c.name)
		assert.False(t, m.Clamped || m.Rolled || m.Same, c.name)
		do(t, h, b, p, m)
		h.World.RunTo(h.World.Now() + 60*quantity.Millisecond)
		for book.Take(h.Store().Snapshot(), 1<<20) {
		}
		assert.Equal(t, c.shown, book.Of(n).Last, c.name)
		if c.follows != "" {
			f, err := book.Find(c.follows)
			require.NoError(t, err)
			assert.Equal(t, c.shown, book.Of(f).Last)
			l := values.LagsOf(book.Of(n), book.Of(f), 0, h.World.Now(), 0.01)
			assert.Equal(t, 1, l.Changes)
			assert.Equal(t, 1, l.Followed)
			assert.Less(t, l.Longest, 12*quantity.Millisecond)
		}
		// Other nodes went on undisturbed.
		assert.Zero(t, h.Store().Snapshot().Seen(n.Link, record.Tap).Bad)
	}
}

// What can't be set says why.
func TestNotToBeSet(t *testing.T) {
	b := lock7(t)
	meta := sim.MetaOf(b)
	c := values.Of(b, &meta)
	for name, why := range map[string]string{
		"pump-status.pressure": "the MCU can't set it",
		"leaf-angle.angle":     "only be read",
		"pump.rate":            "what the link does",
		"upper-gauge.level":    "the MCU can't set it",
	} {
		n, err := c.Find(name)
		require.NoError(t, err)
		_, err = Of(b, n, meta.Links[n.Link].Name)
		require.ErrorContains(t, err, why, name)
	}
	n, err := c.Find("pump-command.wanted")
	require.NoError(t, err)
	_, err = Of(nil, n, "pump")
	require.ErrorContains(t, err, "nothing can be set")
}

// A stepped value walks through all its counts, stops at its ends or rolls over, as a model with
// whole numbers does.
func TestSteps(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		low := rapid.IntRange(0, 40).Draw(rt, "low")
		high := low + rapid.IntRange(1, 40).Draw(rt, "span")
		f := coding.Format{Bits: 8, Scale: big.NewRat(1, 2), Unit: "V", Least: big.NewRat(int64(low), 2), Most: big.NewRat(int64(high), 2)}
		n := &values.Name{Part: "p", Value: "v", Format: &f}
		p := &Point{Name: n, Roll: rapid.Bool().Draw(rt, "roll"), part: &operation.Part{Name: "p", Device: &device.Device{}}}
		now := rapid.IntRange(low, high).Draw(rt, "now")
		for range 20 {
			by := rapid.SampledFrom([]int{-7, -1, 1, 7}).Draw(rt, "by")
			m, err := p.Step(float64(now)/2, by, nil)
			require.NoError(rt, err)
			want, beyond := now+by, now+by > high || now+by < low
			end, other := high, low
			if by < 0 {
				end, other = low, high
			}
			same := false
			switch {
			case beyond && p.Roll:
				want = other
			case beyond:
				same = now == end
				want = end
			}
			require.Equal(rt, same, m.Same)
			require.Equal(rt, beyond && p.Roll, m.Rolled)
			require.Equal(rt, beyond && !p.Roll, m.Clamped)
			require.InDelta(rt, float64(want)/2, m.Number, 1e-9)
			now = want
		}
		far := rapid.IntRange(-300, 300).Draw(rt, "typed")
		m, err := p.To(big.NewRat(int64(far), 2).RatString()+" V", nil)
		require.NoError(rt, err)
		require.Equal(rt, far < low || far > high, m.Clamped)
		require.InDelta(rt, float64(min(max(far, low), high))/2, m.Number, 1e-9)
	})
}

// Every value of every bench that ships with the program can be set, or it is said why not.
func TestEveryValueCanBeSetOrSaysWhyNot(t *testing.T) {
	benches, err := fs.Glob(demo.Files, "*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, benches)
	figures, set := 0, 0
	for _, name := range benches {
		b, faults := bench.Load(demo.Files, name)
		require.Empty(t, faults, name)
		meta := sim.NewHeadless(b).Store().Meta
		c := values.Of(b, &meta)
		for _, n := range c.All {
			p, err := Of(b, n, meta.Links[n.Link].Name)
			switch {
			case n.Does:
				require.ErrorContains(t, err, "what the link does", "%s: %s", name, n)
				figures++
			case err != nil:
				require.Nil(t, p)
			default:
				require.True(t, p.layout == nil || p.field != nil, "%s: %s", name, n)
				set++
			}
		}
	}
	require.Greater(t, figures, 10)
	require.Greater(t, set, 5)
}
