package can

import (
	"fmt"
	"math"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// steps reads a line as a node does, one time quantum after the other, and
// gives the bits that it sampled from the first edge on. It knows nothing of
// the decoder: the level is looked at once a quantum, a counter runs through
// the quanta of a bit, an edge moves it.
func steps(tog []quantity.Time, quantum float64, quanta, sample, jump, want int) []bool {
	level := func(fs float64) bool {
		n := sort.Search(len(tog), func(i int) bool { return float64(tog[i])*1000 > fs })
		return n%2 == 0
	}
	var out []bool
	before, running, moved, newest := true, false, false, true
	q := 0
	for k := 0; len(out) < want; k++ {
		now := level(float64(k) * quantum)
		if before && !now {
			switch {
			case !running:
				running, q, moved = true, 0, true
			case moved || !newest:
			case q <= sample: // late
				q -= min(q, jump)
				moved = true
			default: // early
				q += min(quanta-q, jump)
				moved = true
			}
		}
		q %= quanta
		if running && q == sample {
			out = append(out, now)
			newest, moved = now, false
		}
		before = now
		q++
	}
	return out
}

// worst is a frame whose data field is five dominant and five recessive bits
// in turn, stuff bits counted.
func worst() Frame {
	f := Frame{ID: 0x1e1, Data: make([]byte, 8), DLC: 8}
	for i := range f.Data {
		f.Data[i] = 0x3c
	}
	return f
}

// TestTheRejectPoint: on the worst pattern the decoder stops reading at the
// same mismatch, on both sides, as the model that steps from quantum to
// quantum.
func TestTheRejectPoint(t *testing.T) {
	b := Build(worst(), true)
	run, most := 0, map[bool]int{}
	for i, x := range b.Bits {
		if run++; i > 0 && x.Recessive != b.Bits[i-1].Recessive {
			run = 1
		}
		if run == 5 && x.Field == DataField {
			most[x.Recessive]++
		}
	}
	require.Equal(t, map[bool]int{false: 8, true: 8}, most, "the pattern is five and five throughout")
	const step = 0.005 // percentage points
	for _, c := range []struct{ quanta, sample, jump int }{{16, 14, 1}, {16, 13, 2}, {20, 16, 2}, {10, 8, 1}, {8, 6, 1}, {25, 20, 5}, {16, 12, 4}} {
		sent := UsualTiming(500*quantity.Kilobaud, 0)
		for _, phase := range []quantity.Time{0, 37_123, 91_001} {
			tog, end := Encode(nil, b, sent, lead+phase)
			end += 60 * sent.Nominal.Bit.Times(1)
			for _, side := range []float64{1, -1} {
				point := func(reads func(off float64) bool) float64 {
					for off := 0.0; off < 8; off += step {
						if !reads(side * off / 100) {
							return off
						}
					}
					return math.Inf(1)
				}
				decoder := point(func(off float64) bool {
					read := sent
					read.Nominal = Phase{Bit: quantity.Period(math.Round(float64(sent.Nominal.Bit) * (1 + off))), Sample: float64(c.sample) / float64(c.quanta), Jump: float64(c.jump) / float64(c.quanta), Quanta: c.quanta}
					rs := decode(NewDecoder(read, 0), tog, end, wiretest.Whole(end))
					return len(rs) == 1 && rs[0].AllFlags() == 0
				})
				model := point(func(off float64) bool {
					got := steps(tog, float64(sent.Nominal.Bit)*(1+off)/float64(c.quanta), c.quanta, c.sample, c.jump, len(b.Bits))
					for i, x := range b.Bits {
						if got[i] != x.Recessive {
							return false
						}
					}
					return true
				})
				assert.InDelta(t, model, decoder, 0.02, "%+v, phase %s, side %+.0f", c, phase, side)
				require.Less(t, model, 8.0)
			}
		}
	}
}

// TestPairsWithinTheLimitDecode: a tolerated mismatch decodes, whatever the
// frame, with quanta and without.
func TestPairsWithinTheLimitDecode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		quanta := rapid.IntRange(8, 25).Draw(rt, "quanta")
		phase2 := rapid.IntRange(2, max(2, quanta/3)).Draw(rt, "phase 2")
		jump := rapid.IntRange(1, min(phase2, 4)).Draw(rt, "jump")
		q := float64(quanta)
		// What the standard asks of each node; a pair stands twice that.
		limit := 2 * min(float64(jump)/(20*q), float64(phase2)/(2*(13*q-float64(phase2))))
		sent := UsualTiming(500*quantity.Kilobaud, 0)
		read := sent
		read.Nominal.Sample, read.Nominal.Jump = 1-float64(phase2)/q, float64(jump)/q
		if rapid.Bool().Draw(rt, "steps") {
			read.Nominal.Quanta = quanta
			// An edge is noticed up to a quantum late, which an ideal reader
			// need not allow for.
			limit = min(limit, 2*float64(phase2-1)/(2*(13*q-float64(phase2))))
		}
		off := rapid.Float64Range(-limit, limit).Draw(rt, "off")
		read.Nominal.Bit = quantity.Period(math.Round(float64(sent.Nominal.Bit) * (1 + off)))
		f := anyFrame(rt)
		f.Switched = false
		tog, end := Encode(nil, Build(f, true), sent, lead+quantity.Time(rapid.Int64Range(0, 2_000_000).Draw(rt, "phase")))
		end += 40 * sent.Nominal.Bit.Times(1)
		rs := decode(NewDecoder(read, 0), tog, end, wiretest.Whole(end))
		require.Len(rt, rs, 1)
		require.Zero(rt, rs[0].AllFlags(), fmt.Sprintf("%.3f %%: %s", 100*off, rs[0].Text))
		require.Equal(rt, f.ID, rs[0].ID)
	})
}
