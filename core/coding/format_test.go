package coding

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNearest: no other bits stand for a quantity that is nearer.
func TestNearest(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := Format{Coding: rapid.SampledFrom([]Coding{Unsigned, Signed, OffsetBinary, SignMagnitude, Gray}).Draw(rt, "coding"), Bits: rapid.IntRange(2, 9).Draw(rt, "bits")}
		part := func(label string) *big.Rat {
			return big.NewRat(rapid.Int64Range(-3000, 3000).Filter(func(n int64) bool { return n != 0 }).Draw(rt, label), rapid.SampledFrom([]int64{1, 3, 4, 10, 1000}).Draw(rt, label+" by"))
		}
		if rapid.Bool().Draw(rt, "scaled") {
			f.Scale = part("scale")
		}
		if rapid.Bool().Draw(rt, "moved") {
			f.Offset = part("offset")
		}
		of := func(raw uint64) *big.Rat {
			n, there := brute(f.Coding, raw, f.Bits)
			require.True(rt, there)
			if f.Scale != nil {
				n.Mul(n, f.Scale)
			}
			if f.Offset != nil {
				n.Add(n, f.Offset)
			}
			return n
		}
		least, most := f.Range()
		a, _ := least.Float64()
		b, _ := most.Float64()
		number := rapid.Float64Range(a-(b-a)/4, b+(b-a)/4).Draw(rt, "number")
		if rapid.Bool().Draw(rt, "between two") {
			// As near to the middle between two as a float comes.
			raw := rapid.Uint64Range(0, 1<<f.Bits-2).Draw(rt, "raw")
			mid := new(big.Rat).Add(of(raw), of(raw+1))
			number, _ = mid.Quo(mid, big.NewRat(2, 1)).Float64()
		}
		far := func(raw uint64) *big.Rat {
			d := new(big.Rat).Sub(of(raw), new(big.Rat).SetFloat64(number))
			return d.Abs(d)
		}
		got := far(f.Nearest(number))
		for raw := range uint64(1) << f.Bits {
			require.GreaterOrEqual(rt, far(raw).Cmp(got), 0, "%v: %d", number, raw)
		}
	})
}
