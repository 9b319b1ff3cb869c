package transfer

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Complete derives each slot that was not given, with its reason. The plans stand in order:
// a later one takes no channel that an earlier one has.
func (s *Setup) Complete() {
	next := map[string]uint64{}
	for _, p := range s.Plans {
		if p.Given["address"] {
			if r := s.Part.Region(p.Memory); r != nil && r.Holds(p.Address) {
				next[r.Name] = max(next[r.Name], p.Address+uint64(p.Bytes))
			}
		}
	}
	for i, p := range s.Plans {
		s.complete(p, s.Plans[:i], next)
	}
}

// because gives a slot its derived value unless it was given.
func because[T any](p *Plan, key string, field *T, value T, why string, args ...any) {
	if p.Given[key] {
		return
	}
	*field = value
	p.Why[key] = fmt.Sprintf(why, args...)
}

func (s *Setup) complete(p *Plan, earlier []*Plan, next map[string]uint64) {
	part := &s.Part
	if p.Given == nil {
		p.Given = map[string]bool{}
	}
	if p.Why == nil {
		p.Why = map[string]string{}
	}
	because(p, "goal", &p.Goal, Fixed, "nothing else is asked for")
	because(p, "method", &p.Means, Interrupt, "nothing else is asked for")
	because(p, "source", &p.Filler, false, "the data is in memory")
	because(p, "length", &p.Length, 64, "nothing else is asked for")
	word := p.Stream.Word()
	width := 8 * p.Stream.Bytes()
	if p.Stream.Register > 0 {
		width = p.Stream.Register
	}
	wanted := "the bytes wanted"
	if p.Filler {
		because(p, "buffer", &p.Bytes, p.Stream.Bytes(), "one word is sent again and again")
	}
	because(p, "buffer", &p.Bytes, p.Length, "%s", wanted)
	because(p, "lifetime", &p.Stack, false, "a static buffer outlives the call")
	// A memory that the engine reaches, uncached before cached.
	for _, cached := range []bool{false, true} {
		for i := range part.Regions {
			r := &part.Regions[i]
			if !p.Given["memory"] && p.Memory == "" && r.Cached == cached && r.Writable && (r.DMA || p.Means != DMA) {
				because(p, "memory", &p.Memory, r.Name, "writable, %s%s", map[bool]string{true: "within the engine's reach, ", false: ""}[p.Means == DMA], map[bool]string{true: "cached", false: "not cached"}[cached])
			}
		}
	}
	r := part.Region(p.Memory)
	if r != nil && !p.Given["address"] {
		line := uint64(max(part.CacheLine, 8))
		at := max(next[r.Name], r.Start)
		at = (at + line - 1) / line * line
		because(p, "address", &p.Address, at, "the next free place, on a border of %d bytes", line)
		next[r.Name] = at + uint64(p.Bytes)
	}
	switch {
	case r != nil && r.Cached && p.Means == DMA && p.Receive:
		because(p, "cache", &p.Cache, Invalidate, "%s is cached: the copy is dropped before the data is read", r.Name)
	case r != nil && r.Cached && p.Means == DMA:
		because(p, "cache", &p.Cache, Clean, "%s is cached: it is written back before the data is sent", r.Name)
	default:
		because(p, "cache", &p.Cache, NoCare, "the memory is not cached, or the processor moves the words itself")
	}
	if p.Means == DMA {
		s.completeChannel(p, earlier, width)
	}
	interrupts := p.Means != Polled && p.Goal != Repeat
	because(p, "tells", &p.Tells, map[bool]Telling{true: ByInterrupt, false: ByNothing}[interrupts], "%s", map[bool]string{true: "the caller goes on meanwhile", false: "nobody asks for its end"}[interrupts])
	if p.Means == Polled && p.Goal == Fixed {
		because(p, "tells", &p.Tells, ByWaiting, "a polled transfer is over when its call returns")
	}
	byLine := p.Tells == ByInterrupt || p.Means == Interrupt
	because(p, "tell-half", &p.TellHalf, p.Means == DMA && p.Goal.Rings(), "%s", map[bool]string{true: "one half is worked off while the other is filled", false: "only the end matters"}[p.Goal.Rings()])
	because(p, "tell-full", &p.TellFull, p.Means == DMA && byLine, "%s", map[bool]string{true: "it tells the end", false: "nobody is told"}[byLine])
	because(p, "word-interrupt", &p.WordInterrupt, p.Means == Interrupt, "%s", map[bool]string{true: "the handler moves the words", false: "no handler moves words"}[p.Means == Interrupt])
	because(p, "idle-interrupt", &p.IdleInterrupt, p.Receive && p.Goal == Messages, "%s", map[bool]string{true: "silence ends a message of unknown length", false: "silence means nothing here"}[p.Goal == Messages])
	because(p, "level", &p.Level, 1, "each word at once")
	because(p, "line", &p.LineOn, byLine, "%s", map[bool]string{true: "its interrupt is used", false: "no interrupt is used"}[byLine])
	because(p, "handler", &p.Handler, byLine, "%s", map[bool]string{true: "its interrupt is used", false: "no interrupt is used"}[byLine])
	because(p, "handler-clears", &p.Clears, p.Handler, "a flag that stands calls again at once")
	because(p, "interrupts", &p.Global, true, "a reset leaves them allowed, or the firmware does")
	because(p, "handler-calls-kernel", &p.Kernel, false, "not stated")
	because(p, "handler-waits", &p.Waits, false, "not stated")
	because(p, "handler-starts", &p.Starts, false, "not stated")
	if !p.Given["handler-cycles"] {
		because(p, "handler-cycles", &p.Cycles.Handler, 60, "assumed: a short handler")
	}
	if !p.Given["word-cycles"] {
		because(p, "word-cycles", &p.Cycles.Each, map[bool]int{true: 20, false: 0}[p.Means == Interrupt], "assumed: read, store, count")
	}
	p.Cycles.Entry, p.Cycles.Exit = part.Entry, part.Exit
	p.Cycles.Read = min(p.Cycles.Handler, 10)
	because(p, "every", &p.Every, quantity.Millisecond, "assumed: a main loop of 1 ms")
	because(p, "consumer", &p.Consumer, Consumers[0].Name, "right for each order of events")
	because(p, "work", &p.Work, 0, "not stated")
	s.completeUrgency(p)
	if p.Goal == Fixed {
		t := word * quantity.Time(p.Words())
		because(p, "time-out", &p.Timeout, sensible(2*t+quantity.Millisecond), "twice the %s on the line, and 1 ms", t.Round(4))
	} else {
		because(p, "time-out", &p.Timeout, 0, "it is never over")
	}
	switch {
	case p.Stream.Selects && !p.Receive && p.Goal == Fixed && p.paired(s):
		because(p, "release", &p.Release, AtLastReceived, "the last word has come in when the last has gone out")
	case p.Stream.Selects && !p.Receive && p.Goal == Fixed:
		because(p, "release", &p.Release, AtLastBit, "the select is held until the last bit is out")
	default:
		because(p, "release", &p.Release, NothingToRelease, "no select and no driver to give back")
	}
	because(p, "end-idle", &p.EndIdle, 0, "the time of a word")
	because(p, "re-arms", &p.Rearms, p.Receive, "%s", map[bool]string{true: "what comes next is wanted too", false: "it is started anew each time"}[p.Receive])
	because(p, "period", &p.Period, 0, "nothing starts it by itself")
}

