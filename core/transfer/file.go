package transfer

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
)

var (
	listOfNumbers = doc.Scalar("numbers of channels, as 1 3, or all", func(s string) ([]int, error) {
		if s == "all" {
			return []int{}, nil
		}
		var out []int
		for _, w := range strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' }) {
			n, err := strconv.Atoi(w)
			if err != nil || n < 1 || n > 256 {
				return nil, fmt.Errorf("%q is no number of a channel from 1 to 256", w)
			}
			out = append(out, n)
		}
		if out == nil {
			return nil, fmt.Errorf("no channel is given")
		}
		return out, nil
	})
	stepsType = doc.Scalar("steps, as serial1:enable rx:channel rx:request", func(s string) ([]Step, error) {
		var out []Step
		for _, w := range strings.FieldsFunc(s, func(r rune) bool { return r == ' ' || r == ',' }) {
			of, what, ok := strings.Cut(w, ":")
			if !ok || what != "enable" && what != "channel" && what != "request" {
				return nil, fmt.Errorf("%q is no step: write UNIT:enable, TRANSFER:channel or TRANSFER:request", w)
			}
			out = append(out, Step{of, what})
		}
		return out, nil
	})
)

// PartKeys are the keys of what an MCU offers to transfers.
func PartKeys() []doc.Key {
	return []doc.Key{
		{Name: "memories", Doc: "memories by name", Type: doc.MapOf(doc.Map(
			doc.Key{Name: "start", Doc: "first address", Type: AddressType, Required: true},
			doc.Key{Name: "bytes", Doc: "size", Type: doc.Int(1, 1<<32), Required: true},
			doc.Key{Name: "dma", Doc: "the DMA engine reaches it", Type: doc.YesNo, Default: "yes"},
			doc.Key{Name: "writable", Doc: "it can be written", Type: doc.YesNo, Default: "yes"},
			doc.Key{Name: "cached", Doc: "the processor sees it through a cache", Type: doc.YesNo, Default: "no"},
		))},
		{Name: "cache-line", Doc: "bytes of a line of the cache", Type: doc.Int(1, 1024), Default: "32"},
		{Name: "dma", Doc: "the DMA engine", Type: doc.Map(
			doc.Key{Name: "channels", Doc: "channels, numbered from 1", Type: doc.Int(1, 256), Required: true},
			doc.Key{Name: "counter", Doc: "the greatest count", Type: doc.Int(1, 1<<30), Default: "65535"},
			doc.Key{Name: "beat", Doc: "cycles of the core that an element takes on the bus, during which the processor waits", Type: doc.Int(0, 1000), Default: "0"},
			doc.Key{Name: "requests", Doc: "request lines by name, as serial1.receive, each with the channels that can carry it", Type: doc.ListOf(doc.Map(
				doc.Key{Name: "line", Doc: "UNIT.receive or UNIT.send", Type: doc.NameType, Required: true},
				doc.Key{Name: "channels", Doc: "channels that can carry it, or all", Type: listOfNumbers, Default: "all"},
			), 0)},
		)},
		{Name: "interrupts", Doc: "the interrupt controller and the firmware's other handlers", Type: doc.Map(
			doc.Key{Name: "entry", Doc: "cycles from a flag to its handler's first instruction", Type: doc.Int(0, 10000), Default: "12"},
			doc.Key{Name: "exit", Doc: "cycles from a handler's last instruction to the return", Type: doc.Int(0, 10000), Default: "10"},
			doc.Key{Name: "levels", Doc: "levels of urgency; 0 is the most urgent", Type: doc.Int(1, 256), Default: "16"},
			doc.Key{Name: "kernel", Doc: "handlers that call the kernel need this level or a greater number; 0: there is no kernel", Type: doc.Int(0, 255), Default: "0"},
			doc.Key{Name: "others", Doc: "other handlers by name", Type: doc.MapOf(doc.Map(
				doc.Key{Name: "urgency", Doc: "level", Type: doc.Int(0, 255), Required: true},
				doc.Key{Name: "worst", Doc: "longest time", Type: doc.Scalar("a time", quantity.ParseSpan), Required: true},
			))},
		)},
	}
}

// ReadPart reads what a node offers to transfers.
func ReadPart(n *doc.Node, core quantity.Freq) Part {
	p := Part{Core: core, Requests: map[string][]int{}, CacheLine: doc.Of[int](n, "cache-line"), Entry: 12, Exit: 10, Least: 15}
	for _, c := range n.Get("memories").All() {
		p.Regions = append(p.Regions, machine.Region{Name: c.Key, Start: doc.Of[uint64](c, "start"), Bytes: uint64(doc.Of[int](c, "bytes")),
			DMA: doc.Of[bool](c, "dma"), Writable: doc.Of[bool](c, "writable"), Cached: doc.Of[bool](c, "cached")})
	}
	if len(p.Regions) == 0 { // none is described: one that all reach
		p.Regions = []machine.Region{{Name: "memory", Start: 0x1000, Bytes: 1 << 24, DMA: true, Writable: true}}
	}
	if d := n.Get("dma"); d != nil {
		p.Channels, p.MostCount, p.BeatCycles = doc.Of[int](d, "channels"), doc.Of[int](d, "counter"), doc.Of[int](d, "beat")
		for _, c := range d.Get("requests").All() {
			list := doc.Of[[]int](c, "channels")
			if len(list) == 0 {
				for i := range p.Channels {
					list = append(list, i+1)
				}
			}
			p.Requests[c.Text("line")] = list
		}
	}
	if i := n.Get("interrupts"); i != nil {
		p.Entry, p.Exit, p.Least, p.Kernel = doc.Of[int](i, "entry"), doc.Of[int](i, "exit"), doc.Of[int](i, "levels")-1, doc.Of[int](i, "kernel")
		for _, o := range i.Get("others").All() {
			p.Others = append(p.Others, Other{Name: o.Key, Urgency: doc.Of[int](o, "urgency"), Worst: doc.Of[quantity.Time](o, "worst")})
		}
		sort.SliceStable(p.Others, func(a, b int) bool { return p.Others[a].Urgency < p.Others[b].Urgency })
	}
	return p
}

