package can

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
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

// TestFramesByHand holds complete frames that were written down by hand, field
// by field, stuff bits in brackets. The check sequences are remainders of a long
// division: of the bits from the start of frame to the end of the data, with
// as many zeros behind them as the check sequence has bits.
func TestFramesByHand(t *testing.T) {
	data20 := append(bytes.Repeat([]byte{0x55}, 18), 0x00, 0xff)
	for _, c := range []struct {
		name  string
		f     Frame
		check uint32
		wire  []string
	}{
		// Identifier 15555555: 10101010101 | 010101010101010101. The format bits,
		// the remote bit and the length's first zeros make five in a row at the
		// length's second zero. The dividend is 0 10101010101 11
		// 010101010101010101 0 00 0001 10100101.
		{"extended", Frame{ID: 0x15555555, Extended: true, Data: []byte{0xa5}, DLC: 1}, 0x1594, []string{
			"0", "10101010101", "1", "1", "010101010101010101", "0", "0", "0", "00[1]01", "10100101", "001010110010100", "1", "0", "1", "1111111",
		}},
		// A remote frame has the length it asks for and no data: 0 00100100011
		// 1 0 0 0011 is all that is divided. No five equal bits anywhere.
		{"remote", Frame{ID: 0x123, Remote: true, DLC: 3}, 0x10af, []string{
			"0", "00100100011", "1", "0", "0", "0011", "001000010101111", "1", "0", "1", "1111111",
		}},
		// Identifier 00F80FF0: 00000111110 | 000000111111110000. The start's zero
		// and the identifier's first four are five: 1 stuffed. It is not one of
		// the five ones that follow the fifth zero: behind the 1 comes 0, then
		// 11111, then a stuffed 0 before the identifier's last 0. The same in the
		// second part, behind the two ones between the parts. Remote 1, then
		// zeros: 1 stuffed at the fifth, in the length.
		{"extended remote", Frame{ID: 0x00f80ff0, Extended: true, Remote: true}, 0x09e2, []string{
			"0", "0000[1]011111[0]0", "1", "1", "00000[1]011111[0]1110000", "1", "0", "0", "000[1]0", "000100111100010", "1", "0", "1", "1111111",
		}},
		// Nothing is stuffed before the zeros of switch, state and length: with
		// the reserved bit five at the length's second. One stuff bit: its count
		// is 001 in Gray code, parity 1. The fixed bits are each unlike the bit
		// before. Divided is the start with all stuff bits of the first kind and
		// the stuff count, the first 17 bits of it changed by the start value
		// 10000000000000000: 0 10101010101 0 0 1 0 0 0 00100 0011.
		{"fd", Frame{ID: 0x555, FD: true}, 0x05e0f, []string{
			"0", "10101010101", "0", "0", "1", "0", "0", "0", "00[1]00", "[1]0011", "[0]0010[1]1111[0]0000[1]0111[0]1", "1", "0", "1", "1111111",
		}},
		// No stuff bit at all: count 000, parity 0.
		{"fd extended, switched", Frame{ID: 0x0aaaaaaa, Extended: true, FD: true, Switched: true, Data: []byte{0x12, 0x48}, DLC: 2}, 0x1002c, []string{
			"0", "01010101010", "1", "1", "101010101010101010", "0", "1", "0", "1", "0", "0010", "0001001001001000",
			"[1]0000", "[1]1000[1]0000[1]0001[0]0110[1]0", "1", "0", "1", "1111111",
		}},
		// 20 bytes: length code 1011, and the check sequence of 21 bits. The last
		// two bytes, 00 and FF, hold the two stuff bits: 01 and then eight zeros,
		// a 1 behind five of them; three zeros, then eight ones, a 0 behind five.
		// Count 2 is 011 in Gray code, parity 0.
		{"fd, 20 bytes, error passive", Frame{ID: 0x3c7, FD: true, Switched: true, Passive: true, Data: data20, DLC: 11}, 0x1aef9d, []string{
			"0", "01111000111", "0", "0", "1", "0", "1", "1", "1011", strings.Repeat("01010101", 18), "00000[1]000", "11111[0]111",
			"[0]0110", "[1]1101[0]0111[0]0111[0]1100[1]1110[1]1", "1", "0", "1", "1111111",
		}},
	} {
		require.NoError(t, c.f.Check())
		b := Build(c.f, true)
		assert.Equal(t, c.check, b.Check, c.name)
		assert.Equal(t, strings.Join(c.wire, ""), text(b), c.name)
	}
	assert.Equal(t, 6, Build(Frame{ID: 0x555, FD: true}, true).Fixed, "a 17-bit check sequence")
	assert.Equal(t, 7, Build(Frame{FD: true, Data: data20}, true).Fixed, "a 21-bit one")
}

