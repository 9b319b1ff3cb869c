package i2c

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/shared"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// memory is a device with 256 bytes in pages: the first byte written is the
// place, and writing goes round within a page.
type memory struct {
	cells [256]byte
	page  int
	at    int
	first bool
	ends  int
}

func (m *memory) Begin(read bool) { m.first = !read }

func (m *memory) Take(b byte) bool {
	if m.first {
		m.at, m.first = int(b), false
		return true
	}
	m.cells[m.at] = b
	m.at = m.at/m.page*m.page + (m.at+1)%m.page
	return true
}

func (m *memory) Give() byte {
	b := m.cells[m.at]
	m.at = (m.at + 1) % len(m.cells)
	return b
}

func (m *memory) End() { m.ends++ }

// world is a bus with controllers, a tap and what happened.
type world struct {
	*shared.Bus
	events [][]Event
	tap    *Decoder
	seen   record.List
}

func newWorld(set Settings) *world { return &world{Bus: shared.New(2), tap: NewDecoder(set, 0)} }

func (w *world) control(c *Controller) *Controller {
	i := len(w.events)
	w.events = append(w.events, nil)
	c.OnEvent = func(e Event) { w.events[i] = append(w.events[i], e) }
	w.Join(c, 2*quantity.Nanosecond)
	return c
}

func (w *world) run(d quantity.Time) {
	w.Wake()
	w.Run(w.Now() + d)
	w.tap.Feed(w.Take(), &w.seen)
}

const bit = 2500 * quantity.Nanosecond // 400 kbit/s

var (
	_ bus.Node = (*Controller)(nil)
	_ bus.Node = (*Target)(nil)
)

// TestWhatIsWrittenIsRead: bytes written to a memory come back, at every rate,
// with 7- and 10-bit addresses, slow rises and a device that holds the clock.
func TestWhatIsWrittenIsRead(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		each := quantity.Time(rapid.SampledFrom([]int64{100_000_000, 10_000_000, 2_500_000, 1_000_000, 294_116}).Draw(rt, "bit"))
		ten := rapid.Bool().Draw(rt, "ten")
		address := rapid.IntRange(8, 0x77).Draw(rt, "address")
		if ten {
			address = rapid.IntRange(0, 0x3ff).Draw(rt, "10-bit address")
		}
		w := newWorld(Settings{})
		rise := quantity.Time(rapid.Int64Range(0, int64(each)/8).Draw(rt, "rise"))
		w.Rise[0], w.Rise[1] = rise, rise
		c := w.control(NewController(each))
		c.Stretch = 50 * each
		m := &memory{page: 256}
		holds := rapid.IntRange(0, 20).Draw(rt, "holds")
		target := &Target{Device: m, Address: address, Ten: ten, Hold: each / 16, Stretch: func(n int) quantity.Time { return quantity.Time(n%2*holds) * each / 4 }}
		w.Join(target, 3*quantity.Nanosecond)
		w.Join(&Target{Device: &memory{page: 256}, Address: address ^ 1, Ten: ten, Hold: each / 16}, quantity.Nanosecond)
		place := rapid.Byte().Draw(rt, "place")
		data := rapid.SliceOfN(rapid.Byte(), 1, 12).Draw(rt, "data")
		wr := Transaction{Segments: []Segment{{Address: address, Ten: ten, Data: append([]byte{place}, data...)}}}
		rd := Transaction{Segments: []Segment{{Address: address, Ten: ten, Data: []byte{place}}, {Address: address, Ten: ten, Read: len(data)}}}
		require.NoError(rt, wr.Check())
		require.NoError(rt, rd.Check())
		c.Queue(wr)
		c.Queue(rd)
		w.run(quantity.Time(2*(len(data)+6)*(9+holds)+60) * 2 * each)
		require.Len(rt, w.events[0], 2)
		require.Equal(rt, Done, w.events[0][0].What)
		require.Equal(rt, Done, w.events[0][1].What)
		require.Equal(rt, data, w.events[0][1].Read[1])
		require.Equal(rt, 2, m.ends)
		// The tap saw the same.
		require.Len(rt, w.seen.Done, 2)
		parts := Parts(&w.seen.Done[1])
		last := parts[len(parts)-1]
		require.Equal(rt, address, last.Address)
		require.Equal(rt, ten, last.Ten)
		require.True(rt, last.Read && last.Acked)
		require.Equal(rt, data, last.Data)
		require.False(rt, last.Acks[len(data)-1], "the last byte read is not acknowledged")
		require.Zero(rt, w.seen.Done[0].AllFlags())
	})
}

