package sim_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// TestWhoOnlyListens: lint says that nobody acknowledges just where no frame on the simulated bus is
// acknowledged, and that a node's messages are not sent just where none of them is.
func TestWhoOnlyListens(t *testing.T) {
	for _, c := range []struct{ mcu, drive, unacknowledged bool }{{false, false, false}, {true, false, true}, {false, true, true}, {true, true, false}} {
		b, faults := bench.Load(demo.Files, demo.Bench)
		require.Empty(t, faults)
		for _, s := range []struct {
			listens bool
			path    []string
		}{{c.mcu, []string{"links", "pump", "mcu", "listen-only"}}, {c.drive, []string{"links", "pump", "devices", "pump-drive", "listen-only"}}} {
			if s.listens {
				require.NoError(t, b.Apply(finding.Edit{Op: finding.Set, Path: s.path, Value: "yes"}))
			}
		}
		codes := map[string]int{}
		for _, f := range b.Link("pump").Lint() {
			codes[f.Code]++
		}
		h := sim.NewHeadless(b)
		h.World.RunTo(200 * quantity.Millisecond)
		snap := h.Store().Snapshot()
		frames, acked := 0, 0
		index := b.Link("pump").Index
		for i := range snap.Len() {
			if r := snap.At(i); r.Link == index && r.Kind == record.Frame {
				frames++
				if r.AllFlags()&record.NotAcknowledged == 0 {
					acked++
				}
			}
		}
		require.Equal(t, c.unacknowledged, codes["nobody-acknowledges"] > 0, "%+v", c)
		require.Equal(t, c.unacknowledged, frames > 0 && acked == 0, "%+v: %d of %d", c, acked, frames)
		require.Equal(t, c.mcu || c.drive, codes["listens-only"] > 0)
		require.Equal(t, c.mcu && c.drive, frames == 0)
	}
}
