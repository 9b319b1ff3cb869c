package quantity

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPrintAndParseAreInverse(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		tm := Time(rapid.Int64().Draw(rt, "time"))
		back, err := ParseTime(tm.String())
		require.NoError(rt, err, tm.String())
		require.Equal(rt, tm, back)

		f := Freq(rapid.Int64().Draw(rt, "freq"))
		fb, err := ParseFreq(f.String())
		require.NoError(rt, err, f.String())
		require.Equal(rt, f, fb)

		r := Rate(rapid.Int64Range(45e6, 20e12).Draw(rt, "rate"))
		rb, err := ParseRate(r.String())
		require.NoError(rt, err, r.String())
		require.Equal(rt, r, rb)
	})
}

func TestSpellingsOfOneRate(t *testing.T) {
	for _, s := range []string{"57.6k", "57600", "57.6 kBd", "57600 Bd", "57.6 kbit/s", "57_600", "5.76e4"} {
		r, err := ParseRate(s)
		require.NoError(t, err, s)
		assert.Equal(t, 57600*Baud, r, s)
	}
}

func TestSlipsAreQuestioned(t *testing.T) {
	for s, want := range map[string]string{
		"57600 kBd":  "57600 Bd",
		"0.0001":     "0.0001 MBd",
		"28.8 mBd":   "28.8 kBd",
		"28.8 KBD":   "28.8 kBd",
		"100000 MBd": "100000 Bd",
	} {
		_, err := ParseRate(s)
		require.Error(t, err, s)
		assert.Contains(t, err.Error(), "did you mean "+want+"?", s)
	}
	_, err := ParseTime("5")
	assert.ErrorContains(t, err, "unit is missing; did you mean 5 ms?")
	_, err = ParseClock("8 Hz")
	assert.ErrorContains(t, err, "did you mean 8 kHz?")
	_, err = ParseClock("80")
	assert.ErrorContains(t, err, "did you mean 80 MHz?")
	for _, s := range []string{"", "ms", "1e999999999 s", "1e-999999999 s", "NaN s", "Inf Hz", "1.2.3 ms", "99999999999 s", "--4 ms"} {
		_, err := ParseTime(s)
		assert.Error(t, err, s)
	}
}

func TestPeriodsAddUp(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		bd := FromBd(rapid.Float64Range(50, 20e6).Draw(rt, "bd")).Bd()
		n := rapid.Int64Range(0, 20).Draw(rt, "bits")
		p := PeriodOf(FromBd(bd))
		require.InDelta(rt, float64(n)*1e12/bd, float64(p.Times(n)), 1)
		require.InDelta(rt, float64(n)*5e11/bd, float64(p.Halves(n)), 1)
		require.InEpsilon(rt, bd, p.Rate().Bd(), 1e-7)
	})
	assert.InEpsilon(t, 56448, PeriodOf(57600*Baud).Scaled(-20000).Rate().Bd(), 1e-9)
}

func TestForReading(t *testing.T) {
	assert.Equal(t, "34.7 µs", Time(34_722_222).Round(3))
	assert.Equal(t, "173.6 µs", Time(173_611_111).Round(4))
	assert.Equal(t, "34.722 µs", Time(34_722_000).String())
	assert.Equal(t, "0 s", Time(0).String())
	assert.Equal(t, "28 735.6", FromBd(28735.632).Grouped())
	assert.Equal(t, "-1 234 567.89", Group(-1234567.891, 2))
	assert.Equal(t, "-9223372.036854775808 s", Time(math.MinInt64).String())
	p, err := ParsePPM("0.5 %")
	require.NoError(t, err)
	assert.Equal(t, PPM(5000), p)
	_, err = ParsePPM("12")
	assert.ErrorContains(t, err, "12 ppm")
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"5 ms", "1e5 ps", "57.6k", "-3 %", "  .5µs", strings.Repeat("9", 40) + " s"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if v, err := ParseTime(s); err == nil {
			back, err := ParseTime(v.String())
			require.NoError(t, err)
			require.Equal(t, v, back)
		}
		_, _ = ParseClock(s)
		_, _ = ParseRate(s)
		_, _ = ParsePPM(s)
	})
}

// TestNumbersWithoutUnitAreAskedAbout in the unit that makes sense of them.
func TestNumbersWithoutUnitAreAskedAbout(t *testing.T) {
	for text, want := range map[string]string{"20000000": "20 MHz", "16": "16 MHz", "32768": "32.768 kHz"} {
		_, err := ParseClock(text)
		assert.ErrorContains(t, err, "did you mean "+want+"?")
	}
	_, err := ParseRate("115.2")
	assert.ErrorContains(t, err, "did you mean 115.2 kBd?")
	for text, want := range map[string]Rate{"400 kHz": 400 * Kilobaud, "42 MHz": 42 * Megabaud, "1775.6": FromBd(1775.6), "100k": 100 * Kilobaud, "50 Mbit/s": 50 * Megabaud} {
		r, err := ParseRate(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, r, text)
	}
	for _, text := range []string{"115200 kHz", "42 MBd", "300 MHz", "115200k"} {
		_, err := ParseRate(text)
		assert.Error(t, err, text)
	}
	_, err = ParsePercent("87.5")
	assert.ErrorContains(t, err, "did you mean 87.5 %?")
	for _, text := range []string{"0 %", "-1 %", "101 %", "x", "NaN %", "5 s"} {
		_, err := ParsePercent(text)
		assert.Error(t, err, text)
	}
	v, err := ParsePercent("87.5 %")
	require.NoError(t, err)
	assert.Equal(t, 0.875, v)
}