// TestPageEnd: twenty bytes into a page of sixteen go round; split at the page
// they arrive.
func TestPageEnd(t *testing.T) {
	data := make([]byte, 20)
	for i := range data {
		data[i] = byte(0xa0 + i)
	}
	write := func(split bool) [256]byte {
		w := newWorld(Settings{})
		c := w.control(NewController(bit))
		m := &memory{page: 16}
		w.Join(&Target{Device: m, Address: 0x50}, 0)
		chunks := []Chunk{{0x10, data}}
		if split {
			chunks = Pages(0x10, 16, data)
		}
		for _, p := range chunks {
			c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: append([]byte{byte(p.At)}, p.Data...)}}})
		}
		w.run(600 * bit)
		require.Len(t, w.events[0], len(chunks))
		return m.cells
	}
	wrapped, right := write(false), write(true)
	assert.Equal(t, append(data[16:], data[4:16]...), wrapped[0x10:0x20], "the last four overwrote the first")
	assert.Equal(t, data, right[0x10:0x24])
	assert.Equal(t, []Chunk{{0x3e, data[:2]}, {0x40, data[2:18]}, {0x50, data[18:]}}, Pages(0x3e, 16, data))
}

func TestNobodyThere(t *testing.T) {
	w := newWorld(Settings{})
	c := w.control(NewController(bit))
	c.Queue(Transaction{Segments: []Segment{{Address: 0x4b, Data: []byte{1, 2}}}})
	w.run(100 * bit)
	require.Len(t, w.events[0], 1)
	assert.Equal(t, NotAcknowledged, w.events[0][0].What)
	assert.Equal(t, 0, w.events[0][0].Byte)
	assert.Equal(t, "start 96 nack stop", Describe(&w.seen.Done[0]))
	assert.Zero(t, c.Queued())
}

// TestGeneralCall reaches every device that takes it.
func TestGeneralCall(t *testing.T) {
	w := newWorld(Settings{})
	c := w.control(NewController(bit))
	a, b, deaf := &memory{page: 256}, &memory{page: 256}, &memory{page: 256}
	w.Join(&Target{Device: a, Address: 0x20, GeneralCall: true}, 0)
	w.Join(&Target{Device: b, Address: 0x21, GeneralCall: true}, 0)
	w.Join(&Target{Device: deaf, Address: 0x22}, 0)
	c.Queue(Transaction{Segments: []Segment{{Address: 0, Data: []byte{7, 0x55}}}})
	w.run(100 * bit)
	assert.Equal(t, []byte{0x55, 0x55, 0}, []byte{a.cells[7], b.cells[7], deaf.cells[7]})
	assert.Equal(t, "general call", Reserved(Parts(&w.seen.Done[0])[0].Address, false))
}

// TestArbitration: of controllers that start together the one with the first 0
// goes on undisturbed; the others come after it.
func TestArbitration(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(Settings{})
		m := &memory{page: 256}
		w.Join(&Target{Device: m, Address: 0x50, Hold: bit / 16}, quantity.Nanosecond)
		n := rapid.IntRange(2, 3).Draw(rt, "controllers")
		var places []byte
		for i := range n {
			// Their clocks differ too; the slowest low and the shortest high rule.
			c := w.control(NewController(bit + quantity.Time(rapid.Int64Range(-200_000, 200_000).Draw(rt, "clock"))))
			place := rapid.Byte().Draw(rt, "place")&0x3f | byte(i)<<6
			places = append(places, place)
			c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{place, byte(0x11 * (i + 1))}}}})
		}
		w.run(300 * bit)
		lost := 0
		for i := range n {
			last := w.events[i][len(w.events[i])-1]
			require.Equal(rt, Done, last.What)
			require.Equal(rt, byte(0x11*(i+1)), m.cells[places[i]])
			lost += len(w.events[i]) - 1
		}
		require.Positive(rt, lost)
		require.Len(rt, w.seen.Done, n)
		for i := range w.seen.Done {
			require.Zero(rt, w.seen.Done[i].AllFlags())
		}
		require.Equal(rt, places[0], w.seen.Done[0].Data[1], "the smallest byte wins")
		require.Len(rt, w.events[0], 1, "the winner notices nothing")
	})
}

// TestStretchedTooLong: a device that holds the clock beyond the limit.
func TestStretchedTooLong(t *testing.T) {
	w := newWorld(Settings{Stretch: 25 * quantity.Millisecond, Stuck: 60 * quantity.Millisecond})
	c := w.control(NewController(10 * quantity.Microsecond))
	c.Stretch = 25 * quantity.Millisecond
	hold := 30 * quantity.Millisecond
	w.Join(&Target{Device: &memory{page: 256}, Address: 0x50, Stretch: func(n int) quantity.Time {
		if n == 1 {
			return hold
		}
		return 0
	}}, 0)
	c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{1, 2, 3}}}})
	w.run(100 * quantity.Millisecond)
	require.Len(t, w.events[0], 1)
	assert.Equal(t, TimedOut, w.events[0][0].What)
	assert.Equal(t, 2, w.events[0][0].Byte)
	w.tap.Flush(&w.seen)
	require.NotEmpty(t, w.seen.Done)
	assert.NotZero(t, w.seen.Done[0].AllFlags()&record.Stretched)
	// Below the limit it goes through.
	hold = 20 * quantity.Millisecond
	c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{1, 2, 3}}}})
	w.run(100 * quantity.Millisecond)
	assert.Equal(t, Done, w.events[0][1].What)
}

