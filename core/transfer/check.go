package transfer

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Fault is something that is wrong with a plan.
type Fault struct {
	Plan     string
	Code     string
	Severity finding.Severity
	Slot     string // where it can be fixed; "" where no slot says it
	Value    string // what to write there; "" where nobody knows
	Seen     string
	Why      string
	Change   string
	Harm     Harm // what is seen when the plan is run
}

type checker struct {
	s   *Setup
	p   *Plan
	out []Fault
}

// fault adds a fault of the present plan.
func (c *checker) fault(code, slot, value string, harm Harm, seen, why, change string) {
	f := Fault{Plan: c.p.Name, Code: code, Severity: finding.Error, Slot: slot, Value: value, Seen: seen, Why: why, Change: change, Harm: harm}
	if value != "" && change == "" {
		f.Change = fmt.Sprintf("write `%s: %s`", slot, value)
	}
	c.out = append(c.out, f)
}

// warn is fault for what loses nothing by itself.
func (c *checker) warn(code, slot, value string, seen, why, change string) {
	c.fault(code, slot, value, NoHarm, seen, why, change)
	c.out[len(c.out)-1].Severity = finding.Warning
}

// Check says what is wrong with the plans of a setup, before anything runs.
func (s *Setup) Check() []Fault {
	var out []Fault
	for _, p := range s.Plans {
		c := &checker{s: s, p: p}
		c.purpose()
		if p.Means == DMA {
			c.channel()
			c.widths()
		}
		c.events()
		c.handler()
		c.memory()
		c.times()
		c.order()
		out = append(out, c.out...)
	}
	return out
}

// purpose checks what the plan is for against what it does.
func (c *checker) purpose() {
	p := c.p
	if p.Means != DMA {
		return
	}
	if p.FromUnit != p.Receive {
		c.fault("direction-reversed", "flow", map[bool]string{true: "to-memory", false: "to-unit"}[p.Receive], FlowsBackwards,
			fmt.Sprintf("the channel moves %s, but the transfer %s", SlotNamed("flow").Get(p), map[bool]string{true: "receives", false: "sends"}[p.Receive]),
			"a plan made for the other direction moves the data the wrong way: what should go out is overwritten, what comes in is never read", "")
	}
	switch {
	case !p.MemorySteps && !p.Filler && p.Receive:
		c.fault("memory-stays", "memory-step", "yes", OnlyLastKept, "the memory's address does not move on", "each word is written over the one before: only the last is kept", "")
	case !p.MemorySteps && !p.Filler:
		c.fault("memory-stays", "memory-step", "yes", FirstRepeated, "the memory's address does not move on", "the first word is sent again and again", "")
	}
	if p.UnitSteps {
		harm, why := OnlyFirstSent, "only the first word reaches the data register; the rest goes to the registers behind it"
		if p.Receive {
			harm, why = OnlyFirstRight, "only the first word comes from the data register; the rest from the registers behind it"
		}
		c.fault("unit-moves", "unit-step", "no", harm, "the unit's address moves on", why, "")
	}
	switch {
	case p.Goal == Fixed && p.Mode == machine.Circular:
		c.fault("repeats-unasked", "mode", "one-shot", RepeatsForEver, "circular, but a fixed length is wanted", "when the count is used up it begins again, and never ends", "")
	case p.Goal != Fixed && p.Mode == machine.OneShot && !(p.Receive && p.Rearms && p.Given["re-arms"]):
		c.fault("stops-after-one", "mode", "circular", StopsAfterFirst, "one-shot, but "+map[bool]string{true: "a ring", false: "a repetition"}[p.Goal.Rings()]+" is wanted", "after the first time nothing moves any more", "")
	}
	if p.Mode == machine.Chained && len(p.Chain) == 0 {
		c.warn("chain-empty", "chain", "", "chained, but no stretch follows the first", "it ends like a one-shot transfer", "write `chain: ADDRESS*COUNT`, or another mode")
	}
}

