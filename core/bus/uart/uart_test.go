package uart

import (
	"fmt"
	"math"
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

func anyFrame(rt *rapid.T) Frame {
	f := Frame{
		Data:     rapid.IntRange(5, 9).Draw(rt, "data"),
		Parity:   ParityRule(rapid.IntRange(0, int(Rules)-1).Draw(rt, "parity")),
		Stop:     rapid.IntRange(1, 2).Draw(rt, "stop"),
		MSBFirst: rapid.Bool().Draw(rt, "msb first"),
		Inverted: rapid.Bool().Draw(rt, "inverted"),
	}
	f.Half = f.Stop == 1 && rapid.Bool().Draw(rt, "half a stop bit")
	f.Address = f.Data == 9 && rapid.Bool().Draw(rt, "address")
	return f
}

// sent is a random transmission: characters with gaps between them.
type sent struct {
	chars []uint16
	at    []quantity.Time
	tog   []quantity.Time
	end   quantity.Time
}

func anySent(rt *rapid.T, f Frame, p quantity.Period) sent {
	var s sent
	t := quantity.Time(rapid.Int64Range(0, 1e9).Draw(rt, "start"))
	n := rapid.IntRange(0, 30).Draw(rt, "n")
	for range n {
		c := rapid.Uint16().Draw(rt, "char") & f.Mask()
		if rapid.IntRange(0, 3).Draw(rt, "gap?") == 0 {
			t += quantity.Time(rapid.Int64Range(0, int64(p.Times(60))).Draw(rt, "gap"))
		}
		s.chars, s.at = append(s.chars, c), append(s.at, t)
		s.tog, t = Encode(s.tog, f, p, t, c)
	}
	s.end = t
	return s
}

func collect(l *record.List) (chars []uint16, at []quantity.Time, flags record.Flags) {
	for i := range l.Done {
		r := &l.Done[i]
		for k := range r.Len() {
			chars = append(chars, r.Char(k))
			at = append(at, r.Start+r.Offsets[k])
		}
		flags |= r.AllFlags()
	}
	return
}

func TestDecodeIsTheInverseOfEncode(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		p := quantity.PeriodOf(quantity.FromBd(rapid.Float64Range(300, 4e6).Draw(rt, "bd")))
		s := anySent(rt, f, p)
		os := rapid.SampledFrom([]int{0, 4, 8, 16}).Draw(rt, "os")
		cfg := Config{Frame: f, Period: p, Oversampling: os, Vote: os > 0 && rapid.Bool().Draw(rt, "vote")}
		if os > 0 {
			cfg.Phase = quantity.Period(rapid.Int64Range(0, int64(p)/int64(os)-1).Draw(rt, "phase"))
		}
		whole, pieces := &record.List{}, &record.List{}
		end := s.end + 4*f.Time(p) + 1
		r := NewReceiver(cfg)
		r.Feed(&wire.Window{To: end, High: !f.Inverted, Toggles: s.tog}, whole)
		cut := NewReceiver(cfg)
		wiretest.Feed([][]quantity.Time{s.tog}, []bool{!f.Inverted}, end, wiretest.AtRandom(rt, end, 8), func(ws []wire.Window) { cut.Feed(&ws[0], pieces) })
		require.Equal(rt, whole.Done, pieces.Done)
		chars, at, flags := collect(whole)
		require.Equal(rt, s.chars, chars)
		require.Equal(rt, s.at, at)
		require.Zero(rt, flags)
		require.Empty(rt, whole.Running)
	})
}

func TestRunsAreBoundedByIdle(t *testing.T) {
	p := quantity.PeriodOf(9600 * quantity.Baud)
	f := Frame{Data: 8, Parity: None, Stop: 1}
	tog, end := Encode(nil, f, p, 0, 'a', 'b')
	tog, end2 := Encode(tog, f, p, end+p.Times(30), 'c')
	l := &record.List{}
	NewReceiver(Config{Frame: f, Period: p}).Feed(&wire.Window{To: end2 + p.Times(30), High: true, Toggles: tog}, l)
	require.Len(t, l.Done, 2)
	assert.Equal(t, "ab", string(l.Done[0].Data))
	assert.Equal(t, end, l.Done[0].End)
	assert.Equal(t, "c", string(l.Done[1].Data))
}

