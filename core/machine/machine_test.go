package machine

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// A port holds what a plain list would.
func TestQueues(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := New(quantity.FromHz(1e6))
		depth := rapid.IntRange(1, 5).Draw(t, "depth")
		policy := Policy(rapid.IntRange(0, 2).Draw(t, "policy"))
		p := m.AddPort(&Port{Depth: depth, OnFull: policy, Enabled: true})
		var model, lost []int
		for n := range rapid.IntRange(0, 60).Draw(t, "steps") {
			if rapid.IntRange(0, 2).Draw(t, "read") == 0 {
				w, ok := p.Take()
				require.Equal(t, len(model) > 0, ok)
				if ok {
					require.Equal(t, model[0], w.Serial)
					model = model[1:]
				}
				continue
			}
			p.Receive(Word{Serial: n})
			switch {
			case len(model) < depth:
				model = append(model, n)
			case policy == KeepOldest:
				lost = append(lost, n)
			case policy == KeepNewest:
				lost = append(lost, model[0])
				model = append(model[1:], n)
			default:
				lost = append(lost, model[depth-1])
				model[depth-1] = n
			}
		}
		var holds []int
		for _, w := range p.Waiting() {
			holds = append(holds, w.Serial)
		}
		require.Equal(t, append([]int{}, model...), append([]int{}, holds...))
		require.Equal(t, append([]int{}, lost...), append([]int{}, p.LostSerials...))
		require.Equal(t, len(lost), p.Losses)
	})
}

// job is a handler of a given number of cycles, raised at given cycles.
type job struct {
	urgency, cycles int
	at              []int
}

// byCycles runs jobs cycle by cycle, as a processor with levels does: an independent model.
func byCycles(jobs []job, entry, exit, until int) (began [][]int, busy int) {
	type act struct{ job, left int }
	began = make([][]int, len(jobs))
	pending := make([]bool, len(jobs))
	var stack []act
	for c := range until {
		for len(stack) > 0 && stack[len(stack)-1].left == 0 {
			stack = stack[:len(stack)-1]
		}
		for i, j := range jobs {
			if slices.Contains(j.at, c) {
				pending[i] = true
			}
		}
		best := -1
		for i, j := range jobs {
			if pending[i] && (best < 0 || j.urgency < jobs[best].urgency) {
				best = i
			}
		}
		if best >= 0 && (len(stack) == 0 || jobs[best].urgency < jobs[stack[len(stack)-1].job].urgency) {
			pending[best] = false
			began[best] = append(began[best], c)
			stack = append(stack, act{best, entry + jobs[best].cycles + exit})
		}
		if len(stack) > 0 {
			stack[len(stack)-1].left--
			busy++
		}
	}
	return began, busy
}

// Handlers nest by urgency just as a model does that counts cycle by cycle.
func TestHandlersNest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const entry, exit, until = 3, 2, 900
		var jobs []job
		used := map[int]bool{}
		for i := range rapid.IntRange(1, 4).Draw(t, "jobs") {
			j := job{urgency: i, cycles: rapid.IntRange(1, 60).Draw(t, "cycles")}
			for range rapid.IntRange(0, 6).Draw(t, "times") {
				if at := rapid.IntRange(0, 500).Draw(t, "at"); !used[at] {
					used[at] = true
					j.at = append(j.at, at)
				}
			}
			jobs = append(jobs, j)
		}
		m := New(quantity.FromHz(1e6))
		got := make([][]int, len(jobs))
		m.Log.Keep = 1 << 12
		for i, j := range jobs {
			line := m.AddInterrupt(&Interrupt{Priority: j.urgency, Enabled: true, Entry: entry, Exit: exit, Handler: RoutineFunc(func(phase int) (quantity.Time, bool) {
				return m.Cycles(j.cycles), phase > 0
			})})
			for _, at := range j.at {
				m.At(m.Cycles(at), func() { m.Pend(line) })
			}
			_ = i
		}
		m.RunTo(m.Cycles(until))
		for _, k := range m.Log.Marks() {
			if k.Kind == Handled {
				got[k.Who] = append(got[k.Who], int(k.At/m.Cycles(1)))
			}
		}
		want, busy := byCycles(jobs, entry, exit, until)
		for i := range jobs {
			slices.Sort(got[i])
			require.Equal(t, append([]int{}, want[i]...), append([]int{}, got[i]...), "job %d of %v", i, jobs)
		}
		require.Equal(t, busy, int(m.CPU.Busy/m.Cycles(1)))
	})
}