// paired says whether a receive of the same unit goes with it.
func (p *Plan) paired(s *Setup) bool {
	return slices.ContainsFunc(s.Plans, func(o *Plan) bool { return o != p && o.Unit == p.Unit && o.Receive != p.Receive })
}

func (s *Setup) completeChannel(p *Plan, earlier []*Plan, width int) {
	part := &s.Part
	because(p, "engine-clock", &p.EngineClock, true, "without its clock the engine takes no writes")
	because(p, "request", &p.Request, p.Unit+map[bool]string{true: ".receive", false: ".send"}[p.Receive], "the unit's line of this direction")
	if !p.Given["channel"] {
		p.Channel = 0
		for _, c := range part.Requests[p.Request] {
			if p.Channel == 0 && !slices.ContainsFunc(s.Plans, func(o *Plan) bool {
				return o != p && o.Means == DMA && o.Channel == c && (o.Given["channel"] || slices.Contains(earlier, o))
			}) {
				because(p, "channel", &p.Channel, c, "the first free one that carries %s", p.Request)
			}
		}
	}
	because(p, "flow", &p.FromUnit, p.Receive, "the direction says so")
	because(p, "unit-step", &p.UnitSteps, false, "the data register stays where it is")
	because(p, "memory-step", &p.MemorySteps, !p.Filler, "%s", map[bool]string{true: "one word is sent again and again", false: "each element has a place of its own"}[p.Filler])
	because(p, "unit-width", &p.UnitWidth, width, "a word of %d bits in the data register", p.Stream.Bits)
	because(p, "memory-width", &p.MemoryWidth, 8*p.Stream.Bytes(), "a word of %d bits in memory", p.Stream.Bits)
	because(p, "count", &p.Count, p.Words(), "%d bytes are %d words", p.Length, p.Words())
	mode := machine.OneShot
	if p.Goal != Fixed {
		mode = machine.Circular
	}
	because(p, "mode", &p.Mode, mode, "%s", map[bool]string{true: "it is over after one time", false: "it goes on for ever"}[p.Goal == Fixed])
	because(p, "unit-request", &p.UnitRequest, true, "the engine moves a word when the unit asks")
	because(p, "channel-priority", &p.ChannelPriority, map[bool]int{true: 0, false: 1}[p.Receive], "%s", map[bool]string{true: "what comes in can't wait", false: "what goes out can wait"}[p.Receive])
	because(p, "burst", &p.Burst, 1, "one element for each request")
}