func TestStuffBitsNeverExceedTheBound(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		require.LessOrEqual(rt, Build(f, true).Stuffed, MostStuffBits(f))
	})
	// Every length code, with the data that stuffs most.
	for code := range 16 {
		for _, fill := range []byte{0x00, 0xff, 0x3c, 0x78, 0xf0, 0xe1, 0xc3, 0x87, 0x0f, 0x1e} {
			for _, fd := range []bool{false, true} {
				for _, id := range []uint32{0, 0x7ff, 0x1e1, 0x60f} {
					f := Frame{ID: id, FD: fd, Data: bytes.Repeat([]byte{fill}, Length(code, fd)), DLC: code}
					require.LessOrEqual(t, Build(f, true).Stuffed, MostStuffBits(f))
				}
			}
		}
	}
	// 12 messages of 8 bytes every 10 ms at 250 kbit/s: 111 bits with the gap
	// without stuffing, at most 135.
	f := Frame{ID: 0x100, Data: make([]byte, 8)}
	plain := len(Build(f, true).Bits) - Build(f, true).Stuffed + 3
	assert.Equal(t, 111, plain)
	assert.Equal(t, 135, plain+MostStuffBits(f))
}

// countStuff counts the stuff bits of the n lowest bits of w, the highest
// first, in the plainest way; also one that is due behind the last of them, if
// so wanted.
func countStuff(w uint64, n int, behind bool) int {
	count, run, last := 0, 0, uint64(2)
	for n--; n >= 0; n-- {
		if run == 5 {
			count++
			last, run = 1-last, 1
		}
		if b := w >> n & 1; b == last {
			run++
		} else {
			last, run = b, 1
		}
	}
	if run == 5 && behind {
		count++
	}
	return count
}

// remainder15 divides the n lowest bits of w with fifteen zeros behind them.
func remainder15(w uint64, n int) uint64 {
	w <<= 15
	for i := n + 14; i >= 15; i-- {
		if w>>i&1 == 1 {
			w ^= (1<<15 | 0x4599) << (i - 15)
		}
	}
	return w
}

