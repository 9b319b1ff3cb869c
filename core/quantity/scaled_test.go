package quantity

import (
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
	v, err := ParseScaled("25 m", "m")
	require.NoError(t, err)
	assert.Equal(t, 25.0, v)
	for _, c := range []struct{ text, unit string }{{"0", "Ω"}, {"-1", "Ω"}, {"2.2k", "m"}, {"3V", "Ω"}, {"x", "V"}, {"1 pF", "V"}, {"", "F"}, {"1..2", "F"}, {"NaN", "m"}, {"Inf", "m"}} {
		_, err := ParseScaled(c.text, c.unit)
		assert.Error(t, err, c.text)
	}
	rapid.Check(t, func(rt *rapid.T) {
		unit := rapid.SampledFrom([]string{"V", "F", "Ω"}).Draw(rt, "unit")
		v := rapid.Float64Range(1e-12, 9e8).Draw(rt, "v")
		back, err := ParseScaled(Scaled(v, unit), unit)
		require.NoError(rt, err, Scaled(v, unit))
		require.InEpsilon(rt, v, back, 0.006)
	})
}
