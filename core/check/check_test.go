package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/record"
)

func chars(b []byte) []Char {
	var out []Char
	for _, x := range b {
		out = append(out, Char{Byte: x})
	}
	return out
}

func TestCompareFindsJustTheMutations(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(rt, "data")
		var expect []Cell
		for _, b := range data {
			expect = append(expect, Cell{Byte: b, Any: rapid.IntRange(0, 4).Draw(rt, "any") == 0})
		}
		require.Empty(rt, Compare(expect, chars(data)))
		at := rapid.IntRange(0, len(data)-1).Draw(rt, "at")
		seen := chars(data)
		seen[at].Byte ^= 1 << rapid.IntRange(0, 7).Draw(rt, "bit")
		diff := Compare(expect, seen)
		if expect[at].Any {
			require.Empty(rt, diff)
		} else {
			require.Len(rt, diff, 1)
			require.Equal(rt, at, diff[0].Index)
		}
		// An error mark is a difference even where any byte may stand.
		seen = chars(data)
		seen[at].Flags = record.Parity
		require.Len(rt, Compare(expect, seen), 1)
		require.Len(rt, Compare(expect, chars(data[:at])), len(data)-at)
		require.Len(rt, Compare(expect, append(chars(data), Char{})), 1)
		prefix := rapid.SliceOfN(rapid.Byte(), 0, 9).Draw(rt, "prefix")
		found := Find(expect, append(chars(prefix), chars(data)...))
		require.GreaterOrEqual(rt, found, 0)
		require.LessOrEqual(rt, found, len(prefix))
	})
}

func TestParseText(t *testing.T) {
	b, err := ParseText(`A\n\x1b"é`)
	require.NoError(t, err)
	assert.Equal(t, "A\n\x1b\"é", string(b))
	_, err = ParseText(`\q`)
	assert.ErrorContains(t, err, "special bytes")
}

func TestParseHex(t *testing.T) {
	c, err := ParseHex("53 .. 0a", true)
	require.NoError(t, err)
	assert.Equal(t, []Cell{{Byte: 0x53}, {Any: true}, {Byte: 10}}, c)
	assert.Equal(t, []Cell{{Byte: 'a'}, {Byte: '#', Any: true}}, FromText("a#", "#"))
	for _, s := range []string{"", "5", "GG", "123"} {
		_, err := ParseHex(s, true)
		assert.Error(t, err, s)
	}
	_, err = ParseHex("..", false)
	assert.Error(t, err)
	r := Result{Link: "l", Check: "c", Differences: Compare(FromText("AB", ""), chars([]byte("AC")))}
	assert.Equal(t, "FAIL  l: c  first difference at byte 1: expected 42 'B', seen 43 'C'", r.Summary())
}

// TestLinesThatComeByThemselves: the expected line is found among others, whatever they are;
// an echo is not skipped, and what is no line is looked for nowhere.
func TestLinesThatComeByThemselves(t *testing.T) {
	line := rapid.StringMatching(`[A-Z]{0,6}`)
	rapid.Check(t, func(rt *rapid.T) {
		want := line.Draw(rt, "expected") + "\n"
		before := rapid.SliceOfN(line.Filter(func(s string) bool { return s+"\n" != want && s != "SNAP" }), 0, 5).Draw(rt, "before")
		text := ""
		for _, b := range before {
			text += b + "\n"
		}
		expect := FromText(want, "")
		sent := []byte("SNAP\n")
		after := rapid.StringMatching(`[A-Z\n]{0,9}`).Draw(rt, "after")
		require.Equal(rt, len(text), Answer(expect, sent, chars([]byte(text+want+after))))
		require.Equal(rt, -1, Answer(expect, sent, chars([]byte(text+want[:len(want)-1]))))
		if want != "SNAP\n" {
			require.Equal(rt, -1, Answer(expect, sent, chars([]byte(text+"SNAP\n"+want))))
		}
		require.Equal(rt, -1, Answer(FromText("X", ""), sent, chars([]byte("YX"))))
		hurt := chars([]byte(text + want))
		hurt[len(hurt)-1].Flags = record.Parity
		require.Equal(rt, -1, Answer(expect, sent, hurt))
	})
}