// TestTheShortestFramesByBruteForce tries every base frame with no data and
// with one byte: the most stuff bits are what MostStuffBits says, exactly, and
// each frame has as many as Build gives it.
func TestTheShortestFramesByBruteForce(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for n := range 2 {
		for _, fd := range []bool{false, true} {
			most := 0
			for id := range uint64(0x800) {
				for v := range uint64(1) << (8 * n) {
					for k := range uint64(8) {
						f := Frame{ID: uint32(id), FD: fd, DLC: n}
						if n == 1 {
							f.Data = []byte{byte(v)}
						}
						var w uint64
						size := 19 + 8*n
						if fd {
							// Start, identifier, 0 0 1 0, switch and state, length, data. A stuff
							// bit that is due behind them is the fixed one.
							if k > 3 {
								break
							}
							f.Switched, f.Passive = k&2 != 0, k&1 != 0
							w = (id<<4|2)<<6 | k<<4 | uint64(n)
							size += 3
						} else {
							w = id<<7 | uint64(n)
							if n == 0 && k > 0 {
								f.Remote, f.DLC = true, int(k)
								w = id<<7 | 1<<6 | k
							} else if k > 0 {
								break
							}
						}
						w = w<<(8*n) | v
						count := 0
						if fd {
							count = countStuff(w, size, false)
						} else {
							count = countStuff(w<<15|remainder15(w, size), size+15, true)
						}
						most = max(most, count)
						if n == 0 || rng.IntN(100) == 0 {
							if built := Build(f, true).Stuffed; built != count {
								t.Fatalf("%+v: %d stuff bits, by brute force %d", f, built, count)
							}
						}
					}
				}
			}
			assert.Equal(t, most, MostStuffBits(Frame{FD: fd, Data: make([]byte, n)}), "fd %v, %d bytes", fd, n)
		}
	}
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
	assert.Equal(t, record.Form, r.AllFlags())
	assert.Contains(t, r.Text, "form error in the end of frame")
	r = see(func(bs []Bit) {
		for i := range bs {
			if bs[i].Field == EndOfFrame && bs[i].Index < 6 {
				bs[i].Recessive = false
			}
		}
	})
	assert.Equal(t, record.ErrorFlag, r.AllFlags())
	assert.Contains(t, r.Text, "error flag in the end of frame")
	// A wrong check sequence that nobody acknowledged, with and without an error flag
	// behind the slot.
	for _, flagged := range []bool{false, true} {
		r = see(func(bs []Bit) {
			flip(DataField, 17, false)(bs)
			flip(AckSlot, 0, false)(bs)
			for i := range bs {
				if flagged && (bs[i].Field == AckDelimiter || bs[i].Field == EndOfFrame && bs[i].Index < 5) {
					bs[i].Recessive = false
				}
			}
		})
		assert.Equal(t, record.CheckSequence|record.NotAcknowledged, r.AllFlags())
		assert.Regexp(t, "^check sequence does not fit.*nobody acknowledged$", r.Text)
		assert.Equal(t, false, fields(&r)["acknowledged"])
	}

	// An overload flag in the first bit of the intermission.
	tog, end := Encode(nil, Build(base, true), timing, lead)
	tog = append(tog, end, end+6*bit)
	rs := decode(NewDecoder(timing, 0), tog, end+60*bit, wiretest.Whole(end+60*bit))
	require.Len(t, rs, 2)
	assert.Zero(t, rs[0].AllFlags())
	assert.Equal(t, record.Overload, rs[1].AllFlags())
	assert.Equal(t, end, rs[1].Start)
	assert.InDelta(t, float64(end+14*bit), float64(rs[1].End), 1000, "six bits and its delimiter")
	// One in the last bit of the end of a frame, which is good.
	tog, end = Encode(nil, Build(base, true), timing, lead)
	tog = append(tog, end-bit, end+5*bit)
	rs = decode(NewDecoder(timing, 0), tog, end+60*bit, wiretest.Whole(end+60*bit))
	require.Len(t, rs, 2)
	assert.Zero(t, rs[0].AllFlags())
	assert.Equal(t, record.Overload, rs[1].AllFlags())

	// An error flag while nobody sends.
	rs = decode(NewDecoder(timing, 0), []quantity.Time{lead, lead + 6*bit}, lead+60*bit, wiretest.Whole(lead+60*bit))
	require.Len(t, rs, 1)
	assert.Equal(t, record.ErrorFlag, rs[0].AllFlags())
	assert.Equal(t, "error flag while the bus was idle", sentence(&rs[0]))
	assert.NotContains(t, fields(&rs[0]), "identifier")

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

// TestWhatWasNotSentIsNotClaimed breaks frames off with an error flag at each bit: no
// record has more of the frame than had been on the wire.
func TestWhatWasNotSentIsNotClaimed(t *testing.T) {
	bit := timing.Nominal.Bit.Times(1)
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		f.Switched = false
		b := Build(f, true)
		n := rapid.IntRange(2, len(b.Bits)-9).Draw(rt, "whole bits")
		sent := slices.Clone(b.Bits[:n])
		last := sent[n-1]
		for range 6 {
			sent = append(sent, Bit{})
		}
		tog, end := Encode(nil, Built{Bits: sent}, timing, lead)
		rs := decode(NewDecoder(timing, 0), tog, end+60*bit, wiretest.Whole(end+60*bit))
		require.NotEmpty(rt, rs)
		got, said := rs[0], fields(&rs[0])
		// The bits of the flag may look like some more of the frame: up to five, and
		// other stuff bits may be among them.
		at := func(field Field) bool {
			for i := range b.Bits {
				if b.Bits[i].Field == field {
					return i < n+8
				}
			}
			return false
		}
		if id, has := said["identifier"]; has {
			require.True(rt, at(RemoteBit), "identifier %v after %v", id, last)
		}
		if _, has := said["length_code"]; has {
			require.True(rt, at(LengthCode))
		}
		if _, has := said["check_sequence"]; has {
			require.True(rt, at(CheckDelimiter) || at(AckSlot))
		}
		if _, has := said["acknowledged"]; has {
			require.True(rt, at(AckSlot), "acknowledged after %v: %+v", last, got)
		}
		require.NotZero(rt, got.AllFlags())
	})
}