// StartKeys are the keys of the order in which everything is started.
func StartKeys() []doc.Key {
	return []doc.Key{
		{Name: "order", Doc: "steps, as rx:channel rx:request serial1:enable; absent: an order that works", Type: stepsType},
		{Name: "step", Doc: "time between two steps", Type: doc.Scalar("a time", quantity.ParseSpan), Default: "1 us"},
	}
}

// FileSchema is that of a file of plans alone, without a bench around them.
var FileSchema = doc.Map(
	doc.Key{Name: "part", Doc: "what the MCU offers", Type: doc.Map(append([]doc.Key{{Name: "core", Doc: "clock of the core", Type: doc.ClockType, Required: true}}, PartKeys()...)...), Required: true},
	doc.Key{Name: "units", Doc: "bus units by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "duplex", Doc: "what is sent clocks in what is received, while a select is held", Type: doc.YesNo, Default: "no"},
		doc.Key{Name: "held", Doc: "the line waits for a late reader", Type: doc.YesNo, Default: "no"},
		doc.Key{Name: "rate", Doc: "bit rate", Type: doc.RateType, Required: true},
		doc.Key{Name: "bits", Doc: "data bits of a word, as memory has it", Type: doc.Int(1, 512), Default: "8"},
		doc.Key{Name: "line-bits", Doc: "bits of a word on the line, with all around it", Type: doc.Int(1, 10000), Default: "10"},
		doc.Key{Name: "depth", Doc: "received words that the unit holds", Type: doc.Int(1, 65536), Default: "1"},
		doc.Key{Name: "send-depth", Doc: "words that its send side holds beside the shifter", Type: doc.Int(1, 65536), Default: "1"},
		doc.Key{Name: "on-full", Doc: "which word is lost when it is full", Type: doc.Enum(machine.Policies...), Default: "keep-oldest"},
	)), Required: true},
	doc.Key{Name: "transfers", Doc: "transfers by name", Type: doc.MapOf(Schema().With(doc.Key{Name: "unit", Doc: "bus unit", Type: doc.NameType, Required: true})), Required: true},
	doc.Key{Name: "start", Doc: "how everything is started", Type: doc.Map(StartKeys()...)},
)

// ReadFile reads a file of plans.
func ReadFile(name string, text []byte) (*Setup, *doc.File, []finding.Finding) {
	f, faults := doc.Parse(name, text)
	if len(faults) > 0 {
		return nil, nil, faults
	}
	if faults := FileSchema.Validate(f.Root); len(faults) > 0 {
		return nil, nil, faults
	}
	part := f.Root.Get("part")
	s := &Setup{Part: ReadPart(part, doc.Of[quantity.Freq](part, "core"))}
	for _, n := range f.Root.Get("transfers").All() {
		u := f.Root.Get("units", n.Text("unit"))
		if u == nil {
			faults = append(faults, finding.Finding{Severity: finding.Error, Code: "unknown-unit", Where: n.Get("unit").Place(), Seen: fmt.Sprintf("there is no unit %q", n.Text("unit")), Change: "add it below units"})
			continue
		}
		p := &Plan{Name: n.Key, Unit: u.Key, Stream: Stream{
			Bits: doc.Of[int](u, "bits"), WordBits: float64(doc.Of[int](u, "line-bits")), Rate: doc.Of[quantity.Rate](u, "rate"),
			Depth: doc.Of[int](u, "depth"), SendDepth: doc.Of[int](u, "send-depth"),
			Duplex: doc.Of[bool](u, "duplex"), Selects: doc.Of[bool](u, "duplex"), Held: doc.Of[bool](u, "held"),
			OnFull: PolicyNamed(doc.Of[string](u, "on-full")),
		}}
		Read(n, p)
		s.Plans = append(s.Plans, p)
	}
	ReadStart(f.Root.Get("start"), s)
	s.Complete()
	return s, f, faults
}

// ReadStart reads the order of starting; a node that is absent says that it works.
func ReadStart(n *doc.Node, s *Setup) {
	s.StepTime = quantity.Microsecond
	if n == nil {
		return
	}
	s.StepTime = doc.Of[quantity.Time](n, "step")
	if n.Get("order") != nil {
		s.Order = doc.Of[[]Step](n, "order")
	}
}

// PolicyNamed finds a policy by its word.
func PolicyNamed(w string) machine.Policy {
	for i, x := range machine.Policies {
		if x == w {
			return machine.Policy(i)
		}
	}
	return machine.KeepOldest
}

// Finding gives a fault with its place in a file: the slot's, or that of the transfer whose
// node is given.
func (f Fault) Finding(n *doc.Node) finding.Finding {
	out := finding.Finding{Severity: f.Severity, Code: f.Code, Seen: f.Plan + ": " + f.Seen, Why: f.Why, Change: f.Change}
	if f.Harm != NoHarm {
		out.Why = strings.TrimSuffix(f.Why, ".") + "; when it runs: " + string(f.Harm)
	}
	if n == nil {
		return out
	}
	out.Where = n.KeyPlace()
	if c := n.Get(f.Slot); f.Slot != "" && c != nil {
		out.Where = c.Place()
	}
	return out
}
