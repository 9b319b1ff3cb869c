package recognise_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/recognise/samples"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// perBus is the number of samples of each bus.
const perBus = 150

// Over random captures the right class must be first in 98 of 100.
func TestSamples(t *testing.T) {
	for _, bus := range samples.Buses {
		t.Run(bus, func(t *testing.T) {
			t.Parallel()
			right := 0
			for seed := range uint64(perBus) {
				s := samples.Make(bus, seed)
				r, err := recognise.Lines(context.Background(), s.Lines, nil)
				require.NoError(t, err)
				if wrong := samples.Judge(&s, &r); wrong != "" {
					assert.False(t, samples.SureOfWrong(&s, &r), "seed %d, %s: %s", seed, s.About, wrong)
					t.Logf("seed %d, %s: %s", seed, s.About, wrong)
				} else {
					right++
				}
			}
			assert.GreaterOrEqual(t, right, perBus*98/100)
		})
	}
}

// Of captures with one hardship more at least 91 in 100 are right, and nothing is called sure that
// is wrong.
func TestHardSamples(t *testing.T) {
	for _, bus := range samples.Buses {
		t.Run(bus, func(t *testing.T) {
			t.Parallel()
			right := 0
			for seed := range uint64(perBus) {
				s := samples.MakeHard(bus, seed)
				r, err := recognise.Lines(context.Background(), s.Lines, nil)
				require.NoError(t, err)
				switch wrong := samples.Judge(&s, &r); {
				case wrong == "":
					right++
				default:
					assert.False(t, samples.SureOfWrong(&s, &r), "seed %d, %s: %s", seed, s.About, wrong)
					t.Logf("seed %d, %s: %s", seed, s.About, wrong)
				}
			}
			assert.GreaterOrEqual(t, right, perBus*91/100)
		})
	}
}

func recognised(t require.TestingT, lines ...recognise.Line) recognise.Result {
	r, err := recognise.Lines(context.Background(), lines, nil)
	require.NoError(t, err)
	return r
}

// Twelve rates by four frames, from 40 characters of each.
func TestRatesAndFrames(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	for _, rate := range []float64{1200, 2400, 4800, 9600, 14400, 19200, 28800, 38400, 57600, 115200, 230400, 460800} {
		for _, name := range []string{"8N1", "7E1", "8E1", "7O1"} {
			f, err := uart.ParseFrame(name)
			require.NoError(t, err)
			period := quantity.PeriodOf(quantity.FromBd(rate))
			var chars []uint16
			for range 40 {
				chars = append(chars, uint16(rng.Uint32())&f.Mask())
			}
			tog, end := uart.Encode(nil, f, period, period.Times(30), chars...)
			r := recognised(t, recognise.Line{Name: "x", Levels: wire.Window{To: end + period.Times(50), High: true, Toggles: tog}})
			require.NotEmpty(t, r.Best)
			assert.Contains(t, r.Best[0].Settings, "frame="+name)
			assert.Contains(t, r.Best[0].Reasons[0], "the usual "+quantity.FromBd(rate).String())
			assert.Equal(t, "sure", r.Best[0].Confidence())
		}
	}
}

// What a class calls the same is the same: each of its frames reads the capture
// without an error.
func TestClassMembersFit(t *testing.T) {
	checked := 0
	for seed := range uint64(400) {
		s := samples.Make("uart", seed)
		r := recognised(t, s.Lines...)
		if len(r.Best) == 0 || r.Best[0].Bad > 0 || strings.Contains(s.About, "spike") || strings.Contains(s.About, "cut") {
			continue // nothing is known of a character that a capture begins in
		}
		p := r.Best[0]
		line := s.Lines[slices.Max(p.Lines)]
		rate, _, _ := strings.Cut(strings.TrimPrefix(p.Settings, "rate="), " ")
		bd, err := quantity.ParseRate(rate)
		require.NoError(t, err)
		for _, c := range p.Class {
			name, _, _ := strings.Cut(c, " whose")
			f, err := uart.ParseFrame(name)
			require.NoError(t, err, c)
			set := uart.Settings{Frame: f}
			rec := uart.NewReceiver(set.Config(quantity.PeriodOf(bd)))
			var out record.List
			rec.Feed(&line.Levels, &out)
			rec.Flush(&out)
			for i := range out.Done {
				require.Zero(t, out.Done[i].AllFlags(), "seed %d, %s: %s", seed, s.About, c)
			}
			checked++
		}
	}
	assert.Greater(t, checked, 50)
}

