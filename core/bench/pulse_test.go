package bench

import (
	"bytes"
	"fmt"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/demo"
)

// strip gives Lock 7 with another text of the strip's MCU end.
func strip(t require.TestingT, from, to string) (*Bench, string) {
	text, err := fs.ReadFile(demo.Files, demo.Bench)
	require.NoError(t, err)
	require.Contains(t, string(text), from)
	b, faults := Parse(demo.Files, "b.yaml", bytes.Replace(text, []byte(from), []byte(to), 1))
	if b == nil {
		return nil, faults[0].String()
	}
	return b, ""
}

func TestFaultsOfPulseLines(t *testing.T) {
	const keys = "zero: 100\n      one: 110\n"
	for to, want := range map[string]string{
		"zero: 10\n      one: 110\n":                           "different lengths",
		"zero: 110\n      one: 110\n":                          "are the same",
		"zero: 1x0\n      one: 110\n":                          "is no pattern",
		"zero: 101\n      one: 110\n":                          "101",
		"one: 110\n":                                           "zero",
		keys + "      divider: 3\n":                            "can't divide by 3",
		keys + "      divider: 0\n":                            "divider",
		keys + "      latch: -1 us\n":                          "negative",
		"zero: 000000000\n      one: 110000000\n":              "is no pattern",
		keys + "      repeat: 3\n":                             `unknown key "repeat"`,
		"zero: 100\n      one: 110\n      rate: 800 kbit/s\n":  `unknown key "rate"`,
		"zero: 100\n      one: 110\n      divider: [16, 32]\n": "divider",
	} {
		b, fault := strip(t, keys, to)
		assert.Nil(t, b, to)
		assert.Contains(t, fault, want, to)
		assert.Contains(t, fault, "b.yaml:", to)
	}
	for to, want := range map[string]string{
		"every: 500 us": "at least 1 ms",
		"every: soon":   "soon",
	} {
		b, fault := strip(t, "every: 100 ms\n          elements", to+"\n          elements")
		assert.Nil(t, b, to)
		assert.Contains(t, fault, want, to)
	}
	b, fault := strip(t, "0F0 0F0 0F0", "0F0 1234 0F0")
	assert.Nil(t, b)
	assert.Contains(t, fault, "1234")
}

// TestPulseFindings: what does not fit is said with figures, and each fix that is
// offered leaves nothing to report.
func TestPulseFindings(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		divider := rapid.SampledFrom([]int{2, 4, 8, 16, 32, 64, 128, 256}).Draw(rt, "divider")
		latch := rapid.IntRange(1, 200).Draw(rt, "latch")
		every := rapid.SampledFrom([]int{1, 2, 100}).Draw(rt, "every")
		b, fault := strip(rt, "zero: 100\n", fmt.Sprintf("divider: %d\n      latch: %d us\n      zero: 100\n", divider, latch))
		require.Empty(rt, fault)
		put(rt, b, fmt.Sprintf("%d ms", every), "links", "depth-strip", "mcu", "frames", "depth", "every")
		l := b.Link("depth-strip")
		m := l.Model.(*Pulse)
		codes := map[string]bool{}
		for _, f := range l.Lint() {
			codes[f.Code] = true
			require.NotEmpty(rt, f.Why)
			require.NotEmpty(rt, f.Change)
		}
		// Reckoned apart from the package: the times in nanoseconds at 40 MHz.
		bit := 25 * divider
		fits := func(high, least, most int) bool { return high >= least && high <= most }
		good := fits(bit, 300, 550) && fits(2*bit, 300, 2000) && fits(2*bit, 700, 1000) && fits(bit, 300, 2000)
		require.Equal(rt, !good, codes["pulse-outside-limits"], "÷%d", divider)
		require.Equal(rt, latch < 60, codes["latch-too-short"])
		long := quantity.Time(36*12*3*bit)*quantity.Nanosecond + quantity.Time(latch)*quantity.Microsecond
		require.Equal(rt, long > quantity.Time(every)*quantity.Millisecond, codes["frame-longer-than-period"])
		require.Equal(rt, quantity.Time(3*bit)*quantity.Nanosecond, m.Bit())

		for _, f := range l.Lint() {
			for _, fix := range f.Fixes {
				require.NoError(rt, b.Apply(fix.Edits...))
				for _, rest := range b.Link("depth-strip").Lint() {
					require.NotEqual(rt, f.Code, rest.Code, fix.Label)
				}
				require.True(rt, b.Undo())
			}
		}
	})
}

// TestPulseWordsGoBothWays: the words that settings want mean these settings.
func TestPulseWordsGoBothWays(t *testing.T) {
	for _, d := range []int{2, 4, 8, 16, 32, 64, 128, 256} {
		b, fault := strip(t, "zero: 100\n", fmt.Sprintf("divider: %d\n      zero: 100\n", d))
		require.Empty(t, fault)
		l := b.Link("depth-strip")
		words, err := l.Words()
		require.NoError(t, err)
		got, ok := l.Model.(*Pulse).FromRegisters(func(r *register.Register) uint64 {
			for _, w := range words {
				if w.Name == r.Name {
					return w.Value
				}
			}
			return r.Reset
		})
		require.True(t, ok)
		assert.Equal(t, d, got)
		assert.Equal(t, pulse.Patterns{Zero: 0b100, One: 0b110, Bits: 3}, l.Model.(*Pulse).Patterns)
	}
}
