package can

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
	"gavrix/core/wire/wiretest"
)

func anyFrame(rt *rapid.T) Frame {
	f := Frame{Extended: rapid.Bool().Draw(rt, "extended"), FD: rapid.Bool().Draw(rt, "fd")}
	most := uint32(0x7ff)
	if f.Extended {
		most = 0x1fffffff
	}
	// Long runs of equal bits make stuff bits.
	f.ID = rapid.OneOf(rapid.Uint32Range(0, most), rapid.SampledFrom([]uint32{0, most})).Draw(rt, "id")
	if f.FD {
		f.Switched, f.Passive = rapid.Bool().Draw(rt, "brs"), rapid.Bool().Draw(rt, "esi")
	} else if rapid.IntRange(0, 5).Draw(rt, "remote") == 0 {
		f.Remote, f.DLC = true, rapid.IntRange(0, 8).Draw(rt, "dlc")
		return f
	}
	code := rapid.IntRange(0, 8).Draw(rt, "code")
	if f.FD {
		code = rapid.IntRange(0, 15).Draw(rt, "fd code")
	}
	b := rapid.OneOf(rapid.Byte(), rapid.SampledFrom([]byte{0, 0xff, 0x0f, 0xf8}))
	f.Data = rapid.SliceOfN(b, Length(code, f.FD), Length(code, f.FD)).Draw(rt, "data")
	f.DLC = code
	return f
}

const lead = 100 * quantity.Microsecond

func decode(d *Decoder, tog []quantity.Time, end quantity.Time, cut wiretest.Cut) []record.Record {
	out := &record.List{}
	wiretest.Feed([][]quantity.Time{tog}, []bool{true}, end, cut, func(ws []wire.Window) { d.Feed(ws, out) })
	d.Flush(out)
	return out.Done
}

var timing = UsualTiming(500*quantity.Kilobaud, 2*quantity.Megabaud)

func frameOf(r *record.Record) Frame {
	f := Frame{
		ID: r.ID, Extended: r.Attr&record.Extended != 0, Remote: r.Attr&record.Remote != 0, FD: r.Attr&record.FD != 0,
		Switched: r.Attr&record.Switched != 0, Passive: r.Attr&record.Passive != 0, DLC: int(r.Bits),
	}
	if len(r.Data) > 0 {
		f.Data = append([]byte(nil), r.Data...)
	}
	return f
}

func TestDecodeIsTheInverseOfBuild(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var tog []quantity.Time
		var want []Frame
		at := lead
		bit := timing.Nominal.Bit.Times(1)
		for range rapid.IntRange(1, 4).Draw(rt, "frames") {
			f := anyFrame(rt)
			require.NoError(rt, f.Check())
			start := at
			tog, at = Encode(tog, Build(f, true), timing, at)
			require.InDelta(rt, float64(Duration(f, timing)), float64(at-start), 1)
			want = append(want, f)
			at += bit * quantity.Time(rapid.IntRange(3, 20).Draw(rt, "pause"))
		}
		end := at + 20*bit
		a := decode(NewDecoder(timing, 2), tog, end, wiretest.Whole(end))
		b := decode(NewDecoder(timing, 2), tog, end, wiretest.AtRandom(rt, end, 10))
		require.Equal(rt, a, b)
		require.Len(rt, a, len(want))
		for i := range a {
			got := frameOf(&a[i])
			if len(want[i].Data) == 0 {
				want[i].Data = nil
			}
			require.Equal(rt, want[i], got)
			require.Zero(rt, a[i].AllFlags(), a[i].Text)
		}
	})
}

// TestAFlippedBitIsNeverTakenForAFrame flips one bit of a frame on the wire:
// it must never be read as a whole frame without a mark.
func TestAFlippedBitIsNeverTakenForAFrame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		b := Build(f, true)
		// All bits but the acknowledge slot, whose flip is another fault, its
		// delimiter in the flexible data rate format, where the slot may take
		// two bits, and the last of the end of frame, which receivers let pass.
		i := rapid.IntRange(0, len(b.Bits)-2).Draw(rt, "bit")
		if b.Bits[i].Field == AckDelimiter && f.FD {
			i--
		}
		if b.Bits[i].Field == AckSlot {
			i--
		}
		b.Bits[i].Recessive = !b.Bits[i].Recessive
		// As other nodes would, an error flag and its delimiter follow.
		tog, end := Encode(nil, b, timing, lead)
		end += 40 * timing.Nominal.Bit.Times(1)
		for _, r := range decode(NewDecoder(timing, 0), tog, end, wiretest.Whole(end)) {
			if r.AllFlags() == 0 {
				rt.Fatalf("bit %d (%s): read as %+v", i, b.Bits[i].Field, frameOf(&r))
			}
		}
	})
}