func TestLastByteAppearsWhenItsStopBitEnds(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		p := quantity.PeriodOf(28800 * quantity.Baud)
		cfg := Config{Frame: f, Period: p, Oversampling: rapid.SampledFrom([]int{0, 16}).Draw(rt, "os")}
		tog, end := Encode(nil, f, p, 1e6, 'a', 'b')
		r := NewReceiver(cfg)
		l := &record.List{}
		// The world feeds exactly as the receiver asks; no edge comes after
		// the last stop bit.
		var from quantity.Time
		high, i := !f.Inverted, 0
		feed := func(to quantity.Time) {
			j := i
			for j < len(tog) && tog[j] < to {
				j++
			}
			w := wire.Window{From: from, To: to, High: high, Toggles: tog[i:j]}
			r.Feed(&w, l)
			high, i, from = w.EndsHigh(), j, to
		}
		feed(tog[len(tog)-1] + 1)
		for r.Wake() < end {
			feed(r.Wake())
		}
		run := l.Running[[3]int{}]
		require.Equal(rt, 1, run.Len(), "before the end of the stop bit")
		require.LessOrEqual(rt, r.Wake(), end+1)
		feed(max(end, r.Wake()))
		run = l.Running[[3]int{}]
		require.Equal(rt, 2, run.Len(), "at the end of the stop bit")
		require.Equal(rt, end, run.End)
	})
}

func TestErrorMarks(t *testing.T) {
	p := quantity.PeriodOf(19200 * quantity.Baud)
	f := Frame{Data: 8, Parity: Even, Stop: 1}
	see := func(tog []quantity.Time, cfg Config) *record.List {
		l := &record.List{}
		cfg.Period = p
		NewReceiver(cfg).Feed(&wire.Window{To: quantity.Second, High: true, Toggles: tog}, l)
		return l
	}
	// Parity: an odd sender.
	tog, _ := Encode(nil, Frame{Data: 8, Parity: Odd, Stop: 1}, p, 0, 0x5a)
	l := see(tog, Config{Frame: f})
	assert.Equal(t, record.Parity, l.Done[0].FlagsAt(0))
	// Framing: the 8E1 parity bit of 5A is 0, which 8N1 takes for its stop bit.
	tog, _ = Encode(nil, f, p, 0, 0x5a)
	l = see(tog, Config{Frame: Frame{Data: 8, Parity: None, Stop: 1}})
	assert.Equal(t, record.Framing, l.Done[0].FlagsAt(0))
	assert.Equal(t, []byte{0x5a}, l.Done[0].Data)
	// A break raises break and framing, and no parity error.
	l = see([]quantity.Time{0, p.Times(40)}, Config{Frame: f})
	assert.Equal(t, record.Break|record.Framing, l.Done[0].AllFlags())
	// A glitch shorter than half a bit is no character.
	l = see([]quantity.Time{0, p.Times(1) / 3}, Config{Frame: f})
	require.Len(t, l.Done, 1)
	assert.Equal(t, record.Glitch, l.Done[0].AllFlags())
	assert.Empty(t, l.Done[0].Data)
	// A spike on one of three samples is voted away, and marked as noise.
	tog, end := Encode(nil, f, p, 0, 0xff)
	mid := p.Halves(7)
	spiked := append([]quantity.Time{}, tog[:2]...)
	spiked = append(spiked, mid-p.Times(1)/64, mid+p.Times(1)/64)
	spiked = append(spiked, tog[2:]...)
	require.Less(t, mid, end)
	l = see(spiked, Config{Frame: f, Oversampling: 16, Vote: true})
	assert.Equal(t, []byte{0xff}, l.Done[0].Data)
	assert.Equal(t, record.Noise, l.Done[0].AllFlags())
	l = see(spiked, Config{Frame: f, Oversampling: 16})
	assert.Equal(t, []byte{0xfb}, l.Done[0].Data)
	// The same in a capture, where the reader has no ticks of its own.
	for vote, data := range map[bool]byte{true: 0xff, false: 0xfb} {
		l = &record.List{}
		tap := NewTap(0, Settings{Rate: p.Rate(), Frame: f, Oversampling: 16, Vote: vote}, Settings{Rate: p.Rate(), Frame: f})
		tap.Feed([]wire.Window{{To: quantity.Second, High: true, Toggles: spiked}}, l)
		assert.Equal(t, []byte{data}, l.Done[0].Data)
	}
	// A line that nobody drives is marked, and one that two drive.
	for open, mark := range map[bool]record.Flags{true: record.Floating, false: record.Collision} {
		l = &record.List{}
		NewReceiver(Config{Frame: f, Period: p}).Feed(&wire.Window{To: quantity.Second, High: true, Toggles: tog, Unknown: []wire.Span{{From: mid - 1000, To: mid + 1000, Open: open}}}, l)
		assert.Equal(t, mark, l.Done[0].AllFlags())
	}
}

