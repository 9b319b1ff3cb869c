package bench

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/transfer"
)

// Transfer is how words of one direction of a link move between memory and its unit.
type Transfer struct {
	Name string
	Plan *transfer.Plan
	node *doc.Node
}

// transferKeys are the keys of the MCU about transfers.
func transferKeys() []doc.Key {
	return append(transfer.PartKeys(),
		doc.Key{Name: "core", Doc: "the clock of the processor, by its name; absent: the one that is called core", Type: doc.NameType},
		doc.Key{Name: "start", Doc: "the order in which units and channels are started, transfers as LINK.TRANSFER", Type: doc.Map(transfer.StartKeys()...)},
	)
}

// transfers reads the plans of all links, and derives what they do not say.
func (x *binder) transfers(b *Bench, root *doc.Node) {
	m := root.Get("mcu")
	core, stated := x.core(m)
	s := &transfer.Setup{Part: transfer.ReadPart(m, core)}
	s.Part.Assumed = !stated
	transfer.ReadStart(m.Get("start"), s)
	for _, l := range b.Links {
		if l.Model == nil {
			continue
		}
		for _, n := range l.node.Get("transfers").All() {
			t := &Transfer{Name: n.Key, node: n, Plan: &transfer.Plan{Name: l.Name + "." + n.Key, Unit: l.Unit.Name}}
			transfer.Read(n, t.Plan)
			stream := kindNamed(l.Kind.Name).stream
			t.Plan.Stream = stream(l, t.Plan.Receive)
			t.Plan.Stream.Depth, t.Plan.Stream.SendDepth, t.Plan.Stream.OnFull = max(l.Unit.Depth, 1), l.Unit.SendDepth, l.Unit.OnFull
			if l.Unit.Word > 0 {
				t.Plan.Stream.Register = l.Unit.Word
			}
			l.Transfers = append(l.Transfers, t)
			s.Plans = append(s.Plans, t.Plan)
		}
	}
	s.Complete()
	b.Transfers = s
	for _, l := range b.Links {
		l.setup = s
		// What takes the received words out of the unit is what its transfer says.
		for _, t := range l.Transfers {
			if t.Plan.Receive && l.node.Get("mcu", "receive") == nil {
				l.Receive = t.Plan.Means.String()
			}
		}
	}
}

// core is the frequency of the processor's clock, and whether the bench states it.
func (x *binder) core(m *doc.Node) (hz quantity.Freq, stated bool) {
	clocks := m.Get("clocks")
	name, at := "core", clocks.Get("core")
	if n := m.Get("core"); n != nil {
		name, at = n.Scalar, n
		if clocks.Get(name) == nil {
			x.fault("unknown-clock", n.Place(), "write one of the MCU's clocks", "the MCU has no clock %q", name)
		}
	}
	if clocks.Get(name) != nil {
		before := len(x.faults)
		p := x.pathTo(clocks, name, at)
		x.faults = x.faults[:before] // the units' own paths say them
		if p != nil {
			return p.Freq(), true
		}
	}
	return quantity.FromHz(16e6), false
}

// lintTransfers gives what is wrong with the link's transfers.
func (l *Link) lintTransfers() []finding.Finding {
	if len(l.Transfers) == 0 {
		return nil
	}
	var out []finding.Finding
	if l.setup.Part.Assumed {
		out = append(out, finding.Finding{Severity: finding.Note, Code: "core-clock-assumed", Where: l.node.Get("transfers").KeyPlace(),
			Seen:   fmt.Sprintf("the processor's clock is not described: %s is assumed for the times of handlers", l.setup.Part.Core),
			Change: "call a clock `core`, or name one at `core:` below mcu",
		})
	}
	for _, t := range l.Transfers {
		for i := range transfer.Slots {
			s := &transfer.Slots[i]
			if why := s.Without(t.Plan); why != "" && t.Plan.Given[s.Key] {
				edit := l.EditTransfer(t.Name, s.Key, "")
				edit.Op = finding.Delete
				out = append(out, finding.Finding{Severity: finding.Note, Code: "transfer-slot-without-effect", Where: t.node.Get(s.Key).Place(),
					Seen: fmt.Sprintf("%s of transfer %s has no effect", s.Key, t.Name), Why: why,
					Fixes: []finding.Fix{{Label: "remove it", Edits: []finding.Edit{edit}}},
				})
			}
		}
		if !t.Plan.Receive {
			continue
		}
		if r := l.node.Get("mcu", "receive"); r != nil && l.Receive != t.Plan.Means.String() {
			out = append(out, finding.Finding{Severity: finding.Error, Code: "receive-differs", Where: r.Place(),
				Seen:  fmt.Sprintf("receive is %s here, and %s in transfer %s", l.Receive, t.Plan.Means, t.Name),
				Why:   "the startup prepares the one, the transfer needs the other",
				Fixes: []finding.Fix{{Label: "as the transfer says", Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "receive")}}}},
			})
		}
		if r := l.node.Get("mcu", "service"); r != nil {
			out = append(out, finding.Finding{Severity: finding.Warning, Code: "service-unused", Where: r.Place(),
				Seen: fmt.Sprintf("a service time is stated, but transfer %s says what takes the words", t.Name), Why: "the service time has no effect",
				Fixes: []finding.Fix{{Label: "remove it", Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "service")}}}},
			})
		}
	}
	for _, f := range l.setup.Check() {
		for _, t := range l.Transfers {
			if t.Plan.Name != f.Plan {
				continue
			}
			g := f.Finding(t.node)
			g.Code = "transfer-" + f.Code
			if f.Slot != "" && f.Value != "" {
				g.Fixes = []finding.Fix{{Label: fmt.Sprintf("%s: %s", f.Slot, f.Value), Edits: []finding.Edit{l.EditTransfer(t.Name, f.Slot, f.Value)}}}
			}
			out = append(out, g)
		}
	}
	return out
}

// EditTransfer gives the edit that puts a value into a slot of a transfer.
func (l *Link) EditTransfer(name, slot, value string) finding.Edit {
	return finding.Edit{Path: l.path("transfers", name, slot), Value: value}
}

// Transfer gives the transfer with a name; nil where there is none.
func (l *Link) Transfer(name string) *Transfer {
	if i := slices.IndexFunc(l.Transfers, func(t *Transfer) bool { return t.Name == name }); i >= 0 {
		return l.Transfers[i]
	}
	return nil
}

// Setup is what the MCU is asked to do, all links together.
func (l *Link) Setup() *transfer.Setup { return l.setup }

// receives says whether a transfer takes the received words.
func (l *Link) receives() bool {
	return slices.ContainsFunc(l.Transfers, func(t *Transfer) bool { return t.Plan.Receive })
}