// mixed puts the lines of several samples into one capture.
func mixed(seed uint64, buses ...string) (lines []recognise.Line) {
	end := quantity.Time(0)
	for i, b := range buses {
		for _, l := range samples.Make(b, seed).Lines {
			l.Name = fmt.Sprintf("%s%d.%s", b, i, l.Name)
			lines = append(lines, l)
			end = max(end, l.Levels.To)
		}
	}
	rand.New(rand.NewPCG(seed, 1)).Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	for i := range lines {
		lines[i].Levels.To = end
	}
	return lines
}

// All lines of several buses at once: each bus is found among the others' lines.
func TestMixed(t *testing.T) {
	right, wrong := 0, 0
	for seed := range uint64(20) {
		lines := mixed(seed, "uart", "spi", "i2c", "can")
		r := recognised(t, lines...)
		for _, p := range r.Best {
			same := true
			for _, l := range p.Lines {
				if l >= 0 && !strings.HasPrefix(lines[l].Name, p.Kind.Name) {
					same = false
				}
			}
			if same {
				right++
			} else {
				wrong++
			}
		}
	}
	assert.GreaterOrEqual(t, right, 78)
	assert.LessOrEqual(t, wrong, 1)
}

// Two devices with a select line each and modes of their own share clock and
// data: both are found, on the same lines.
func TestTwoSelects(t *testing.T) {
	var clock, out, in []quantity.Time
	var sel [2][]quantity.Time
	at := 10 * quantity.Microsecond
	half := 500 * quantity.Nanosecond
	rng := rand.New(rand.NewPCG(7, 7))
	for i := range 40 {
		set := spi.Mode(0)
		if i%3 == 0 {
			set.Word = 16
		}
		var words []uint32
		for range 2 {
			words = append(words, rng.Uint32()&(1<<set.Word-1))
		}
		l, end := spi.Encode(set, at, half, words, words[:1])
		clock, out = append(clock, l.Clock...), append(out, l.Out...)
		for _, x := range l.In {
			in = append(in, x+60*quantity.Nanosecond)
		}
		k := min(i%3, 1)
		sel[k] = append(sel[k], l.Select...)
		at = end + 20*half
	}
	line := func(name string, high bool, tog []quantity.Time) recognise.Line {
		return recognise.Line{Name: name, Levels: wire.Window{To: at, High: high, Toggles: tog}}
	}
	lines := []recognise.Line{line("s0", true, sel[0]), line("miso", false, in), line("s1", true, sel[1]), line("mosi", false, out), line("sck", false, clock)}
	r := recognised(t, lines...)
	require.Len(t, r.Best, 2)
	assert.Equal(t, "spi clock=sck out=mosi in=miso select=s0 mode=0", r.Best[0].Text(lines))
	assert.Equal(t, "spi clock=sck out=mosi in=miso select=s1 mode=0", r.Best[1].Text(lines))
	assert.Equal(t, []string{"words of 8", "of 32", "of 16", "of 4"}, r.Best[0].Class)
	assert.Equal(t, []string{"words of 8", "of 16", "of 4"}, r.Best[1].Class)
}

// Noise is not taken for a bus with any confidence, and nothing panics.
func TestNoise(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var lines []recognise.Line
		for i := range rapid.IntRange(0, 4).Draw(rt, "lines") {
			var tog []quantity.Time
			at := quantity.Time(0)
			for range rapid.IntRange(0, 200).Draw(rt, "edges") {
				at += quantity.Time(rapid.Int64Range(1, 1_000_000).Draw(rt, "pause"))
				tog = append(tog, at)
			}
			lines = append(lines, recognise.Line{Name: fmt.Sprint(i), Levels: wire.Window{To: at + 1000, High: rapid.Bool().Draw(rt, "high"), Toggles: tog}})
		}
		for _, p := range recognised(rt, lines...).Best {
			if p.Confidence() == "sure" {
				rt.Fatalf("sure of %s", p.Text(lines))
			}
		}
	})
}

