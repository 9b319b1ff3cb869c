package firmware

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNamesAreDistinct: things that differ have names that differ, whatever they are called.
func TestNamesAreDistinct(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := newNames()
		seen := map[string]string{}
		for _, text := range rapid.SliceOfDistinct(rapid.StringMatching(`[a-c_. -]{1,4}(_2)?`), func(s string) string { return s }).Draw(t, "names") {
			name := n.name(text, text)
			require.Regexp(t, `^[A-Z_][A-Z0-9_]*$`, name)
			require.NotContains(t, seen, name, "%q and %q", text, seen[name])
			seen[name] = text
			require.Equal(t, name, n.name(text, text))
		}
	})
}

// TestRemarksStayInside: no text ends its comment or turns what stands beside it round.
func TestRemarksStayInside(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := remark(rapid.String().Draw(t, "text") + rapid.SampledFrom([]string{"*/", "/*", "\u202e", "\u2066", "\u009b", "\n", ""}).Draw(t, "more"))
		require.NotContains(t, s, "*/")
		require.NotContains(t, s, "/*")
		for _, bad := range []string{"\u202e", "\u2066", "\u2069", "\u009b", "\n", "\r", "\x00"} {
			require.NotContains(t, s, bad)
		}
	})
}

func TestOwnFilesAreKnown(t *testing.T) {
	text := Marked("int x;\n")
	assert.True(t, Unchanged(text))
	assert.False(t, Unchanged(strings.Replace(text, "x", "y", 1)))
	assert.False(t, Unchanged("int x;\n"))
	assert.False(t, Unchanged(""))
}