func TestParityWorkedOut(t *testing.T) {
	assert.Equal(t, uint16(0), Even.Bit(0x5a))
	assert.Equal(t, uint16(1), Odd.Bit(0x5a))
	assert.Equal(t, uint16(1), Mark.Bit(0x5a))
	assert.Equal(t, uint16(0), Space.Bit(0x5b))
	var got []uint16
	for _, c := range []uint16{0x64, 0x69, 0x76, 0x65} {
		got = append(got, Even.Bit(c))
	}
	assert.Equal(t, []uint16{1, 0, 1, 0}, got)
	assert.Contains(t, ParityNote(Frame{Data: 8, Parity: Even, Stop: 1}, 0x5a), "even 0, odd 1, mark 1, space 0")
}

func TestFrameDrawnFor5A(t *testing.T) {
	s := Settings{Rate: 57600 * quantity.Baud, Frame: Frame{Data: 8, Parity: Even, Stop: 1}}
	// 0 | 0 1 0 1 1 0 1 0 | 0 | 1, the first bit first
	var levels string
	for i := range len(s.Frame.Cells()) {
		levels += string(rune('0' + s.Frame.Levels(0x5a)>>i&1))
	}
	assert.Equal(t, "00101101001", levels)
	assert.Len(t, s.Frame.Cells(), 11)
	assert.Equal(t, "191 µs", Duration(s, 1).Round(3))
}

func TestSevenEvenReadAsEightNone(t *testing.T) {
	gauge := Settings{Rate: 28800 * quantity.Baud, Frame: Frame{Data: 7, Parity: Even, Stop: 1}, Oversampling: 16}
	mcu := Settings{Rate: quantity.FromBd(28735.632), Frame: Frame{Data: 8, Parity: None, Stop: 1}, Oversampling: 16}
	seen := Outcome(gauge, mcu, '3', '.', '4', '1', '7', '\n')
	assert.Equal(t, []uint16{0x33, 0x2e, 0xb4, 0xb1, 0xb7, 0x0a}, seen.Chars)
	assert.Equal(t, make([]record.Flags, 6), seen.Marks)
	seen = Outcome(mcu, gauge, 'S', 'N', 'A', 'P', '\n')
	assert.Equal(t, []uint16{'S', 'N', 'A', 'P', '\n'}, seen.Chars)
	assert.Equal(t, make([]record.Flags, 5), seen.Marks)
	assert.Equal(t, []record.Flags{record.Parity}, Outcome(mcu, gauge, 'T').Marks)
}

func TestCompareSaysTheEffectInBothDirections(t *testing.T) {
	a, b := Settings{Frame: Frame{Data: 8, Parity: Even, Stop: 1}}, Settings{Frame: Frame{Data: 8, Parity: None, Stop: 1}}
	d := Compare(a, b, "E", "N")
	require.Len(t, d, 1)
	assert.Equal(t, "parity-differs", d[0].Code)
	assert.Contains(t, d[0].Effects[0], "E → N: parity is taken for the stop bit: framing error whenever it is 0")
	assert.Contains(t, d[0].Effects[1], "N → E: the stop bit (always 1) is taken for parity")
	assert.Contains(t, d[0].Effects[1], "back to back the next start bit falls into the stop bit: framing error")
	d = Compare(Settings{Frame: Frame{Data: 8, Parity: None, Stop: 2}}, Settings{Frame: Frame{Data: 8, Parity: None, Stop: 1}}, "two", "one")
	require.Len(t, d, 1)
	assert.True(t, d[0].Harmless)
	assert.Contains(t, d[0].Effects[0], "harmless")
	d = Compare(Settings{Frame: Frame{Data: 7, Parity: Even, Stop: 1}}, Settings{Frame: Frame{Data: 8, Parity: None, Stop: 1}}, "gauge", "MCU")
	require.Len(t, d, 2)
	assert.Contains(t, d[0].Effects[0], "the parity bit lands in bit 7")
	d = Compare(Settings{Frame: Frame{Data: 8, Parity: Mark, Stop: 1}}, Settings{Frame: Frame{Data: 8, Parity: Space, Stop: 1}}, "M", "S")
	assert.Contains(t, d[0].Effects[0], "parity error on every character")
	d = Compare(Settings{Frame: Frame{Data: 8, Parity: Mark, Stop: 1}}, Settings{Frame: Frame{Data: 8, Parity: Even, Stop: 1}}, "M", "E")
	assert.Contains(t, d[0].Effects[0], "every second value")
	assert.Empty(t, Compare(a, a, "x", "y"))
}