func TestIdleLinesAndActivity(t *testing.T) {
	r := recognised(t,
		recognise.Line{Name: "high", Levels: wire.Window{To: 1000, High: true}},
		recognise.Line{Name: "low", Levels: wire.Window{To: 1000}})
	assert.Empty(t, r.Best)
	assert.Equal(t, wire.IdleHigh, r.Seen[0].Activity)
	assert.Equal(t, wire.IdleLow, r.Seen[1].Activity)
}

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := recognise.Lines(ctx, samples.Make("uart", 1).Lines, nil)
	require.ErrorIs(t, err, context.Canceled)
}

func BenchmarkLines(b *testing.B) {
	lines := mixed(1, "uart", "spi", "i2c", "can")
	for b.Loop() {
		recognised(b, lines...)
	}
}

// Bits that differ in the width of their high pulses are told from characters,
// with their widths.
func TestPulseCoded(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	var tog []quantity.Time
	at := 100 * quantity.Microsecond
	for range 6 {
		for range 96 {
			high := 400 * quantity.Nanosecond
			if rng.IntN(2) == 1 {
				high = 800 * quantity.Nanosecond
			}
			tog = append(tog, at, at+high)
			at += 1200 * quantity.Nanosecond
		}
		at += 70 * quantity.Microsecond
	}
	r := recognised(t, recognise.Line{Name: "strip", Levels: wire.Window{To: at, Toggles: tog}})
	require.NotEmpty(t, r.Best)
	p := r.Best[0]
	assert.Equal(t, "pulse", p.Kind.Name)
	assert.Equal(t, 576, p.Units)
	assert.Contains(t, p.Settings, `zero="0.2 to 0.588 us" one="0.6 to 1 us"`)
	assert.Contains(t, p.Reasons[0], "a bit every 1.20 µs, high for 400 ns or 800 ns")
	assert.Contains(t, p.Class, "elements of 24")
}

// Without a select line the pauses of the clock part the words.
func TestWithoutSelect(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	set := spi.Mode(2)
	set.Select = spi.NoSelect
	var clock, out, in []quantity.Time
	at := 10 * quantity.Microsecond
	for range 60 {
		l, end := spi.Encode(set, at, quantity.Microsecond, []uint32{rng.Uint32() & 0xff}, []uint32{rng.Uint32() & 0xff})
		clock, out = append(clock, l.Clock...), append(out, l.Out...)
		for _, x := range l.In {
			in = append(in, x+200*quantity.Nanosecond)
		}
		at = end + 12*quantity.Microsecond
	}
	lines := []recognise.Line{
		{Name: "a", Levels: wire.Window{To: at, Toggles: in}}, {Name: "b", Levels: wire.Window{To: at, High: true, Toggles: clock}}, {Name: "c", Levels: wire.Window{To: at, Toggles: out}},
	}
	r := recognised(t, lines...)
	require.Len(t, r.Best, 1)
	assert.Equal(t, "spi clock=b out=c in=a mode=2 active=none gap=3.00µs", r.Best[0].Text(lines))
}

// A counter's bits, a clock and a pulse-width signal are no bus, and said to be steady.
func TestSteady(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var lines []recognise.Line
		half := quantity.Time(rapid.Int64Range(100, 10_000_000).Draw(rt, "half"))
		end := 400 * half
		for i := range rapid.IntRange(1, 6).Draw(rt, "bits") {
			high := max(quantity.Time(float64(half<<i)*rapid.Float64Range(0.1, 1.9).Draw(rt, "duty")), 1)
			var tog []quantity.Time
			for at := half << i; at < end; at += 2 * half << i {
				tog = append(tog, at, at+high)
			}
			lines = append(lines, recognise.Line{Name: fmt.Sprint(i), Levels: wire.Window{To: end + half<<i, Toggles: tog}})
		}
		r := recognised(rt, lines...)
		for _, p := range r.Best {
			rt.Fatalf("%s", p.Text(lines))
		}
		for i, s := range r.Seen {
			if s.Edges >= 12 && s.Copy == 0 {
				require.InDelta(rt, float64(2*half<<i), float64(s.Steady), 1)
			}
		}
	})
}

