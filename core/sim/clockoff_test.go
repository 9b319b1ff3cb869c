package sim

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// TestAClockThatIsOffIsNamed: where a device reads other bytes than were sent because its clock
// is off, no finding says that they arrive, and the description names that clock.
func TestAClockThatIsOffIsNamed(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		b := quiet(t)
		off := math.Round(rapid.Float64Range(-30, 30).Draw(r, "off")*100) / 100
		set(t, b, fmt.Sprintf("%g %%", off), "links", "lower-gauge", "device", "clock-off")
		lower := b.Link("lower-gauge")
		h := NewHeadless(b)
		require.NoError(r, h.World.Do(h.World.names[lower.Index], link.Send{Data: []byte("SNAP\n")}, nil))
		h.World.RunTo(200 * quantity.Millisecond)
		snap := h.Store().Snapshot()
		data, flags := traffic(snap, lower.Index, record.MCU, record.Device, 0)
		if string(data) == "SNAP\n" && flags == 0 {
			return
		}
		for _, f := range diagnose.Link(snap, lower) {
			assert.NotContains(r, f.Why, "arrive as sent", "%+v", f)
		}
		said := lower.Lint()
		require.NotEmpty(r, said)
		assert.Contains(r, said[0].Change, fmt.Sprintf("%+g %% off", off))
		assert.Equal(r, math.Abs(off) > 10, strings.Contains(said[0].Change, "another rate"))
		require.NoError(r, b.Apply(said[0].Fixes[0].Edits...))
		assert.Empty(r, b.Link("lower-gauge").Lint())
	})
}
