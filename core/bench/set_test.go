package bench

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
)

// TestPathsReadBack: any names, in quotes where they need them.
func TestPathsReadBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		names := rapid.SliceOfN(rapid.StringMatching(`[a-z0-9][a-z .=]{0,8}`), 1, 5).Draw(rt, "names")
		var parts []string
		for _, n := range names {
			parts = append(parts, `"`+n+`"`)
		}
		text := strings.Join(parts, ".")
		got, err := ParsePath(text)
		require.NoError(rt, err)
		require.Equal(rt, names, got)
		edits, err := ParseSet(text+"= a value = 5", '=')
		require.NoError(rt, err)
		require.Equal(rt, []finding.Edit{{Path: names, Value: "a value = 5"}}, edits)
	})
	for _, bad := range []string{`"a`, "a", "a "} {
		_, err := ParseSet(bad, ' ')
		if bad == "a " {
			continue
		}
		require.Error(t, err, bad)
	}
}

// TestEntriesAreAdded: a map with keys that it must have is one step.
func TestEntriesAreAdded(t *testing.T) {
	b := demoBench(t)
	edits, err := ParseSet(`links.lower-gauge.checks."a new one" {send: "SNAP\n", expect: "3.417\n", within: 30 ms}`, ' ')
	require.NoError(t, err)
	require.NoError(t, b.Apply(edits...))
	checks := b.Link("lower-gauge").Checks
	require.Equal(t, "a new one", checks[len(checks)-1].Name)
	require.Equal(t, "SNAP\n", string(checks[len(checks)-1].Send))
	require.True(t, b.Undo())
	require.Len(t, b.Link("lower-gauge").Checks, len(checks)-1)
	edits, err = ParseSet(`links.pump.mcu.messages.hello {identifier: 0x123, every: 50 ms, data: 01 02}`, ' ')
	require.NoError(t, err)
	require.NoError(t, b.Apply(edits...))
	_, err = ParseSet("a {}", ' ')
	require.Error(t, err)
	_, err = ParseSet("a {b: [}", ' ')
	require.Error(t, err)
}
