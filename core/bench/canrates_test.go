package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/finding"
)

// TestTimingThatGivesAnotherRate is that finding first, with its fix, and no word of
// clocks that are not exact.
func TestTimingThatGivesAnotherRate(t *testing.T) {
	for _, name := range []string{"pump-drive", "mcu"} {
		b := demoBench(t)
		path := []string{"links", "pump", "devices", name, "timing"}
		if name == "mcu" {
			path = []string{"links", "pump", "mcu", "timing"}
		}
		l := b.Link("pump")
		i := 0
		for k, e := range l.Model.(*CAN).Nodes {
			if e.Name == name {
				i = k
			}
		}
		n := l.Model.(*CAN).Nodes[i].Nominal
		n.Prescaler *= 2
		require.NoError(t, b.Apply(finding.Edit{Path: path, Value: n.Text()}))
		fs := b.Link("pump").Lint()
		require.NotEmpty(t, fs)
		assert.Equal(t, "timing-gives-another-rate", fs[0].Code)
		assert.Contains(t, fs[0].Seen, n.Division()+" from ")
		assert.Contains(t, fs[0].Seen, "gives 125 kbit/s, not 250 kbit/s")
		for _, f := range fs {
			assert.NotContains(t, f.Change, "exact clock")
		}
		require.Len(t, fs[0].Fixes, 1)
		require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
		for _, f := range b.Link("pump").Lint() {
			assert.NotEqual(t, "timing-gives-another-rate", f.Code)
		}
	}
}

// TestJumpWidth: no jump is wider than the phase segment that it shortens.
func TestJumpWidth(t *testing.T) {
	b := demoBench(t)
	n := b.Link("pump").Model.(*CAN).Nodes[1].Nominal
	n.Seg1, n.Seg2, n.Jump = 3, 4, 3
	require.Equal(t, 2, n.JumpMost())
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "pump", "devices", b.Link("pump").Model.(*CAN).Nodes[1].Name, "timing"}, Value: n.Text()}))
	var codes []string
	for _, f := range b.Link("pump").Lint() {
		codes = append(codes, f.Code)
	}
	assert.Contains(t, codes, "jump-too-wide")
}