func TestLimitsByHand(t *testing.T) {
	for _, c := range []struct {
		frame       string
		os          int
		late, early float64
	}{
		{"8N1", 16, 4.6, -5.3}, {"8E1", 16, 4.2, -4.8}, {"8N1", 0, 5.3, -5.3},
	} {
		f, err := ParseFrame(c.frame)
		require.NoError(t, err)
		l := LimitsOf(f, f, c.os)
		assert.InDelta(t, c.late, 100*l.RuleLate, 0.05)
		assert.InDelta(t, c.early, 100*l.RuleEarly, 0.05)
	}
	frame := Frame{Data: 8, Parity: None, Stop: 1}
	l := LimitsOf(frame, frame, 16)
	assert.Equal(t, Fits, l.Judge(1.014/0.990-1))
	assert.Equal(t, TooLate, l.Judge(1.03/0.975-1))
	assert.Contains(t, l.Misread(1.03/0.975-1), "stop is the first bit sampled after its end")
}

// TestLimitsHoldOnTheWire sends whole transmissions at a mismatch and looks
// at every byte. Outside a limit the traffic is the worst for it: characters
// back to back for the late one, a last data or parity bit of 0 for the early
// one.
func TestLimitsHoldOnTheWire(t *testing.T) {
	type outcome struct{ clean, lost int }
	try := func(f Frame, os int, e float64, phases []float64, gapBits int64, chars []uint16) outcome {
		var o outcome
		for _, ph := range phases {
			sender := quantity.Period(1e10)
			receiver := quantity.Period(math.Round(1e10 * (1 + e)))
			var tog []quantity.Time
			at := quantity.Time(3e6)
			for _, c := range chars {
				tog, at = Encode(tog, f, sender, at, c)
				at += sender.Times(gapBits)
			}
			r := NewReceiver(Config{Frame: f, Period: receiver, Oversampling: os,
				Phase: quantity.Period(ph * float64(receiver) / float64(max(os, 1)) * 0.999)})
			var got []uint16
			var flags record.Flags
			r.OnChar = func(c Char) record.Flags { got = append(got, c.Value); flags |= c.Flags; return 0 }
			r.Feed(&wire.Window{To: at + 40*receiver.Times(1), High: true, Toggles: tog}, discard{})
			if assert.ObjectsAreEqual(chars, got) && flags == 0 {
				o.clean++
			} else {
				o.lost++
			}
		}
		return o
	}
	var phases []float64
	for i := range 33 {
		phases = append(phases, float64(i)/32)
	}
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		f.Inverted = false
		os := rapid.SampledFrom([]int{0, 4, 8, 16}).Draw(rt, "os")
		l := LimitsOf(f, f, os)
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		chars := make([]uint16, 24)
		for i := range chars {
			chars[i] = uint16(rng.Uint32()) & f.Mask()
		}
		const eps = 2e-5
		inside := rapid.Float64Range(l.Early+eps, l.Late-eps).Draw(rt, "inside")
		require.Zero(rt, try(f, os, inside, phases, rapid.Int64Range(0, 3).Draw(rt, "spacing"), chars).lost, "inside both limits")

		// Outside of a limit some value is lost at every phase.
		worst := []uint16{0, f.Mask(), 0x55 & f.Mask(), 0xaa & f.Mask(), 1, f.Mask() >> 1, 1 << (f.Data - 1), f.Mask() &^ 1}
		late := rapid.Float64Range(l.LateBest+eps, l.LateBest+0.03).Draw(rt, "late")
		require.Zero(rt, try(f, os, late, phases, 0, append(worst, worst...)).clean, "outside the late limit, back to back")
		if os > 0 {
			// Between worst and best phase some phase fails; a single phase
			// is not claimed.
			between := l.LateBest - eps
			o := try(f, os, between, phases, 0, append(worst, worst...))
			require.NotZero(rt, o.lost)
		}
		early := rapid.Float64Range(l.EarlyBest-0.03, l.EarlyBest-eps).Draw(rt, "early")
		require.Zero(rt, try(f, os, early, phases, 3, worst).clean, "outside the early limit")
	})
}

