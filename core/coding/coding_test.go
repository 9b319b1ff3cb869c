package coding

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// brute gives the number of bits by another way than the package does.
func brute(c Coding, raw uint64, width int) (*big.Rat, bool) {
	text := fmt.Sprintf("%0*b", width, raw)
	sum := new(big.Int)
	add := func(weight int, sign int64) {
		sum.Add(sum, new(big.Int).Mul(big.NewInt(sign), new(big.Int).Lsh(big.NewInt(1), uint(weight))))
	}
	switch c {
	case Signed: // the first bit counts negative
		for i, b := range text {
			if b == '1' {
				add(width-1-i, map[bool]int64{true: -1, false: 1}[i == 0])
			}
		}
	case OffsetBinary:
		for i, b := range text {
			if b == '1' {
				add(width-1-i, 1)
			}
		}
		add(width-1, -1)
	case SignMagnitude:
		for i, b := range text[1:] {
			if b == '1' {
				add(width-2-i, 1)
			}
		}
		if text[0] == '1' {
			sum.Neg(sum)
		}
	case Gray: // each bit turns round with those before it
		ones := 0
		for i, b := range text {
			if b == '1' {
				ones++
			}
			if ones%2 == 1 {
				add(width-1-i, 1)
			}
		}
	case BCD:
		hex := fmt.Sprintf("%0*x", width/4, raw)
		if strings.ContainsAny(hex, "abcdef") {
			return nil, false
		}
		sum.SetString(hex, 10)
	default:
		for i, b := range text {
			if b == '1' {
				add(width-1-i, 1)
			}
		}
	}
	return new(big.Rat).SetInt(sum), true
}

func TestCodingsAgainstBruteForce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		c := Coding(rapid.IntRange(0, int(BCD)).Draw(rt, "coding"))
		width := rapid.IntRange(2, 64).Draw(rt, "bits")
		if c == BCD {
			width = 4 * rapid.IntRange(1, 16).Draw(rt, "digits")
		}
		raw := rapid.Uint64().Draw(rt, "raw") & mask(width)
		require.NoError(rt, c.Check(width))
		want, is := brute(c, raw, width)
		got, err := c.Number(raw, width)
		require.Equal(rt, is, err == nil)
		if !is {
			return
		}
		require.Zero(rt, want.Cmp(got), "%s of %b: %s, want %s", c, raw, got, want)
		least, most := c.Range(width)
		require.True(rt, least.Cmp(got) <= 0 && got.Cmp(most) <= 0)
		back, exact, err := c.Bits(got, width)
		require.NoError(rt, err)
		require.True(rt, exact)
		if c != SignMagnitude || got.Sign() != 0 {
			require.Equal(rt, raw, back)
		}
		// The nearest one is found, and what is beyond the ends is refused.
		near := new(big.Rat).Add(got, big.NewRat(rapid.Int64Range(-49, 49).Draw(rt, "hundredths"), 100))
		if near.Cmp(least) >= 0 && near.Cmp(most) <= 0 {
			again, exact, err := c.Bits(near, width)
			require.NoError(rt, err)
			require.Equal(rt, near.IsInt(), exact)
			require.Equal(rt, back, again)
		}
		_, _, err = c.Bits(new(big.Rat).Add(most, big.NewRat(1, 1)), width)
		require.Error(rt, err)
		_, _, err = c.Bits(new(big.Rat).Sub(least, big.NewRat(1, 1)), width)
		require.Error(rt, err)
	})
}

// TestFloats: those of 32 and 64 bits are Go's; of 16 bits the neighbours and some stated
// in IEEE 754 are known.
func TestFloats(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := rapid.Float32().Draw(rt, "f")
		n, err := Float.Number(uint64(math.Float32bits(f)), 32)
		if math.IsInf(float64(f), 0) || math.IsNaN(float64(f)) {
			require.Error(rt, err)
			return
		}
		require.NoError(rt, err)
		got, _ := n.Float32()
		require.Equal(rt, f, got+0)
		raw, exact, err := Float.Bits(n, 32)
		require.NoError(rt, err)
		require.True(rt, exact)
		require.Equal(rt, math.Float32bits(f+0)&^(1<<31), uint32(raw)&^(1<<31))
	})
	for raw, want := range map[uint64]float64{0x3c00: 1, 0xc000: -2, 0x7bff: 65504, 0x0400: 6.103515625e-05, 0x0001: 5.960464477539063e-08, 0x3555: 0.333251953125} {
		n, err := Float.Number(raw, 16)
		require.NoError(t, err)
		got, _ := n.Float64()
		assert.Equal(t, want, got)
		back, exact, err := Float.Bits(n, 16)
		require.NoError(t, err)
		assert.True(t, exact)
		assert.Equal(t, raw, back)
	}
	raw, exact, err := Float.Bits(big.NewRat(1, 3), 16)
	require.NoError(t, err)
	assert.False(t, exact)
	assert.Equal(t, uint64(0x3555), raw)
	_, err = Float.Number(0x7c00, 16)
	assert.ErrorContains(t, err, "+Inf")
	_, _, err = Float.Bits(big.NewRat(65536, 1), 16)
	assert.Error(t, err)
}

