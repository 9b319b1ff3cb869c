package packet

import (
	"bytes"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// stuffed is a format in which the first byte never stands inside.
func stuffed() *Format {
	return &Format{
		Begin:  []byte{0x7C},
		Length: &Length{Bytes: 1, Least: 1, Most: 40},
		Check:  &Check{Bits: 16, Polynomial: 0x1021, Start: 0xFFFF, LowFirst: true},
		Escape: &Escape{Byte: 0xE3, Of: []byte{0x7C, 0xE3}, Xor: 0x11},
	}
}

// anyFormat draws a format that works.
func anyFormat(t *rapid.T) *Format {
	f := &Format{Most: rapid.IntRange(1, 60).Draw(t, "most")}
	if rapid.Bool().Draw(t, "begins") {
		f.Begin = rapid.SliceOfN(rapid.Byte(), 1, 3).Draw(t, "begin")
	}
	if rapid.Bool().Draw(t, "has a length") {
		least := rapid.IntRange(0, 3).Draw(t, "least")
		f.Length = &Length{Bytes: rapid.IntRange(1, 2).Draw(t, "length bytes"), LowFirst: rapid.Bool().Draw(t, "low first"), Adds: rapid.IntRange(0, 4).Draw(t, "adds"), Least: least, Most: least + rapid.IntRange(1, 60).Draw(t, "more")}
	}
	if f.Length == nil || rapid.Bool().Draw(t, "ends") {
		f.End = rapid.SliceOfN(rapid.Byte(), 1, 2).Draw(t, "end")
	}
	if rapid.Bool().Draw(t, "checked") {
		f.Check = anyCheck(t)
	}
	if rapid.Bool().Draw(t, "escaped") {
		x := rapid.ByteRange(1, 255).Draw(t, "xor")
		var of []byte
		for _, b := range append([]byte{rapid.Byte().Draw(t, "escape")}, append(bytes.Clone(f.Begin), f.End...)...) {
			if !bytes.Contains(of, []byte{b}) && !bytes.Contains(of, []byte{b ^ x}) {
				of = append(of, b)
			}
		}
		f.Escape = &Escape{Byte: of[0], Of: of, Xor: x}
	}
	if f.Valid() != nil {
		t.Skip("it can't work")
	}
	return f
}

func anyCheck(t *rapid.T) *Check {
	c := &Check{Kind: rapid.SampledFrom([]Kind{CRC, Sum, Xor}).Draw(t, "kind"), Bits: rapid.IntRange(4, 32).Draw(t, "bits"), Hex: rapid.Bool().Draw(t, "hex"),
		Over: rapid.SampledFrom([]Over{OverLength, OverContent, OverAll}).Draw(t, "over"), LowFirst: rapid.Bool().Draw(t, "check low first"), Negated: rapid.Bool().Draw(t, "negated"), Reflected: rapid.Bool().Draw(t, "reflected")}
	if c.Kind == Xor {
		c.Bits = 8
	}
	if c.Hex {
		c.Bits &^= 3
	}
	c.Polynomial = rapid.Uint32().Draw(t, "polynomial")&c.mask() | 1
	c.Start = rapid.Uint32().Draw(t, "start") & c.mask()
	c.Final = rapid.Uint32().Draw(t, "final") & c.mask()
	if rapid.Bool().Draw(t, "marked") {
		c.Mark = rapid.SliceOfN(rapid.Byte(), 1, 2).Draw(t, "mark")
	}
	return c
}

func read(f *Format, stream []byte) []Event {
	var out []Event
	r := NewReader(f, func(e Event) { out = append(out, e) })
	for _, b := range stream {
		r.Take(b, false)
	}
	r.Flush()
	return out
}

// covers holds events to what they promise: they follow each other without a gap.
func covers(t assert.TestingT, events []Event, n int) {
	at := 0
	for _, e := range events {
		if !assert.Equal(t, at, e.From, "events %+v", events) || !assert.Greater(t, e.To, e.From) {
			return
		}
		at = e.To
	}
	assert.Equal(t, n, at)
}

func TestPacketsComeBackAsTheyWereWrapped(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := anyFormat(t)
		var stream []byte
		var want [][]byte
		for range rapid.IntRange(1, 6).Draw(t, "packets") {
			content := rapid.SliceOfN(rapid.Byte(), 0, 64).Draw(t, "content")
			p, err := f.Wrap(content)
			if err != nil {
				continue
			}
			stream, want = append(stream, p...), append(want, content)
		}
		events := read(f, stream)
		covers(t, events, len(stream))
		var got [][]byte
		for _, e := range events {
			require.Equal(t, Good, e.Why, "% X", stream)
			got = append(got, e.Content)
		}
		require.Equal(t, len(want), len(got))
		for i := range want {
			assert.True(t, bytes.Equal(want[i], got[i]), "% X, not % X", got[i], want[i])
		}
	})
}