func TestParseFrame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		back, err := ParseFrame(f.String())
		require.NoError(rt, err)
		require.Equal(rt, f, back)
	})
	for _, s := range []string{"", "8N", "8N3", "4N1", "8X1", "88N1", "\xff\xff\xff"} {
		_, err := ParseFrame(s)
		assert.Error(t, err, s)
	}
}

// FuzzReceiver feeds arbitrary levels: the decoder must end, never panic, and
// give the same records however the stretch is cut.
func FuzzReceiver(f *testing.F) {
	f.Add([]byte{1, 200, 3, 4}, uint8(16), uint8(0))
	f.Fuzz(func(t *testing.T, raw []byte, os, cut uint8) {
		var tog []quantity.Time
		var at quantity.Time
		for i, b := range raw {
			at += 1 + quantity.Time(b)*quantity.Time(1+i%7*5000)*1000
			tog = append(tog, at)
		}
		cfg := Config{Frame: Frame{Data: 8, Parity: Even, Stop: 1}, Period: quantity.PeriodOf(115200 * quantity.Baud), Oversampling: int(os) % 3 * 8, Vote: os&1 == 1}
		whole, parts := &record.List{}, &record.List{}
		end := at + quantity.Second
		a, b := NewReceiver(cfg), NewReceiver(cfg)
		a.Feed(&wire.Window{To: end, High: true, Toggles: tog}, whole)
		k := 0
		if len(tog) > 0 {
			k = int(cut) % len(tog)
			w := wire.Window{To: tog[k], High: true, Toggles: tog[:k]}
			b.Feed(&w, parts)
			b.Feed(&wire.Window{From: tog[k], To: end, High: w.EndsHigh(), Toggles: tog[k:]}, parts)
			a.Flush(whole)
			b.Flush(parts)
			require.Equal(t, whole.Done, parts.Done)
		}
	})
}

// TestEdgesAtSamples: an edge at the very moment of a sample counts before it, whether a character
// is taken whole or, in stretches that end inside of it, sample by sample.
func TestEdgesAtSamples(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		const half = 500 * quantity.Nanosecond // of a bit
		f := Frame{Data: rapid.IntRange(5, 9).Draw(rt, "data"), Stop: 1}
		var tog []quantity.Time
		at := quantity.Time(0)
		for range rapid.IntRange(1, 40).Draw(rt, "edges") {
			at += half * quantity.Time(rapid.IntRange(1, 9).Draw(rt, "halves"))
			tog = append(tog, at)
		}
		end := at + quantity.Millisecond
		cfg := Config{Frame: f, Period: quantity.PeriodOf(quantity.Megabaud)}
		once, pieces := &record.List{}, &record.List{}
		a, b := NewReceiver(cfg), NewReceiver(cfg)
		a.Feed(&wire.Window{To: end, High: true, Toggles: tog}, once)
		high, from, k := true, quantity.Time(0), 0
		for to := quantity.Time(100); from < end; to += 3 * half {
			to := min(to, end)
			w := wire.Window{From: from, To: to, High: high}
			for ; k < len(tog) && tog[k] < to; k++ {
				w.Toggles = append(w.Toggles, tog[k])
			}
			b.Feed(&w, pieces)
			from, high = to, w.EndsHigh()
		}
		a.Flush(once)
		b.Flush(pieces)
		require.Equal(rt, pieces.Done, once.Done)
	})
}

func BenchmarkDecode(b *testing.B) {
	f := Frame{Data: 8, Parity: None, Stop: 1}
	p := quantity.PeriodOf(quantity.Megabaud)
	rng := rand.New(rand.NewPCG(1, 2))
	var tog []quantity.Time
	var at quantity.Time
	for range 100_000 {
		tog, at = Encode(tog, f, p, at, uint16(rng.Uint32())&0xff)
	}
	b.ReportAllocs()
	r := NewReceiver(Config{Frame: f, Period: p})
	w := wire.Window{To: at + quantity.Second, High: true, Toggles: tog}
	r.Feed(&w, discard{})
	for b.Loop() {
		r.Feed(&w, discard{})
	}
	b.ReportMetric(float64(len(tog))*float64(b.N)/b.Elapsed().Seconds()/1e6, "Medges/s")
}

func BenchmarkEncode(b *testing.B) {
	f := Frame{Data: 8, Parity: None, Stop: 1}
	p := quantity.PeriodOf(quantity.Megabaud)
	buf := make([]quantity.Time, 0, 64)
	b.ReportAllocs()
	n := 0
	for b.Loop() {
		var tog []quantity.Time
		tog, _ = Encode(buf, f, p, 0, uint16(n)&0xff)
		n += len(tog)
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds()/1e6, "Medges/s")
}

