package transfer

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// A button that bounces five times in 3 ms starts one transfer with a rule of 10 ms, and five
// without one.
func TestBounces(t *testing.T) {
	const ms = quantity.Millisecond
	press := []quantity.Time{0, ms / 2, ms, 2 * ms, 3 * ms}
	got := Debounce(press, 10*ms, 0)
	assert.Len(t, got.Starts, 1)
	assert.Equal(t, 4, got.Bounces)
	got = Debounce(press, 0, 0)
	assert.Len(t, got.Starts, 5)
	assert.Zero(t, got.Bounces)
	assert.Equal(t, 2, Debounce([]quantity.Time{0, 20 * ms, 40 * ms}, 10*ms, 50*ms).Busy)
	rapid.Check(t, func(t *rapid.T) {
		var edges []quantity.Time
		at := quantity.Time(0)
		for range rapid.IntRange(0, 40).Draw(t, "edges") {
			at += quantity.Time(rapid.IntRange(1, 30).Draw(t, "gap")) * ms
			edges = append(edges, at)
		}
		got := Debounce(edges, 10*ms, 15*ms)
		assert.Equal(t, len(edges), len(got.Starts)+got.Bounces+got.Busy, "each edge is counted once")
		for i := 1; i < len(got.Starts); i++ {
			assert.GreaterOrEqual(t, got.Starts[i]-got.Starts[i-1], 15*ms)
		}
	})
}