// completeUrgency chooses the least urgent level at which the deadline still holds.
func (s *Setup) completeUrgency(p *Plan) {
	if p.Given["urgency"] {
		return
	}
	low := 0
	if p.Kernel {
		low = s.Part.Kernel
	}
	best := low
	deadline := p.Deadline()
	for u := s.Part.Least; u >= low; u-- {
		if deadline == 0 || s.Part.Before(u)+p.Response(&s.Part) < deadline {
			best = u
			break
		}
	}
	because(p, "urgency", &p.Urgency, best, "the least urgent level at which its deadline holds")
}

// Deadline is the time from its flag until a word is lost, if nobody answers; 0 where there is
// none.
func (p *Plan) Deadline() quantity.Time {
	word := p.Stream.Word()
	switch {
	case !p.Receive || p.Stream.Held:
		return 0
	case p.Means == Interrupt, p.Means == Polled:
		return word * quantity.Time(max(p.Stream.Depth, 1)+1-max(p.Level, 1))
	case p.Goal.Rings():
		return word * quantity.Time(p.Count/2+1)
	}
	return 0
}

// Response is the time from its flag until the words are read or, in a ring, worked off,
// once its handler may run.
func (p *Plan) Response(part *Part) quantity.Time {
	if p.Means == Polled {
		return p.Every
	}
	cycles := func(n int) quantity.Time {
		if part.Core <= 0 {
			return 0
		}
		return quantity.Time(float64(n) * 1e12 / part.Core.Hz())
	}
	if p.Means == DMA {
		return cycles(p.Cycles.Entry+p.Cycles.Handler) + p.Work
	}
	return cycles(p.Cycles.Entry + p.Cycles.Read)
}

// sensible rounds a time up to two digits.
func sensible(t quantity.Time) quantity.Time {
	step := quantity.Time(1)
	for t/step >= 100 {
		step *= 10
	}
	return (t + step - 1) / step * step
}
