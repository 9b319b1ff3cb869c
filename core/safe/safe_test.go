package safe

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNothingUnprintableComesOut(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		raw := rapid.SliceOf(rapid.Byte()).Draw(rt, "raw")
		for _, s := range []string{Bytes(raw), Text(string(raw))} {
			require.True(rt, utf8.ValidString(s))
			for _, r := range s {
				require.True(rt, unicode.IsPrint(r), "%U", r)
			}
		}
		require.Equal(rt, len(raw), utf8.RuneCountInString(Bytes(raw)))
	})
	assert.Equal(t, "3↵¤⌫·A∅⇥⇤", Bytes([]byte{'3', '\n', 0x1b, 0x7f, 0x9b, 'A', 0, '\t', '\r'}))
	assert.Equal(t, "gauge → 1.5 µs", Text("gauge → 1.5 µs"))
}

// TestJSON: what comes out means the same, and no character of it is one that a
// terminal could take for more than text.
func TestJSON(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		want := map[string]string{rapid.String().Draw(rt, "key"): rapid.StringOf(rapid.OneOf(rapid.Rune(), rapid.SampledFrom([]rune("\u0085\u009b\u200b\u200e\u202e\u2066\ufeff\U000e0001\x7f")))).Draw(rt, "text")}
		b, err := json.Marshal(want)
		require.NoError(rt, err)
		out := JSON(b)
		var plain, got map[string]string
		require.NoError(rt, json.Unmarshal(b, &plain))
		require.NoError(rt, json.Unmarshal(out, &got))
		require.Equal(rt, plain, got)
		for _, r := range string(out) {
			require.True(rt, unicode.IsPrint(r), "%U", r)
		}
	})
}

// TestBrief: a message keeps its words but the middle of those that nobody reads, and its length is
// bounded whatever comes.
func TestBrief(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		words := rapid.SliceOfN(rapid.StringMatching(`[a-zäß]{1,120}`), 0, 12).Draw(r, "words")
		text := strings.Join(words, " ")
		if utf8.RuneCountInString(text) <= 2000 {
			assert.Equal(r, text, Brief(text))
		}
		n := rapid.IntRange(121, 100_000).Draw(r, "long")
		got := Brief("no file " + strings.Repeat("a", n) + " is there")
		assert.Equal(r, "no file "+strings.Repeat("a", 60)+fmt.Sprintf("… (%d characters) is there", n), got)
		assert.LessOrEqual(r, utf8.RuneCountInString(Brief(rapid.String().Draw(r, "any")+strings.Repeat(" x", n))), 2001)
	})
}