// TestCutOff: a capture that ends at its last change keeps the frame that was sent
// whole; one that ends elsewhere within the frame has a record that says so.
func TestCutOff(t *testing.T) {
	bit := timing.Nominal.Bit.Times(1)
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		tog, end := Encode(nil, Build(f, true), timing, lead)
		want := decode(NewDecoder(timing, 0), tog, end+40*bit, wiretest.Whole(end+40*bit))
		require.Len(rt, want, 1)
		var got record.List
		d := NewDecoder(timing, 0)
		to := tog[len(tog)-1] + 1
		wiretest.Feed([][]quantity.Time{tog}, []bool{true}, to, wiretest.AtRandom(rt, to, 5), func(ws []wire.Window) { d.Feed(ws, &got) })
		d.Rest(&got)
		d.Flush(&got)
		require.Equal(rt, want, got.Done)

		to = lead + 1 + quantity.Time(rapid.Int64Range(0, int64(end-9*bit-lead)).Draw(rt, "end"))
		d, got = NewDecoder(timing, 0), record.List{}
		wiretest.Feed([][]quantity.Time{tog}, []bool{true}, to, wiretest.Whole(to), func(ws []wire.Window) { d.Feed(ws, &got) })
		d.Flush(&got)
		require.Len(rt, got.Done, 1)
		require.Equal(rt, record.CutOff, got.Done[0].AllFlags())
		require.Equal(rt, to, got.Done[0].End)
		require.True(rt, bytes.HasPrefix(f.Data, got.Done[0].Data))
	})
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

// TestLabels: the bits that are labelled are those that were built, whatever
// the frame.
func TestLabels(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		b := Build(f, true)
		tog, end := Encode(nil, b, timing, lead)
		end += lead
		rs := decode(NewDecoder(timing, 0), tog, end, wiretest.Whole(end))
		require.Len(rt, rs, 1)
		w := wire.Window{To: end, High: true, Toggles: tog}
		got := Bits(timing, &rs[0], w)
		require.Len(rt, got, len(b.Bits))
		for i, x := range b.Bits {
			require.Equal(rt, x.Recessive, got[i].Recessive)
			require.Equal(rt, x.Stuff, got[i].Stuff, "bit %d", i)
			if !x.Stuff {
				require.Equal(rt, x.Field, got[i].Field, "bit %d", i)
				require.Equal(rt, x.Index, got[i].Index, "bit %d", i)
			}
			require.True(rt, got[i].Start < got[i].Sample && got[i].Sample < got[i].End)
		}
		text := ""
		for _, l := range Kind.Labels([]bus.Settings{timing}, &rs[0], []wire.Window{w}) {
			if l.Kind == bus.FieldLabel {
				text += l.Text + "; "
			}
		}
		require.Contains(rt, text, fmt.Sprintf("identifier %03X; ", f.ID>>map[bool]int{true: 18}[f.Extended]))
		require.Contains(rt, text, fmt.Sprintf("check sequence %0*X; ", (b.Width+3)/4, b.Check))
		for i, d := range f.Data {
			require.Contains(rt, text, fmt.Sprintf("byte %d %02X; ", i+1, d))
		}
	})
}

func TestCompare(t *testing.T) {
	a := UsualTiming(250*quantity.Kilobaud, 0)
	assert.Empty(t, Compare(a, a, "MCU", "pump"))
	b := UsualTiming(500*quantity.Kilobaud, 0)
	d := Compare(a, b, "MCU", "pump")
	require.Len(t, d, 1)
	assert.Equal(t, "bit-rate-differs", d[0].Code)
	c := a
	c.Nominal.Sample, c.Data.Sample = 0.6, 0.6
	d = Compare(a, c, "MCU", "pump")
	require.Len(t, d, 1)
	assert.True(t, d[0].Harmless)
	assert.Equal(t, "bit-sample-points-far", d[0].Code)
	e := UsualTiming(250*quantity.Kilobaud, 2*quantity.Megabaud)
	assert.Equal(t, "data-rate-differs", Compare(a, e, "MCU", "winch")[0].Code)
}
