package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

// mostTicks is the number of quanta up to which each is drawn.
const mostTicks = 40

// CANTiming shows one bit of every node, begun at the same edge: its segments, its
// sample point, and where the edge of the other node may lie after the ten bits
// that pass without one. Everything is true to scale.
func CANTiming(name string, c *bench.CAN, data bool) *scene.Scene {
	if len(c.Nodes) == 0 {
		return nil
	}
	phase, what := func(e *can.End) *can.BitTiming { return &e.Nominal }, "a nominal bit"
	if data {
		phase, what = func(e *can.End) *can.BitTiming { return e.Data }, "a bit of the data phase"
	}
	own := phase(c.Nodes[0])
	if own == nil {
		return nil
	}
	bit := quantity.PeriodOf(own.Rate).Times(1)
	s := &scene.Scene{Title: fmt.Sprintf("%s: %s, %s", name, what, bit.Round(4)), From: -bit / 10, To: bit + bit/10}
	for _, e := range c.Nodes {
		b := phase(e)
		if b == nil {
			s.Lanes = append(s.Lanes, scene.Lane{Name: e.Name, Detail: "no data phase", Levels: nil})
			continue
		}
		at := func(quanta int) quantity.Time { return b.Quantum().Times(int64(quanta)) }
		prop := b.Propagation()
		l := scene.Lane{Name: e.Name, Detail: b.Split(), Cells: []scene.Cell{
			{From: 0, To: at(1), Label: "sync", Tone: scene.Quiet},
			{From: at(1), To: at(1 + prop), Label: fmt.Sprintf("%d propagation", prop)},
		}}
		if rest := b.Seg1 - prop; rest > 0 {
			l.Cells = append(l.Cells, scene.Cell{From: at(1 + prop), To: at(1 + b.Seg1), Label: fmt.Sprintf("%d phase 1", rest)})
		}
		l.Cells = append(l.Cells, scene.Cell{From: at(1 + b.Seg1), To: at(b.Quanta()), Label: fmt.Sprintf("%d phase 2", b.Seg2)})
		samples := scene.Lane{Detail: fmt.Sprintf("sample %.2f %%", 100*b.Sample), Marks: []scene.Mark{{At: at(1 + b.Seg1), Label: "sample point of " + e.Name}}}
		if b.Quanta() <= mostTicks {
			for q := range b.Quanta() + 1 {
				samples.Ticks = append(samples.Ticks, scene.Mark{At: at(q)})
			}
		}
		s.Lanes = append(s.Lanes, l, samples)
	}
	if len(c.Pairs) > 0 {
		s.Notes = append(s.Notes, "drift: where an edge may lie after ten bits without one, the two clocks being apart; one jump brings the sampling back by as much as the marks show")
	}
	for _, p := range c.Pairs {
		a, b := phase(p.A), phase(p.B)
		if a == nil || b == nil {
			continue
		}
		// Ten bits go by without an edge, at most; a jump makes up for the drift.
		drift := quantity.Time(10 * p.Sum * float64(bit))
		jump := quantity.Time(float64(bit) * min(float64(a.Jump)/float64(a.Quanta()), float64(b.Jump)/float64(b.Quanta())))
		tone := scene.Plain
		if !p.Decodes || p.RatesDiffer {
			tone = scene.Differ
		}
		d := max(drift, 1)
		name := p.B.Name
		if p.A != c.Nodes[0] {
			name = p.A.Name + ", " + p.B.Name
		}
		s.Lanes = append(s.Lanes, scene.Lane{Name: name, Detail: "drift", Cells: []scene.Cell{
			{From: -d, To: d, Label: "edge", Tone: tone}, {From: bit - d, To: bit + d, Label: "edge", Tone: tone},
		}, Marks: []scene.Mark{{At: jump, Label: "a jump makes up for"}, {At: bit - jump, Label: "a jump makes up for"}}})
	}
	return s
}
