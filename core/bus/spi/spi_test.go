package spi

import (
	"fmt"
	"math/rand/v2"
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

func anySettings(rt *rapid.T) Settings {
	s := Mode(rapid.IntRange(0, 3).Draw(rt, "mode"))
	s.LSBFirst = rapid.Bool().Draw(rt, "lsb")
	s.Word = rapid.IntRange(4, 32).Draw(rt, "word")
	s.Select = Select(rapid.IntRange(0, 2).Draw(rt, "select"))
	s.Gap = 100_000
	return s
}

// rest gives the resting levels of clock, out, in and select.
func rest(s Settings) []bool {
	return []bool{s.ClockIdleHigh, false, false, s.Select != ActiveHigh}
}

func add(all [][]quantity.Time, l Lines) {
	all[0] = append(all[0], l.Clock...)
	all[1] = append(all[1], l.Out...)
	all[2] = append(all[2], l.In...)
	all[3] = append(all[3], l.Select...)
}

func feed(d *Decoder, s Settings, lines [][]quantity.Time, high []bool, end quantity.Time, cut wiretest.Cut, out record.Sink) {
	n := 4
	if s.Select == NoSelect {
		n = 3
	}
	wiretest.Feed(lines[:n], high[:n], end, cut, func(ws []wire.Window) { d.Feed(ws, out) })
	d.Flush(out)
}

func TestDecodeIsTheInverseOfEncode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anySettings(rt)
		require.NoError(rt, s.Check())
		half := quantity.Time(rapid.Int64Range(2, 20_000).Draw(rt, "half"))
		lines := make([][]quantity.Time, 4)
		var outs, backs [][]uint32
		mask := uint32(uint64(1)<<s.Word - 1)
		at := quantity.Time(1000)
		for range rapid.IntRange(0, 5).Draw(rt, "spans") {
			n := rapid.IntRange(1, 6).Draw(rt, "words")
			var o, b []uint32
			for range n {
				o = append(o, rapid.Uint32().Draw(rt, "out")&mask)
				b = append(b, rapid.Uint32().Draw(rt, "back")&mask)
			}
			l, end := Encode(s, at, half, o, b)
			require.Equal(rt, Duration(s, half, n), end-at)
			add(lines, l)
			outs, backs = append(outs, o), append(backs, b)
			at = end + s.Gap + quantity.Time(rapid.Int64Range(1, 5000).Draw(rt, "pause"))
		}
		end := at + 2*s.Gap
		whole, pieces := &record.List{}, &record.List{}
		feed(NewDecoder(s, 3, record.Device), s, lines, rest(s), end, wiretest.Whole(end), whole)
		feed(NewDecoder(s, 3, record.Device), s, lines, rest(s), end, wiretest.AtRandom(rt, end, 8), pieces)
		require.Equal(rt, whole.Done, pieces.Done)
		require.Len(rt, whole.Done, len(outs))
		for i := range whole.Done {
			r := &whole.Done[i]
			require.Equal(rt, outs[i], Words(r, r.Data))
			require.Equal(rt, backs[i], Words(r, r.Back))
			require.Zero(rt, r.AllFlags())
			require.Equal(rt, len(outs[i]), r.Len())
		}
	})
}

func TestReleaseInsideAWord(t *testing.T) {
	s := Mode(0)
	l, end := Encode(s, 1000, 500, []uint32{0xa5, 0xff}, []uint32{0x5a, 0x00})
	// Released in the middle of the second word, after 3 of its bits.
	cut := l.Clock[2*(8+3)] - 100
	lines := make([][]quantity.Time, 4)
	add(lines, l)
	lines[3] = []quantity.Time{1000, cut}
	out := &record.List{}
	feed(NewDecoder(s, 0, record.Device), s, lines, rest(s), end+10_000, wiretest.Whole(end+10_000), out)
	require.Len(t, out.Done, 1)
	r := out.Done[0]
	assert.Equal(t, []byte{0xa5}, r.Data)
	assert.Equal(t, []byte{0x5a}, r.Back)
	assert.Equal(t, record.Short, r.FlagsAt(1))
	assert.Equal(t, "then 3 of 8 bits: out 111, in 000", r.Text)
}

