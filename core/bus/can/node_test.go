package can

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/shared"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

const (
	rate  = 250 * quantity.Kilobaud
	bit   = 4 * quantity.Microsecond
	delay = 50 * quantity.Nanosecond
)

// world is a bus with nodes and a tap.
type world struct {
	*shared.Bus
	nodes  []*Node
	events [][]Event
	tap    *Decoder
	seen   record.List
}

func newWorld(nodes ...*Node) *world {
	w := &world{Bus: shared.New(1), tap: NewDecoder(quanta(UsualTiming(rate, 0)), 0)}
	for _, n := range nodes {
		w.add(n)
	}
	return w
}

// quanta gives a timing of 20 quanta a bit.
func quanta(t Timing) Timing {
	t.Nominal.Quanta, t.Data.Quanta = 20, 20
	return t
}

func node(off quantity.PPM) *Node { return NewNode(quanta(UsualTiming(rate, 0)), off) }

func (w *world) add(n *Node) {
	i := len(w.nodes)
	w.nodes = append(w.nodes, n)
	w.events = append(w.events, nil)
	n.OnEvent = func(e Event) { w.events[i] = append(w.events[i], e) }
	w.Join(n, delay)
}

func (w *world) run(bits int) {
	w.Wake()
	w.Run(w.Now() + quantity.Time(bits)*bit)
	w.tap.Feed(w.Take(), &w.seen)
}

// settle lets every node see the bus idle.
func (w *world) settle() { w.run(20) }

// of gives the events of one kind of a node.
func (w *world) of(i int, what What) []Event {
	var out []Event
	for _, e := range w.events[i] {
		if e.What == what {
			out = append(out, e)
		}
	}
	return out
}

func (w *world) counters(i int) [2]int {
	t, r := w.nodes[i].Counters()
	return [2]int{t, r}
}

func frame(id uint32, data ...byte) Frame { return Frame{ID: id, Data: data, DLC: len(data)} }

// jammer pulls the line low in the stretches given.
type jammer struct{ from, to []quantity.Time }

func (j *jammer) Step(t quantity.Time, _, release []bool) quantity.Time {
	release[0] = true
	wake := quantity.Forever
	for i := range j.from {
		if t >= j.from[i] && t < j.to[i] {
			release[0] = false
		}
		for _, x := range []quantity.Time{j.from[i], j.to[i]} {
			if x > t {
				wake = min(wake, x)
			}
		}
	}
	return wake
}

var _ bus.Node = (*Node)(nil)

func TestTwoNodes(t *testing.T) {
	a, b := node(0), node(0)
	w := newWorld(a, b)
	w.settle()
	assert.Len(t, w.of(0, Joined), 1)
	f := frame(0x2a5, 0x3c, 0x81)
	a.Send(f)
	w.run(100)
	require.Len(t, w.of(0, Sent), 1)
	require.Len(t, w.of(1, Received), 1)
	assert.Equal(t, f, w.of(1, Received)[0].Frame)
	assert.Empty(t, w.of(1, Failed))
	require.Len(t, w.seen.Done, 1)
	assert.Zero(t, w.seen.Done[0].AllFlags(), w.seen.Done[0].Text)
	assert.Equal(t, [2]int{0, 0}, w.counters(0))
	assert.Equal(t, [2]int{0, 0}, w.counters(1))
}

// TestFramesArriveWhole: whatever two nodes with different clocks send, the
// other and the tap read it.
func TestFramesArriveWhole(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		timing := quanta(UsualTiming(rate, rapid.SampledFrom([]quantity.Rate{0, quantity.Megabaud}).Draw(rt, "data rate")))
		// Quanta of 50 ns in both phases: the rate changes at a sample point,
		// where a quarter of a microsecond more would already be too much.
		timing.Nominal.Quanta = 80
		// The limit of a pair with these segments is 2·0.1/20; twice the rate
		// leaves less.
		off := quantity.PPM(rapid.Int64Range(-2000, 2000).Draw(rt, "off"))
		a, b := NewNode(timing, 0), NewNode(timing, off)
		w := newWorld(a, b)
		w.tap = NewDecoder(timing, 0)
		w.settle()
		var sent [2][]Frame
		for range rapid.IntRange(1, 4).Draw(rt, "frames") {
			f := anyFrame(rt)
			from := rapid.IntRange(0, 1).Draw(rt, "from")
			f.Passive = false
			// No two nodes may send the same identifier.
			f.ID = f.ID&^1 | uint32(from)
			w.nodes[from].Send(f)
			sent[from] = append(sent[from], f)
			w.run(rapid.IntRange(1, 900).Draw(rt, "pause"))
		}
		w.run(4000)
		for i, frames := range sent {
			got := w.of(1-i, Received)
			require.Len(rt, got, len(frames))
			for k := range frames {
				if len(frames[k].Data) == 0 {
					frames[k].Data, got[k].Frame.Data = nil, nil
				}
				require.Equal(rt, frames[k], got[k].Frame)
			}
			require.Empty(rt, w.of(i, Failed))
		}
		for _, r := range w.seen.Done {
			require.Zero(rt, r.AllFlags(), r.Text)
		}
		require.Len(rt, w.seen.Done, len(sent[0])+len(sent[1]))
	})
}

