package i2c

import (
	"fmt"
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

func feed(d *Decoder, clock, data []quantity.Time, end quantity.Time, cut wiretest.Cut, out record.Sink) {
	wiretest.Feed([][]quantity.Time{clock, data}, []bool{true, true}, end, cut, func(ws []wire.Window) { d.Feed(ws, out) })
	d.Flush(out)
}

func TestDecodeIsTheInverseOfEncode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		bit := quantity.Time(rapid.SampledFrom([]int64{100_000_000, 10_000_000, 2_500_000, 1_000_000, 294_116}).Draw(rt, "bit"))
		var clock, data []quantity.Time
		var want [][]Byte
		at := quantity.Time(1e6)
		for range rapid.IntRange(1, 5).Draw(rt, "transactions") {
			var bs []Byte
			for i := range rapid.IntRange(1, 8).Draw(rt, "bytes") {
				bs = append(bs, Byte{rapid.Byte().Draw(rt, "value"), rapid.Bool().Draw(rt, "ack"), i == 0 || rapid.IntRange(0, 3).Draw(rt, "start") == 0})
			}
			c, d, end := Encode(at, bit, bs, true)
			clock, data = append(clock, c...), append(data, d...)
			want = append(want, bs)
			at = end + bit*quantity.Time(rapid.IntRange(1, 30).Draw(rt, "idle"))
		}
		a, b := &record.List{}, &record.List{}
		feed(NewDecoder(Settings{}, 1), clock, data, at, wiretest.Whole(at), a)
		feed(NewDecoder(Settings{}, 1), clock, data, at, wiretest.AtRandom(rt, at, 10), b)
		require.Equal(rt, a.Done, b.Done)
		require.Len(rt, a.Done, len(want))
		for i := range want {
			r := &a.Done[i]
			var got []Byte
			for k := range r.Data {
				got = append(got, Byte{r.Data[k], r.Back[k]&record.Acked != 0, r.Back[k]&record.Addressing != 0})
			}
			require.Equal(rt, want[i], got)
			require.Equal(rt, record.Stopped, r.Attr)
			require.Zero(rt, r.AllFlags())
		}
	})
}

func decodeOne(t *testing.T, clock, data []quantity.Time, end quantity.Time) *record.Record {
	l := &record.List{}
	feed(NewDecoder(Settings{}, 0), clock, data, end, wiretest.Whole(end), l)
	require.Len(t, l.Done, 1)
	return &l.Done[0]
}

func TestReadWithRestart(t *testing.T) {
	c, d, end := Encode(1e6, 2_500_000, []Byte{{0x96, true, true}, {0x12, true, false}, {0x97, true, true}, {0xab, true, false}, {0xcd, false, false}}, true)
	r := decodeOne(t, c, d, end+1e7)
	assert.Equal(t, "start 96 ack 12 ack restart 97 ack AB ack CD nack stop", Describe(r))
	p := Parts(r)
	require.Len(t, p, 2)
	assert.Equal(t, Part{Address: 0x4b, Acked: true, Data: []byte{0x12}, Acks: []bool{true}}, p[0])
	assert.Equal(t, Part{Address: 0x4b, Read: true, Acked: true, Data: []byte{0xab, 0xcd}, Acks: []bool{true, false}, First: 2}, p[1])
	assert.Equal(t, "72.5 µs", Duration(2_500_000, 3).String(), "three bytes at 400 kHz")
}

func TestTenBitAddress(t *testing.T) {
	c, d, end := Encode(1e6, 2_500_000, []Byte{{0b11110_10_0, true, true}, {0x5a, true, false}, {0b11110_10_1, true, true}, {0x77, false, false}}, true)
	p := Parts(decodeOne(t, c, d, end+1e7))
	require.Len(t, p, 2)
	assert.Equal(t, Part{Address: 0x25a, Ten: true, Acked: true}, p[0])
	assert.Equal(t, Part{Address: 0x25a, Ten: true, Read: true, Acked: true, Data: []byte{0x77}, Acks: []bool{false}, First: 2}, p[1])
}

func TestBrokenTransactions(t *testing.T) {
	// Nobody answers.
	c, d, end := Encode(1e6, 4_000_000, []Byte{{0x96, false, true}}, true)
	r := decodeOne(t, c, d, end+1e7)
	assert.Equal(t, "start 96 nack stop", Describe(r))
	assert.False(t, Parts(r)[0].Acked)
	// No stop: the capture ends.
	c, d, end = Encode(1e6, 4_000_000, []Byte{{0x96, true, true}, {1, true, false}}, false)
	r = decodeOne(t, c, d, end+1e7)
	assert.Equal(t, record.CutOff, r.AllFlags())
	assert.Equal(t, []byte{0x96, 1}, r.Data)
	// A stop after three bits of the second byte.
	c, d, _ = Encode(1e6, 4_000_000, []Byte{{0x96, true, true}, {0xe0, true, false}}, false)
	cut := c[2*(9+4)-1] // the fourth rise of the second byte: data is low there
	var keptC, keptD []quantity.Time
	for _, t := range c {
		if t <= cut {
			keptC = append(keptC, t)
		}
	}
	for _, t := range d {
		if t <= cut {
			keptD = append(keptD, t)
		}
	}
	keptD = append(keptD, cut+1e6)
	r = decodeOne(t, keptC, keptD, cut+1e8)
	assert.Equal(t, record.StopInByte, r.FlagsAt(1))
	assert.Equal(t, "3 bits cut off: 111", r.Text)
}