// text gives the bits of a frame with stuff bits in brackets.
func text(b Built) string {
	var s strings.Builder
	for _, x := range b.Bits {
		c := "0"
		if x.Recessive {
			c = "1"
		}
		if x.Stuff {
			c = "[" + c + "]"
		}
		s.WriteString(c)
	}
	return s.String()
}

func TestTheFrameOfTheWorkedExample(t *testing.T) {
	b := Build(Frame{ID: 0x2a5, Data: []byte{0x3c, 0x81}}, true)
	assert.Equal(t, uint32(0x1772), b.Check)
	assert.Equal(t, 2, b.Stuffed)
	assert.Len(t, b.Bits, 62)
	tm := UsualTiming(250*quantity.Kilobaud, 0)
	assert.Equal(t, 248*quantity.Microsecond, Duration(Frame{ID: 0x2a5, Data: []byte{0x3c, 0x81}}, tm))
	// By hand: start 0; identifier 2A5 = 01010100101; remote 0; extension 0;
	// reserved 0; length 0010. The zeros of remote, extension, reserved and
	// length make five in a row at the length's second zero: 1·0 0 0 0 0, so a
	// 1 is stuffed before the length's 1. Data 3C = 00111100, 81 = 10000001:
	// five zeros inside, a 1 stuffed. Check 1772 = 001011101110010. Delimiter 1,
	// acknowledge 0, delimiter 1, end of frame 1111111.
	assert.Equal(t, "0"+"01010100101"+"000"+"00[1]10"+"00111100"+"100000[1]01"+"001011101110010"+"1"+"0"+"1"+"1111111", text(b))
}

func TestCheckSequencesOfTheDigits(t *testing.T) {
	run := func(c crc) uint32 {
		for _, b := range []byte("123456789") {
			for k := 7; k >= 0; k-- {
				c.add(b>>k&1 == 1)
			}
		}
		return c.value
	}
	assert.Equal(t, uint32(0x059e), run(crc15()))
	assert.Equal(t, uint32(0x04f03), run(crc{width: 17, poly: poly17}))
	assert.Equal(t, uint32(0x0ed841), run(crc{width: 21, poly: poly21}))
	assert.Equal(t, uint32(0x09d9b), run(crc17()))
	assert.Equal(t, uint32(0x1323d8), run(crc21()))
}

// TestFixedStuffBits derives the end of an FD frame by hand: with a base
// identifier of 555, no data and no rate switch nothing is stuffed before the
// length code's four zeros, which follow the state indicator's zero and the
// rate switch's zero: 1 (format) 0 (reserved) 0 0 | 0 0 0 0 makes five zeros
// at the second zero of the length code, so one 1 is stuffed there.
func TestFixedStuffBits(t *testing.T) {
	b := Build(Frame{ID: 0x555, FD: true}, true)
	assert.Equal(t, 1, b.Stuffed)
	s := text(b)
	// start, identifier 10101010101, remote 0, extension 0, format 1,
	// reserved 0, switch 0, state 0, length 00[1]00
	require.True(t, strings.HasPrefix(s, "0"+"10101010101"+"0"+"0"+"1"+"0"+"0"+"0"+"00[1]00"), s)
	// One stuff bit: count 1 is 001 in Gray code, its parity 1. The fixed stuff
	// bit before it is unlike the length's last 0.
	rest := s[len("0"+"10101010101"+"0"+"0"+"1"+"0"+"0"+"0"+"00[1]00"):]
	require.True(t, strings.HasPrefix(rest, "[1]"+"0011"+"[0]"), rest)
	assert.Equal(t, 6, b.Fixed, "a 17-bit check sequence")
	assert.Equal(t, 7, Build(Frame{FD: true, Data: make([]byte, 20)}, true).Fixed, "a 21-bit one")
}

