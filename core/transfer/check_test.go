package transfer

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// part is an MCU of no family.
func part() Part {
	return Part{
		Core: quantity.FromHz(80e6), Entry: 12, Exit: 10, CacheLine: 32, Channels: 6, MostCount: 65535,
		Regions: []machine.Region{
			{Name: "main", Start: 0x30000000, Bytes: 65536, DMA: true, Writable: true},
			{Name: "close", Start: 0x18000000, Bytes: 8192, Writable: true},
			{Name: "cached", Start: 0x38000000, Bytes: 65536, DMA: true, Writable: true, Cached: true},
			{Name: "program", Start: 0x04000000, Bytes: 65536, DMA: true},
		},
		Requests: map[string][]int{"one.receive": {1, 3}, "one.send": {2, 4}, "two.receive": {3, 5}, "two.send": {4, 6}},
		Least:    15, Kernel: 5,
		Others: []Other{{"gate control", 2, 20 * quantity.Microsecond}, {"event log", 10, 2 * quantity.Millisecond}},
	}
}

// healthy draws a plan with which nothing is wrong.
func healthy(t *rapid.T) (*Setup, *Plan) {
	p := &Plan{Name: "x", Unit: "one", Given: map[string]bool{}}
	p.Stream = Stream{Bits: rapid.SampledFrom([]int{8, 8, 16}).Draw(t, "bits"), Rate: quantity.FromBd(float64(rapid.SampledFrom([]int{19200, 57600, 115200}).Draw(t, "rate"))), Depth: 1}
	p.Stream.WordBits = float64(p.Stream.Bits + 2)
	p.Receive = rapid.Bool().Draw(t, "receive")
	p.Means = rapid.SampledFrom([]Means{DMA, DMA, DMA, Interrupt}).Draw(t, "method")
	p.Goal = Fixed
	if p.Receive {
		p.Goal = rapid.SampledFrom([]Goal{Fixed, Unending, Messages}).Draw(t, "goal")
	}
	p.Length = 16 * rapid.IntRange(1, 5).Draw(t, "length") // a whole number of words, also of 16 bits
	if p.Means == DMA && rapid.IntRange(0, 3).Draw(t, "cached") == 0 {
		p.Memory = "cached"
		p.Given["memory"] = true
		p.Length = 32 * (1 + p.Length/32)
	}
	for _, k := range []string{"direction", "goal", "length", "method"} {
		p.Given[k] = true
	}
	s := &Setup{Part: part(), Plans: []*Plan{p}, StepTime: 10 * quantity.Microsecond}
	s.Complete()
	return s, p
}

// words is how many words are run: more than twice round for rings.
func words(p *Plan) int {
	if p.Goal == Fixed {
		return p.Words()
	}
	return 2*p.Words() + p.Words()/2 + 1
}

func codes(fs []Fault) []string {
	var out []string
	for _, f := range fs {
		out = append(out, f.Code)
	}
	return out
}

// A plan that is derived from what is wanted has no fault, and its run no harm; every slot
// that was not given has a reason.
func TestHealthyPlans(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, p := healthy(t)
		require.Empty(t, s.Check(), "%s", p.Sentence())
		r := s.RunOf(p, words(p))
		require.Empty(t, r.Harms, "%s: %s", p.Sentence(), r.State)
		require.Equal(t, words(p), r.Moved)
		require.Zero(t, r.Lost)
		want := map[bool]State{true: IsDone, false: IsRunning}[p.Goal == Fixed]
		require.Equal(t, want, r.State)
		if p.Receive && p.Goal == Fixed {
			for i := range p.Length {
				require.Equal(t, Data(i), r.Buffer.Cells[i].Value)
			}
		}
		if !p.Receive {
			for k, w := range r.Wire {
				require.Equal(t, dataWord(k, p.Stream.Bytes()), w)
			}
		}
		for i := range Slots {
			if sl := &Slots[i]; sl.For(p) && !p.Given[sl.Key] && sl.Key != "chain" {
				require.NotEmpty(t, p.Why[sl.Key], "%s has no reason", sl.Key)
			}
		}
	})
}

