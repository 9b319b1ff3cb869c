package safe

import (
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWrapKeepsEveryWord(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		words := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,14}`), 0, 20).Draw(rt, "words")
		w := rapid.IntRange(1, 30).Draw(rt, "w")
		lines := Wrap(strings.Join(words, " "), w)
		for _, l := range lines {
			require.LessOrEqual(rt, runewidth.StringWidth(l), w)
		}
		require.Equal(rt, strings.Join(words, ""), strings.ReplaceAll(strings.Join(lines, ""), " ", ""))
	})
	assert.Empty(t, Wrap("text", 0))
}