// TestWrongMode: 6B sent in mode 0 and read in mode 1 falls on the instants of
// change; with the old level still holding it reads 6B.
func TestWrongMode(t *testing.T) {
	l, end := Encode(Mode(0), 1000, 500, []uint32{0x6b}, nil)
	lines := make([][]quantity.Time, 4)
	add(lines, l)
	read := func(shift quantity.Time) byte {
		moved := append([][]quantity.Time{}, lines...)
		moved[1] = nil
		for _, t := range lines[1] {
			moved[1] = append(moved[1], t+shift)
		}
		out := &record.List{}
		feed(NewDecoder(Mode(1), 0, record.Device), Mode(1), moved, rest(Mode(1)), end+5000, wiretest.Whole(end+5000), out)
		return out.Done[0].Data[0]
	}
	assert.Equal(t, byte(0x6b), read(0))
	assert.Contains(t, []byte{0xd6, 0xd7}, read(-1), "the new level is there already")
}

func TestModes(t *testing.T) {
	for n := range 4 {
		assert.Equal(t, n, Mode(n).Mode())
	}
	assert.Equal(t, "mode 3, 8 bits msb first", Mode(3).Describe())
	for _, bad := range []Settings{{Word: 3}, {Word: 33}, {Word: 8, Select: 9}, {Word: 8, Select: NoSelect}} {
		assert.Error(t, bad.Check())
	}
}

// FuzzDecoder feeds arbitrary levels: it must end, and give the same records
// however the stretch is cut.
func FuzzDecoder(f *testing.F) {
	f.Add([]byte{1, 2, 3, 4, 5, 6, 7, 8}, uint8(0), uint8(3))
	f.Fuzz(func(t *testing.T, raw []byte, mode, cut uint8) {
		s := Mode(int(mode) % 4)
		s.Word, s.Select, s.Gap = 4+int(mode)%29, Select(mode%3), 1000
		lines := make([][]quantity.Time, 4)
		at := quantity.Time(0)
		for _, b := range raw {
			at += 1 + quantity.Time(b>>2)*7
			lines[b&3] = append(lines[b&3], at)
		}
		end := at + 5000
		whole, parts := &record.List{}, &record.List{}
		feed(NewDecoder(s, 0, record.Device), s, lines, rest(s), end, wiretest.Whole(end), whole)
		feed(NewDecoder(s, 0, record.Device), s, lines, rest(s), end, wiretest.Steps(1+quantity.Time(cut)*3), parts)
		require.Equal(t, whole.Done, parts.Done)
	})
}

type discard struct{}

func (discard) Put(*record.Record)  {}
func (discard) Open(*record.Record) {}

func BenchmarkDecode(b *testing.B) {
	s := Mode(0)
	rng := rand.New(rand.NewPCG(1, 2))
	lines := make([][]quantity.Time, 4)
	at := quantity.Time(1000)
	for range 2000 {
		var o, k []uint32
		for range 16 {
			o, k = append(o, rng.Uint32()&0xff), append(k, rng.Uint32()&0xff)
		}
		var l Lines
		l, at = Encode(s, at, 50_000, o, k)
		add(lines, l)
		at += 200_000
	}
	var ws []wire.Window
	edges := 0
	for i, h := range rest(s) {
		ws = append(ws, wire.Window{To: at, High: h, Toggles: lines[i]})
		edges += len(lines[i])
	}
	d := NewDecoder(s, 0, record.Device)
	d.Feed(ws, discard{})
	b.ReportAllocs()
	for b.Loop() {
		d.Feed(ws, discard{})
	}
	b.ReportMetric(float64(edges)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Medges/s")
}

// TestOneDataLine: what the MCU sent stands before the turn, what the device
// sent behind it; where the turn is not known nobody is named.
func TestOneDataLine(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anySettings(rt)
		s.Shared = true
		n := rapid.IntRange(1, 5).Draw(rt, "words")
		s.Turn = rapid.IntRange(0, n*s.Word).Draw(rt, "turn")
		mask := uint32(uint64(1)<<s.Word - 1)
		var o, b []uint32
		for range n {
			o, b = append(o, rapid.Uint32().Draw(rt, "out")&mask), append(b, rapid.Uint32().Draw(rt, "back")&mask)
		}
		l, end := Encode(s, 1000, 5000, o, b)
		require.Empty(rt, l.In)
		lines := make([][]quantity.Time, 4)
		add(lines, l)
		end += 10 * s.Gap
		out := &record.List{}
		feed(NewDecoder(s, 0, record.Device), s, lines, rest(s), end, wiretest.AtRandom(rt, end, 8), out)
		require.Len(rt, out.Done, 1)
		r := &out.Done[0]
		gotOut, gotIn := Words(r, r.Data), Words(r, r.Back)
		if s.Turn == 0 {
			require.Equal(rt, o, gotOut)
			require.Empty(rt, gotIn)
			return
		}
		for k := range n {
			for i := range s.Word {
				bit := s.Word - 1 - i
				if s.LSBFirst {
					bit = i
				}
				if k*s.Word+i < s.Turn {
					require.Equal(rt, o[k]>>bit&1, gotOut[k]>>bit&1)
					require.Zero(rt, gotIn[k]>>bit&1)
				} else {
					require.Equal(rt, b[k]>>bit&1, gotIn[k]>>bit&1)
					require.Zero(rt, gotOut[k]>>bit&1)
				}
			}
		}
	})
}