// channel checks the engine's side.
func (c *checker) channel() {
	p, part := c.p, &c.s.Part
	if part.Channels == 0 {
		c.fault("no-engine", "method", Interrupt.String(), NothingMoves, "the MCU's description has no DMA engine", "nothing moves", "add `dma:` below `mcu:` with its channels and requests, or let interrupts move the words")
		return
	}
	if !p.EngineClock {
		c.fault("engine-clock-off", "engine-clock", "on", NothingMoves, "the DMA engine has no clock", "it takes no writes, and nothing moves", "")
	}
	if !p.UnitRequest {
		c.fault("unit-request-off", "unit-request", "on", NothingMoves, "the unit does not ask the engine", "the channel waits for a request that never comes", "")
	}
	served := part.Requests[p.Request]
	free := c.freeChannels(served)
	want := p.Unit + map[bool]string{true: ".receive", false: ".send"}[p.Receive]
	switch {
	case p.Channel == 0 && part.Requests[p.Request] != nil:
		c.fault("no-channel-free", "method", Interrupt.String(), NothingMoves, fmt.Sprintf("no channel that carries %s is free: it is served by %s", p.Request, numbers(served)), "nothing moves", "give it a channel and move its owner, or let interrupts move the words")
	case p.Channel == 0:
		c.fault("request-unknown", "method", Interrupt.String(), NothingMoves, fmt.Sprintf("the engine has no request %s", p.Request), "nothing moves", "add it to the engine's requests, or let interrupts move the words")
	case p.Channel < 1 || p.Channel > part.Channels:
		c.fault("channel-unknown", "channel", first(free), NothingMoves, fmt.Sprintf("there is no channel %d: the engine has 1 to %d", p.Channel, part.Channels), "nothing moves", "")
	case part.Requests[p.Request] == nil:
		c.fault("request-unknown", "request", want, NothingMoves, fmt.Sprintf("the engine has no request %s", p.Request), "the channel waits for a request that never comes", "")
	case p.Request != want:
		c.fault("request-of-another", "request", want, WrongDataAtOnce, fmt.Sprintf("the channel answers %s, the transfer needs %s", p.Request, want), "it moves when another side asks: too early, too often or never", "")
	case !slices.Contains(served, p.Channel):
		c.fault("channel-not-served", "channel", first(free), NothingMoves, fmt.Sprintf("channel %d can't carry %s: that is served by %s", p.Channel, p.Request, numbers(served)), "the request never reaches the channel", "")
	}
	for _, o := range c.s.Plans {
		if o == p || o.Means != DMA {
			continue
		}
		if o.Channel == p.Channel {
			c.fault("channel-taken", "channel", first(free), NothingMoves, fmt.Sprintf("channel %d is also that of %s", p.Channel, o.Name), "what is set up later takes the channel away: the other one moves nothing"+offer(free), "")
		}
	}
	switch {
	case p.Count == 0:
		c.fault("count-zero", "count", fmt.Sprint(p.Words()), NothingMoves, "the count is 0", "nothing moves", "")
	case part.MostCount > 0 && p.Count > part.MostCount:
		c.fault("count-over-limit", "count", "", EndsEarly, fmt.Sprintf("a count of %d: the channel counts to %d", p.Count, part.MostCount),
			fmt.Sprintf("the counter wraps: %d words are moved", p.Count%(part.MostCount+1)), "split it, or chain it")
	case p.Count != p.Words() && p.Count == p.Length && p.Stream.Bytes() > 1:
		c.fault("count-in-bytes", "count", fmt.Sprint(p.Words()), map[bool]Harm{true: NeverCompletes, false: PastBuffer}[p.Receive], fmt.Sprintf("a count of %d is the number of bytes; a word has %d", p.Count, p.Stream.Bytes()),
			map[bool]string{true: "the transfer waits for words that never come", false: "what lies behind the buffer is sent too"}[p.Receive], "")
	case p.Count < p.Words() && p.Mode != machine.Chained && p.Mode != machine.Double:
		c.fault("count-short", "count", fmt.Sprint(p.Words()), EndsEarly, fmt.Sprintf("a count of %d: %d bytes are %d words", p.Count, p.Length, p.Words()), "the transfer ends before all is moved", "")
	case p.Burst > 1 && p.Count%p.Burst != 0:
		c.warn("count-no-multiple", "burst", "1", fmt.Sprintf("%d elements are no multiple of a burst of %d", p.Count, p.Burst), "the rest waits for a request that a full burst would make", "")
	}
	if p.Burst > max(p.Stream.Depth, 1) && p.Receive {
		c.fault("burst-over-depth", "burst", fmt.Sprint(max(p.Stream.Depth, 1)), NothingMoves, fmt.Sprintf("a burst of %d words from a unit that holds %d", p.Burst, max(p.Stream.Depth, 1)), "this many never wait at once: the unit never raises a request", "")
	}
}

