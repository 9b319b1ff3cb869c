package transfer

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

// Slot is one choice of a plan: a key of bench files, and a place in its sentence.
type Slot struct {
	Key, Doc string
	Type     *doc.Type
	Means    []Means // for which it matters; nil: for all
	// unless says why it does not matter to some plans; nil: it matters to all.
	unless func(*Plan) string
	// Get gives the value as it would be written.
	Get func(*Plan) string
	set func(*Plan, any)
}

// For says whether the slot matters to a plan.
func (s *Slot) For(p *Plan) bool { return s.Without(p) == "" }

// Without says why the slot has no effect on a plan; "" where it has.
func (s *Slot) Without(p *Plan) string {
	if s.Means != nil && !slices.Contains(s.Means, p.Means) {
		return "the transfer is " + map[Means]string{Polled: "polled", Interrupt: "by interrupt", DMA: "by DMA"}[p.Means]
	}
	if s.unless != nil {
		return s.unless(p)
	}
	return ""
}

// except gives the slot with plans to which it does not matter.
func (s Slot) except(unless func(*Plan) string) Slot {
	s.unless = unless
	return s
}

func noRing(p *Plan) string {
	if p.Goal.Rings() {
		return ""
	}
	return "only a ring has a consumer that goes by positions"
}

func notChained(p *Plan) string {
	if p.Mode == machine.Chained {
		return ""
	}
	return "the mode is " + p.Mode.String()
}

func notSent(p *Plan) string {
	if !p.Receive {
		return ""
	}
	return "the transfer receives"
}

func slot[T any](key, about string, t *doc.Type, field func(*Plan) *T, print func(T) string, means ...Means) Slot {
	return Slot{Key: key, Doc: about, Type: t, Means: means,
		Get: func(p *Plan) string { return print(*field(p)) },
		set: func(p *Plan, v any) { *field(p) = v.(T) }}
}

func worded[T ~uint8](key, about string, words []string, field func(*Plan) *T, means ...Means) Slot {
	t := doc.Enum(words...)
	return Slot{Key: key, Doc: about, Type: t, Means: means,
		Get: func(p *Plan) string { return words[*field(p)] },
		set: func(p *Plan, v any) {
			for i, w := range words {
				if w == v.(string) {
					*field(p) = T(i)
				}
			}
		}}
}

// either is a choice of two words, the first for false.
func either(key, about, no, yes string, field func(*Plan) *bool, means ...Means) Slot {
	t := doc.Enum(no, yes)
	if no == "no" {
		t = doc.YesNo
	}
	return Slot{Key: key, Doc: about, Type: t, Means: means,
		Get: func(p *Plan) string {
			if *field(p) {
				return yes
			}
			return no
		},
		set: func(p *Plan, v any) {
			if b, is := v.(bool); is {
				*field(p) = b
				return
			}
			*field(p) = v.(string) == yes
		}}
}

func number(key, about string, low, high int, field func(*Plan) *int, means ...Means) Slot {
	return slot(key, about, doc.Int(low, high), field, strconv.Itoa, means...)
}

func timed(key, about string, field func(*Plan) *quantity.Time, means ...Means) Slot {
	return slot(key, about, timeOrNone, field, func(t quantity.Time) string {
		if t == 0 {
			return "none"
		}
		return t.String()
	}, means...)
}

var timeOrNone = doc.Scalar("a time, or none", func(s string) (quantity.Time, error) {
	if s == "none" {
		return 0, nil
	}
	return quantity.ParseSpan(s)
})

// AddressType is an address in memory.
var AddressType = doc.Scalar("an address, as 0x20000400", func(s string) (uint64, error) {
	a, err := strconv.ParseUint(strings.ReplaceAll(s, "_", ""), 0, 44)
	if err != nil {
		return 0, fmt.Errorf("%q is no address below 2^44", s)
	}
	return a, nil
})

var chainType = doc.Scalar("stretches, as 0x20000400*16 0x20000800*16, or none", func(s string) ([]machine.Stretch, error) {
	if s == "none" {
		return nil, nil
	}
	var out []machine.Stretch
	for _, w := range strings.Fields(s) {
		at, count, ok := strings.Cut(w, "*")
		a, err := strconv.ParseUint(strings.ReplaceAll(at, "_", ""), 0, 44)
		n, bad := strconv.Atoi(count)
		if err != nil || bad != nil || !ok || n < 1 || n > 1<<20 {
			return nil, fmt.Errorf("%q is no stretch: write an address and a count, as 0x20000400*16", w)
		}
		out = append(out, machine.Stretch{Address: a, Count: n})
	}
	return out, nil
})

