package prove_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/prove"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// TestACheckPassesWhereTheStripReads: of all dividers of the unit the check of the
// pulse line passes just for those with which the description is content.
func TestACheckPassesWhereTheStripReads(t *testing.T) {
	passed := 0
	for _, d := range []string{"2", "4", "8", "16", "32", "64", "128", "256"} {
		b, faults := bench.Load(demo.Files, demo.Bench)
		require.Empty(t, faults)
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "depth-strip", "mcu", "divider"}, Value: d}))
		l := b.Link("depth-strip")
		rs, err := prove.Link(context.Background(), sim.NewHeadless(b), l)
		require.NoError(t, err)
		require.Len(t, rs, 1)
		assert.Equal(t, len(l.Lint()) == 0, rs[0].Pass, "÷%s: %s", d, rs[0].Problem)
		if rs[0].Pass {
			passed++
		} else {
			assert.Regexp(t, "no such transaction|instead of|glitch", rs[0].Problem)
		}
	}
	assert.Equal(t, 1, passed)
}