func TestReservedAddresses(t *testing.T) {
	assert.Equal(t, "general call", Reserved(0, false))
	assert.Equal(t, "start byte", Reserved(0, true))
	assert.Equal(t, "CBUS", Reserved(1, false))
	assert.Equal(t, "10-bit addresses", Reserved(0x7a, false))
	n := 0
	for a := range 128 {
		if Reserved(a, false) == "" {
			n++
		}
	}
	assert.Equal(t, 112, n, "addresses 08 to 77 are free to use")
}

func TestPacketErrorCode(t *testing.T) {
	assert.Equal(t, byte(0xf4), PEC([]byte("123456789")))
	rapid.Check(t, func(rt *rapid.T) {
		b := rapid.SliceOfN(rapid.Byte(), 1, 20).Draw(rt, "data")
		require.Zero(rt, PEC(append(b, PEC(b))), "the code over data and code is zero")
	})
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte{1, 2, 3, 0, 0, 1}, uint8(9), uint8(0))
	f.Add([]byte{1, 2, 3, 0, 0, 1, 250, 251, 2}, uint8(9), uint8(255))
	f.Fuzz(func(t *testing.T, raw []byte, cut, how uint8) {
		set := Settings{Filter: quantity.Time(how & 3 * 10), Stretch: quantity.Time(how >> 2 & 3 * 30), Stuck: quantity.Time(how >> 4 & 3 * 40), PEC: how&128 != 0}
		var lines [2][]quantity.Time
		at := quantity.Time(0)
		for _, b := range raw {
			at += quantity.Time(b >> 1)
			l := &lines[b&1]
			if n := len(*l); n == 0 || (*l)[n-1] < at {
				*l = append(*l, at)
			}
		}
		a, b := &record.List{}, &record.List{}
		feed(NewDecoder(set, 0), lines[0], lines[1], at+10, wiretest.Whole(at+10), a)
		feed(NewDecoder(set, 0), lines[0], lines[1], at+10, wiretest.Steps(1+quantity.Time(cut)), b)
		require.Equal(t, a.Done, b.Done)
		for i := range a.Done {
			_ = Parts(&a.Done[i])
			_ = Describe(&a.Done[i])
		}
	})
}

type discard struct{}

func (discard) Put(*record.Record)  {}
func (discard) Open(*record.Record) {}

func BenchmarkDecode(b *testing.B) {
	var clock, data []quantity.Time
	at := quantity.Time(1e6)
	for i := range 3000 {
		bs := []Byte{{0x96, true, true}}
		for k := range 15 {
			bs = append(bs, Byte{byte(i*31 + k*77), true, false})
		}
		c, d, end := Encode(at, 1_000_000, bs, true)
		clock, data = append(clock, c...), append(data, d...)
		at = end + 5_000_000
	}
	ws := []wire.Window{{To: at, High: true, Toggles: clock}, {To: at, High: true, Toggles: data}}
	d := NewDecoder(Settings{}, 0)
	d.Feed(ws, discard{})
	b.ReportAllocs()
	for b.Loop() {
		d.Feed(ws, discard{})
	}
	b.ReportMetric(float64(len(clock)+len(data))*float64(b.N)/b.Elapsed().Seconds()/1e6, "Medges/s")
}

// TestLabels: over a random transaction, the names in order tell it, and the
// lines have the levels that they say.
func TestLabels(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var bs []Byte
		for i := range rapid.IntRange(1, 6).Draw(rt, "bytes") {
			bs = append(bs, Byte{rapid.Byte().Draw(rt, "value"), rapid.Bool().Draw(rt, "ack"), i == 0 || rapid.IntRange(0, 2).Draw(rt, "start") == 0})
		}
		clock, data, end := Encode(quantity.Microsecond, 10*quantity.Microsecond, bs, true)
		r := decodeOne(t, clock, data, end+1)
		ws := []wire.Window{{To: end + 1, High: true, Toggles: clock}, {To: end + 1, High: true, Toggles: data}}
		var names, want []string
		for i, b := range bs {
			if b.Start {
				want = append(want, map[bool]string{true: "start", false: "restart"}[i == 0])
			}
			for k := 7; k >= 0; k-- {
				switch {
				case b.Start && k == 0:
					want = append(want, []string{"write", "read"}[b.Value&1])
				case b.Start:
					want = append(want, fmt.Sprintf("a%d=%d", k-1, b.Value>>k&1))
				default:
					want = append(want, fmt.Sprintf("b%d=%d", k, b.Value>>k&1))
				}
			}
			want = append(want, map[bool]string{true: "ack", false: "nack"}[b.Acked])
		}
		want = append(want, "stop")
		for _, l := range Kind.Labels([]bus.Settings{Settings{}}, r, ws) {
			if l.Kind == bus.FieldLabel || l.Kind == bus.SampleLabel {
				continue
			}
			name := l.Text
			if l.Kind == bus.BitLabel && (name[0] == 'a' && name != "ack" || name[0] == 'b') {
				level := 1
				for _, x := range data {
					if x <= (l.From+l.To)/2 {
						level = 1 - level
					}
				}
				name += fmt.Sprintf("=%d", level)
			}
			names = append(names, name)
		}
		require.Equal(rt, want, names)
	})
}

func TestCompare(t *testing.T) {
	assert.Empty(t, Compare(Settings{}, Settings{}, "MCU", "dev"))
	d := Compare(Settings{PEC: true}, Settings{}, "MCU", "dev")
	require.Len(t, d, 1)
	assert.Contains(t, d[0].Effects[0], "dev takes the code for one more byte")
}