// Spikes that a decoder makes nothing of call for no filter; those that spoil a
// transaction do.
func TestFilterOnlyWhereNeeded(t *testing.T) {
	with, without := 0, 0
	for seed := range uint64(300) {
		s := samples.Make("i2c", seed)
		r := recognised(t, s.Lines...)
		if len(r.Best) != 1 || strings.Contains(s.About, "interrupted") {
			continue
		}
		p := r.Best[0]
		filtered := strings.Contains(p.Settings, "filter=")
		switch {
		case filtered:
			with++
			assert.Contains(t, s.About, "spike", "seed %d", seed)
		case strings.Contains(s.About, "spike"):
			without++
		}
		// As proposed, the lines read without an error.
		set := i2c.Settings{}
		if filtered {
			f, err := quantity.ParseTime(strings.TrimPrefix(p.Settings, "filter="))
			require.NoError(t, err)
			set.Filter = f
		}
		d := i2c.NewDecoder(set, 0)
		var out record.List
		d.Feed([]wire.Window{s.Lines[p.Lines[0]].Levels, s.Lines[p.Lines[1]].Levels}, &out)
		d.Flush(&out)
		bad := 0
		for i := range out.Done {
			if out.Done[i].AllFlags()&^record.CutOff != 0 {
				bad++
			}
		}
		assert.LessOrEqual(t, bad, p.Bad+1, "seed %d: %s", seed, s.About)
	}
	assert.Positive(t, with)
	assert.Positive(t, without)
}

// A rate within a tenth of a per cent of a usual one is called by it; any other as
// measured.
func TestUsualRates(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		usual := rapid.SampledFrom([]float64{1200, 9600, 38400, 115200, 1e6}).Draw(rt, "rate")
		off := rapid.Float64Range(-0.01, 0.01).Draw(rt, "off")
		period := quantity.PeriodOf(quantity.FromBd(usual * (1 + off)))
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1)) // one character over and over is a steady signal
		var chars []uint16
		for range 60 {
			chars = append(chars, uint16(rng.Uint32()&0xff))
		}
		f := uart.Frame{Data: 8, Stop: 1}
		tog, end := uart.Encode(nil, f, period, period.Times(30), chars...)
		r := recognised(rt, recognise.Line{Name: "x", Levels: wire.Window{To: end + period.Times(50), High: true, Toggles: tog}})
		if len(r.Best) == 0 {
			rt.Skip("random characters without a pause are not always found; docs/recognition.md says how often")
		}
		said, _, _ := strings.Cut(strings.TrimPrefix(r.Best[0].Settings, "rate="), " ")
		got, err := quantity.ParseRate(said)
		require.NoError(rt, err)
		switch {
		case math.Abs(off) < 0.0009:
			require.InDelta(rt, usual, got.Bd(), 1e-6)
		case math.Abs(off) > 0.0012:
			require.InEpsilon(rt, usual*(1+off), got.Bd(), 3e-4)
		}
	})
}

// Text that is one only with its bits turned round is sent so.
func TestMostSignificantFirst(t *testing.T) {
	f, err := uart.ParseFrame("8N1 msb-first")
	require.NoError(t, err)
	period := quantity.PeriodOf(9600 * quantity.Baud)
	var chars []uint16
	for _, c := range []byte(sentence) {
		chars = append(chars, uint16(c))
	}
	tog, end := uart.Encode(nil, f, period, period.Times(30), chars...)
	r := recognised(t, recognise.Line{Name: "x", Levels: wire.Window{To: end + period.Times(50), High: true, Toggles: tog}})
	require.NotEmpty(t, r.Best)
	assert.Contains(t, r.Best[0].Settings, `frame="8N1 msb-first"`)
	assert.Contains(t, r.Best[0].Reasons, "readable as text with the most significant bit first")
}
