package spi

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

func TestSlowestPartner(t *testing.T) {
	u := Unit{Clock: 48 * quantity.Megahertz, Dividers: PowersOfTwo(256)}
	slow, err := u.Best(Part{Name: "encoder", Most: 5 * quantity.Megahertz})
	require.NoError(t, err)
	assert.Equal(t, 16, slow.Divider)
	assert.Equal(t, "3 MHz", slow.Rate.String())
	ms, err := u.Margins(Part{Name: "encoder", Most: 5 * quantity.Megahertz})
	require.NoError(t, err)
	assert.Equal(t, 8, ms[2].Divider)
	assert.Equal(t, "6 MHz is above the 5 MHz of encoder", ms[2].Refused)
	fast, err := u.Best(Part{Name: "valves", Most: 10 * quantity.Megahertz})
	require.NoError(t, err)
	assert.Equal(t, 8, fast.Divider)
	// A late answer costs more than the clock's own limit.
	late, err := u.Best(Part{Name: "trim", Most: 10 * quantity.Megahertz, Valid: 90 * quantity.Nanosecond})
	require.NoError(t, err)
	assert.Equal(t, 16, late.Divider)
	_, err = u.Best(Part{Name: "x", Most: quantity.Hertz})
	assert.ErrorContains(t, err, "no divider serves")
	for _, bad := range []Unit{{}, {Clock: 1, Dividers: []int{0}}} {
		_, err := bad.Margins(Part{Most: 1})
		assert.Error(t, err)
	}
	_, err = u.Margins(Part{})
	assert.Error(t, err)
}

// The best divider is the smallest that breaks no limit.
func TestBestDividerAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		u := Unit{
			Clock: quantity.FromHz(rapid.Float64Range(1e6, 1e8).Draw(rt, "clock")), Dividers: rapid.SliceOfN(rapid.IntRange(1, 300), 1, 12).Draw(rt, "dividers"),
			SetUp: quantity.Time(rapid.Int64Range(0, 50_000).Draw(rt, "set-up")),
		}
		p := Part{Name: "p", Most: quantity.FromHz(rapid.Float64Range(1e5, 2e7).Draw(rt, "most")), Valid: quantity.Time(rapid.Int64Range(0, 200_000).Draw(rt, "valid")), SetUp: quantity.Time(rapid.Int64Range(0, 100_000).Draw(rt, "part's set-up"))}
		best := 0
		for _, d := range u.Dividers {
			half := 1e12 / (u.Clock.Hz() / float64(d)) / 2
			if u.Clock.Hz()/float64(d) <= p.Most.Hz() && half >= float64(p.SetUp)-1 && (p.Valid == 0 || half >= float64(p.Valid+u.SetUp)-1) && (best == 0 || d < best) {
				best = d
			}
		}
		got, err := u.Best(p)
		if best == 0 {
			require.Error(rt, err)
			return
		}
		// A picosecond of rounding may part the two.
		if err != nil || got.Divider != best {
			half := quantity.Time(1e12 / (u.Clock.Hz() / float64(best)) / 2)
			require.InDelta(rt, 0, float64(min(max(half-p.SetUp, p.SetUp-half), max(half-p.Valid-u.SetUp, p.Valid+u.SetUp-half))), 2)
		}
	})
}

// The mode of a data sheet's words is the one with which a decoder reads.
func TestModeOfWords(t *testing.T) {
	for mode := range 4 {
		set := Mode(mode)
		l, end := Encode(set, quantity.Microsecond, quantity.Microsecond, []uint32{0xA5}, []uint32{0x3C})
		// Where does data stand still? At the edges of one direction.
		for _, rising := range []bool{false, true} {
			clock := wire.Window{To: end + 1, High: set.ClockIdleHigh, Toggles: l.Clock}
			setUp, hold := wire.SetUpHold(&clock, rising, &wire.Window{To: end + 1, Toggles: l.Out})
			if setUp.Least > 0 && hold.Least > 0 && setUp.N > 3 {
				assert.Equal(t, mode, ModeOf(set.ClockIdleHigh, rising))
			}
		}
		d := NewDecoder(Mode(ModeOf(set.ClockIdleHigh, set.ClockIdleHigh == set.SampleSecond)), 0, record.Device)
		var out record.List
		d.Feed([]wire.Window{{To: end + 1, High: set.ClockIdleHigh, Toggles: l.Clock}, {To: end + 1, Toggles: l.Out}, {To: end + 1, Toggles: l.In}, {To: end + 1, High: true, Toggles: l.Select}, {To: end + 1, High: true}}, &out)
		require.Len(t, out.Done, 1)
		assert.Equal(t, []byte{0xA5}, out.Done[0].Data)
	}
}
