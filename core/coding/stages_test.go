package coding

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestStages(t *testing.T) {
	l := Layout{Format: Format{Bits: 14, Coding: Signed, Scale: big.NewRat(1, 2), Unit: "mg"}, Left: true}
	stages, v, err := l.Stages([]byte{0xC7, 0x30})
	require.NoError(t, err)
	assert.Equal(t, []Stage{{"joined", "0xC730", "-14544"}, {"14 bits, signed", "0x31CC", "-3636"}, {"scaled", "", "-1818 mg"}}, stages)
	assert.Equal(t, "-1818 mg", v.Meaning())
	l = Layout{Format: Format{Bits: 12, Scale: big.NewRat(1000, 4095)}, LowFirst: true}
	stages, _, err = l.Stages([]byte{0xFF, 0x07})
	require.NoError(t, err)
	assert.Equal(t, Stage{"exactly", "", "409400/819"}, stages[3])
	assert.Equal(t, Stage{"rounded", "", "500"}, stages[4])
	for _, c := range []struct {
		bits int
		data []byte
	}{{14, nil}, {14, []byte{1}}, {0, []byte{1}}, {8, make([]byte, 9)}} {
		_, _, err := (&Layout{Format: Format{Bits: c.bits}}).Stages(c.data)
		assert.Error(t, err)
	}
}

// TestBytesAndBack: what a value is put into gives it again.
func TestBytesAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 8).Draw(t, "bytes")
		l := Layout{Format: Format{Bits: rapid.IntRange(1, 8*n).Draw(t, "bits")}, LowFirst: rapid.Bool().Draw(t, "low first"), Left: rapid.Bool().Draw(t, "left")}
		raw := rapid.Uint64().Draw(t, "raw") & mask(l.Bits)
		_, v, err := l.Stages(l.Bytes(raw, n))
		require.NoError(t, err)
		assert.Equal(t, raw, v.Raw)
	})
}
