package tty

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/record"
)

type got struct {
	c byte
	f record.Flags
}

func parseMarks(pieces ...[]byte) []got {
	var p markParser
	var out []got
	for _, b := range pieces {
		p.feed(b, func(c byte, f record.Flags) { out = append(out, got{c, f}) })
	}
	return out
}

// TestMarksOverAllSplits builds what the line discipline delivers for random
// bytes, errors and breaks, and cuts it at every place.
func TestMarksOverAllSplits(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var raw []byte
		var want []got
		for range rapid.IntRange(0, 20).Draw(rt, "n") {
			c := rapid.OneOf(rapid.Byte(), rapid.SampledFrom([]byte{0, 0xff})).Draw(rt, "c")
			switch rapid.IntRange(0, 2).Draw(rt, "what") {
			case 0:
				want = append(want, got{c, 0})
				raw = append(raw, c)
				if c == 0xff {
					raw = append(raw, 0xff)
				}
			case 1:
				raw = append(raw, 0xff, 0, c)
				f := record.ParityOrFraming
				if c == 0 {
					f = record.Break
				}
				want = append(want, got{c, f})
			case 2:
				raw = append(raw, 0xff, 0, 0)
				want = append(want, got{0, record.Break})
			}
		}
		require.Equal(rt, want, parseMarks(raw))
		for i := range raw {
			require.Equal(rt, want, parseMarks(raw[:i], raw[i:]))
		}
	})
}

func TestErrorsAreToldApartByCounters(t *testing.T) {
	a := counts{known: true}
	f := counts{known: true, framing: 1}
	p := counts{known: true, parity: 2}
	both := counts{known: true, parity: 1, framing: 1}
	pof := record.ParityOrFraming
	assert.Equal(t, record.Framing, tell(pof, a, f))
	assert.Equal(t, record.Parity, tell(pof, a, p))
	assert.Equal(t, pof, tell(pof, a, both))
	assert.Equal(t, pof, tell(pof, counts{}, f))
	assert.Equal(t, record.Break, tell(record.Break, a, f))
}

func FuzzMarks(f *testing.F) {
	f.Add([]byte{0xff, 0, 1, 0xff, 0xff}, 2)
	f.Fuzz(func(t *testing.T, raw []byte, cut int) {
		whole := parseMarks(raw)
		require.LessOrEqual(t, len(whole), len(raw))
		if len(raw) > 0 {
			k := int(uint(cut) % uint(len(raw)))
			require.Equal(t, whole, parseMarks(raw[:k], raw[k:]))
		}
	})
}