// TestSoleNode: nobody acknowledges. The counter climbs by 8 with each try to
// 128, where the node is passive; from then on it stays.
func TestSoleNode(t *testing.T) {
	a := node(0)
	w := newWorld(a)
	w.settle()
	a.Send(frame(0x123, 1))
	w.run(10_000)
	failed := w.of(0, Failed)
	require.Greater(t, len(failed), 30)
	for i, e := range failed {
		assert.Equal(t, AcknowledgeError, e.Error)
		assert.Equal(t, min(8*(i+1), 128), e.TEC)
	}
	assert.Equal(t, ErrorPassive, a.State())
	states := w.of(0, StateChanged)
	require.Len(t, states, 1, "never off")
	assert.Equal(t, failed[15].At, states[0].At, "16 tries")
	// On the wire: error flags after the first tries, none after the last.
	first, last := w.seen.Done[0], w.seen.Done[len(w.seen.Done)-1]
	assert.Equal(t, record.NotAcknowledged, first.AllFlags())
	assert.NotZero(t, last.AllFlags()&record.NotAcknowledged)
	// A second node comes: the frame is acknowledged, the counter falls by one.
	w.add(node(0))
	w.run(400)
	require.Len(t, w.of(1, Received), 1)
	assert.Equal(t, [2]int{127, 0}, w.counters(0))
	assert.Equal(t, ErrorActive, a.State())
	assert.Equal(t, 0, a.Queued())
}

// TestListener: a node that only listens hears everything, acknowledges
// nothing and never drives.
func TestListener(t *testing.T) {
	a, b := node(0), node(0)
	b.ListenOnly = true
	w := newWorld(a, b)
	w.settle()
	b.Send(frame(1))
	w.run(200)
	assert.Empty(t, w.seen.Done, "what it should send stays")
	a.Send(frame(0x55, 1, 2))
	w.run(3000)
	assert.Empty(t, w.of(0, Sent))
	assert.Equal(t, [2]int{128, 0}, w.counters(0))
	assert.Equal(t, [2]int{0, 0}, w.counters(1))
	// A third node acknowledges, and the listener hears the frame too.
	w.add(node(0))
	w.run(400)
	assert.Len(t, w.of(0, Sent), 1)
	assert.NotEmpty(t, w.of(1, Received))
	assert.Equal(t, frame(0x55, 1, 2), w.of(1, Received)[len(w.of(1, Received))-1].Frame)
}

// TestForcedBitErrors: each error counts 8; after 32 the node is off. Recovery
// takes 128 times eleven recessive bits, 5.632 ms at 250 kbit/s.
func TestForcedBitErrors(t *testing.T) {
	a := node(0)
	a.OneShot = false
	w := newWorld(a)
	w.Join(&spoiler{a: a}, 0)
	w.settle()
	a.Send(frame(0x7f0, 0xff))
	w.run(8000)
	var errors []Event
	for _, e := range w.of(0, Failed) {
		if len(errors) > 0 && errors[len(errors)-1].State == BusOff {
			break // from here on nobody acknowledges
		}
		errors = append(errors, e)
		assert.Equal(t, BitError, e.Error)
		assert.Equal(t, 8*len(errors), e.TEC)
	}
	require.Len(t, errors, 32)
	assert.Equal(t, BusOff, errors[31].State)
	states := w.of(0, StateChanged)
	require.GreaterOrEqual(t, len(states), 3)
	assert.Equal(t, []ErrorState{ErrorPassive, BusOff, ErrorActive}, []ErrorState{states[0].State, states[1].State, states[2].State})
	recovery := states[2].At - states[1].At
	assert.InDelta(t, float64(5632*quantity.Microsecond), float64(recovery), float64(12*bit))
	assert.Equal(t, [2]int{0, 0}, [2]int{states[2].TEC, states[2].REC})
}

// spoiler pulls the first recessive bit of the identifier's end low, 32 times.
type spoiler struct {
	a     *Node
	n     int
	low   quantity.Time
	quiet quantity.Time
	was   bool
}