// TestDamageNeverMakesAPacket turns single bits over in packets with a check that tells
// every such fault, and wants the packets beside them untouched.
func TestDamageNeverMakesAPacket(t *testing.T) {
	f := stuffed()
	rapid.Check(t, func(t *rapid.T) {
		var packets [3][]byte
		var stream []byte
		for i := range packets {
			content := rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(t, "content")
			packets[i], _ = f.Wrap(content)
			if i == 1 {
				at := rapid.IntRange(0, len(packets[i])-1).Draw(t, "byte")
				packets[i][at] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
			}
			stream = append(stream, packets[i]...)
		}
		events := read(f, stream)
		covers(t, events, len(stream))
		var good [][2]int
		for _, e := range events {
			if e.Why == Good {
				good = append(good, [2]int{e.From, e.To})
			}
		}
		a, b := len(packets[0]), len(packets[1])
		assert.Equal(t, [][2]int{{0, a}, {a + b, len(stream)}}, good, "% X", stream)
	})
}

// TestAnEscapeAtTheCut reads a packet that breaks off behind the escape byte.
func TestAnEscapeAtTheCut(t *testing.T) {
	f := stuffed()
	p, err := f.Wrap([]byte{0x7C, 1})
	require.NoError(t, err)
	require.Equal(t, byte(0xE3), p[2])
	events := read(f, append(bytes.Clone(p[:3]), p...))
	require.Len(t, events, 2)
	assert.Equal(t, Cut, events[0].Why)
	assert.Equal(t, Event{Good, 3, 3 + len(p), []byte{0x7C, 1}}, events[1])
}

func TestWhyBytesAreDropped(t *testing.T) {
	f := stuffed()
	good, err := f.Wrap([]byte{0x10, 0x20})
	require.NoError(t, err)
	for _, c := range []struct {
		front string
		why   Why
	}{
		{"\x01\x02", Noise},
		{"\x7C\x02", Cut},
		{"\x7C\x02\x10\xE3\x00", BadEscape},
		{"\x7C\x00", BadLength},
		{"\x7C\x29", BadLength},
		{"\x7C\x01\x10\x00\x00", BadCheck},
	} {
		events := read(f, append([]byte(c.front), good...))
		require.Len(t, events, 2, "% X", c.front)
		assert.Equal(t, c.why, events[0].Why, "% X", c.front)
		assert.Equal(t, Good, events[1].Why)
	}
	events := read(f, good[:4])
	require.Len(t, events, 1)
	assert.Equal(t, Unfinished, events[0].Why)

	var out []Event
	r := NewReader(f, func(e Event) { out = append(out, e) })
	for i, b := range good {
		r.Take(b, i == 2)
	}
	require.Len(t, out, 1)
	assert.Equal(t, Damaged, out[0].Why)
}

