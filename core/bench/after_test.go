package bench_test

import (
	"context"
	"fmt"
	"math/bits"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// TestStateBehindARecord: behind whatever is read, the lamps are told as they were written
// last; before anything was written they are not.
func TestStateBehindARecord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b, faults := bench.Load(demo.Files, demo.Bench)
		require.Empty(t, faults)
		h := sim.NewHeadless(b)
		l := b.Link("hull")
		on := -1
		for range rapid.IntRange(1, 20).Draw(t, "steps") {
			if rapid.Bool().Draw(t, "write") {
				lamps := rapid.IntRange(0, 15).Draw(t, "lamps")
				_, err := h.Do(context.Background(), l.Index, link.Transact{Text: fmt.Sprintf("start 42 ack %X0 ack FF ack stop", lamps)})
				require.NoError(t, err)
				on = 4 - bits.OnesCount(uint(lamps))
				continue
			}
			out, err := h.Do(context.Background(), l.Index, link.Transact{Text: "start 43 ack .. ack .. nack stop"})
			require.NoError(t, err)
			snap := h.Store().Snapshot()
			m := b.Meanings().Within(&snap.Reader)
			want := "still  LAMPS.ALONG: not seen yet"
			if on >= 0 {
				want = fmt.Sprintf("%d of 4 lamps on  as told", on)
			}
			told := m.After(l.Name, out.Record, m.Of(l.Name, out.Record))
			require.Len(t, told, 1)
			require.Contains(t, told[0], want)
		}
	})
}
