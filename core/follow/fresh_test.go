package follow

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// While the far end answers, each transfer's bytes are fresh, equal or not; once it is off what
// is in memory is left over, on links that ask and on those that are told.
func TestLeftOverBytes(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 6 {
		b := lock7(t)
		off := 500*quantity.Millisecond + quantity.Time(rng.Int64N(int64(2500*quantity.Millisecond)))
		h := sim.NewHeadless(b)
		f := New(b, &h.Store().Meta)
		of := func(name, transfer string) *Followed {
			for _, x := range f.Of(b.Link(name).Index) {
				if x.Transfer.Name == transfer {
					return x
				}
			}
			require.Fail(t, name)
			return nil
		}
		told, asked := of("upper-gauge", "readings"), of("lower-gauge", "answers")
		up := func(to quantity.Time) {
			h.World.RunTo(to)
			for f.Take(h.Store().Snapshot(), 1<<20) {
			}
		}
		up(off)
		fresh, _, _ := told.Fresh(off)
		assert.Positive(t, fresh)
		assert.Less(t, told.Since(off), quantity.Forever)
		require.NoError(t, h.World.Do("upper-gauge", link.Power{Device: "upper-gauge"}, nil))
		require.NoError(t, h.World.Do("lower-gauge", link.Power{Device: "lower-gauge"}, nil))
		end := off + 2500*quantity.Millisecond // at least one request more
		up(end)
		fresh, left, _ := told.Fresh(end)
		assert.Zero(t, fresh)
		assert.Positive(t, left)
		fresh, left, _ = asked.Fresh(end)
		assert.Zero(t, fresh)
		if off > 2*quantity.Second {
			assert.Positive(t, left, "the answer to the first request")
		}
	}

	// The gauge gives the same level each time: still the bytes are of the latest transfer.
	b := lock7(t)
	h := sim.NewHeadless(b)
	f := New(b, &h.Store().Meta)
	x := f.Of(b.Link("lower-gauge").Index)[0]
	require.Equal(t, "answers", x.Transfer.Name)
	times := map[quantity.Time]bool{}
	for k := 1; k <= 3; k++ {
		now := quantity.Time(k)*2*quantity.Second - quantity.Second
		h.World.RunTo(now)
		for f.Take(h.Store().Snapshot(), 1<<20) {
		}
		fresh, _, _ := x.Fresh(now)
		assert.Equal(t, 6, fresh, "3.417 and its line end")
		times[x.Since(now)] = true
	}
	assert.Len(t, times, 3, "a repeated transfer is told from none")
}