// freeChannels are those that nobody has, of some.
func (c *checker) freeChannels(served []int) []int {
	var out []int
	for _, n := range served {
		if !slices.ContainsFunc(c.s.Plans, func(o *Plan) bool { return o != c.p && o.Means == DMA && o.Channel == n }) {
			out = append(out, n)
		}
	}
	return out
}

func first(list []int) string {
	if len(list) == 0 {
		return ""
	}
	return fmt.Sprint(list[0])
}

func offer(free []int) string {
	if len(free) == 0 {
		return "; no channel that carries this request is free"
	}
	return "; free: " + numbers(free)
}

func numbers(list []int) string {
	var out []string
	for _, n := range list {
		out = append(out, fmt.Sprint(n))
	}
	if out == nil {
		return "none"
	}
	return strings.Join(out, ", ")
}

// widths checks the widths of frame, data register, memory and elements.
func (c *checker) widths() {
	p := c.p
	bytes := p.Stream.Bytes()
	right := fmt.Sprint(8 * bytes)
	rest := p.Stream.Bits % 8
	switch {
	case p.MemoryWidth > 8*bytes:
		c.fault("memory-too-wide", "memory-width", right, EverySecond, fmt.Sprintf("%d bits in memory for words of %d", p.MemoryWidth, p.Stream.Bits),
			map[bool]string{true: "each word takes two places: every second byte is zero, and the end lies behind the buffer", false: "each element takes two bytes: every second one is not sent, and the end comes from behind the buffer"}[p.Receive], "")
	case p.MemoryWidth < p.Stream.Bits:
		why := fmt.Sprintf("the upper %d bits of each word are lost", p.Stream.Bits-p.MemoryWidth)
		code := "memory-too-narrow"
		if p.Stream.Bits == 9 && p.MemoryWidth == 8 {
			code, why = "ninth-bit-lost", "the ninth bit of each word is lost"
		}
		c.fault(code, "memory-width", right, EverySecond, fmt.Sprintf("%d bits in memory for words of %d", p.MemoryWidth, p.Stream.Bits), why, "")
	}
	if p.UnitWidth < p.Stream.Bits {
		code, why := "unit-width-differs", fmt.Sprintf("the upper %d bits of each word are lost", p.Stream.Bits-p.UnitWidth)
		if p.Stream.Bits == 9 && p.UnitWidth == 8 {
			code, why = "ninth-bit-lost-at-unit", "the ninth bit of each word is lost"
		}
		value := right
		c.fault(code, "unit-width", value, EverySecond, fmt.Sprintf("%d bits at the unit for words of %d", p.UnitWidth, p.Stream.Bits), why, "")
	} else if p.UnitWidth > 8*bytes && p.Stream.Register < p.UnitWidth {
		c.warn("unit-width-wide", "unit-width", right, fmt.Sprintf("%d bits at the unit for a data register of %d", p.UnitWidth, 8*bytes), "many parts answer such an access with an error", "")
	}
	if rest != 0 && p.Length%bytes != 0 {
		c.warn("length-no-multiple", "length", fmt.Sprint(p.Words()*bytes), fmt.Sprintf("%d bytes are no whole number of words of %d", p.Length, bytes), "the last word is half in the buffer", "")
	}
}

// events checks which events tell somebody.
func (c *checker) events() {
	p := c.p
	needsEnd := p.Goal == Fixed && p.Tells == ByInterrupt
	switch {
	case p.Means == DMA && needsEnd && !p.TellFull:
		c.fault("completion-untold", "tell-full", "yes", NeverTold, "no interrupt at the end of the count", "nobody learns that it is over", "")
	case p.Means == DMA && p.Goal.Rings() && !p.TellFull && p.Tells == ByInterrupt:
		c.fault("completion-untold", "tell-full", "yes", UnreadOverwritten, "no interrupt at the end of the count", "the second half is written over before anybody reads it", "")
	case p.Means == Interrupt && !p.WordInterrupt:
		c.fault("words-untold", "word-interrupt", "on", NeverTold, "the unit does not interrupt for words", "the handler that should move them is never called", "")
	}
	if k := ConsumerNamed(p.Consumer); p.Means == DMA && p.Goal.Rings() && p.Receive && k != nil && p.Consumer != Consumers[0].Name {
		harm := LostInRing
		if p.Consumer == "restart-at-zero" {
			harm = TakenTwice
		}
		c.fault("consumer-wrong", "consumer", Consumers[0].Name, harm, "the consumer "+k.Title, "positions alone do not say how many bytes are new: it loses some, or takes some twice", "")
	}
	if p.Means == DMA && p.Goal.Rings() && !p.TellHalf && p.Tells == ByInterrupt {
		c.fault("half-untold", "tell-half", "yes", UnreadOverwritten, "no interrupt at the middle of the ring", "the first half is written over while it is being read", "")
	}
	idles := p.Goal == Messages && p.Receive
	switch {
	case idles && !p.IdleInterrupt && p.Tells == ByInterrupt:
		c.fault("idle-untold", "idle-interrupt", "on", EndUnnoticed, "no interrupt when the line goes quiet", "the end of a message is not noticed: its last bytes stay where they are", "")
	case p.IdleInterrupt && !idles:
		c.warn("idle-without-rule", "idle-interrupt", "off", "the unit interrupts when the line goes quiet, but silence ends nothing", "the handler is called for an event that nobody wants, and has to clear it", "")
	}
}