// A channel leaves in memory what a plain loop of copies leaves, whatever its widths, steps,
// count and mode.
func TestElements(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := New(quantity.FromHz(1e6))
		m.DMA.Clock = true
		m.Memory.Regions = []Region{{Name: "m", Start: 0x1000, Bytes: 0x10000, DMA: true, Writable: true}}
		bytes := rapid.SampledFrom([]int{1, 2}).Draw(t, "word")
		p := m.AddPort(&Port{Depth: 1, Enabled: true, ReceiveDMA: true, Bytes: bytes})
		size := rapid.IntRange(2, 12).Draw(t, "count")
		widths := []int{1, 2}
		from := Cursor{Address: p.Data(), Width: rapid.SampledFrom(widths).Draw(t, "unit width"), Moves: rapid.Bool().Draw(t, "unit moves")}
		to := Cursor{Address: 0x2000, Width: rapid.SampledFrom(widths).Draw(t, "memory width"), Moves: rapid.Bool().Draw(t, "memory moves")}
		mode := Mode(rapid.IntRange(0, 1).Draw(t, "mode"))
		b := m.Memory.Add("b", 0x2000, size*to.Width)
		c := m.AddChannel(&Channel{Mapped: true, Request: Line{Port: p}, From: from, To: to, Count: size, Mode: mode})
		c.Arm()
		n := rapid.IntRange(0, 30).Draw(t, "words")
		model := b.Values()
		unit, memory, left, full := 0, 0, size, 0
		waits, word := false, uint64(0)
		for k := range n {
			m.RunTo(quantity.Time(k) * quantity.Millisecond)
			c.HalfFlag, c.FullFlag = false, false
			next := uint64(0x8001 + 0x0107*k)
			p.Receive(Word{Value: next, Serial: k})
			m.RunTo(quantity.Time(k)*quantity.Millisecond + quantity.Millisecond/2)
			if !waits {
				waits, word = true, next
			}
			// The request stands until the data register is read.
			for waits && left > 0 {
				v := uint64(0)
				if unit == 0 {
					waits = false
					v = word & (1<<(8*from.Width) - 1)
				} else {
					for i := range from.Width {
						if unit+i >= bytes {
							v |= 0xA5 << (8 * i)
						}
					}
				}
				for i := range to.Width {
					if memory+i < len(model) {
						model[memory+i] = byte(v >> (8 * i))
					}
				}
				if from.Moves {
					unit += from.Width
				}
				if to.Moves {
					memory += to.Width
				}
				left--
				if size-left == size/2 {
					require.True(t, c.HalfFlag)
				}
				if left == 0 {
					full++
					require.True(t, c.FullFlag)
					if mode == Circular {
						left, unit, memory = size, 0, 0
					}
				}
			}
		}
		require.Equal(t, model, b.Values())
		require.Equal(t, full, c.Laps)
	})
}