// TestAPacketInsideOfADroppedOneIsFound: where the first byte may stand inside of
// packets, a wrong length must not swallow the next packet.
func TestAPacketInsideOfADroppedOneIsFound(t *testing.T) {
	f := &Format{Begin: []byte{0x5A}, Length: &Length{Bytes: 1, Most: 20}, Check: &Check{Kind: Sum, Bits: 8}}
	good, err := f.Wrap([]byte{0x5A, 0x5A, 7})
	require.NoError(t, err)
	events := read(f, append([]byte{0x5A, 3, 9}, good...))
	covers(t, events, 3+len(good))
	last := events[len(events)-1]
	assert.Equal(t, Event{Good, 3, 3 + len(good), []byte{0x5A, 0x5A, 7}}, last)
}

// division is the remainder by long division of polynomials over bits, as a list.
func division(data []byte, c *Check) uint32 {
	var message []bool
	for _, b := range data {
		for i := range 8 {
			k := 7 - i
			if c.Reflected {
				k = i
			}
			message = append(message, b>>k&1 == 1)
		}
	}
	message = append(message, make([]bool, c.Bits)...)
	for i := range c.Bits {
		if c.Start>>(c.Bits-1-i)&1 == 1 {
			message[i] = !message[i]
		}
	}
	for i := 0; i+c.Bits < len(message); i++ {
		if !message[i] {
			continue
		}
		for k := range c.Bits {
			if c.Polynomial>>(c.Bits-1-k)&1 == 1 {
				message[i+1+k] = !message[i+1+k]
			}
		}
	}
	v := uint32(0)
	for i := range c.Bits {
		k := i
		if c.Reflected {
			k = c.Bits - 1 - i
		}
		v <<= 1
		if message[len(message)-c.Bits+k] {
			v |= 1
		}
	}
	return v ^ c.Final
}

func TestChecksAreRemainders(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := anyCheck(t)
		c.Kind = CRC
		data := rapid.SliceOfN(rapid.Byte(), 4, 40).Draw(t, "data")
		assert.Equal(t, division(data, c), c.Of(data))
	})
	ethernet := Check{Bits: 32, Polynomial: 0x04C11DB7, Start: 0xFFFFFFFF, Final: 0xFFFFFFFF, Reflected: true}
	sum := Check{Kind: Sum, Bits: 16}
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 0, 40).Draw(t, "data")
		assert.Equal(t, crc32.ChecksumIEEE(data), ethernet.Of(data))
		assert.Equal(t, (adler32.Checksum(data)-1)&0xFFFF, sum.Of(data))
	})
}

func TestFormatsThatCantWorkAreRefused(t *testing.T) {
	for _, f := range []Format{
		{Begin: []byte{1}},
		{End: []byte{10}},
		{Length: &Length{Bytes: 1, Most: 10}},
		{Begin: []byte{1}, Length: &Length{Bytes: 3, Most: 10}},
		{Begin: []byte{1}, Length: &Length{Bytes: 1, Most: 300}},
		{Begin: []byte{1}, Length: &Length{Bytes: 1, Least: 5, Most: 4}},
		{Begin: []byte{1}, Length: &Length{Bytes: 1, Most: 250, Adds: 8}},
		{End: []byte{10}, Most: 10, Escape: &Escape{Byte: 1, Of: []byte{10}, Xor: 4}},
		{End: []byte{10}, Most: 10, Escape: &Escape{Byte: 1, Of: []byte{1, 10}}},
		{End: []byte{10, 1}, Most: 10, Escape: &Escape{Byte: 1, Of: []byte{1}, Xor: 4}},
		{End: []byte{10}, Most: 10, Escape: &Escape{Byte: 1, Of: []byte{1, 3}, Xor: 2}},
		{End: []byte{10}, Most: 10, Check: &Check{Bits: 40}},
		{End: []byte{10}, Most: 10, Check: &Check{Kind: Xor, Bits: 16}},
		{End: []byte{10}, Most: 10, Check: &Check{Bits: 10, Polynomial: 3, Hex: true}},
		{End: []byte{10}, Most: 10, Check: &Check{Bits: 8, Polynomial: 0x131}},
		{End: []byte{10}, Most: 10, Check: &Check{Bits: 8, Polynomial: 0x30}},
	} {
		assert.ErrorIs(t, f.Valid(), ErrFormat, "%+v", f)
	}
}