// handler checks the way from the flag to the handler, and what that does.
func (c *checker) handler() {
	p, part := c.p, &c.s.Part
	uses := p.Tells == ByInterrupt || p.Means == Interrupt
	if !uses {
		return
	}
	told := p.Means == Interrupt && p.WordInterrupt || p.IdleInterrupt || p.Means == DMA && (p.TellFull || p.TellHalf)
	if !p.LineOn {
		c.fault("line-off", "line", "on", NeverTold, "its line is off at the interrupt controller", "the handler is never called", "")
	}
	if !p.Global {
		c.fault("interrupts-off", "interrupts", "on", NeverTold, "interrupts are not allowed at all", "no handler is ever called", "")
	}
	if !p.Handler && told {
		c.fault("handler-missing", "handler", "present", Hangs, "the interrupt is used, but the firmware has no handler for it", "the processor ends in the default handler, and hangs there", "")
	}
	if p.Handler && !p.Clears && (p.Means == DMA || p.IdleInterrupt) {
		c.fault("flag-stands", "handler-clears", "yes", Endless, "the handler does not clear the flag that called it", "it is called again at once, for ever: nothing else runs", "")
	}
	if p.Kernel && part.Kernel > 0 && p.Urgency < part.Kernel {
		c.fault("above-kernel", "urgency", fmt.Sprint(part.Kernel), KernelCorrupted, fmt.Sprintf("level %d, but handlers that call the kernel need %d or a greater number", p.Urgency, part.Kernel), "it can interrupt the kernel in the middle of its own lists", "")
	}
	if p.Waits {
		c.fault("handler-waits", "handler-waits", "no", NoHarm, "the handler waits for something", "all less urgent handlers and the main loop stand meanwhile; what it waits for may need one of them", "move the wait to the main loop")
	}
	if p.Starts {
		c.warn("handler-starts", "handler-starts", "no", "the handler starts a bus transfer", "it may find the bus in the middle of another one, which the main loop began", "let it set a flag, and start the transfer from the main loop")
	}
	if p.Urgency > part.Least && part.Least > 0 {
		c.fault("urgency-unknown", "urgency", fmt.Sprint(part.Least), NoHarm, fmt.Sprintf("level %d: the controller has 0 to %d", p.Urgency, part.Least), "the bits that say so do not exist", "")
	}
	deadline := p.Deadline()
	if deadline == 0 {
		return
	}
	own, before := p.Response(part), c.s.Before(p)
	if p.Means == Interrupt {
		run := time(part, p.Cycles.Entry+p.Cycles.Handler+p.Cycles.Each+p.Cycles.Exit)
		if word := p.Stream.Word(); run > word && !p.Stream.Held {
			c.fault("handler-too-long", "handler-cycles", "", WordsLost, fmt.Sprintf("the handler takes %s, a word %s: %.1f of them", run.Round(3), word.Round(3), float64(run)/float64(word)), "words come faster than it can take them", "leave the work to the main loop, or let DMA move the words")
			return
		}
	}
	switch {
	case own >= deadline && p.Means == DMA:
		c.fault("ring-too-small", "length", "", UnreadOverwritten, fmt.Sprintf("half a ring lasts %s, working it off takes %s", deadline.Round(3), own.Round(3)), "the half is written over before it is worked off", "make the ring longer")
	case own+before >= deadline:
		level := ""
		low := 0
		if p.Kernel {
			low = part.Kernel
		}
		for u := p.Urgency; u >= low; u-- {
			higher := *p
			higher.Urgency = u
			if own+c.s.Before(&higher) < deadline {
				level = fmt.Sprint(u)
				break
			}
		}
		var names []string
		for _, o := range part.Others {
			if o.Urgency <= p.Urgency {
				names = append(names, fmt.Sprintf("%s (%s)", o.Name, o.Worst.Round(3)))
			}
		}
		for _, o := range c.s.Plans {
			if o.Name != p.Name && o.LineOn && o.Handler && o.Urgency <= p.Urgency {
				names = append(names, o.Name)
			}
		}
		harm := WordsLost
		if p.Means == DMA {
			harm = UnreadOverwritten
		}
		c.fault("handler-too-late", "urgency", level, harm, fmt.Sprintf("%s may run first: %s of %s", strings.Join(names, ", "), (own+before).Round(3), deadline.Round(3)), "words are lost before the handler runs", "")
	}
}