// TestFrameTexts: what a frame says of itself is read back as the same frame.
func TestFrameTexts(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		require.NoError(rt, f.Check())
		back, err := ParseFrame(f.String())
		require.NoError(rt, err)
		require.Equal(rt, f, back)
		cells := f.Cells()
		require.Equal(rt, int64(f.HalfBits()), f.CellEnd(len(cells)-1))
	})
	for _, bad := range []string{"", "8N", "8N3", "4N1", "8N2.5", "8N1 upside-down", "8N1 address-bit", "8X1"} {
		_, err := ParseFrame(bad)
		assert.Error(t, err, bad)
	}
	f, err := ParseFrame("5n1.5")
	require.NoError(t, err)
	assert.Equal(t, 7.5, f.Bits())
}

// TestHalfAStopBit: characters with one and a half stop bits follow each other
// seven and a half bits apart.
func TestHalfAStopBit(t *testing.T) {
	p := quantity.PeriodOf(100 * quantity.Kilobaud)
	f := Frame{Data: 5, Stop: 1, Half: true}
	tog, end := Encode(nil, f, p, 0, 0x1f, 0x1f)
	assert.Equal(t, []quantity.Time{0, 10_000_000, 75_000_000, 85_000_000}, tog)
	assert.Equal(t, quantity.Time(150_000_000), end)
}

// TestBitOrder: 53 is 01010011; least significant first the wire carries 1 1 0
// 0 1 0 1 0 behind the start bit, most significant first 0 1 0 1 0 0 1 1.
func TestBitOrder(t *testing.T) {
	for _, c := range []struct {
		f    Frame
		want uint32
	}{{Frame{Data: 8, Stop: 1}, 0b1_01010011_0}, {Frame{Data: 8, Stop: 1, MSBFirst: true}, 0b1_11001010_0}} {
		assert.Equal(t, c.want, c.f.Levels(0x53))
	}
	d := Compare(Settings{Frame: Frame{Data: 8, Stop: 1}}, Settings{Frame: Frame{Data: 8, Stop: 1, MSBFirst: true}}, "A", "B")
	require.Len(t, d, 1)
	assert.Contains(t, d[0].Effects[0], "53 reads as CA")
	seen := Outcome(Settings{Rate: 9600 * quantity.Baud, Frame: Frame{Data: 8, Stop: 1}}, Settings{Rate: 9600 * quantity.Baud, Frame: Frame{Data: 8, Stop: 1, MSBFirst: true}}, 0x53)
	assert.Equal(t, []uint16{0xca}, seen.Chars)
}

// TestInversionIsSeen: a receiver that is not inverted takes the resting line
// for a break.
func TestInversionIsSeen(t *testing.T) {
	a, b := Settings{Rate: 9600 * quantity.Baud, Frame: Frame{Data: 8, Stop: 1, Inverted: true}}, Settings{Rate: 9600 * quantity.Baud, Frame: Frame{Data: 8, Stop: 1}}
	d := Compare(a, b, "A", "B")
	require.Len(t, d, 1)
	assert.Equal(t, "inversion-differs", d[0].Code)
	seen := Outcome(a, b, 'o', 'k')
	for i, c := range seen.Chars {
		assert.False(t, (c == 'o' || c == 'k') && seen.Marks[i] == 0)
	}
	seen = Outcome(a, a, 'o', 'k')
	assert.Equal(t, []uint16{'o', 'k'}, seen.Chars)
}

// TestAddressBit: an address begins a packet of its own.
func TestAddressBit(t *testing.T) {
	f, err := ParseFrame("9N1 address-bit")
	require.NoError(t, err)
	p := quantity.PeriodOf(9600 * quantity.Baud)
	tog, end := Encode(nil, f, p, quantity.Millisecond, 0x112, 'h', 'i', 0x1a3, '!')
	tap := NewTap(0, Settings{Rate: 9600 * quantity.Baud, Frame: f}, Settings{Rate: 9600 * quantity.Baud, Frame: f})
	out := &record.List{}
	tap.Feed([]wire.Window{{To: end + quantity.Second, High: true, Toggles: tog}}, out)
	require.Len(t, out.Done, 2)
	assert.Equal(t, "to 12: hi", Kind.Sentence(&out.Done[0]))
	assert.Equal(t, "to A3: !", Kind.Sentence(&out.Done[1]))
	assert.Equal(t, map[string]any{"address": uint16(0xa3)}, Kind.Fields(&out.Done[1]))
}