func printChain(chain []machine.Stretch) string {
	var out []string
	for _, c := range chain {
		out = append(out, fmt.Sprintf("0x%X*%d", c.Address, c.Count))
	}
	if out == nil {
		return "none"
	}
	return strings.Join(out, " ")
}

// Slots are the choices of a plan, in the order in which a bench file has them.
var Slots = []Slot{
	either("direction", "receive into memory, or send from it", "send", "receive", func(p *Plan) *bool { return &p.Receive }),
	worded("goal", "a fixed length, a ring for ever, messages of unknown length, or the same data repeated", Goals, func(p *Plan) *Goal { return &p.Goal }),
	number("length", "bytes of data, or of the ring", 1, 1<<20, func(p *Plan) *int { return &p.Length }),
	worded("method", "by what the words move", AllMeans, func(p *Plan) *Means { return &p.Means }),
	either("source", "a buffer, or one filler word again and again", "buffer", "filler", func(p *Plan) *bool { return &p.Filler }).except(notSent),

	slot("memory", "memory of the MCU that holds the buffer", doc.NameType, func(p *Plan) *string { return &p.Memory }, func(s string) string { return s }),
	slot("address", "where the buffer begins", AddressType, func(p *Plan) *uint64 { return &p.Address }, func(a uint64) string { return fmt.Sprintf("0x%X", a) }),
	number("buffer", "bytes of the buffer", 1, 1<<20, func(p *Plan) *int { return &p.Bytes }),
	either("lifetime", "a static buffer, or one on the caller's stack", "static", "stack", func(p *Plan) *bool { return &p.Stack }),
	worded("cache", "what the firmware does for a cached buffer", Cares, func(p *Plan) *Care { return &p.Cache }, DMA),

	either("engine-clock", "the DMA engine has its clock", "off", "on", func(p *Plan) *bool { return &p.EngineClock }, DMA),
	number("channel", "channel of the DMA engine", 1, 256, func(p *Plan) *int { return &p.Channel }, DMA),
	slot("request", "request line of the unit, as serial1.receive", doc.NameType, func(p *Plan) *string { return &p.Request }, func(s string) string { return s }, DMA),
	either("flow", "from memory to the unit, or from the unit to memory", "to-unit", "to-memory", func(p *Plan) *bool { return &p.FromUnit }, DMA),
	either("unit-step", "the unit's address moves on with each element", "no", "yes", func(p *Plan) *bool { return &p.UnitSteps }, DMA),
	either("memory-step", "the memory's address moves on with each element", "no", "yes", func(p *Plan) *bool { return &p.MemorySteps }, DMA),
	slot("unit-width", "bits that an element takes at the unit", doc.OneOf(8, 16, 32), func(p *Plan) *int { return &p.UnitWidth }, strconv.Itoa, DMA),
	slot("memory-width", "bits that an element takes in memory", doc.OneOf(8, 16, 32), func(p *Plan) *int { return &p.MemoryWidth }, strconv.Itoa, DMA),
	number("count", "elements", 0, 1<<20, func(p *Plan) *int { return &p.Count }, DMA),
	worded("mode", "what follows when the count is used up", machine.Modes, func(p *Plan) *machine.Mode { return &p.Mode }, DMA),
	slot("chain", "chained: what follows the first stretch, each ADDRESS*COUNT", chainType, func(p *Plan) *[]machine.Stretch { return &p.Chain }, printChain, DMA).except(notChained),
	number("channel-priority", "0 is the most urgent", 0, 15, func(p *Plan) *int { return &p.ChannelPriority }, DMA),
	number("burst", "elements for each request", 1, 64, func(p *Plan) *int { return &p.Burst }, DMA),
	either("tell-half", "an interrupt at the middle of the count", "no", "yes", func(p *Plan) *bool { return &p.TellHalf }, DMA),
	either("tell-full", "an interrupt at the end of the count", "no", "yes", func(p *Plan) *bool { return &p.TellFull }, DMA),

	either("unit-request", "the unit asks the engine", "off", "on", func(p *Plan) *bool { return &p.UnitRequest }, DMA),
	either("word-interrupt", "the unit interrupts for words", "off", "on", func(p *Plan) *bool { return &p.WordInterrupt }),
	either("idle-interrupt", "the unit interrupts when the line goes quiet", "off", "on", func(p *Plan) *bool { return &p.IdleInterrupt }),
	number("level", "words that raise the unit's interrupt", 1, 1<<16, func(p *Plan) *int { return &p.Level }, Interrupt),

	worded("tells", "how the caller learns that it is over", Tellings, func(p *Plan) *Telling { return &p.Tells }),
	either("line", "its line at the interrupt controller", "off", "on", func(p *Plan) *bool { return &p.LineOn }, Interrupt, DMA),
	number("urgency", "level of its interrupt; 0 is the most urgent", 0, 255, func(p *Plan) *int { return &p.Urgency }, Interrupt, DMA),
	either("interrupts", "interrupts are allowed at all", "off", "on", func(p *Plan) *bool { return &p.Global }, Interrupt, DMA),
	either("handler", "the firmware has a handler", "missing", "present", func(p *Plan) *bool { return &p.Handler }, Interrupt, DMA),
	either("handler-clears", "the handler clears the flag that called it", "no", "yes", func(p *Plan) *bool { return &p.Clears }, Interrupt, DMA),
	either("handler-calls-kernel", "the handler calls the kernel", "no", "yes", func(p *Plan) *bool { return &p.Kernel }, Interrupt, DMA),
	either("handler-waits", "the handler waits for something", "no", "yes", func(p *Plan) *bool { return &p.Waits }, Interrupt, DMA),
	either("handler-starts", "the handler starts a bus transfer", "no", "yes", func(p *Plan) *bool { return &p.Starts }, Interrupt, DMA),
	number("handler-cycles", "cycles of the handler for each run", 0, 100_000_000, func(p *Plan) *int { return &p.Cycles.Handler }),
	number("word-cycles", "cycles more for each word", 0, 1_000_000, func(p *Plan) *int { return &p.Cycles.Each }, Interrupt),
	timed("every", "polled: period of the main loop's looks", func(p *Plan) *quantity.Time { return &p.Every }, Polled),
	timed("work", "time to work off what an event reported", func(p *Plan) *quantity.Time { return &p.Work }, Interrupt, DMA),
	slot("consumer", "how positions of a ring become new bytes", doc.Enum(consumerNames()...), func(p *Plan) *string { return &p.Consumer }, func(s string) string { return s }, DMA).except(noRing),
	timed("time-out", "when a transfer that does not end is given up", func(p *Plan) *quantity.Time { return &p.Timeout }),
	worded("release", "when select or line driver are given back", Releases, func(p *Plan) *Release { return &p.Release }),
	timed("end-idle", "silence that raises the unit's idle event; none: that of a word", func(p *Plan) *quantity.Time { return &p.EndIdle }),
	either("re-arms", "the next receive is armed when one is over", "no", "yes", func(p *Plan) *bool { return &p.Rearms }, DMA),
	timed("period", "of what starts it anew", func(p *Plan) *quantity.Time { return &p.Period }),
}