func time(part *Part, cycles int) quantity.Time {
	if part.Core <= 0 {
		return 0
	}
	return quantity.Time(float64(cycles) * 1e12 / part.Core.Hz())
}

// memory checks the buffer.
func (c *checker) memory() {
	p, part := c.p, &c.s.Part
	r := part.Region(p.Memory)
	if r == nil {
		var names []string
		for _, x := range part.Regions {
			names = append(names, x.Name)
		}
		c.fault("memory-unknown", "memory", "", BusError, fmt.Sprintf("there is no memory %q", p.Memory), "", "write one of "+strings.Join(names, ", "))
		return
	}
	instead := func(ok func(*machine.Region) bool) string {
		for i := range part.Regions {
			if ok(&part.Regions[i]) {
				return part.Regions[i].Name
			}
		}
		return ""
	}
	usable := func(x *machine.Region) bool { return (x.DMA || p.Means != DMA) && (x.Writable || !p.Receive) }
	switch {
	case !r.Holds(p.Address) || p.Bytes > 0 && !r.Holds(p.Address+uint64(p.Bytes)-1):
		c.fault("buffer-outside", "address", "", BusError, fmt.Sprintf("0x%X to 0x%X is not all in %s, which is 0x%X to 0x%X", p.Address, p.Address+uint64(p.Bytes)-1, r.Name, r.Start, r.Start+r.Bytes-1), "", "write an address in it")
	case !r.DMA && p.Means == DMA:
		c.fault("buffer-out-of-reach", "memory", instead(usable), BusError, fmt.Sprintf("the DMA engine can't reach %s", r.Name), "the first element ends the transfer with a bus error", "")
	case !r.Writable && p.Receive:
		c.fault("buffer-not-writable", "memory", instead(usable), BusError, r.Name+" can't be written", "the first element ends the transfer with a bus error", "")
	case p.Means == DMA && p.Address%uint64(max(p.MemoryWidth/8, 1)) != 0:
		w := uint64(p.MemoryWidth / 8)
		c.fault("buffer-misaligned", "address", fmt.Sprintf("0x%X", (p.Address+w-1)/w*w), BusError, fmt.Sprintf("0x%X is no multiple of %d, the bytes of an element", p.Address, w), "the engine refuses it, or moves other bytes", "")
	}
	need := p.Length
	if p.Filler {
		need = p.Stream.Bytes()
	}
	if p.Bytes < need {
		c.fault("buffer-too-small", "buffer", fmt.Sprint(need), PastBuffer, fmt.Sprintf("a buffer of %d bytes for %d", p.Bytes, need), map[bool]string{true: "what lies behind it is overwritten", false: "what lies behind it is sent"}[p.Receive], "")
	}
	if p.Stack && p.Tells != ByWaiting {
		c.fault("buffer-on-stack", "lifetime", "static", ForeignMemory, "the buffer lives on the stack of a caller that does not wait", "when the caller has returned, the place belongs to somebody else", "")
	}
	if r.Cached && p.Means == DMA {
		switch {
		case p.Receive && p.Cache != Invalidate:
			c.fault("cache-not-kept", "cache", "invalidate", StaleRead, fmt.Sprintf("%s is cached, and the copy is not dropped", r.Name), "the processor reads what the cache has from before", "")
		case !p.Receive && p.Cache != Clean && r.Writable:
			c.fault("cache-not-kept", "cache", "clean", StaleSent, fmt.Sprintf("%s is cached, and it is not written back", r.Name), "the engine sends what memory held before", "")
		case p.Receive && part.CacheLine > 0 && (p.Address%uint64(part.CacheLine) != 0 || p.Bytes%part.CacheLine != 0):
			c.warn("cache-line-shared", "address", "", fmt.Sprintf("the buffer shares a cache line of %d bytes with other data", part.CacheLine), "dropping the line drops the neighbour's changes too", "align address and size")
		}
	}
	for _, o := range c.s.Plans {
		if o != p && o.Name > p.Name && o.Memory == p.Memory && p.Address < o.Address+uint64(o.Bytes) && o.Address < p.Address+uint64(p.Bytes) && (p.Receive || o.Receive) {
			c.fault("buffers-overlap", "address", "", ForeignMemory, fmt.Sprintf("the buffer overlaps that of %s", o.Name), "one transfer writes over the other's data", "write another address")
		}
	}
}

