package spi

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// 6B sent in mode 0 and read in mode 1: 6B if the old level still holds, D6 or D7
// if not.
func TestReadInAnotherMode(t *testing.T) {
	r := ReadAs(Mode(0), Mode(1), 0x6B)
	assert.Equal(t, Reading{Old: 0x6B, New: 0xD6, Unsafe: true, Open: 1}, r)
	assert.Contains(t, Compare(Mode(0), Mode(1), "MCU", "device")[0].Effects[0], "6B reads as 6B if the old level still holds, as D6 or D7 if not")
}

// In its own mode, and in the one that samples at the same edge, a word reads as
// it was sent; in the other two it may shift by a bit.
func TestModesThatReadAlike(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		word := rapid.Uint32Range(0, 255).Draw(rt, "word")
		a, b := rapid.IntRange(0, 3).Draw(rt, "sent"), rapid.IntRange(0, 3).Draw(rt, "read")
		sent, read := Mode(a), Mode(b)
		r := ReadAs(sent, read, word)
		if (sent.ClockIdleHigh == sent.SampleSecond) == (read.ClockIdleHigh == read.SampleSecond) {
			assert.Equal(rt, Reading{Old: word, New: word}, r)
			return
		}
		if sent.SampleSecond {
			// Data changes at the first edge: what is read is a bit late.
			assert.Equal(rt, word>>1, r.Old)
			assert.Equal(rt, word, r.New)
			return
		}
		assert.Equal(rt, word, r.Old)
		assert.Equal(rt, word<<1&0xff, r.New)
		assert.Equal(rt, uint32(1), r.Open)
	})
}