// TestPackets: a stated pause bounds packets, in bits or as a time.
func TestPackets(t *testing.T) {
	f := Frame{Data: 8, Stop: 1}
	p := quantity.PeriodOf(9600 * quantity.Baud)
	tog, end := Encode(nil, f, p, quantity.Millisecond, 'a')
	tog, end = Encode(tog, f, p, end+p.Times(12), 'b')
	tog, end = Encode(tog, f, p, end+p.Times(30), 'c')
	for gap, want := range map[string][]string{"": {"ab", "c"}, "10 bits": {"a", "b", "c"}, "2 ms": {"ab", "c"}, "40 bits": {"abc"}} {
		pause := gapOf{}
		if gap != "" {
			var err error
			pause, err = parseGap(gap)
			require.NoError(t, err)
		}
		r := NewReceiver(Settings{Frame: f, GapBits: pause.bits, Gap: pause.time}.Config(p))
		out := &record.List{}
		r.Feed(&wire.Window{To: end + quantity.Second, High: true, Toggles: tog}, out)
		var got []string
		for _, d := range out.Done {
			got = append(got, string(d.Data))
		}
		assert.Equal(t, want, got, gap)
	}
	for _, bad := range []string{"0 bits", "x bits", "-1 ms", "soon"} {
		_, err := parseGap(bad)
		assert.Error(t, err, bad)
	}
}

// TestOneWire: on a wire that both ends share nobody's name is claimed, and
// flow lines are told with their end.
func TestOneWire(t *testing.T) {
	f := Frame{Data: 8, Stop: 1}
	set := Settings{Rate: 9600 * quantity.Baud, Frame: f}
	tog, end := Encode(nil, f, quantity.PeriodOf(set.Rate), quantity.Millisecond, 'q')
	tog, end = Encode(tog, f, quantity.PeriodOf(set.Rate), end+20*quantity.Millisecond, 'a')
	end += quantity.Second
	idle := wire.Window{To: end, High: true}
	out := &record.List{}
	NewTap(4, set, set).Feed([]wire.Window{idle, idle, {To: end, High: true, Toggles: tog}, {To: end, High: true, Toggles: []quantity.Time{50, 90}}, idle}, out)
	require.Len(t, out.Done, 4)
	assert.Equal(t, []record.End{record.Nobody, record.Nobody}, []record.End{out.Done[0].From, out.Done[1].From})
	assert.Equal(t, "q", string(out.Done[0].Data))
	assert.Equal(t, record.Flow, out.Done[2].Kind)
	assert.Equal(t, "ready to receive", Kind.Sentence(&out.Done[2]))
	assert.Equal(t, record.MCU, out.Done[2].From)
	assert.Equal(t, map[string]any{"ready": false}, Kind.Fields(&out.Done[3]))
}

// TestIdealLimitsBySweep: an ideal receiver, which samples bit middles, takes
// every character within ±0.5/N of the sender's rate, N being the bits to the
// middle of the first stop bit, and beyond that not all; to 0.2 percentage
// points, in every format.
func TestIdealLimitsBySweep(t *testing.T) {
	for data := 5; data <= 9; data++ {
		for parity := None; parity < Rules; parity++ {
			for stop := 2; stop <= 4; stop++ {
				f := Frame{Data: data, Parity: parity, Stop: max(stop/2, 1), Half: stop == 3}
				sender := quantity.PeriodOf(9600 * quantity.Baud)
				reads := func(off float64) bool {
					for _, v := range []uint16{0, f.Mask(), 0x155 & f.Mask(), 0xaa & f.Mask(), f.Mask() >> 1, 1 << (data - 1), 1, f.Mask() &^ 1, 3 << (data - 2) & f.Mask()} {
						chars := []uint16{v, v, v}
						tog, end := Encode(nil, f, sender, quantity.Millisecond, chars...)
						out := &record.List{}
						r := NewReceiver(Config{Frame: f, Period: quantity.Period(float64(sender) * (1 + off))})
						r.Feed(&wire.Window{To: end + quantity.Second, High: true, Toggles: tog}, out)
						got, _, flags := collect(out)
						if flags != 0 || len(got) != 3 || got[0] != v || got[1] != v || got[2] != v {
							return false
						}
					}
					return true
				}
				for _, side := range []float64{1, -1} {
					l := LimitsOf(f, f, 0)
					limit := l.Late
					if side < 0 {
						limit = -l.Early
					}
					point := 0.0
					for point < 0.15 && reads(side*point) {
						point += 0.0005
					}
					require.InDelta(t, 100*limit, 100*point, 0.2, "%s, side %+.0f", f, side)
				}
			}
		}
	}
}

