package spi

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// echo answers with words of its own and keeps what it took.
type echo struct {
	set    Settings
	says   []uint32
	took   []bool
	spans  [][]bool
	silent int // the first words that it does not answer
}

func (e *echo) Select(quantity.Time) { e.took = nil }
func (e *echo) Give(at int) (bool, bool) {
	k := at / e.set.Word
	if k < e.silent || k >= len(e.says) {
		return false, false
	}
	i := at % e.set.Word
	if !e.set.LSBFirst {
		i = e.set.Word - 1 - i
	}
	return e.says[k]>>i&1 == 1, true
}
func (e *echo) Take(at int, high bool)         { e.took = append(e.took, high) }
func (e *echo) Release(_ quantity.Time, n int) { e.spans = append(e.spans, e.took) }

// words puts the bits of a span together.
func (e *echo) words(bits []bool) []uint32 {
	var out []uint32
	for k := 0; k+e.set.Word <= len(bits); k += e.set.Word {
		w := uint32(0)
		for i := range e.set.Word {
			place := i
			if !e.set.LSBFirst {
				place = e.set.Word - 1 - i
			}
			if bits[k+i] {
				w |= 1 << place
			}
		}
		out = append(out, w)
	}
	return out
}

// bench is a clock with several parts, each with settings of its own.
type bench struct {
	ends  []End
	parts []*echo
	on    []*Target
}

func drawBench(rt *rapid.T) bench {
	var b bench
	for range rapid.IntRange(1, 4).Draw(rt, "parts") {
		s := Mode(rapid.IntRange(0, 3).Draw(rt, "mode"))
		s.Word, s.LSBFirst = rapid.IntRange(4, 32).Draw(rt, "word"), rapid.Bool().Draw(rt, "lsb")
		if rapid.Bool().Draw(rt, "high") {
			s.Select = ActiveHigh
		}
		end := End{Settings: s, Part: Part{Most: quantity.FromHz(float64(rapid.IntRange(1, 20).Draw(rt, "MHz")) * 1e6)}}
		half := quantity.Time(1e12 / end.Most.Hz() / 2)
		end.Valid = half * quantity.Time(rapid.IntRange(1, 90).Draw(rt, "valid")) / 100
		end.SetUp, end.Hold = half/4, half/4
		e := &echo{set: s}
		b.ends, b.parts = append(b.ends, end), append(b.parts, e)
		b.on = append(b.on, &Target{End: end, Device: e, Doubt: func() bool { return true }})
	}
	return b
}

// TestSeveralSelectsOnOneClock: under random modes, rates, words and selects, what the
// MCU sends arrives at the part that it selects, what that part says is what a decoder
// reads with the part's settings, and no other part has any part in it.
func TestSeveralSelectsOnOneClock(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := drawBench(rt)
		type span struct {
			part int
			out  []uint32
		}
		var spans []span
		clock := wire.Window{High: b.ends[0].ClockIdleHigh}
		out := wire.Window{}
		selects := make([]wire.Window, len(b.ends))
		for i, e := range b.ends {
			selects[i].High = e.Select == ActiveLow
		}
		level := clock.High
		at := quantity.Time(1000)
		for range rapid.IntRange(1, 5).Draw(rt, "spans") {
			k := rapid.IntRange(0, len(b.ends)-1).Draw(rt, "part")
			e := &b.ends[k]
			x := span{part: k}
			for range rapid.IntRange(1, 4).Draw(rt, "words") {
				x.out = append(x.out, uint32(rapid.Uint64().Draw(rt, "out"))&uint32(1<<e.Word-1))
			}
			half := quantity.Time(1e12/e.Most.Hz()/2) * quantity.Time(rapid.IntRange(10, 30).Draw(rt, "slower")) / 10
			if level != e.ClockIdleHigh {
				clock.Toggles = append(clock.Toggles, at)
				level = !level
				at += half
			}
			l, end := EncodeTimed(e.Settings, Timing{half, half, half}, at, x.out, nil)
			clock.Toggles = append(clock.Toggles, l.Clock...)
			out.Toggles = append(out.Toggles, l.Out...)
			selects[k].Toggles = append(selects[k].Toggles, l.Select...)
			at = end + 2*half
			spans = append(spans, x)
		}
		to := at + quantity.Microsecond
		clock.To, out.To = to, to
		in := wire.NewJoin(len(b.ends), 0)
		said := make([]int, len(b.ends))
		for i := range b.ends {
			selects[i].To = to
			e := b.parts[i]
			for _, x := range spans {
				if x.part == i {
					for range x.out {
						e.says = append(e.says, uint32(len(e.says)*37+i)&uint32(1<<e.set.Word-1))
					}
					break
				}
			}
			// Every span of a part says the same words, as far as it reaches.
			most := 0
			for _, x := range spans {
				if x.part == i {
					most = max(most, len(x.out))
				}
			}
			for len(e.says) < most {
				e.says = append(e.says, uint32(len(e.says)*37+i)&uint32(1<<e.set.Word-1))
			}
			in.Drive(i, b.on[i].Feed(&clock, &out, &selects[i], nil))
		}
		back := in.Read(to)
		for i := range b.ends {
			dec := NewDecoder(b.ends[i].Settings, 0, record.Device+record.End(i))
			var got record.List
			dec.Feed([]wire.Window{clock, out, back, selects[i]}, &got)
			n := 0
			for _, x := range spans {
				if x.part != i {
					continue
				}
				require.Less(rt, n, len(got.Done))
				r := &got.Done[n]
				require.Equal(rt, x.out, Words(r, r.Data))
				require.Equal(rt, b.parts[i].says[:len(x.out)], Words(r, r.Back))
				require.Zero(rt, r.AllFlags())
				require.Equal(rt, x.out, b.parts[i].words(b.parts[i].spans[n]))
				_, open := r.Fact(record.Undriven, 0)
				require.False(rt, open)
				n++
			}
			require.Len(rt, got.Done, n)
			said[i] = n
		}
	})
}

