package quantity

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestScaled(t *testing.T) {
	for text, want := range map[string]float64{"2.2k": 2200, "2.2 kΩ": 2200, "2.2kOhm": 2200, "470": 470, "1M": 1e6, "0.5 Ω": 0.5} {
		v, err := ParseScaled(text, "Ω")
		require.NoError(t, err, text)
		assert.InDelta(t, want, v, want*1e-12, text)
	}
	for text, want := range map[string]float64{"4k7": 4700, "2M2": 2.2e6, "0k47Ω": 470, "10k0": 10_000} {
		v, err := ParseScaled(text, "Ω")
		require.NoError(t, err, text)
		assert.InDelta(t, want, v, want*1e-12, text)
	}
	for _, c := range []struct{ text, unit, meant string }{{"200", "F", "200 pF"}, {"3.3", "V", "3.3 V"}, {"25", "m", "25 m"}, {"60 m", "F", "60 mF"}, {"200 p", "F", "200 pF"}} {
		_, err := ParseScaled(c.text, c.unit)
		assert.ErrorContains(t, err, "did you mean "+c.meant+"?")
	}
	for _, c := range []struct{ text, unit string }{{"200 F", "F"}, {"60 mF", "F"}, {"50 kV", "V"}, {"9999 MΩ", "Ω"}} {
		_, err := ParseScaled(c.text, c.unit)
		assert.ErrorContains(t, err, "usual range", c.text)
	}
	v, err := ParseScaled("25 m", "m")
	require.NoError(t, err)
	assert.Equal(t, 25.0, v)
	for _, c := range []struct{ text, unit string }{{"0", "Ω"}, {"-1", "Ω"}, {"2.2k", "m"}, {"3V", "Ω"}, {"x", "V"}, {"1 pF", "V"}, {"", "F"}, {"1..2", "F"}, {"NaN", "m"}, {"Inf", "m"}} {
		_, err := ParseScaled(c.text, c.unit)
		assert.Error(t, err, c.text)
	}
	rapid.Check(t, func(rt *rapid.T) {
		unit := rapid.SampledFrom([]string{"V", "F", "Ω"}).Draw(rt, "unit")
		v := usual[unit].least * math.Pow(usual[unit].most/usual[unit].least, rapid.Float64Range(0.01, 0.99).Draw(rt, "v"))
		back, err := ParseScaled(Scaled(v, unit), unit)
		require.NoError(rt, err, Scaled(v, unit))
		require.InEpsilon(rt, v, back, 0.006)
	})
}