// TestStuckBus: a controller is reset in the middle of a read while the device
// puts out a 0. The next one frees the bus within nine pulses.
func TestStuckBus(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(Settings{Stuck: 20 * bit})
		m := &memory{page: 256}
		m.cells[0] = rapid.Byte().Draw(rt, "value")
		w.Join(&Target{Device: m, Address: 0x50, Hold: bit / 16}, 0)
		broken := w.control(NewController(bit))
		dies := &dying{Controller: broken}
		w.Bus = shared.New(2)
		w.Join(&Target{Device: m, Address: 0x50, Hold: bit / 16}, 0)
		w.Join(dies, 0)
		broken.Queue(Transaction{Segments: []Segment{{Address: 0x50, Read: 2}}})
		dies.at = quantity.Time(rapid.Int64Range(int64(11*bit), int64(19*bit)).Draw(rt, "reset"))
		w.run(40 * bit)
		held := !w.Levels()[1]
		fresh := w.control(NewController(bit))
		fresh.Stuck = 10 * bit
		byHand := rapid.Bool().Draw(rt, "by hand")
		if byHand {
			fresh.Queue(Transaction{Free: true})
		}
		fresh.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{3, 0x77}}}})
		w.run(200 * bit)
		events := w.events[1]
		require.NotEmpty(rt, events)
		last := events[len(events)-1]
		require.Equal(rt, Done, last.What, "%v", events[0].What)
		require.Equal(rt, byte(0x77), m.cells[3])
		if byHand {
			require.Equal(rt, Freed, events[0].What)
			require.Equal(rt, Done, events[1].What)
			require.Equal(rt, events[0].Clocks, events[1].Clocks)
		}
		if held {
			require.Len(rt, events, map[bool]int{false: 2, true: 3}[byHand])
			require.Equal(rt, Freed, events[0].What)
			require.LessOrEqual(rt, events[0].Clocks, 9)
			told := false
			for _, r := range w.seen.Done {
				told = told || r.AllFlags() == record.Stuck && strings.HasPrefix(r.Text, "data held low for more than 50")
			}
			require.True(rt, told)
		}
	})
}

// dying lets the lines go at a time and does nothing more.
type dying struct {
	*Controller
	at quantity.Time
}

func (d *dying) Step(t quantity.Time, high, release []bool) quantity.Time {
	if t >= d.at {
		release[0], release[1] = true, true
		return quantity.Forever
	}
	return min(d.Controller.Step(t, high, release), d.at)
}

// TestHeldForEver: a line that nothing frees is told for each transaction, and no pulses
// are sent again.
func TestHeldForEver(t *testing.T) {
	w := newWorld(Settings{Stuck: quantity.Millisecond})
	w.Rise[1] = quantity.Forever
	w.Join(&pull{}, 0)
	c := w.control(NewController(bit))
	c.Stuck = quantity.Millisecond
	w.run(bit)
	c.Queue(Transaction{Segments: []Segment{{Address: 1, Data: []byte{1}}}})
	w.run(10 * quantity.Millisecond)
	require.Len(t, w.events[0], 1)
	assert.Equal(t, HeldLow, w.events[0][0].What)
	assert.Equal(t, 9, w.events[0][0].Clocks)
	assert.Zero(t, c.Queued())
	c.Queue(Transaction{Segments: []Segment{{Address: 1, Data: []byte{1}}}})
	w.Wake()
	w.run(20 * quantity.Millisecond)
	require.Len(t, w.events[0], 2)
	assert.Equal(t, HeldLow, w.events[0][1].What)
	assert.Zero(t, w.events[0][1].Clocks)
	c.Queue(Transaction{Free: true})
	w.Wake()
	w.run(30 * quantity.Millisecond)
	require.Len(t, w.events[0], 3)
	assert.Equal(t, 9, w.events[0][2].Clocks)
}

// pull pulls data low.
type pull struct{}

func (pull) Step(_ quantity.Time, _, release []bool) quantity.Time {
	release[1] = false
	return quantity.Forever
}