// TestTwoSelects: two devices with modes of their own on the same lines, and a
// mark where both are selected.
func TestTwoSelects(t *testing.T) {
	a, b := Mode(1), Mode(2)
	b.Word, b.LSBFirst = 16, true
	la, end := Encode(a, 1000, 500, []uint32{0x12, 0x34}, []uint32{0xfe, 0xdc})
	// The second device's clock rests high: the line goes there in between.
	lb, end2 := Encode(b, end+5000, 300, []uint32{0xabcd}, []uint32{0x1234})
	clock := append(append(append([]quantity.Time{}, la.Clock...), end+2000), lb.Clock...)
	out := append(append([]quantity.Time{}, la.Out...), lb.Out...)
	in := append(append([]quantity.Time{}, la.In...), lb.In...)
	run := func(overlap quantity.Time) (first, second []record.Record) {
		selA := []quantity.Time{la.Select[0], la.Select[1] + overlap}
		end := end2 + 10_000
		for i, c := range []struct {
			s          Settings
			own, other []quantity.Time
		}{{a, selA, lb.Select}, {b, lb.Select, selA}} {
			l := &record.List{}
			d := NewDecoder(c.s, 0, record.Device)
			wiretest.Feed([][]quantity.Time{clock, out, in, c.own, c.other}, []bool{false, false, false, true, true}, end, wiretest.Steps(777), func(ws []wire.Window) { d.Feed(ws, l) })
			if i == 0 {
				first = l.Done
			} else {
				second = l.Done
			}
		}
		return first, second
	}
	first, second := run(0)
	require.Len(t, first, 1)
	require.Len(t, second, 1)
	assert.Equal(t, []uint32{0x12, 0x34}, Words(&first[0], first[0].Data))
	assert.Equal(t, []uint32{0xabcd}, Words(&second[0], second[0].Data))
	assert.Equal(t, []uint32{0x1234}, Words(&second[0], second[0].Back))
	assert.Zero(t, first[0].AllFlags()|second[0].AllFlags())
	first, second = run(lb.Select[0] - la.Select[1])
	assert.Zero(t, first[0].AllFlags()|second[0].AllFlags(), "one hands over to the other at one instant")
	first, second = run(lb.Select[0] - la.Select[1] + 1)
	assert.NotZero(t, first[0].AllFlags()&record.Clash)
	assert.NotZero(t, second[0].AllFlags()&record.Clash)
}

func TestCompare(t *testing.T) {
	assert.Empty(t, Compare(Mode(0), Mode(0), "MCU", "dev"))
	d := Compare(Mode(0), Mode(1), "MCU", "dev")
	require.Len(t, d, 1)
	assert.Equal(t, "mode-differs", d[0].Code)
	assert.Contains(t, d[0].Effects[0], "at which the other changes")
	assert.Contains(t, Compare(Mode(0), Mode(3), "MCU", "dev")[0].Effects[0], "same edge")
	b := Mode(0)
	b.Word, b.LSBFirst, b.Select, b.Shared = 12, true, ActiveHigh, true
	codes := []string{}
	for _, x := range Compare(Mode(0), b, "MCU", "dev") {
		codes = append(codes, x.Code)
	}
	assert.Equal(t, []string{"bit-order-differs", "word-differs", "select-differs", "wires-differ"}, codes)
	assert.Contains(t, Compare(Mode(0), b, "MCU", "dev")[1].Effects[0], "every 24 bits")
}

