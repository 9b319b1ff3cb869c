package safe

import (
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