// mutations are ways to make a healthy plan wrong: random where there is a choice.
var mutations = []struct {
	code string
	can  func(p *Plan) bool
	do   func(t *rapid.T, s *Setup, p *Plan)
}{
	{"direction-reversed", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.FromUnit = !p.FromUnit }},
	{"memory-stays", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.MemorySteps = false }},
	{"unit-moves", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.UnitSteps = true }},
	{"memory-too-wide", func(p *Plan) bool { return dma(p) && p.Stream.Bits == 8 }, func(_ *rapid.T, _ *Setup, p *Plan) { p.MemoryWidth = 16 }},
	{"memory-too-narrow", func(p *Plan) bool { return dma(p) && p.Stream.Bits == 16 }, func(_ *rapid.T, _ *Setup, p *Plan) { p.MemoryWidth = 8 }},
	{"unit-width-differs", func(p *Plan) bool { return dma(p) && p.Stream.Bits == 16 }, func(_ *rapid.T, _ *Setup, p *Plan) { p.UnitWidth = 8 }},
	{"count-in-bytes", func(p *Plan) bool { return dma(p) && p.Stream.Bits == 16 && p.Goal == Fixed }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Count = p.Length }},
	{"count-short", func(p *Plan) bool { return dma(p) && p.Goal == Fixed }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Count = rapid.IntRange(1, p.Words()-1).Draw(t, "count")
	}},
	{"count-zero", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.Count = 0 }},
	{"count-over-limit", func(p *Plan) bool { return dma(p) && p.Goal == Fixed }, func(_ *rapid.T, s *Setup, p *Plan) { s.Part.MostCount = p.Count - 1 - p.Count/4 }},
	{"repeats-unasked", func(p *Plan) bool { return dma(p) && p.Goal == Fixed && !p.Receive }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Mode = machine.Circular }},
	{"stops-after-one", func(p *Plan) bool { return dma(p) && p.Goal != Fixed }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Mode = machine.OneShot }},
	{"channel-not-served", dma, func(t *rapid.T, s *Setup, p *Plan) {
		for slices.Contains(s.Part.Requests[p.Request], p.Channel) {
			p.Channel = rapid.IntRange(1, 6).Draw(t, "channel")
		}
	}},
	{"channel-taken", dma, func(_ *rapid.T, s *Setup, p *Plan) {
		o := *p
		o.Name, o.Unit, o.Request, o.Address = "y", "two", map[bool]string{true: "two.receive", false: "two.send"}[p.Receive], p.Address+4096
		p.Channel = map[bool]int{true: 3, false: 4}[p.Receive] // it serves both
		o.Channel = p.Channel
		s.Plans = append(s.Plans, &o)
	}},
	{"request-of-another", func(p *Plan) bool { return dma(p) && p.Receive }, func(_ *rapid.T, s *Setup, p *Plan) {
		p.Request = "one.send"
		p.Channel = s.Part.Requests[p.Request][0]
	}},
	{"unit-request-off", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.UnitRequest = false }},
	{"engine-clock-off", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.EngineClock = false }},
	{"completion-untold", func(p *Plan) bool { return dma(p) && p.Goal == Fixed }, func(_ *rapid.T, _ *Setup, p *Plan) { p.TellFull = false }},
	{"half-untold", func(p *Plan) bool { return dma(p) && p.Goal.Rings() }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.TellHalf = false
		p.Work = p.Stream.Word() * quantity.Time(rapid.IntRange(2, 1+p.Words()/3).Draw(t, "work"))
	}},
	{"idle-untold", func(p *Plan) bool { return p.Goal == Messages }, func(_ *rapid.T, _ *Setup, p *Plan) { p.IdleInterrupt = false }},
	{"words-untold", func(p *Plan) bool { return !dma(p) && p.Receive }, func(_ *rapid.T, _ *Setup, p *Plan) { p.WordInterrupt, p.IdleInterrupt = false, false }},
	{"line-off", any1, func(_ *rapid.T, _ *Setup, p *Plan) { p.LineOn = false }},
	{"interrupts-off", any1, func(_ *rapid.T, _ *Setup, p *Plan) { p.Global = false }},
	{"handler-missing", any1, func(_ *rapid.T, _ *Setup, p *Plan) { p.Handler = false }},
	{"flag-stands", func(p *Plan) bool { return dma(p) }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Clears = false }},
	{"handler-too-late", func(p *Plan) bool { return !dma(p) && p.Receive }, func(t *rapid.T, s *Setup, p *Plan) {
		s.Part.Others[1].Worst = p.Stream.Word() * quantity.Time(rapid.IntRange(4, 8).Draw(t, "words"))
		p.Urgency = rapid.IntRange(10, 15).Draw(t, "level")
	}},
	{"handler-too-long", func(p *Plan) bool { return !dma(p) && p.Receive }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Cycles.Handler = int(p.Stream.Word().Seconds() * 80e6 * rapid.Float64Range(1.3, 4).Draw(t, "characters"))
	}},
	{"above-kernel", any1, func(t *rapid.T, _ *Setup, p *Plan) { p.Kernel, p.Urgency = true, rapid.IntRange(0, 4).Draw(t, "level") }},
	{"time-out-short", func(p *Plan) bool { return p.Goal == Fixed && dma(p) && p.Words() > 12 }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Timeout = p.Stream.Word() * quantity.Time(rapid.IntRange(4, p.Words()-4).Draw(t, "words"))
	}},
	{"buffer-out-of-reach", dma, func(_ *rapid.T, _ *Setup, p *Plan) { p.Memory, p.Address, p.Cache = "close", 0x18000100, NoCare }},
	{"buffer-not-writable", func(p *Plan) bool { return dma(p) && p.Receive }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Memory, p.Address, p.Cache = "program", 0x04000100, NoCare }},
	{"buffer-misaligned", func(p *Plan) bool { return dma(p) && p.Stream.Bits == 16 }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Memory, p.Address, p.Cache = "main", 0x30000101, NoCare }},
	{"buffer-too-small", func(p *Plan) bool { return dma(p) }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Memory, p.Address, p.Cache = "main", 0x30000100, NoCare
		p.Bytes = p.Length - 2*rapid.IntRange(1, 4).Draw(t, "bytes")
	}},
	{"buffer-on-stack", any1, func(_ *rapid.T, _ *Setup, p *Plan) { p.Stack = true }},
	{"cache-not-kept", func(p *Plan) bool { return p.Memory == "cached" }, func(_ *rapid.T, _ *Setup, p *Plan) { p.Cache = NoCare }},
	{"armed-too-late", func(p *Plan) bool { return dma(p) && p.Receive }, func(t *rapid.T, s *Setup, p *Plan) {
		s.Order = []Step{{"one", "enable"}, {"x", "channel"}, {"x", "request"}}
		s.StepTime = p.Stream.Word() * quantity.Time(rapid.IntRange(2, 4).Draw(t, "words"))
	}},
	{"released-too-early", func(p *Plan) bool { return !p.Receive }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Release = rapid.SampledFrom([]Release{AtRegisterEmpty, AtDMADone}).Draw(t, "moment")
	}},
	{"consumer-wrong", func(p *Plan) bool { return dma(p) && p.Goal == Unending && p.Stream.Bits == 8 }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Consumer = rapid.SampledFrom([]string{"wrap-compare", "forget-full"}).Draw(t, "consumer")
	}},
	{"ring-too-small", func(p *Plan) bool { return dma(p) && p.Goal.Rings() }, func(t *rapid.T, _ *Setup, p *Plan) {
		p.Work = p.Stream.Word() * quantity.Time(p.Words()/2+1+rapid.IntRange(1, 5).Draw(t, "late"))
	}},
}