func (s *spoiler) Step(t quantity.Time, high, release []bool) quantity.Time {
	// A frame begins with a fall after eleven recessive bits. Its bits 14 to 18
	// are dominant: remote, extension, reserved and the first of the length;
	// the stuff bit behind them is spoilt.
	if s.was && !high[0] && t-s.quiet > 10*bit && s.n < 32 {
		s.low = t + 13*bit
		s.n++
	}
	if high[0] && !s.was {
		s.quiet = t
	}
	s.was = high[0]
	release[0] = !(t >= s.low && t < s.low+8*bit && s.low > 0)
	if t < s.low {
		return s.low
	}
	if t < s.low+8*bit {
		return s.low + 8*bit
	}
	return quantity.Forever
}

func TestStayOffUntilRestarted(t *testing.T) {
	a := node(0)
	a.StayOff = true
	w := newWorld(a)
	w.Join(&spoiler{a: a}, 0)
	w.settle()
	a.Send(frame(0x7f0, 0xff))
	w.run(20_000)
	assert.Equal(t, BusOff, a.State())
	assert.Equal(t, "bus off, transmit errors 256, receive errors 0", a.String())
	w.add(node(0))
	a.Restart()
	w.run(128*11 - 30)
	assert.Equal(t, BusOff, a.State(), "the time before the restart does not count")
	w.run(330)
	assert.Equal(t, ErrorActive, a.State())
	assert.True(t, a.StayOff, "it would stay off again")
	assert.Len(t, w.of(0, Sent), 1)
}

// TestArbitration: 2A5 wins against 2A7 and against an extended frame whose
// first eleven bits are 2A5; the losers follow in order.
func TestArbitration(t *testing.T) {
	a, b, c := node(0), node(100), node(-100)
	w := newWorld(a, b, c)
	w.settle()
	ext := Frame{ID: 0x2a5 << 18, Extended: true, Data: []byte{3}, DLC: 1}
	b.Send(frame(0x2a7, 2))
	c.Send(ext)
	a.Send(frame(0x2a5, 1))
	w.run(600)
	var order []uint32
	for _, r := range w.seen.Done {
		require.Zero(t, r.AllFlags(), r.Text)
		order = append(order, r.ID)
	}
	assert.Equal(t, []uint32{0x2a5, 0x2a5 << 18, 0x2a7}, order)
	lost := w.of(1, Lost)
	require.NotEmpty(t, lost)
	assert.Equal(t, Identifier, lost[0].Field)
	assert.Equal(t, 10, lost[0].Bit, "of 01010100101 and 01010100111 the last but one differs: bit 1 of the identifier")
	lost = w.of(2, Lost)
	require.Len(t, lost, 1)
	assert.Equal(t, RemoteBit, lost[0].Field, "the bit after the identifier")
	for i := range w.nodes {
		assert.Equal(t, [2]int{0, 0}, w.counters(i))
	}
}

// TestWrongRate: a node at another rate destroys what it hears as long as it
// is active, and disturbs nothing when it only listens.
func TestWrongRate(t *testing.T) {
	for _, listens := range []bool{false, true} {
		a, b := node(0), node(0)
		odd := NewNode(quanta(UsualTiming(200*quantity.Kilobaud, 0)), 0)
		odd.ListenOnly = listens
		w := newWorld(a, b, odd)
		w.settle()
		a.Send(frame(0x155, 0xaa, 0x55))
		w.run(400)
		marked := 0
		for _, r := range w.seen.Done {
			if r.AllFlags() != 0 {
				marked++
			}
		}
		if listens {
			assert.Zero(t, marked)
			assert.Len(t, w.of(0, Sent), 1)
			assert.Empty(t, w.of(0, Failed))
			continue
		}
		assert.Positive(t, marked)
		_, rec := odd.Counters()
		assert.Positive(t, rec)
		w.run(3000)
		assert.Empty(t, w.of(0, Sent), "nothing comes through while it is active")
		odd.ListenOnly = true
		w.run(4000)
		assert.Len(t, w.of(0, Sent), 1, "once it only listens the frame does")
	}
}

// TestBabbling: a node that never stops sending the first identifier keeps the
// others out, without an error; once it stops, they send.
func TestBabbling(t *testing.T) {
	a, b, babbler := node(0), node(0), node(0)
	w := newWorld(a, b, babbler)
	w.settle()
	for range 50 {
		babbler.Send(frame(0, 0))
	}
	w.run(10)
	a.Send(frame(0x300, 1))
	w.run(1000)
	assert.Empty(t, w.of(0, Sent))
	assert.NotEmpty(t, w.of(0, Lost))
	assert.Empty(t, w.of(0, Failed))
	w.run(4000)
	assert.Len(t, w.of(0, Sent), 1)

	// Noise instead of frames: the counters go up, and the nodes come back.
	rng := rand.New(rand.NewPCG(7, 7))
	j := &jammer{}
	at := w.Now()
	for range 300 {
		at += quantity.Time(rng.Int64N(int64(20 * bit)))
		j.from = append(j.from, at)
		at += quantity.Time(rng.Int64N(int64(10 * bit)))
		j.to = append(j.to, at)
	}
	w.Join(j, 0)
	a.Send(frame(0x300, 2))
	w.run(2000)
	assert.NotEmpty(t, w.of(0, Failed))
	_, rec := b.Counters()
	assert.Positive(t, rec)
	w.run(8000)
	assert.Len(t, w.of(0, Sent), 2)
}

