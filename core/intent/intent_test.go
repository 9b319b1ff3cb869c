package intent_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// settings are those of the buses in these tests.
var settings = map[string]string{
	"uart": "{rate: 28800, frame: 7E1}", "spi": "{mode: 1}", "i2c": "{}", "can": "{rate: 250000}",
	"pulse": "{zero: 0.2 to 0.5 us, one: 0.6 to 1 us, low: 0.3 to 5 us, latch: 50us, element: 12}",
}

func planned(t require.TestingT, kind, text string) *intent.Plan {
	k := all.ByName(kind)
	s, err := decode.ParseSettings(k, settings[kind])
	require.NoError(t, err)
	p, err := intent.New(k, []bus.Settings{s}, text, quantity.Microsecond)
	require.NoError(t, err, "%s: %s", kind, text)
	return p
}

func decoded(p *intent.Plan, lines []wire.Window) []record.Record {
	d := p.Kind.Decoder(0, p.Ends)
	var out record.List
	d.Feed(lines, &out)
	d.Flush(&out)
	return out.Done
}

var plans = map[string][]string{
	"uart":  {`device "L=4.82"`, `mcu 31 .. 0A`, `"x"`},
	"spi":   {"out 83 00 00 in .. 40 48", "out 12", "in 7F 80"},
	"i2c":   {"start 3A ack 07 ack restart 3B ack .. nack stop", "start 3A nack stop"},
	"can":   {"2A0 10 00 7F", "18FF50E5 01 02", "2A0 remote 4", "1B4 switch 01 02 03 04", "2A0 10 .. 7F", "1B4 switch 01 .. 03 .."},
	"pulse": {"3C0 .. 010"},
}

// A plan agrees with itself, and its open bits are just those written as such.
func TestPlanAgreesWithItself(t *testing.T) {
	for kind, texts := range plans {
		for _, text := range texts {
			p := planned(t, kind, text)
			require.NotEmpty(t, p.Bits, text)
			assert.Empty(t, p.Compare(intent.BitsOf(p.Kind, p.Ends, &p.Record, p.Lines), nil), text)
			assert.Zero(t, p.Record.AllFlags()&^record.NotAcknowledged, text)
			open := 0
			for _, b := range p.Bits {
				if b.Open {
					open++
				}
			}
			want := map[string]int{`mcu 31 .. 0A`: 8, "out 83 00 00 in .. 40 48": 8, "out 12": 8, "in 7F 80": 16, "3C0 .. 010": 12}[text]
			switch {
			case kind == "can":
				want = 1 // the acknowledge
				if n := strings.Count(text, ".."); n > 0 {
					want += 8*n + map[bool]int{false: 15, true: 21}[strings.Contains(text, "switch")]
				}
			case kind == "uart" && want > 0:
				want-- // seven bits and their parity, which is even either way or not
			case strings.Contains(text, "3B ack .."):
				want = 8
			}
			if kind == "uart" && want > 0 {
				assert.Contains(t, []int{7, 8}, open, text)
			} else {
				assert.Equal(t, want, open, "%s: %s", kind, text)
			}
		}
	}
}

// One bit turned round on the wire is found: the only difference, at that bit.
func TestPlantedBit(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		kind := rapid.SampledFrom([]string{"uart", "spi", "i2c"}).Draw(rt, "kind")
		text := rapid.SampledFrom(plans[kind]).Draw(rt, "plan")
		p := planned(rt, kind, text)
		i := rapid.IntRange(0, len(p.Bits)-1).Draw(rt, "bit")
		b := p.Bits[i]
		// Without its start bit a character is none; an acknowledge may be
		// turned.
		if b.Open || b.Name == "start" || b.Name == "stop" {
			rt.Skip()
		}
		lines := append([]wire.Window(nil), p.Lines...)
		from, to := b.From, b.To
		if kind == "i2c" {
			// From a quarter into the low clock to a quarter into the next.
			from, to = b.From+250*quantity.Nanosecond, b.To+250*quantity.Nanosecond
		}
		lines[b.Line] = flipped(lines[b.Line], from, to)
		rs := decoded(p, lines)
		require.NotEmpty(rt, rs)
		ds := p.Compare(intent.BitsOf(p.Kind, p.Ends, &rs[0], lines), nil)
		require.Len(rt, ds, 1, "%s: bit %d", text, i)
		assert.Equal(rt, b.From, ds[0].From)
		assert.Equal(rt, b.Name, ds[0].Want.Name)
		assert.Equal(rt, !b.High, ds[0].High)
		assert.True(rt, p.Meant(intent.BitsOf(p.Kind, p.Ends, &rs[0], lines), ds))
	})
}

// flipped turns the level of a stretch round.
func flipped(w wire.Window, from, to quantity.Time) wire.Window {
	count := map[quantity.Time]int{from: 1, to: 1}
	for _, t := range w.Toggles {
		count[t]++
	}
	out := wire.Window{From: w.From, To: w.To, High: w.High}
	for _, t := range slices.Sorted(maps.Keys(count)) {
		if count[t]%2 == 1 {
			out.Toggles = append(out.Toggles, t)
		}
	}
	return out
}

