package pulse

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/wiretest"
)

const us = quantity.Microsecond

// strip is a coding with a short and a long high time.
func strip() Settings {
	return Settings{
		Zero:  Symbol{High: Range{us * 2 / 10, us * 5 / 10}, Low: Range{us * 6 / 10, 5 * us}},
		One:   Symbol{High: Range{us * 65 / 100, us}, Low: Range{us * 3 / 10, 5 * us}},
		Latch: 50 * us, Element: 12,
	}
}

func decode(s Settings, tog []quantity.Time, end quantity.Time, cut wiretest.Cut) []record.Record {
	d := NewDecoder(s, 0)
	out := &record.List{}
	wiretest.Feed([][]quantity.Time{tog}, []bool{false}, end, cut, func(ws []wire.Window) { d.Feed(ws, out) })
	d.Flush(out)
	return out.Done
}

func TestDecodeIsTheInverseOfEncode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := strip()
		s.Element, s.LSBFirst = rapid.IntRange(1, 32).Draw(rt, "element"), rapid.Bool().Draw(rt, "lsb")
		require.NoError(rt, s.Check())
		var tog []quantity.Time
		var want [][]uint32
		at := 10 * us
		for range rapid.IntRange(1, 4).Draw(rt, "latches") {
			es := rapid.SliceOfN(rapid.Uint32Range(0, uint32(uint64(1)<<s.Element-1)), 1, 20).Draw(rt, "elements")
			tog, at = Encode(tog, s, at, es...)
			want = append(want, es)
			at += s.Latch + quantity.Time(rapid.Int64Range(0, int64(100*us)).Draw(rt, "pause"))
		}
		end := at + s.Latch
		a := decode(s, tog, end, wiretest.Whole(end))
		require.Equal(rt, a, decode(s, tog, end, wiretest.AtRandom(rt, end, 10)))
		require.Len(rt, a, len(want))
		for i := range a {
			require.Equal(rt, want[i], Elements(&a[i]))
			require.Zero(rt, a[i].AllFlags())
		}
	})
}

// TestBitsOfAClockedLine: with three bits for one, 110 for a one and 100 for a
// zero, A0 becomes D3 49 24, and the clocked line's levels decode to A0 again.
func TestBitsOfAClockedLine(t *testing.T) {
	s := strip()
	s.Element = 8
	p := Patterns{Zero: 0b100, One: 0b110, Bits: 3}
	require.NoError(t, p.Check())
	assert.Equal(t, []byte{0xd3, 0x49, 0x24}, ToClocked(s, p, 0xa0))
	clock := quantity.PeriodOf(quantity.FromBd(2.5e6))
	fit := Fit(s, p, clock, 0)
	assert.True(t, fit.Fits, fit.Wrong)
	assert.Equal(t, us*12/10, fit.Bit)
	fit = Fit(s, p, clock, 60*us)
	assert.True(t, fit.Unwanted)
	assert.Contains(t, fit.Wrong[0], "latches")
	assert.False(t, Fit(s, p, quantity.PeriodOf(quantity.FromBd(1e6)), 0).Fits)
	assert.Equal(t, 5*us-us*8/10, fit.LargestPause)

	rapid.Check(t, func(rt *rapid.T) {
		bits := rapid.IntRange(3, 8).Draw(rt, "bits")
		one := rapid.IntRange(2, bits-1).Draw(rt, "one")
		p := Patterns{Bits: bits, Zero: 1 << (bits - 1), One: (1<<one - 1) << (bits - one)}
		require.NoError(rt, p.Check())
		step := quantity.Time(400_000)
		s := Settings{Latch: 100 * us, Element: rapid.IntRange(1, 24).Draw(rt, "element")}
		mk := func(n int) Range {
			return Range{quantity.Time(n)*step - step/2 + 1, quantity.Time(n)*step + step/2 - 1}
		}
		s.Zero = Symbol{High: mk(1), Low: mk(bits - 1)}
		s.One = Symbol{High: mk(one), Low: mk(bits - one)}
		require.NoError(rt, s.Check())
		es := rapid.SliceOfN(rapid.Uint32Range(0, uint32(uint64(1)<<s.Element-1)), 1, 9).Draw(rt, "elements")
		// The levels of the clocked line, bit by bit.
		var tog []quantity.Time
		at, level := 10*us, false
		for _, b := range ToClocked(s, p, es...) {
			for k := 7; k >= 0; k-- {
				if high := b>>k&1 == 1; high != level {
					level = high
					tog = append(tog, at)
				}
				at += step
			}
		}
		rs := decode(s, tog, at+300*us, wiretest.Whole(at+300*us))
		require.Len(rt, rs, 1)
		require.Equal(rt, es, Elements(&rs[0]))
		require.Zero(rt, rs[0].AllFlags())
	})
}