// Channels chain, alternate, and give way to the more urgent.
func TestModesOfChannels(t *testing.T) {
	fill := func(c *Channel, words int) (*Machine, *Buffer) {
		m := New(quantity.FromHz(1e6))
		m.DMA.Clock = true
		m.Memory.Regions = []Region{{Name: "m", Start: 0x1000, Bytes: 0x10000, DMA: true, Writable: true}}
		p := m.AddPort(&Port{Enabled: true, ReceiveDMA: true})
		b := m.Memory.Add("b", 0x2000, 16)
		c.Mapped, c.Request = true, Line{Port: p}
		c.From, c.To = Cursor{Address: p.Data(), Width: 1}, Cursor{Address: 0x2000, Width: 1, Moves: true}
		m.AddChannel(c)
		c.Arm()
		for k := range words {
			m.RunTo(quantity.Time(k+1) * quantity.Microsecond)
			p.Receive(Word{Value: uint64(k + 1), Serial: k})
		}
		m.RunTo(quantity.Second)
		return m, b
	}
	_, b := fill(&Channel{Count: 4, Mode: Double, Other: 0x2008}, 14)
	assert.Equal(t, []byte{9, 10, 11, 12, 0xEE, 0xEE, 0xEE, 0xEE, 13, 14, 7, 8, 0xEE, 0xEE, 0xEE, 0xEE}, b.Values()[:16])
	_, b = fill(&Channel{Count: 3, Mode: Chained, Chain: []Stretch{{0x2008, 2}, {0x200C, 1}}}, 9)
	assert.Equal(t, []byte{1, 2, 3, 0xEE, 0xEE, 0xEE, 0xEE, 0xEE, 4, 5, 0xEE, 0xEE, 6, 0xEE, 0xEE, 0xEE}, b.Values()[:16], "it ends behind the last stretch")
	_, b = fill(&Channel{Count: 3, Mode: Chained, Chain: []Stretch{{0x2008, 2}}, Again: true}, 7)
	assert.Equal(t, []byte{6, 7, 3, 0xEE, 0xEE, 0xEE, 0xEE, 0xEE, 4, 5}, b.Values()[:10])

	// Two that ask at once: the urgent one first, each for its cycles of the bus.
	m := New(quantity.FromHz(1e6))
	m.DMA.Clock = true
	m.Log.Keep = 64
	m.Memory.Regions = []Region{{Name: "m", Start: 0x1000, Bytes: 0x10000, DMA: true, Writable: true}}
	for i, urgency := range []int{3, 1, 2} {
		p := m.AddPort(&Port{Enabled: true, ReceiveDMA: true})
		m.AddChannel(&Channel{Number: i + 1, Priority: urgency, Mapped: true, Request: Line{Port: p}, From: Cursor{Address: p.Data(), Width: 1}, To: Cursor{Address: 0x3000, Width: 1}, Count: 9, Cycles: 5}).Arm()
	}
	m.At(quantity.Millisecond, func() {
		for _, p := range m.ports {
			p.fifo = append(p.fifo, Word{})
		}
	})
	m.RunTo(quantity.Second)
	var order []int
	var at []quantity.Time
	for _, k := range m.Log.Marks() {
		if k.Kind == Beat {
			order, at = append(order, k.Who), append(at, k.At-quantity.Millisecond)
		}
	}
	assert.Equal(t, []int{1, 2, 0}, order)
	assert.Equal(t, []quantity.Time{m.Cycles(5), m.Cycles(10), m.Cycles(15)}, at)
}

// Register empty and last bit sent are two moments, a word apart.
func TestTheTwoEndsOfASend(t *testing.T) {
	m := New(quantity.FromHz(1e6))
	m.Log.Keep = 64
	p := m.AddPort(&Port{Enabled: true, WordTime: 100 * quantity.Microsecond})
	var room quantity.Time
	p.OnMoved = func(w Word) {
		if w.Serial == 1 {
			room = m.Now()
		}
	}
	require.True(t, p.Write(Word{Serial: 0}))
	require.True(t, p.Write(Word{Serial: 1}))
	assert.False(t, p.Write(Word{Serial: 2}), "the register is full")
	m.RunTo(quantity.Second)
	assert.Equal(t, 100*quantity.Microsecond, room)
	marks := m.Log.Marks()
	assert.Equal(t, Mark{At: 200 * quantity.Microsecond, To: 200 * quantity.Microsecond, Kind: Sent, Serial: 1}, marks[len(marks)-1])
}

// Interrupts that are held off come when they may; one without a handler hangs.
func TestHeldOff(t *testing.T) {
	m := New(quantity.FromHz(1e6))
	n := 0
	i := m.AddInterrupt(&Interrupt{Enabled: true, Entry: 4, Handler: RoutineFunc(func(int) (quantity.Time, bool) { n++; return 0, true })})
	m.Mask(true)
	m.Pend(i)
	m.RunTo(quantity.Millisecond)
	assert.Zero(t, n)
	m.Mask(false)
	m.RunTo(2 * quantity.Millisecond)
	assert.Equal(t, 1, n)
	assert.Equal(t, quantity.Millisecond+4*quantity.Microsecond, i.Latest)
	none := m.AddInterrupt(&Interrupt{Enabled: true})
	m.Pend(none)
	m.Pend(i)
	m.RunTo(3 * quantity.Millisecond)
	assert.True(t, m.CPU.Hung)
	assert.Equal(t, 1, n)
}