func TestStuffBitsNeverExceedTheBound(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		require.LessOrEqual(rt, Build(f, true).Stuffed, MostStuffBits(f))
	})
	// By brute force, all base identifiers with no data and with one byte.
	for _, n := range []int{0, 1} {
		most := 0
		for id := range uint32(0x800) {
			for v := range 256 {
				f := Frame{ID: id}
				if n == 1 {
					f.Data = []byte{byte(v)}
				} else if v > 0 {
					break
				}
				most = max(most, Build(f, true).Stuffed)
			}
		}
		assert.LessOrEqual(t, most, MostStuffBits(Frame{Data: make([]byte, n)}), "%d bytes", n)
		assert.GreaterOrEqual(t, most, MostStuffBits(Frame{Data: make([]byte, n)})-3, "%d bytes: the bound is near", n)
	}
	// 12 messages of 8 bytes every 10 ms at 250 kbit/s: 111 bits with the gap
	// without stuffing, at most 135.
	f := Frame{ID: 0x100, Data: make([]byte, 8)}
	plain := len(Build(f, true).Bits) - Build(f, true).Stuffed + 3
	assert.Equal(t, 111, plain)
	assert.Equal(t, 135, plain+MostStuffBits(f))
}

func TestErrorsAreNamed(t *testing.T) {
	bit := timing.Nominal.Bit.Times(1)
	base := Frame{ID: 0x2a5, Data: []byte{0x3c, 0x81, 0x55}}
	see := func(change func(bs []Bit)) record.Record {
		b := Build(base, true)
		change(b.Bits)
		tog, end := Encode(nil, b, timing, lead)
		rs := decode(NewDecoder(timing, 0), tog, end+40*bit, wiretest.Whole(end+40*bit))
		require.NotEmpty(t, rs)
		return rs[0]
	}
	flip := func(f Field, index int, stuff bool) func([]Bit) {
		return func(bs []Bit) {
			for i := range bs {
				if bs[i].Field == f && bs[i].Index == index && bs[i].Stuff == stuff {
					bs[i].Recessive = !bs[i].Recessive
					return
				}
			}
			t.Fatalf("no bit %s %d", f, index)
		}
	}
	r := see(flip(LengthCode, 0, true)) // the stuff bit in the length code: six zeros
	assert.Equal(t, record.Stuff|record.ErrorFlag, r.AllFlags())
	assert.Contains(t, r.Text, "in the length code")
	r = see(flip(DataField, 17, false))
	assert.Equal(t, record.CheckSequence, r.AllFlags())
	assert.Contains(t, r.Text, "check sequence does not fit")
	r = see(flip(CheckDelimiter, 0, false))
	assert.Equal(t, record.Form, r.AllFlags())
	assert.Contains(t, r.Text, "check delimiter")
	r = see(flip(AckSlot, 0, false))
	assert.Equal(t, record.NotAcknowledged, r.AllFlags())
	assert.Equal(t, base.Data, r.Data)
	r = see(flip(EndOfFrame, 2, false))
	assert.Equal(t, record.Form|record.ErrorFlag, r.AllFlags())
	assert.Contains(t, r.Text, "end of frame")

	// An overload flag in the first bit of the intermission.
	tog, end := Encode(nil, Build(base, true), timing, lead)
	tog = append(tog, end, end+6*bit)
	rs := decode(NewDecoder(timing, 0), tog, end+60*bit, wiretest.Whole(end+60*bit))
	require.Len(t, rs, 2)
	assert.Zero(t, rs[0].AllFlags())
	assert.Equal(t, record.Overload, rs[1].AllFlags())

	// A passive error flag: six recessive bits in the data.
	b := Build(Frame{ID: 0x2a5, Data: []byte{0xaa, 0xaa}}, true)
	cut := b.Bits[:24]
	var passive []Bit
	passive = append(passive, cut...)
	for range 20 {
		passive = append(passive, Bit{Recessive: true, Field: DataField})
	}
	tog, end = Encode(nil, Built{Bits: passive}, timing, lead)
	rs = decode(NewDecoder(timing, 0), tog, end+60*bit, wiretest.Whole(end+60*bit))
	require.Len(t, rs, 1)
	assert.Equal(t, record.Stuff, rs[0].AllFlags())
}