// TestErrorsSeenByReceivers: one receiver's local error is answered by all
// with error flags. The one that found it first sees the others' flags behind
// its own, which counts 8 more; the others count 1, the sender 8.
func TestErrorsSeenByReceivers(t *testing.T) {
	a, b, c := node(0), node(0), node(0)
	w := newWorld(a, b, c)
	w.settle()
	// Node b alone misreads: a spike at its input, modelled as a node with
	// another idea of one bit.
	deaf := &misreading{Node: b, from: w.Now() + 20*bit}
	w.Bus = shared.New(1)
	w.nodes, w.events = nil, nil
	w.add(a)
	w.nodes, w.events = append(w.nodes, b), append(w.events, nil)
	b.OnEvent = func(e Event) { w.events[1] = append(w.events[1], e) }
	w.Join(deaf, delay)
	w.add(c)
	a.Send(frame(0x555, 0x55, 0x55))
	deaf.from = 0
	w.settle()
	deaf.from = w.Now()
	w.run(200)
	require.NotEmpty(t, w.of(1, Failed))
	require.NotEmpty(t, w.of(0, Failed))
	first := w.of(1, Failed)[0]
	assert.Equal(t, StuffError, first.Error)
	assert.Equal(t, 1, first.REC)
	assert.Equal(t, 8, w.of(0, Failed)[0].TEC)
	assert.Equal(t, BitError, w.of(0, Failed)[0].Error)
	assert.Equal(t, 1, w.of(2, Failed)[0].REC)
	w.run(400)
	require.Len(t, w.of(0, Sent), 1)
	assert.Equal(t, [2]int{7, 0}, w.counters(0))
	assert.Equal(t, [2]int{0, 8}, w.counters(1), "1 and 8, less 1 for the frame that came")
	assert.Equal(t, [2]int{0, 0}, w.counters(2))
}

// misreading sees the line high from a time on, until its node finds that wrong.
type misreading struct {
	*Node
	from quantity.Time
}

func (m *misreading) Step(t quantity.Time, high, release []bool) quantity.Time {
	if m.from > 0 && t >= m.from+20*bit && t < m.from+26*bit && m.state == reading {
		return min(m.Node.Step(t, []bool{true}, release), m.from+26*bit)
	}
	wake := m.Node.Step(t, high, release)
	if m.from > 0 && t < m.from+20*bit {
		wake = min(wake, m.from+20*bit)
	}
	return wake
}

// TestHeldDominant: a node never joins a bus that is held dominant.
func TestHeldDominant(t *testing.T) {
	a := node(0)
	w := newWorld(a)
	w.Join(&jammer{from: []quantity.Time{0}, to: []quantity.Time{quantity.Second}}, 0)
	a.Send(frame(1))
	w.run(2000)
	assert.Empty(t, w.of(0, Joined))
	assert.Equal(t, 1, a.Queued())
}

// TestOneShot: a frame that fails is not sent again.
func TestOneShot(t *testing.T) {
	a := node(0)
	a.OneShot = true
	w := newWorld(a)
	w.settle()
	a.Send(frame(1))
	w.run(400)
	assert.Len(t, w.of(0, Failed), 1)
	assert.Len(t, w.of(0, Dropped), 1)
	assert.Zero(t, a.Queued())
}

// TestOlderNode: a node without the flexible data rate format answers its
// frames with error flags, and hears the others.
func TestOlderNode(t *testing.T) {
	a, b, old := node(0), node(0), node(0)
	old.Classic = true
	w := newWorld(a, b, old)
	w.settle()
	a.Send(Frame{ID: 0x100, FD: true, Data: make([]byte, 12), DLC: 9})
	w.run(300)
	require.NotEmpty(t, w.of(2, Failed))
	assert.Equal(t, FormError, w.of(2, Failed)[0].Error)
	assert.Equal(t, FDBit, w.of(2, Failed)[0].Field)
	assert.Empty(t, w.of(1, Received))
	b.Send(frame(0x50, 1))
	w.run(400)
	assert.Len(t, w.of(2, Received), 1, "a frame of the older kind comes through in between")
}