// TestLabels: at each sample the lines have the level of the bit that is named
// there.
func TestLabels(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anySettings(rt)
		s.Select = Select(rapid.IntRange(0, 1).Draw(rt, "select"))
		mask := uint32(uint64(1)<<s.Word - 1)
		o, b := []uint32{rapid.Uint32().Draw(rt, "out") & mask, 1}, []uint32{rapid.Uint32().Draw(rt, "back") & mask, 2}
		l, end := Encode(s, 1000, 500, o, b)
		lines := make([][]quantity.Time, 4)
		add(lines, l)
		end += 10_000
		out := &record.List{}
		feed(NewDecoder(s, 0, record.Device), s, lines, rest(s), end, wiretest.Whole(end), out)
		var ws []wire.Window
		for i, h := range rest(s) {
			ws = append(ws, wire.Window{To: end, High: h, Toggles: lines[i]})
		}
		bits, fields := 0, 0
		for _, x := range Kind.Labels([]bus.Settings{s}, &out.Done[0], ws) {
			switch x.Kind {
			case bus.FieldLabel:
				fields++
			case bus.BitLabel:
				words := o
				if x.Line == 2 {
					words = b
				}
				var n int
				_, err := fmt.Sscanf(x.Text, "b%d", &n)
				require.NoError(rt, err)
				at := (x.From + x.To) / 2
				high := false
				for _, y := range ws[x.Line].Toggles {
					if y < at {
						high = !high
					}
				}
				require.Equal(rt, words[bits/2/s.Word]>>n&1 == 1, high)
				bits++
			}
		}
		require.Equal(rt, []int{4, 4 * s.Word}, []int{fields, bits})
	})
}

// TestUnknownLines: a select at x selects nobody; a word with a bit at x is marked, one
// at which nobody drove the line back says which bits; a word that broke off keeps its
// bits.
func TestUnknownLines(t *testing.T) {
	set := Mode(0)
	l, end := Encode(set, 1000, 100, []uint32{0x5a, 0x81, 0x33}, []uint32{0xff, 0x10, 0x7e})
	whole := func() []wire.Window {
		out := make([]wire.Window, 5)
		for i, tog := range [][]quantity.Time{l.Clock, l.Out, l.In, l.Select} {
			out[i] = wire.Window{To: end + 1000, High: i == 3, Toggles: tog}
		}
		out[4] = wire.Window{To: end + 1000, High: true}
		return out
	}
	decoded := func(ws []wire.Window) []record.Record {
		d := NewDecoder(set, 0, record.Device)
		var out record.List
		d.Feed(ws, &out)
		d.Flush(&out)
		return out.Done
	}
	ws := whole()
	ws[3].Unknown = []wire.Span{{From: 0, To: end + 1000}}
	require.Empty(t, decoded(ws))

	ws = whole()
	second := l.Clock[16]
	ws[2].Unknown = []wire.Span{{From: second - 10, To: second + 10}}
	rs := decoded(ws)
	require.Len(t, rs, 1)
	require.Equal(t, []record.Mark{{Index: 1, Flags: record.Collision}}, rs[0].Marks)
	for i, at := range fields(&rs[0])["last_samples_ps"].([]int64) {
		require.Equal(t, int64(l.Clock[16*i+14]-1000), at)
	}

	ws[2].Unknown = []wire.Span{{From: second - 10, To: second + 10, Open: true}, {From: l.Clock[32] - 10, To: end}}
	ws[2].Unknown[1].Open = true
	rs = decoded(ws)
	require.Len(t, rs, 1)
	require.Empty(t, rs[0].Marks)
	require.Equal(t, map[string]string{"1": "10000000", "2": "11111111"}, fields(&rs[0])["undriven_in"])
	require.Equal(t, "out 5A 81 33  in FF 10 --", sentence(&rs[0]))

	ws = whole()
	ws[3].Toggles = []quantity.Time{1000, l.Clock[21]}
	rs = decoded(ws)
	require.Len(t, rs, 1)
	require.Equal(t, record.Short, rs[0].AllFlags())
	require.Equal(t, map[string]string{"out": "100", "in": "000"}, fields(&rs[0])["cut_bits"])
}