// TestClockMismatch: within the smaller of the two limits that the standard
// sets for a node, doubled for a pair, every frame decodes.
func TestClockMismatch(t *testing.T) {
	node := func(sample, jump float64) float64 {
		phase2 := 1 - sample
		return min(jump/20, min(phase2, sample)/(2*(13-phase2)))
	}
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		f.Switched = false
		sent := UsualTiming(500*quantity.Kilobaud, 0)
		limit := 2 * node(sent.Nominal.Sample, sent.Nominal.Jump)
		off := rapid.Float64Range(-0.95*limit, 0.95*limit).Draw(rt, "off")
		read := sent
		read.Nominal.Bit = sent.Nominal.Bit.Scaled(quantity.PPM(off * 1e6))
		tog, end := Encode(nil, Build(f, true), sent, lead)
		end += 40 * sent.Nominal.Bit.Times(1)
		rs := decode(NewDecoder(read, 0), tog, end, wiretest.Whole(end))
		require.Len(rt, rs, 1)
		require.Zero(rt, rs[0].AllFlags(), "%.3f %%: %s", 100*off, rs[0].Text)
		require.Equal(rt, f.ID, rs[0].ID)
	})
	// Far outside, nothing whole is read.
	f := Frame{ID: 0x0f0, Data: []byte{0xf0, 0xf0, 0xf0, 0xf0}}
	read := timing
	read.Nominal.Bit = timing.Nominal.Bit.Scaled(60_000)
	tog, end := Encode(nil, Build(f, true), timing, lead)
	end += 40 * timing.Nominal.Bit.Times(1)
	for _, r := range decode(NewDecoder(read, 0), tog, end, wiretest.Whole(end)) {
		assert.NotZero(t, r.AllFlags())
	}
}

// TestALineHeldDominant: hours of it cost nothing, and a frame after it decodes.
func TestALineHeldDominant(t *testing.T) {
	f := Frame{ID: 0x123, Data: []byte{1, 2, 3}, DLC: 3}
	hours := 30 * 3600 * quantity.Second
	tog := []quantity.Time{lead, lead + hours}
	tog, end := Encode(tog, Build(f, true), timing, 2*lead+hours)
	end += lead
	rs := decode(NewDecoder(timing, 0), tog, end, wiretest.Whole(end))
	require.NotEmpty(t, rs)
	last := rs[len(rs)-1]
	assert.Equal(t, f, frameOf(&last))
	assert.Zero(t, last.AllFlags())
	require.Equal(t, rs, decode(NewDecoder(timing, 0), tog, end, wiretest.Steps(777*quantity.Second)))
}

func TestLengthCodes(t *testing.T) {
	c, pad, ok := Code(20, true)
	assert.True(t, ok)
	assert.Equal(t, 11, c)
	assert.Zero(t, pad)
	c, pad, _ = Code(33, true)
	assert.Equal(t, []int{14, 15}, []int{c, pad})
	_, _, ok = Code(9, false)
	assert.False(t, ok)
	for _, bad := range []Frame{{ID: 0x800}, {ID: 1 << 29, Extended: true}, {Remote: true, FD: true}, {Switched: true}, {Data: make([]byte, 9)}, {FD: true, Data: make([]byte, 9)}, {DLC: 16}} {
		assert.Error(t, bad.Check(), fmt.Sprintf("%+v", bad))
	}
	for _, bad := range []Timing{{}, {Nominal: Phase{Bit: 1000, Sample: 2}}, UsualTiming(0, 0)} {
		assert.Error(t, bad.Check())
	}
	assert.NoError(t, timing.Check())
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte{10, 20, 30, 255, 255, 3}, uint8(7))
	f.Fuzz(func(t *testing.T, raw []byte, cut uint8) {
		at := lead
		var tog []quantity.Time
		for _, b := range raw {
			at += 1 + quantity.Time(b)*quantity.Time(200_000/8)
			tog = append(tog, at)
		}
		end := at + lead
		a := decode(NewDecoder(timing, 0), tog, end, wiretest.Whole(end))
		b := decode(NewDecoder(timing, 0), tog, end, wiretest.Steps(1_000_000+quantity.Time(cut)*123_457))
		require.Equal(t, a, b)
	})
}

type discard struct{}

func (discard) Put(*record.Record)  {}
func (discard) Open(*record.Record) {}

func BenchmarkDecode(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 2))
	var tog []quantity.Time
	at := lead
	for range 3000 {
		f := Frame{ID: rng.Uint32() & 0x7ff, Data: make([]byte, 8)}
		for i := range f.Data {
			f.Data[i] = byte(rng.Uint32())
		}
		tog, at = Encode(tog, Build(f, true), timing, at)
		at += 3 * timing.Nominal.Bit.Times(1)
	}
	end := at + lead
	b.ReportAllocs()
	for b.Loop() {
		d := NewDecoder(timing, 0)
		d.Feed([]wire.Window{{To: end, High: true, Toggles: tog}}, discard{})
	}
	b.ReportMetric(float64(len(tog))*float64(b.N)/b.Elapsed().Seconds()/1e6, "Medges/s")
}
