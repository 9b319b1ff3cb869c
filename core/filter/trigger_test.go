package filter

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
)

// A trigger that looks now and then finds the frame that a look at all of them finds, and nothing
// that was there before it.
func TestTriggerAgainstAScan(t *testing.T) {
	const end = 300 * quantity.Millisecond
	b, whole := scene(t)
	nouns := NounsOf(b, whole.Meta())
	rapid.Check(t, func(rt *rapid.T) {
		over := rapid.IntRange(1150, 1300).Draw(rt, "tenths of a bar")
		armed := quantity.Time(rapid.IntRange(0, 200).Draw(rt, "armed")) * quantity.Millisecond
		step := quantity.Time(rapid.IntRange(1, 90).Draw(rt, "step")) * quantity.Millisecond
		f, err := Parse(fmt.Sprintf("pump-status.pressure > %d.%d bar", over/10, over%10), nouns)
		require.Nil(rt, err)
		var want *record.Record
		for i := 0; i < whole.Len() && want == nil; i++ {
			r := whole.At(i)
			if r.Kind == record.Frame && r.End > armed && len(r.Data) > 3 && whole.Meta().Links[r.Link].Name == "pump" && r.ID == 0x1A5 && pressure(r) > over {
				want = r
			}
		}
		h := sim.NewHeadless(b)
		h.World.RunTo(armed)
		x := NewTrigger(b, h.Store().Snapshot(), f)
		fired := false
		for h.World.RunTo(h.Now() + step); h.Now() <= end && !fired; h.World.RunTo(h.Now() + step) {
			link, at, ok := x.Fired(h.Store().Snapshot())
			if !ok {
				continue
			}
			fired = true
			require.NotNil(rt, want)
			require.Equal(rt, want.Link, link)
			require.Equal(rt, want.End, at)
		}
		if want != nil && !fired {
			require.Greater(rt, want.End, end-step-3*quantity.Millisecond)
		}
	})
}
