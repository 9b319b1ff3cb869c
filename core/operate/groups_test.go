package operate_test

import (
	"fmt"
	"math/big"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestGroupsAreMembersWrittenOut: a part whose channels are a group is the part whose file has each
// channel written out: the same operations give the same transactions and values.
func TestGroupsAreMembersWrittenOut(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		count, first, step := rapid.IntRange(1, 5).Draw(rt, "count"), rapid.IntRange(0, 3).Draw(rt, "first"), rapid.IntRange(4, 9).Draw(rt, "step")
		grouped := byNumber + fmt.Sprintf(`registers:
  ID: {number: 0xF0}
  SCALE: {number: 0xF1, reset: 3}
groups:
  CH:
    count: %d
    first: %d
    step: %d
    registers:
      GAIN: {number: 0x10, fields: {G: {bits: 2:0, codes: {0: one, 1: two}}, ON: {bits: 7}}}
      HIGH: {number: 0x11}
      LOW:  {number: 0x12}
    values:
      level: {bits: "HIGH LOW[7:4]", coding: signed, scale: 0.5 mV}
      real:  {from: level * SCALE + GAIN.ON, unit: mV}
`, count, first, step)
		plain, values := byNumber+"registers:\n  ID: {number: 0xF0}\n  SCALE: {number: 0xF1, reset: 3}\n", "values:\n"
		for i := range count {
			c, n := first+i, i*step
			plain += fmt.Sprintf("  CH%d-GAIN: {number: %d, fields: {G: {bits: 2:0, codes: {0: one, 1: two}}, ON: {bits: 7}}}\n  CH%d-HIGH: {number: %d}\n  CH%d-LOW: {number: %d}\n", c, 0x10+n, c, 0x11+n, c, 0x12+n)
			values += fmt.Sprintf("  CH%d-level: {bits: \"CH%d-HIGH CH%d-LOW[7:4]\", coding: signed, scale: 0.5 mV}\n  CH%d-real: {from: CH%d-level * SCALE + CH%d-GAIN.ON, unit: mV}\n", c, c, c, c, c, c)
		}
		a, b := onI2C(rt, grouped, ""), onI2C(rt, plain+values, "")
		for range rapid.IntRange(1, 6).Draw(rt, "operations") {
			c := first + rapid.IntRange(0, count-1).Draw(rt, "channel")
			op := rapid.SampledFrom([]string{"write CH%d-level 12.5 mV", "write CH%d-level -100 mV", "write CH%d-GAIN.G two", "write CH%d-GAIN.ON 1", "read CH%d-real", "read CH%d-level", "read CH%d-GAIN"}).Draw(rt, "operation")
			op = fmt.Sprintf(op, c)
			x, y := do(rt, a, "bus", op), do(rt, b, "bus", op)
			require.Equal(rt, says(y), says(x))
			require.Equal(rt, len(y.Exchanges), len(x.Exchanges))
			for i := range x.Exchanges {
				require.Equal(rt, y.Exchanges[i].Text, x.Exchanges[i].Text)
			}
			require.Equal(rt, len(y.Values), len(x.Values))
			for i := range x.Values {
				require.Equal(rt, y.Values[i].Name, x.Values[i].Name)
				require.Equal(rt, y.Values[i].Meaning(), x.Values[i].Meaning())
			}
		}
		do(rt, a, "bus", fmt.Sprintf("write CH%d-level 10 mV", first))
		r := do(rt, a, "bus", fmt.Sprintf("read CH%d-real", first))
		on := do(rt, a, "bus", fmt.Sprintf("read CH%d-GAIN.ON", first)).Values[0].Raw
		require.Zero(rt, r.Values[0].Number.Cmp(big.NewRat(30+int64(on), 1)), "ten times the scale of all channels, and the channel's own bit")
	})
}
