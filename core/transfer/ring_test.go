package transfer

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// model is a ring as memory: a stream of numbered bytes is written into it, and a consumer,
// written apart from Consumers, reads what stands there.
type model struct {
	ring []int // the number of the byte in each place; -1: none
	n    int
	last int
	got  []int
}

func (m *model) write(count int) {
	for range count {
		m.ring[m.n%len(m.ring)] = m.n
		m.n++
	}
}

func (m *model) read(from, to int) { // [from, to)
	for i := from; i < to; i++ {
		if m.ring[i] >= 0 {
			m.got = append(m.got, m.ring[i])
		}
	}
}

func (m *model) round(from int) {
	m.read(from, len(m.ring))
	m.read(0, from)
}

// run is one run of a handler, by the rules as they are written down for each mistake.
func (m *model) run(name string, half, full, idle bool, before int) {
	pos, size := m.n%len(m.ring), len(m.ring)
	switch name {
	case "by-position":
		switch came := m.n - before; {
		case came > size && (half || full):
			m.round(pos)
		case came == size && (half || full): // silence alone can't tell a turn from nothing
			m.round(m.last)
		case pos > m.last:
			m.read(m.last, pos)
		case pos < m.last:
			m.read(m.last, size)
			m.read(0, pos)
		}
		m.last = pos
	case "restart-at-zero":
		switch {
		case pos > m.last:
			m.read(m.last, pos)
		case pos < m.last:
			m.read(m.last, size)
			m.read(0, pos)
		case half || full:
			m.round(m.last)
		}
		if m.last = pos; idle {
			m.last = 0
		}
	case "wrap-compare":
		if pos > m.last {
			m.read(m.last, pos)
		}
		m.last = pos
	case "forget-full":
		if full && !half && !idle {
			return
		}
		if pos > m.last {
			m.read(m.last, pos)
		} else if pos < m.last || half {
			m.read(0, pos)
		}
		m.last = pos
	case "equal-is-nothing":
		if pos > m.last {
			m.read(m.last, pos)
		} else if pos < m.last {
			m.read(m.last, size)
			m.read(0, pos)
		}
		m.last = pos
	}
}

// Each byte is delivered, lost or doubled just as memory shows it, for every consumer: at
// multiples of the ring, idle exactly at its end, events together, and more than it holds.
func TestAccountsAgainstMemory(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.SampledFrom([]int{2, 3, 4, 7, 8, 16, 64}).Draw(t, "size")
		bit := quantity.PeriodOf(quantity.FromBd(115200))
		char := bit.Times(10)
		r := Ring{Size: size, Bit: bit, ByteBits: 10, IdleChars: 1, Events: Events(rapid.IntRange(1, 7).Draw(t, "events")),
			Latency: quantity.Time(rapid.Float64Range(0.05, 0.9).Draw(t, "latency") * float64(char))}
		var bursts []Burst
		at := quantity.Time(0)
		for range rapid.IntRange(1, 8).Draw(t, "bursts") {
			n := rapid.OneOf(rapid.IntRange(1, 3*size), rapid.SampledFrom([]int{size, size / 2, 2 * size})).Draw(t, "bytes")
			bursts = append(bursts, Burst{at, max(n, 1)})
			at += char * quantity.Time(n+rapid.IntRange(0, 6).Draw(t, "gap"))
		}
		if rapid.Bool().Draw(t, "blocked") {
			from := quantity.Time(rapid.Float64Range(0, 1).Draw(t, "from") * float64(at))
			r.Blocked = []Window{{from, from + char*quantity.Time(rapid.IntRange(1, 4*size).Draw(t, "window"))}}
		}
		services := r.Services(bursts)
		ends := Ends(bursts, bit, 10)
		for i := range Consumers {
			c := &Consumers[i]
			m := &model{ring: slices.Repeat([]int{-1}, size)}
			live := NewAccountant(size, c)
			before := 0
			for _, s := range services {
				came := 0
				for _, e := range ends {
					if e <= s.At {
						came++
					}
				}
				require.Equal(t, came, s.Written)
				m.write(came - m.n)
				m.run(c.Name, s.Events&HalfEvent != 0, s.Events&FullEvent != 0, s.Events&IdleEvent != 0, before)
				live.Serve(s)
				before = came
			}
			a := AccountOf(size, c, services, len(ends), AllEvents)
			times := make([]int, m.n)
			for _, n := range m.got {
				times[n]++
			}
			lost, doubled := 0, 0
			for _, n := range times {
				if n == 0 {
					lost++
				} else {
					doubled += n - 1
				}
			}
			require.Equal(t, lost, a.LostBytes(), "%s of %d: %v", c.Name, size, services)
			require.Equal(t, doubled, a.DoubledBytes(), "%s of %d: %v", c.Name, size, services)
			require.Equal(t, len(ends)-m.n, a.Left)
			gotLost, gotDoubled := live.Sums()
			require.Equal(t, []int{lost, doubled}, []int{gotLost, gotDoubled}, "%s, followed", c.Name)
			if i == 0 && a.Overrun == 0 && r.Events != IdleEvent {
				require.Zero(t, lost+doubled, "the right one loses nothing while nothing is written over")
			}
		}
	})
}

// A stated series of positions gives its bytes, in order, none twice; an equal position
// without an event is unknown, never nothing; a rule that gives less than nothing is told.
func TestPositions(t *testing.T) {
	series := []Service{}
	for _, p := range []struct {
		pos int
		e   Events
	}{{6, IdleEvent}, {8, HalfEvent}, {13, IdleEvent}, {16, FullEvent}, {3, IdleEvent}, {8, HalfEvent}, {11, IdleEvent}} {
		series = append(series, Service{Pos: p.pos, Events: p.e, Written: -1})
	}
	a := AccountOf(16, &Consumers[0], series, 0, AllEvents)
	var takes []int
	for _, x := range a.Takes {
		n := 0
		for _, p := range x {
			n += p.Length
		}
		takes = append(takes, n)
	}
	assert.Equal(t, []int{6, 2, 5, 3, 3, 5, 3}, takes)
	assert.Equal(t, 27, a.Delivered)
	assert.Zero(t, a.DoubledBytes()+a.LostBytes())

	same := []Service{{Pos: 5, Events: IdleEvent, Written: -1}, {Pos: 9, Events: IdleEvent, Written: -1}, {Pos: 9, Events: IdleEvent, Written: -1}}
	assert.Empty(t, AccountOf(16, &Consumers[0], same, 0, AllEvents).Unknown, "a turn would have raised others")
	assert.Len(t, AccountOf(16, &Consumers[0], same, 0, IdleEvent).Unknown, 1)
	a = AccountOf(16, &Consumers[0], []Service{{Pos: 5, Events: IdleEvent, Written: -1}, {Pos: 5, Written: -1}}, 0, AllEvents)
	require.Len(t, a.Unknown, 1)
	assert.Contains(t, a.Unknown[0].What, "0 or 16 bytes")

	var bad []float64
	rule, err := RuleConsumer("pos - last", func(_ Service, n float64) { bad = append(bad, n) })
	require.NoError(t, err)
	AccountOf(16, rule, series, 0, AllEvents)
	assert.Equal(t, []float64{-13}, bad, "across the wrap it is less than nothing")
	right, err := RuleConsumer("mod(pos - last + size, size)", func(Service, float64) { t.Error("it is right here") })
	require.NoError(t, err)
	assert.Equal(t, 27, AccountOf(16, right, series, 0, AllEvents).Delivered)
}
