package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const chained = `device: chain
kind: spi
end: {mode: 0, most: 4 MHz, valid: 40 ns}
chain: 3
access:
  all: {out: FAR.8 MID.8 NEAR.8, in: SEEN.8 skip.16}
registers:
  FAR: {access: write-only}
  MID: {access: write-only}
  NEAR: {access: write-only}
  SEEN: {access: read-only, reset: 0x9C}
`

// TestAChainMovesOn: whatever number of bits passes, contents and what comes out are those
// of a list to which bits are added at one end and taken from the other.
func TestAChainMovesOn(t *testing.T) {
	d, faults := Parse("c.yaml", []byte(chained))
	require.Empty(t, faults)
	rapid.Check(t, func(t *rapid.T) {
		dev, part := d.OnSPI(0, nil)
		list := make([]bool, 24)
		for range rapid.IntRange(1, 5).Draw(t, "selects") {
			for i := range 8 {
				list[i] = 0x9C>>(7-i)&1 == 1
			}
			bits := rapid.SliceOfN(rapid.Bool(), 0, 60).Draw(t, "bits")
			dev.Select(1000)
			for i, in := range bits {
				high, driven := dev.Give(i)
				require.True(t, driven)
				require.Equal(t, list[0], high)
				dev.Take(i, in)
				list = append(list[1:], in)
			}
			dev.Release(2000, len(bits))
			for k, name := range []string{"FAR", "MID", "NEAR"} {
				want := uint64(0)
				for _, b := range list[8*k : 8*k+8] {
					want <<= 1
					if b {
						want |= 1
					}
				}
				require.Equal(t, want, part.holds[d.Map.Named(name)], name)
			}
		}
	})
	for _, c := range []struct{ from, to, says string }{
		{"chain: 3", "chain: 5", "no whole number for each of 5 parts"},
		{"chain: 3", "chain: 0", "1 to 64"},
		{"chain: 3", "chain: 3", ""},
		{"out: FAR.8 MID.8 NEAR.8, in: SEEN.8 skip.16", "out: skip.24, in: FAR.8 MID.8 NEAR.8 ", "names registers in the line `out`"},
		{"mode: 0,", "mode: 0, order: lsb,", "take order msb"},
	} {
		_, faults := Parse("c.yaml", []byte(strings.Replace(chained, c.from, c.to, 1)))
		if c.says == "" {
			assert.Empty(t, faults)
			continue
		}
		require.NotEmpty(t, faults, c.to)
		assert.Contains(t, faults[0].Seen+faults[0].Change, c.says)
	}
}
