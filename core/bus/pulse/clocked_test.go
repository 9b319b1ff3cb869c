package pulse

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

func lamps() Settings {
	return Settings{
		Zero:  Symbol{High: Range{300 * quantity.Nanosecond, 550 * quantity.Nanosecond}, Low: Range{300 * quantity.Nanosecond, 2 * quantity.Microsecond}},
		One:   Symbol{High: Range{700 * quantity.Nanosecond, quantity.Microsecond}, Low: Range{300 * quantity.Nanosecond, 2 * quantity.Microsecond}},
		Latch: 60 * quantity.Microsecond, Element: 12,
	}
}

// TestClockedBitsDecode: what patterns make of elements at a clock that fits is read
// by the strip as these elements, without a mark; at one that does not fit there are
// marks or other elements.
func TestClockedBitsDecode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := lamps()
		s.LSBFirst = rapid.Bool().Draw(rt, "lsb")
		p, err := Wider(s, rapid.IntRange(3, 8).Draw(rt, "bits"))
		require.NoError(rt, err)
		hz := rapid.Int64Range(1_000_000, 9_000_000).Draw(rt, "clock")
		period := quantity.PeriodOf(quantity.FromBd(float64(hz)))
		elements := rapid.SliceOfN(rapid.Uint32Range(0, 1<<12-1), 1, 20).Draw(rt, "elements")
		fit := Fit(s, p, period, 0)
		tog, end := Drive(nil, period, 5*quantity.Microsecond, ToClocked(s, p, elements...))
		for i := 1; i < len(tog); i++ {
			require.Less(rt, tog[i-1], tog[i])
		}
		require.Zero(rt, len(tog)%2, "the line rests low")
		out := &record.List{}
		d := Kind.Decoder(0, []bus.Settings{s})
		d.Feed([]wire.Window{{To: end + 2*s.Latch, Toggles: tog}}, out)
		require.Len(rt, out.Done, 1)
		r := &out.Done[0]
		if fit.Fits {
			require.Zero(rt, r.AllFlags())
			require.Equal(rt, elements, Elements(r))
			return
		}
		// A bit whose time is outside its limits is marked, or read as the other.
		ones, bits := 0, 0
		for _, e := range elements {
			for i := range s.Element {
				ones += int(e >> i & 1)
				bits++
			}
		}
		times := fit.Times(s)
		wrong := func(i int) bool { return !times[i].Fits() }
		if (wrong(0) || wrong(1)) && ones < bits-1 || (wrong(2) || wrong(3)) && ones > 1 {
			require.True(rt, r.AllFlags() != 0 || !slices.Equal(elements, Elements(r)), "%v", fit.Wrong)
		}
	})
}

// TestBestChoice holds the choice against all of them.
func TestBestChoice(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := lamps()
		dividers := slices.Sorted(slices.Values(rapid.SliceOfNDistinct(rapid.IntRange(1, 300), 1, 12, func(i int) int { return i }).Draw(rt, "dividers")))
		clock := quantity.Freq(rapid.IntRange(1, 80).Draw(rt, "MHz")) * quantity.Megahertz
		p := Patterns{Zero: 0b100, One: 0b110, Bits: 3}
		cs := Choices(clock, dividers, s, p, 0)
		best := cs[Best(cs)]
		for _, c := range cs {
			require.Equal(rt, c.Fits, c.Spare >= 0, "divider %d", c.Divider)
			require.False(rt, c.Fits && !best.Fits)
			require.LessOrEqual(rt, c.Spare, best.Spare)
		}
	})
	_, err := Wider(lamps(), 2)
	assert.Error(t, err)
	_, err = Wider(lamps(), 9)
	assert.Error(t, err)
	_, _, err = ParsePattern("12")
	assert.Error(t, err)
}