func dma(p *Plan) bool  { return p.Means == DMA }
func any1(p *Plan) bool { return true }

// Each fault that is put into a healthy plan is found, and running the plan shows the harm
// that was foretold.
func TestEachFaultIsFoundAndDoesItsHarm(t *testing.T) {
	for _, m := range mutations {
		t.Run(m.code, func(t *testing.T) {
			tried := 0
			rapid.Check(t, func(t *rapid.T) {
				s, p := healthy(t)
				if !m.can(p) {
					return
				}
				tried++
				m.do(t, s, p)
				fs := s.Check()
				i := slices.IndexFunc(fs, func(f Fault) bool { return f.Code == m.code && f.Plan == "x" })
				require.GreaterOrEqual(t, i, 0, "%s: %v", p.Sentence(), codes(fs))
				f := fs[i]
				require.NotEmpty(t, f.Seen)
				require.NotEmpty(t, f.Why)
				require.NotEmpty(t, f.Change)
				if f.Harm != NoHarm {
					r := s.RunOf(p, words(p))
					require.Contains(t, r.Harms, f.Harm, "%s: %s, moved %d of %d, lost %d", p.Sentence(), r.State, r.Moved, r.Came, r.Lost)
				}
			})
			require.Positive(t, tried)
		})
	}
	assert.GreaterOrEqual(t, len(mutations), 30)
}

// What a fault proposes to write takes it away.
func TestFixesFix(t *testing.T) {
	for _, m := range mutations {
		rapid.Check(t, func(t *rapid.T) {
			s, p := healthy(t)
			if !m.can(p) {
				return
			}
			m.do(t, s, p)
			for _, f := range s.Check() {
				if f.Code != m.code || f.Plan != "x" || f.Value == "" {
					continue
				}
				fixed, err := p.With(f.Slot, f.Value)
				require.NoError(t, err, "%s: %s", f.Slot, f.Value)
				c := *s
				c.Plans = slices.Clone(s.Plans)
				c.Plans[0] = fixed
				if m.code == "buffer-out-of-reach" || m.code == "buffer-not-writable" {
					r := c.Part.Region(fixed.Memory)
					fixed.Address = r.Start // another memory is at another place
				}
				require.NotContains(t, codes(c.Check()), m.code, "%s: %s does not fix %q", f.Slot, f.Value, f.Seen)
			}
		})
	}
}