func TestOutOfTolerance(t *testing.T) {
	s := strip()
	tog, end := Encode(nil, s, 10*us, 0xabc, 0x123)
	tog[6] += us * 20 / 100 // a pulse that begins late, so its low before is long and its high short
	rs := decode(s, tog, end+100*us, wiretest.Whole(end+100*us))
	require.Len(t, rs, 1)
	assert.NotZero(t, rs[0].AllFlags()&record.Glitch)
	// A latch inside an element.
	tog, end = Encode(nil, s, 10*us, 0xabc)
	rs = decode(s, tog[:10], end+100*us, wiretest.Whole(end+100*us))
	require.Len(t, rs, 1)
	assert.Equal(t, record.Short, rs[0].AllFlags())
	assert.Contains(t, rs[0].Text, "5 of 12 bits")
}

func TestBadSettings(t *testing.T) {
	good := strip()
	for _, change := range []func(*Settings){
		func(s *Settings) { s.Zero.High = Range{} }, func(s *Settings) { s.One.High = s.Zero.High },
		func(s *Settings) { s.Latch = us }, func(s *Settings) { s.Element = 33 },
	} {
		s := good
		change(&s)
		assert.Error(t, s.Check())
	}
	exact := good
	exact.Zero.High.Most = exact.Zero.High.Least
	assert.NoError(t, exact.Check(), "a time may be stated without a tolerance")
	for _, p := range []Patterns{{Bits: 1}, {Zero: 0b100, One: 0b101, Bits: 3}, {Zero: 0b100, One: 0b100, Bits: 3}, {Zero: 0b1010, One: 0b1100, Bits: 4}, {Zero: 0b010, One: 0b110, Bits: 3}} {
		assert.Error(t, p.Check(), "%+v", p)
	}
	r, err := ParseRange("0.2 to 0.5 us")
	require.NoError(t, err)
	assert.Equal(t, Range{us / 5, us / 2}, r)
	for _, bad := range []string{"", "1", "5 to 2 us", "0 us"} {
		_, err := ParseRange(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte{3, 8, 8, 3, 200, 255}, uint8(4))
	f.Fuzz(func(t *testing.T, raw []byte, cut uint8) {
		var tog []quantity.Time
		at := quantity.Time(0)
		for _, b := range raw {
			at += 1 + quantity.Time(b)*quantity.Time(b)*us/100
			tog = append(tog, at)
		}
		end := at + 60*us
		require.Equal(t, decode(strip(), tog, end, wiretest.Whole(end)), decode(strip(), tog, end, wiretest.Steps(us/3+quantity.Time(cut)*us)))
	})
}

// TestLabels: elements, bits and the latch are named where they stand.
func TestLabels(t *testing.T) {
	s := strip()
	s.Element = 4
	tog, end := Encode(nil, s, 10*us, 0b1010, 0b0011)
	end += 3 * s.Latch
	rs := decode(s, tog, end, wiretest.Whole(end))
	require.Len(t, rs, 1)
	var fields, bits string
	var latch bus.Label
	for _, l := range Kind.Labels([]bus.Settings{s}, &rs[0], []wire.Window{{To: end, Toggles: tog}}) {
		require.Less(t, l.From, l.To)
		switch l.Kind {
		case bus.FieldLabel:
			fields += l.Text + " "
		case bus.BitLabel:
			bits += l.Text
		case bus.EventLabel:
			latch = l
		}
	}
	assert.Equal(t, "A 3 ", fields)
	assert.Equal(t, "10100011", bits)
	assert.Equal(t, "latch", latch.Text)
	assert.Equal(t, rs[0].End, latch.To)
}

func TestCompare(t *testing.T) {
	a := strip()
	assert.Empty(t, Compare(a, a, "MCU", "strip"))
	b := a
	b.One.High = Range{2 * us, 3 * us}
	b.Latch, b.Element, b.LSBFirst = 80*us, 24, true
	codes := []string{}
	for _, d := range Compare(a, b, "MCU", "strip") {
		codes = append(codes, d.Code)
	}
	assert.Equal(t, []string{"pulse-differs", "latch-differs", "element-differs", "bit-order-differs"}, codes)
}

// TestDuration bounds what Encode takes, whatever the elements.
func TestDuration(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := strip()
		es := rapid.SliceOfN(rapid.Uint32Range(0, 0xfff), 1, 30).Draw(rt, "elements")
		_, end := Encode(nil, s, 0, es...)
		least, most := Duration(s, len(es))
		require.True(rt, least <= end+s.Latch && end+s.Latch <= most)
	})
}