// TestQuantities: what is decoded is encoded to the same bits, whatever scale and offset,
// and its text reads back.
func TestQuantities(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := Format{Bits: rapid.IntRange(2, 40).Draw(rt, "bits"), Coding: Coding(rapid.IntRange(0, int(Gray)).Draw(rt, "coding")), Unit: rapid.SampledFrom([]string{"Pa", "°C", "%RH", "mV", ""}).Draw(rt, "unit")}
		f.Scale = big.NewRat(rapid.Int64Range(1, 999).Draw(rt, "scale"), rapid.SampledFrom([]int64{1, 4, 10, 128, 1000}).Draw(rt, "by"))
		if rapid.Bool().Draw(rt, "negative") {
			f.Scale.Neg(f.Scale)
		}
		f.Offset = big.NewRat(rapid.Int64Range(-500, 500).Draw(rt, "offset"), 4)
		raw := rapid.Uint64().Draw(rt, "raw") & mask(f.Bits)
		v := f.Decode(raw)
		require.NotNil(rt, v.Number)
		w, err := f.Encode(v.Meaning())
		require.NoError(rt, err, v.Meaning())
		if strings.Contains(Text(v.Number), "e") {
			return // more digits than are written
		}
		again := f.Decode(w.Raw)
		require.Zero(rt, again.Number.Cmp(v.Number), "%s: %s", v.Meaning(), again.Meaning())
	})
}

func TestEncode(t *testing.T) {
	rate := Format{Bits: 2, Codes: map[uint64]string{0: "10 Hz", 1: "25 Hz", 2: "50 Hz"}}
	limit := Format{Bits: 16, Coding: Signed, Scale: big.NewRat(1, 128), Offset: big.NewRat(25, 1), Unit: "°C"}
	level := Format{Bits: 12, Scale: big.NewRat(1, 10), Unit: "mV", Least: big.NewRat(5, 1), Most: big.NewRat(100, 1)}
	for _, c := range []struct {
		f    Format
		text string
		raw  uint64
		says string
	}{
		{rate, "25 hz", 1, ""}, {rate, "25  Hz", 1, ""}, {rate, "2", 2, ""}, {rate, "0b01", 1, ""}, {rate, "3", 3, ""},
		{rate, "30 Hz", 0, "known are 10 Hz, 25 Hz, 50 Hz"}, {rate, "0x4", 0, "does not fit 2 bits"}, {rate, "fast", 0, "known are"},
		{limit, "30.5 °C", 704, ""}, {limit, "30.5", 704, ""}, {limit, "-10 °C", 0xee80, ""}, {limit, "3.05e1", 704, ""}, {limit, "0x2c0", 704, ""},
		{limit, "400 °C", 0, "-231 °C to 280.9921875 °C"}, {limit, "30 K", 0, "the unit of the field is °C"}, {limit, "warm", 0, "write a number in °C"}, {limit, "1/0", 0, "no number"},
		{level, "0.01 V", 100, ""}, {level, "10 mV", 100, ""}, {level, "9900 µV", 99, ""}, {level, "4 mV", 0, "outside 5 mV to 100 mV"}, {level, "1 V", 0, "outside 5 mV to 100 mV"},
	} {
		w, err := c.f.Encode(c.text)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		assert.Equal(t, c.raw, w.Raw, c.text)
	}
	w, err := limit.Encode("30.51 °C")
	require.NoError(t, err)
	assert.True(t, w.Rounded)
	assert.Equal(t, "30.5078 °C", w.Meaning())
	v := rate.Decode(3)
	assert.Equal(t, "3 has no meaning in the table", v.Meaning())
	bcd := Format{Bits: 8, Coding: BCD}
	v = bcd.Decode(0x1a)
	assert.Contains(t, v.Meaning(), "a digit is A")
}

func TestText(t *testing.T) {
	for text, r := range map[string]*big.Rat{"0.25": big.NewRat(1, 4), "-3": big.NewRat(-3, 1), "0.333333333": big.NewRat(1, 3), "0.0078125": big.NewRat(1, 128)} {
		assert.Equal(t, text, Text(r))
	}
	for _, bad := range []string{"", "x", "1/0 Pa", "Pa"} {
		_, _, err := ParseQuantity(bad)
		assert.Error(t, err, bad)
	}
	r, unit, err := ParseQuantity("1/128 °C")
	require.NoError(t, err)
	assert.Equal(t, "°C", unit)
	assert.Equal(t, "1/128", r.String())
}

func FuzzEncode(f *testing.F) {
	for _, s := range []string{"25 Hz", "0x1F", "-1.5e3 °C", "1/3", "0b1", "raw"} {
		f.Add(s, 16, 1)
	}
	f.Fuzz(func(t *testing.T, text string, bits, coding int) {
		form := Format{Bits: 1 + (bits&0x3f)%64, Coding: Coding(uint(coding) % uint(len(names))), Scale: big.NewRat(1, 8), Unit: "°C"}
		if form.Coding.Check(form.Bits) != nil {
			return
		}
		w, err := form.Encode(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		require.Zero(t, w.Raw&^mask(form.Bits))
		_ = w.Meaning()
		_, err = strconv.ParseUint(strings.TrimPrefix(w.Hex(), "0x"), 16, 64)
		require.NoError(t, err)
	})
}