// Turning off any single link of the way of an event ends the calls of its handler, or lets
// them never end, and the way names the link.
func TestEventPath(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, p := healthy(t)
		steps := p.Path()
		if len(steps) == 0 {
			return
		}
		require.Nil(t, p.Broken())
		if p.Goal.Rings() && p.Means == DMA {
			p.Work = 2 * p.Stream.Word()
		}
		step := steps[rapid.IntRange(1, len(steps)-1).Draw(t, "link")]
		off := map[string]string{"word-interrupt": "off", "idle-interrupt": "off", "tell-full": "no", "tell-half": "no", "line": "off", "interrupts": "off", "handler": "missing", "handler-clears": "no"}[step.Slot]
		require.NotEmpty(t, off, step.Slot)
		broken, err := p.With(step.Slot, off)
		require.NoError(t, err)
		before := s.RunOf(p, words(p))
		s.Plans[0] = broken
		require.Equal(t, step.Name, broken.Broken().Name)
		if step.Slot == "handler-clears" && p.Means == Interrupt && !p.IdleInterrupt {
			return // reading the data register clears its flag
		}
		r := s.RunOf(broken, words(p))
		if step.Slot == "handler-clears" {
			require.Equal(t, -1, r.Calls)
			return
		}
		require.Less(t, r.Calls, max(before.Calls, 1), "%s off", step.Name)
		require.NotEmpty(t, r.Harms)
	})
}

// A plan read from a file is the one that was written, slot by slot.
func TestSlotsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		_, p := healthy(t)
		for i := range Slots {
			s := &Slots[i]
			if !s.For(p) {
				continue
			}
			q, err := p.With(s.Key, s.Get(p))
			require.NoError(t, err, "%s: %s", s.Key, s.Get(p))
			require.Equal(t, s.Get(p), s.Get(q))
		}
	})
	_, err := (&Plan{}).With("chanel", "1")
	require.ErrorContains(t, err, "no \"chanel\"")
}

// The owners' table names everybody, and what is free.
func TestOwners(t *testing.T) {
	s := &Setup{Part: part()}
	for i, unit := range []string{"one", "two"} {
		s.Plans = append(s.Plans, &Plan{Name: fmt.Sprint("r", i), Unit: unit, Receive: true, Means: DMA, Given: map[string]bool{"direction": true, "method": true}, Stream: Stream{Bits: 8, WordBits: 10, Rate: quantity.FromBd(9600), Depth: 1}})
	}
	s.Complete()
	require.Empty(t, s.Check())
	channels, requests, _ := s.Owners()
	assert.Equal(t, []string{"r0"}, channels[0].Owners)
	assert.True(t, channels[1].Free)
	assert.Equal(t, []string{"r1"}, channels[2].Owners)
	assert.Equal(t, "one.receive", requests[0].What)
	// A third one finds both channels of its request taken, and is told whose they are.
	s.Plans[1].Channel = 1
	var seen []string
	for _, f := range s.Check() {
		seen = append(seen, f.Seen+f.Why)
	}
	assert.Contains(t, fmt.Sprint(seen), "channel 1 is also that of r0")
	assert.Contains(t, fmt.Sprint(seen), "free: 3, 5")
}

// Each wrong consumer does its typical damage, on traffic that brings it out.
func TestWrongConsumers(t *testing.T) {
	for name, want := range map[string]Harm{"restart-at-zero": TakenTwice, "wrap-compare": LostInRing, "forget-full": LostInRing, "equal-is-nothing": LostInRing} {
		p := &Plan{Name: "x", Unit: "one", Receive: true, Goal: Messages, Means: DMA, Length: 16, Consumer: name,
			Given: map[string]bool{"direction": true, "goal": true, "method": true, "length": true, "consumer": true}, Stream: Stream{Bits: 8, WordBits: 10, Rate: quantity.FromBd(115200), Depth: 1}}
		s := &Setup{Part: part(), Plans: []*Plan{p}}
		s.Complete()
		require.Contains(t, codes(s.Check()), "consumer-wrong")
		live := s.Live(p, 0)
		word := p.Stream.Word()
		at := quantity.Time(0)
		burst := func(n int) {
			for range n {
				live.Word(at, at+word, 0x55)
				at += word
			}
			at += 3 * word
			live.To(at - word)
		}
		for range 4 {
			if name == "equal-is-nothing" {
				// A whole turn while interrupts are held off: the position is the same again.
				burst(8)
				live.x.m.Mask(true)
				burst(16)
				live.x.m.Mask(false)
				continue
			}
			burst(11)
			burst(7)
		}
		live.To(at + 10*word)
		require.Contains(t, live.Run().Harms, want, name)
		p.Consumer = Consumers[0].Name
		require.Empty(t, s.Check())
	}
}