func FuzzReader(f *testing.F) {
	f.Add([]byte("\x7C\x02\x10\x20"), uint64(1))
	f.Fuzz(func(t *testing.T, stream []byte, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 1))
		for _, format := range []*Format{
			stuffed(),
			{Begin: []byte{0x5A}, Length: &Length{Bytes: 1, Most: 20}, Check: &Check{Kind: Sum, Bits: 8}},
			{Begin: []byte("#"), End: []byte("\r\n"), Most: 30, Check: &Check{Kind: Xor, Bits: 8, Hex: true}},
			{End: []byte("\n"), Most: 10},
		} {
			mixed := bytes.Clone(stream)
			want := []byte{'1', '2', byte(r.IntN(256))}
			p, err := format.Wrap(want)
			if err == nil {
				// Behind enough that can't be of a packet, a good one is always found.
				mixed = append(mixed, bytes.Repeat([]byte{0}, 64)...)
				mixed = append(append(mixed, format.End...), p...)
			}
			events := read(format, mixed)
			covers(t, events, len(mixed))
			if last := events; err == nil && format.Check != nil && format.Length != nil && len(last) > 0 {
				assert.Equal(t, fmt.Sprintf("% X", want), fmt.Sprintf("% X", last[len(last)-1].Content), "% X", mixed)
			}
		}
	})
}

func BenchmarkReader(b *testing.B) {
	f := stuffed()
	p, _ := f.Wrap(bytes.Repeat([]byte{0x55}, 32))
	stream := bytes.Repeat(p, 100)
	b.SetBytes(int64(len(stream)))
	n := 0
	for b.Loop() {
		r := NewReader(f, func(Event) { n++ })
		for _, x := range stream {
			r.Take(x, false)
		}
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "packets/s")
}

// TestSumsAndXorsBeginSomewhere: a start value counts as if it had come first, and a start value
// of exclusive or that is a byte of the content takes that byte out of it.
func TestSumsAndXorsBeginSomewhere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOf(rapid.Byte()).Draw(t, "data")
		first, final := rapid.Byte().Draw(t, "first"), rapid.Byte().Draw(t, "final")
		for _, kind := range []Kind{Sum, Xor} {
			with := Check{Kind: kind, Bits: 8, Start: uint32(first), Final: uint32(final)}
			plain := Check{Kind: kind, Bits: 8}
			require.Equal(t, plain.Of(append([]byte{first}, data...))^uint32(final), with.Of(data))
		}
		require.Equal(t, (&Check{Kind: Xor, Bits: 8}).Of(data), (&Check{Kind: Xor, Bits: 8, Start: '*'}).Of(append(slices.Clone(data), '*')))
	})
}

// TestAMarkBeforeTheCheck: a sentence of text, as receivers of positions send them: what the star is
// in front of is checked, the star is not.
func TestAMarkBeforeTheCheck(t *testing.T) {
	f := &Format{Begin: []byte("$"), End: []byte("\r\n"), Most: 80, Check: &Check{Kind: Xor, Bits: 8, Hex: true, Over: OverContent, Mark: []byte("*")}}
	require.NoError(t, f.Valid())
	content := "LOCK,7,3.417,m"
	sum := byte(0)
	for i := range len(content) {
		sum ^= content[i]
	}
	raw, err := f.Wrap([]byte(content))
	require.NoError(t, err)
	require.Equal(t, fmt.Sprintf("$%s*%02X\r\n", content, sum), string(raw))
	events := read(f, append([]byte("noise"), raw...))
	require.Equal(t, content, string(events[len(events)-1].Content))
	for i := range raw {
		damaged := slices.Clone(raw)
		damaged[i] ^= 1
		for _, e := range read(f, damaged) {
			require.Empty(t, e.Content)
		}
	}
}