// TestSync: from the edges of 55 the rate is found whatever it is, also with a
// little jitter, and anything else is refused.
func TestSync(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		f.Address = false
		p := quantity.PeriodOf(quantity.FromBd(rapid.Float64Range(300, 1e6).Draw(rt, "rate")))
		value := uint16(0x55) & f.Mask()
		before, at := []quantity.Time(nil), quantity.Time(quantity.Millisecond)
		if rapid.Bool().Draw(rt, "noise before") {
			before, at = Encode(nil, f, p, at, 0)
			at += p.Times(30)
		}
		tog, _ := Encode(before, f, p, at, value, 0x3)
		for i := len(before); i < len(tog); i++ {
			tog[i] += quantity.Time(rapid.Int64Range(-int64(p)/50_000, int64(p)/50_000).Draw(rt, "jitter"))
		}
		s, err := FindSync(f, value, !f.Inverted, tog)
		require.NoError(rt, err)
		require.Equal(rt, tog[len(before)], s.Start)
		require.InEpsilon(rt, float64(p), float64(s.Period), 0.01)
	})
	_, err := FindSync(Frame{Data: 8, Stop: 1}, 0x55, true, nil)
	require.ErrorIs(t, err, ErrNoSync)
	_, err = MeasureSync(Frame{Data: 8, Stop: 1}, 0x00, []quantity.Time{1, 2, 3})
	require.ErrorContains(t, err, "too few to measure")
	tog, _ := Encode(nil, Frame{Data: 8, Stop: 1}, 1_000_000, 0, 0x33, 0x33)
	_, err = FindSync(Frame{Data: 8, Stop: 1}, 0x55, true, tog)
	require.ErrorIs(t, err, ErrNoSync)
}

// TestLabels: the bits' labels lie end to end over each character, and the
// line has in the middle of each the level that the character says.
func TestLabels(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := anyFrame(rt)
		f.Address = false
		set := Settings{Rate: 9600 * quantity.Baud, Frame: f}
		p := quantity.PeriodOf(set.Rate)
		s := anySent(rt, f, p)
		out := &record.List{}
		tap := NewTap(0, set, set)
		w := wire.Window{To: s.end + quantity.Second, High: !f.Inverted, Toggles: s.tog}
		tap.Feed([]wire.Window{{To: w.To, High: true}, w}, out)
		i := 0
		for k := range out.Done {
			r := &out.Done[k]
			at := r.Start
			for _, l := range Kind.Labels([]bus.Settings{set}, r, nil) {
				require.Equal(rt, 1, l.Line)
				switch l.Kind {
				case bus.FieldLabel:
					at = l.From
					i++
				case bus.BitLabel:
					require.Equal(rt, at, l.From)
					at = l.To
					var n int
					if _, err := fmt.Sscanf(l.Text, "b%d", &n); err == nil {
						want := s.chars[i-1]>>n&1 == 1
						require.Equal(rt, want != f.Inverted, w.Level((l.From+l.To)/2), l.Text)
					}
				}
			}
		}
		require.Equal(rt, len(s.chars), i)
	})
}

// TestBreakLength: a break says how long the line was low, whatever its length.
func TestBreakLength(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		bit := quantity.Microsecond
		low := quantity.Time(rapid.Int64Range(int64(10*bit), int64(300*bit)).Draw(rt, "low"))
		r := NewReceiver(Config{Frame: Frame{Data: 8, Stop: 1}, Period: quantity.Period(1e9), Seen: record.Tap})
		var out record.List
		end := 10*bit + low + 100*bit
		wiretest.Feed([][]quantity.Time{{10 * bit, 10*bit + low}}, []bool{true}, end, wiretest.AtRandom(rt, end, 5), func(ws []wire.Window) { r.Feed(&ws[0], &out) })
		require.Len(rt, out.Done, 1)
		v, has := out.Done[0].Fact(record.BreakLength, 0)
		require.True(rt, has)
		require.Equal(rt, int64(low), v)
		require.Equal(rt, []breakJSON{{0, int64(low)}}, fields(&out.Done[0])["breaks"])
	})
}