func consumerNames() []string {
	var out []string
	for _, c := range Consumers {
		out = append(out, c.Name)
	}
	return out
}

// SlotNamed finds a slot by its key; nil where there is none.
func SlotNamed(key string) *Slot {
	for i := range Slots {
		if Slots[i].Key == key {
			return &Slots[i]
		}
	}
	return nil
}

// Schema are the keys of a plan in a file.
func Schema() *doc.Type {
	var keys []doc.Key
	for _, s := range Slots {
		keys = append(keys, doc.Key{Name: s.Key, Doc: s.Doc, Type: s.Type, Required: s.Key == "direction"})
	}
	return doc.Map(keys...)
}

// Read reads what a node gives of a plan; the rest is derived by Complete.
func Read(n *doc.Node, p *Plan) {
	p.Given, p.Why = map[string]bool{}, map[string]string{}
	for i := range Slots {
		if c := n.Get(Slots[i].Key); c != nil {
			if v := doc.As[any](c); v != nil {
				Slots[i].set(p, v)
				p.Given[Slots[i].Key] = true
			}
		}
	}
}

// With gives the plan with one slot changed, its other derived slots not derived anew.
func (p *Plan) With(key, text string) (*Plan, error) {
	s := SlotNamed(key)
	if s == nil {
		return nil, fmt.Errorf("a transfer has no %q", key)
	}
	v, err := s.Type.Read(text)
	if err != nil {
		return nil, err
	}
	c := *p
	s.set(&c, v)
	return &c, nil
}