// TestAJoinIsAsItsOutputsSay compares a wire of several outputs, read in random pieces,
// with one look at each moment.
func TestAJoinIsAsItsOutputsSay(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(1, 3).Draw(rt, "outputs")
		j := wire.NewJoin(n, 0)
		drives := make([][]wire.Driven, n)
		for i := range n {
			at := quantity.Time(0)
			for range rapid.IntRange(0, 6).Draw(rt, "changes") {
				at += quantity.Time(rapid.IntRange(1, 20).Draw(rt, "later"))
				drives[i] = append(drives[i], wire.Driven{At: at, High: rapid.Bool().Draw(rt, "level"), Driven: rapid.Bool().Draw(rt, "driven"), Strong: rapid.IntRange(0, 5).Draw(rt, "strong") == 0})
			}
			j.Drive(i, drives[i])
		}
		const end = 130
		symbols := make([]byte, 0, end)
		for from := quantity.Time(0); from < end; {
			to := min(from+quantity.Time(rapid.IntRange(1, 40).Draw(rt, "piece")), end)
			w := j.Read(to)
			require.Equal(rt, []quantity.Time{from, to}, []quantity.Time{w.From, w.To})
			require.True(rt, slices.IsSorted(w.Toggles))
			for t := from; t < to; t++ {
				symbols = append(symbols, w.Symbol(t))
			}
			from = to
		}
		for t := range quantity.Time(end) {
			driven, high, low, strong := 0, false, false, byte(0)
			for i := range n {
				var now wire.Driven
				for _, d := range drives[i] {
					if d.At <= t {
						now = d
					}
				}
				if !now.Driven {
					continue
				}
				driven++
				high, low = high || now.High, low || !now.High
				if now.Strong && strong == 0 {
					strong = map[bool]byte{true: '1', false: '0'}[now.High]
				}
			}
			want := byte('x')
			switch {
			case strong != 0:
				want = strong
			case driven == 0:
				want = 'z'
			case high != low:
				want = map[bool]byte{true: '1', false: '0'}[high]
			}
			require.Equal(rt, string(want), string(symbols[t]), "at %d", t)
		}
	})
}

// TestAClockThatIsTooFast: above its rate by more than a quarter a part sees nothing of
// the clock, below it everything; late answers come a bit late.
func TestAClockThatIsTooFast(t *testing.T) {
	end := End{Settings: Mode(0), Part: Part{Most: 5_000_000 * quantity.Hertz, Valid: 60 * quantity.Nanosecond}}
	for _, c := range []struct {
		half  quantity.Time
		took  int
		reads uint32
	}{
		{100 * quantity.Nanosecond, 16, 0xa6},
		{81 * quantity.Nanosecond, 16, 0xa6},
		{50 * quantity.Nanosecond, 0, 0x7f}, // its first bit, which stands too late for the first edge
	} {
		e := &echo{set: end.Settings, says: []uint32{0xa6, 0xa6}}
		on := &Target{End: end, Device: e, Doubt: func() bool { return true }}
		l, to := EncodeTimed(end.Settings, Timing{c.half, c.half, c.half}, 1000, []uint32{0x12, 0x34}, nil)
		w := func(high bool, tog []quantity.Time) wire.Window {
			return wire.Window{To: to + 1000, High: high, Toggles: tog}
		}
		clock, out, sel := w(false, l.Clock), w(false, l.Out), w(true, l.Select)
		in := wire.NewJoin(1, 0)
		in.Drive(0, on.Feed(&clock, &out, &sel, nil))
		dec := NewDecoder(end.Settings, 0, record.Device)
		var got record.List
		dec.Feed([]wire.Window{clock, out, in.Read(to + 1000), sel}, &got)
		require.Len(t, got.Done, 1)
		require.Len(t, e.spans, 1)
		assert.Len(t, e.spans[0], c.took)
		assert.Equal(t, c.reads, Words(&got.Done[0], got.Done[0].Back)[0], "%s", c.half)
	}
}

// TestDataThatChangesAtTheEdge is read as either level.
func TestDataThatChangesAtTheEdge(t *testing.T) {
	end := End{Settings: Mode(0), Part: Part{Most: quantity.FromHz(5e6), SetUp: 20 * quantity.Nanosecond, Hold: 20 * quantity.Nanosecond}}
	sent := Mode(1) // it changes data where a part in mode 0 samples
	half := 100 * quantity.Nanosecond
	for _, doubt := range []bool{false, true} {
		e := &echo{set: end.Settings}
		on := &Target{End: end, Device: e, Doubt: func() bool { return doubt }}
		l, to := Encode(sent, 1000, half, []uint32{0x55}, nil)
		w := func(high bool, tog []quantity.Time) wire.Window {
			return wire.Window{To: to + 1000, High: high, Toggles: tog}
		}
		clock, out, sel := w(false, l.Clock), w(false, l.Out), w(true, l.Select)
		on.Feed(&clock, &out, &sel, nil)
		require.Len(t, e.spans, 1)
		assert.Equal(t, doubt, e.spans[0][2])
	}
}