// times checks time-outs and releases.
func (c *checker) times() {
	p := c.p
	wire := p.Stream.Word() * quantity.Time(p.Words())
	least := sensible(wire + wire/5 + 100*quantity.Microsecond)
	switch {
	case p.Goal == Fixed && p.Timeout == 0:
		c.fault("time-out-missing", "time-out", least.String(), WaitsForEver, "the wait for its end has no time-out", "a far end that is silent stops it for ever; a sensible time is a little more than the words take on the line", "")
	case p.Goal == Fixed && p.Timeout < wire:
		c.fault("time-out-short", "time-out", least.String(), Aborted, fmt.Sprintf("a time-out of %s: the words alone take %s", p.Timeout.Round(4), wire.Round(4)), "a transfer that is all right is given up", "")
	}
	switch p.Release {
	case AtRegisterEmpty:
		c.fault("released-too-early", "release", "last-bit", LastCut, "the select or driver is given back when the send register is empty", "the last word is still in the shifter: it is cut", "")
	case AtDMADone:
		c.fault("released-too-early", "release", "last-bit", LastCut, "the select or driver is given back when the engine has written the last word", "up to two words are still on their way: they are cut", "")
	}
	if p.Period > 0 && p.Goal == Fixed && p.Period < wire {
		c.fault("start-while-busy", "period", sensible(wire).String(), NoHarm, fmt.Sprintf("it is started every %s and takes %s", p.Period.Round(3), wire.Round(3)), "each start that finds it busy is refused", "")
	}
	if p.Means == Polled && p.Receive {
		if d := p.Deadline(); d > 0 && p.Every >= d && p.Tells != ByWaiting {
			c.fault("looks-too-seldom", "every", sensible(d/2).String(), WordsLost, fmt.Sprintf("the main loop looks every %s; a word must be read within %s", p.Every.Round(3), d.Round(3)), "words are lost between two looks", "")
		}
	}
	if p.Receive && p.Goal == Fixed && p.Mode == machine.OneShot && !p.Rearms && p.Given["re-arms"] {
		c.warn("not-re-armed", "re-arms", "yes", "it is not armed again when it is over", "what comes next is lost, but for what the unit holds", "")
	}
}

// order checks pairs, and the order of starting.
func (c *checker) order() {
	p := c.p
	steps := c.s.Steps()
	at := func(of, what string) int { return slices.Index(steps, Step{of, what}) }
	enable := at(p.Unit, "enable")
	if p.Receive && p.Means == DMA && enable >= 0 {
		for _, what := range []string{"channel", "request"} {
			if i := at(p.Name, what); i > enable {
				c.fault("armed-too-late", "", "", FirstLost, fmt.Sprintf("the unit is enabled before the %s of the receive", what), "what comes meanwhile finds nobody: the first words are lost", fmt.Sprintf("do %s before %s", what, p.Unit))
				break
			}
		}
	}
	for _, o := range c.s.Plans {
		if o == p || o.Unit != p.Unit || o.Receive == p.Receive || !p.Stream.Duplex || p.Goal != Fixed || o.Goal != Fixed || !p.Receive {
			continue
		}
		if o.Words() != p.Words() {
			c.warn("pair-lengths-differ", "length", fmt.Sprint(o.Length), fmt.Sprintf("%d words are received while %d are sent", p.Words(), o.Words()), map[bool]string{true: "what is missing never comes: the bus runs only while something is sent", false: "what comes behind the last wanted word is lost, or left in the register"}[p.Words() > o.Words()], "")
		}
		if i, k := at(p.Name, "channel"), at(o.Name, "channel"); i >= 0 && k >= 0 && i > k && k > enable {
			c.fault("receive-armed-late", "", "", FirstLost, "the receive is armed after the send", "the first words come in while nobody takes them", "arm the receive first")
		}
	}
}