// TestHighSpeed: behind the code of high-speed mode, which nobody
// acknowledges, the bus runs fast until the stop.
func TestHighSpeed(t *testing.T) {
	w := newWorld(Settings{})
	c := w.control(NewController(bit))
	c.Fast = 294_118 // 3.4 Mbit/s
	m := &memory{page: 256}
	w.Join(&Target{Device: m, Address: 0x50, Hold: 10 * quantity.Nanosecond}, 0)
	c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{9, 1, 2, 3}}}, HighSpeed: true, Code: 3})
	c.Queue(Transaction{Segments: []Segment{{Address: 0x50, Data: []byte{20, 4}}}})
	w.run(200 * bit)
	require.Len(t, w.events[0], 2)
	assert.Equal(t, []byte{1, 2, 3}, m.cells[9:12])
	require.Len(t, w.seen.Done, 2)
	r := &w.seen.Done[0]
	assert.Equal(t, "start 0B nack high-speed restart A0 ack 09 ack 01 ack 02 ack 03 ack stop", Describe(r))
	parts := Parts(r)
	assert.False(t, parts[0].Fast)
	assert.True(t, parts[1].Fast)
	each := func(r *record.Record, i int) float64 { return float64(r.Offsets[i+1] - r.Offsets[i]) }
	assert.InEpsilon(t, 9*294_118, each(r, 2), 0.05, "fast after the code")
	assert.InEpsilon(t, float64(9*bit), each(&w.seen.Done[1], 1), 0.05, "and slow again after the stop")
}

// TestSpikes: pulses up to the filter's width are left out, and the records
// stay as they were.
func TestSpikes(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		bs := []Byte{{0x96, true, true}, {rapid.Byte().Draw(rt, "a"), true, false}, {rapid.Byte().Draw(rt, "b"), false, false}}
		clock, data, end := Encode(quantity.Microsecond, bit, bs, true)
		end += 100 * bit
		const width = 50 * quantity.Nanosecond
		spike := func(tog []quantity.Time) []quantity.Time {
			var out []quantity.Time
			for i, at := range tog {
				out = append(out, at)
				if i+1 < len(tog) && rapid.IntRange(0, 2).Draw(rt, "spike") == 0 {
					s := at + width + 1 + quantity.Time(rapid.Int64Range(0, int64(bit/4-3*width)).Draw(rt, "place"))
					out = append(out, s, s+quantity.Time(rapid.Int64Range(1, int64(width)).Draw(rt, "width")))
				}
			}
			return out
		}
		noisyClock, noisyData := spike(clock), spike(data)
		want, got, cut := &record.List{}, &record.List{}, &record.List{}
		feed(NewDecoder(Settings{}, 0), clock, data, end, wiretest.Whole(end), want)
		set := Settings{Filter: width}
		feed(NewDecoder(set, 0), noisyClock, noisyData, end, wiretest.Whole(end), got)
		feed(NewDecoder(set, 0), noisyClock, noisyData, end, wiretest.AtRandom(rt, end, 20), cut)
		require.Equal(rt, want.Done, got.Done)
		require.Equal(rt, want.Done, cut.Done)
	})
}

// TestTheStopIsToldInTime: a filter that holds an edge back says until when.
func TestTheStopIsToldInTime(t *testing.T) {
	clock, data, end := Encode(quantity.Microsecond, bit, []Byte{{0x96, true, true}}, true)
	d := NewDecoder(Settings{Filter: 50 * quantity.Nanosecond}, 0)
	out := &record.List{}
	d.Feed([]wire.Window{{To: end + 1, High: true, Toggles: clock}, {To: end + 1, High: true, Toggles: data}}, out)
	require.Empty(t, out.Done)
	wake := d.Wake()
	require.Less(t, wake, end+100*quantity.Nanosecond)
	d.Feed([]wire.Window{{From: end + 1, To: wake, High: true}, {From: end + 1, To: wake, High: true}}, out)
	require.Len(t, out.Done, 1)
}

func TestErrorCode(t *testing.T) {
	for _, c := range []struct {
		last byte
		mark record.Flags
	}{{PEC([]byte{0x96, 0x12}), 0}, {PEC([]byte{0x96, 0x12}) ^ 1, record.CheckSequence}} {
		clock, data, end := Encode(quantity.Microsecond, bit, []Byte{{0x96, true, true}, {0x12, true, false}, {c.last, true, false}}, true)
		out := &record.List{}
		feed(NewDecoder(Settings{PEC: true}, 0), clock, data, end+bit, wiretest.Whole(end+bit), out)
		require.Len(t, out.Done, 1)
		assert.Equal(t, c.mark, out.Done[0].AllFlags())
	}
}

func TestTransactionsAreChecked(t *testing.T) {
	for _, bad := range []Transaction{{}, {Segments: []Segment{{Address: 0x80}}}, {Segments: []Segment{{Address: 0x400, Ten: true}}}, {Segments: []Segment{{Read: 1, Data: []byte{1}}}}, {Segments: []Segment{{Read: -1}}}} {
		assert.Error(t, bad.Check())
	}
}