// A byte that is not the planned one differs in the bits in which the values do.
func TestOtherByte(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a, b := rapid.Byte().Draw(rt, "planned"), rapid.Byte().Draw(rt, "seen")
		p := planned(rt, "spi", fmt.Sprintf("out 11 %02X 22", a))
		q := planned(rt, "spi", fmt.Sprintf("out 11 %02X 22", b))
		var want []string
		for bit := 7; bit >= 0; bit-- {
			if (a^b)>>bit&1 == 1 {
				want = append(want, fmt.Sprintf("bit %d, b%d of %02X, is %d instead of %d", 16-bit, bit, a, b>>bit&1, a>>bit&1))
			}
		}
		var got []string
		for _, d := range p.Compare(q.Bits, nil) {
			got = append(got, d.String())
		}
		assert.Equal(rt, want, got)
	})
}

func TestShorterAndLonger(t *testing.T) {
	p, q := planned(t, "i2c", "start 3A ack 07 ack stop"), planned(t, "i2c", "start 3A ack stop")
	ds := p.Compare(q.Bits, nil)
	require.Len(t, ds, 1)
	assert.Equal(t, "bit 10, b7 of 07, is missing", ds[0].String())
	ds = q.Compare(p.Bits, nil)
	require.Len(t, ds, 1)
	assert.Equal(t, "goes on after the plan, with bit 10", ds[0].String())
	assert.False(t, q.Meant(p.Bits, ds), "another transaction")
}

func TestBadPlans(t *testing.T) {
	for text, want := range map[string]string{
		"uart " + `mcu "open`:        "not closed",
		"uart ":                      "no characters",
		"uart 100":                   "7 bits",
		"uart " + `"` + "\xff" + `"`: "fit 7 data bits",
		"spi out 1 2 in 3":           "both directions have as many",
		"spi ":                       "no words",
		"spi out 123":                "8 bits",
		"i2c 3A ack":                 "begins with start",
		"i2c start ack":              "before any byte",
		"i2c start 3A ack stop 3":    "after the stop",
		"i2c start 3A restart":       "address byte comes after",
		"can 12":                     "no identifier",
		"can 2A0 1 2 3 4 5 6 7 8 9":  "8",
		"can 2A0 remote":             "how many",
		"pulse FFFF":                 "12 bits",
		"pulse ":                     "no elements",
	} {
		kind, plan, _ := strings.Cut(text, " ")
		k := all.ByName(kind)
		s, err := decode.ParseSettings(k, settings[kind])
		require.NoError(t, err)
		_, err = intent.New(k, []bus.Settings{s}, plan, quantity.Microsecond)
		require.ErrorContains(t, err, want, text)
		assert.ErrorContains(t, err, "as in: ")
	}
	_, err := intent.New(all.Undescribed([]string{"x"}), nil, "1", 1)
	assert.Error(t, err)
}

// Plans never panic, whatever is written.
func FuzzPlan(f *testing.F) {
	for kind, texts := range plans {
		for _, t := range texts {
			f.Add(kind, t)
		}
	}
	f.Fuzz(func(t *testing.T, kind, text string) {
		k := all.ByName(kind)
		if k == nil || len(text) > 200 {
			return
		}
		s, err := decode.ParseSettings(k, settings[kind])
		require.NoError(t, err)
		p, err := intent.New(k, []bus.Settings{s}, text, quantity.Microsecond)
		if err == nil && len(p.Compare(p.Bits, nil)) > 0 {
			t.Fatal("a plan differs from itself")
		}
	})
}

// TestOpenBytesOfFrames: a frame with open bytes is met by one with any bytes in their
// places, and by no other.
func TestOpenBytesOfFrames(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 8).Draw(t, "bytes")
		data := rapid.SliceOfN(rapid.Byte(), n, n).Draw(t, "data")
		open := rapid.SliceOfN(rapid.Bool(), n, n).Draw(t, "open")
		format := rapid.SampledFrom([]string{"", "fd ", "switch "}).Draw(t, "format")
		full, with := "2A0 "+format, "2A0 "+format
		wrong := -1
		for i, b := range data {
			full += fmt.Sprintf("%02X ", b)
			if open[i] {
				with += ".. "
				continue
			}
			with += fmt.Sprintf("%02X ", b)
			wrong = i
		}
		p, seen := planned(t, "can", with), planned(t, "can", full)
		differs, meant := p.Read(&seen.Record)
		require.True(t, meant)
		require.Empty(t, differs)
		require.Empty(t, p.Compare(seen.Bits, nil), with)
		if wrong >= 0 {
			data[wrong] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
			full = "2A0 " + format
			for _, b := range data {
				full += fmt.Sprintf("%02X ", b)
			}
			seen = planned(t, "can", full)
			differs, _ = p.Read(&seen.Record)
			require.Len(t, differs, 1)
			require.NotEmpty(t, p.Compare(seen.Bits, nil))
		}
	})
}
