package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
)

// planned shows what should be on a line, under the records that are meant as
// the plan: bit by bit where there is room, else how they compare.
func (w band) planned(rs []*record.Record, line int, name string) (scene.Lane, bool) {
	lane := scene.Lane{Detail: name + " planned"}
	if len(rs) > 40 {
		return lane, false
	}
	of := false
	for _, b := range w.Plan.Bits {
		of = of || b.Line == line && !b.Open
	}
	if !of {
		return lane, false
	}
	for _, r := range rs {
		seen, ds, meant := w.Plan.Against(w.Snap, r, w.Settings)
		if !meant {
			continue
		}
		lane.Cells = append(lane.Cells, w.heldAgainst(r, line, seen, ds)...)
	}
	return lane, len(lane.Cells) > 0
}

func (w band) heldAgainst(r *record.Record, line int, seen []intent.Bit, ds []intent.Difference) []scene.Cell {
	wrong := map[int]bool{}
	all := scene.Cell{From: r.Start, To: r.End, Label: "as planned"}
	for _, d := range ds {
		if d.Line != line {
			continue
		}
		wrong[d.Index] = true
		all.Label, all.Tone = fmt.Sprintf("%d not as planned", len(wrong)), scene.Differ
	}
	var out []scene.Cell
	k := 0
	var want []intent.Bit
	for _, b := range w.Plan.Bits {
		if b.Line == line {
			want = append(want, b)
		}
	}
	for _, b := range seen {
		if b.Line != line {
			continue
		}
		c := scene.Cell{From: b.From, To: b.To, Label: "·", Tone: scene.Quiet}
		if k < len(want) && !want[k].Open {
			c.Label, c.Tone = "0", scene.Plain
			if want[k].High {
				c.Label = "1"
			}
		}
		if wrong[k] {
			c.Tone = scene.Differ
		}
		k++
		if b.To >= w.From && b.From <= w.To {
			out = append(out, c)
		}
	}
	if !fit(w, out, 2) {
		return []scene.Cell{all}
	}
	return out
}

// Plan draws a planned transaction alone, before anything is sent. Open bits are
// marked as such; lines that are open throughout are left out.
func Plan(p *intent.Plan, columns int) *scene.Scene {
	var roles []string
	for _, r := range p.Kind.RolesOf(p.Ends) {
		roles = append(roles, r.Name)
	}
	var meta capture.Meta
	meta.Add(capture.Link{Name: "plan", Kind: p.Kind.Name}, roles, roles)
	store := capture.NewStore(meta)
	// A line of which nothing is planned is left out: its level would be made up.
	bits, planned := map[int]bool{}, map[int]bool{}
	for _, b := range p.Bits {
		bits[b.Line] = true
		planned[b.Line] = planned[b.Line] || !b.Open
	}
	end := p.Record.End
	for i := range p.Lines {
		if planned[i] || !bits[i] && len(p.Lines[i].Toggles) > 0 {
			store.Levels(i, &p.Lines[i])
		}
		end = max(end, p.Lines[i].To)
	}
	store.Put(&p.Record)
	store.Advance(end)
	w := Wave{Snap: store.Snapshot(), To: p.Record.End + (p.Record.End-p.Record.Start)/20, Columns: columns}
	w.From = max(p.Record.Start-(p.Record.End-p.Record.Start)/20, 0)
	w.Bands = []Band{{Kind: p.Kind, Name: "planned", Settings: p.Ends, Plan: p}}
	s := w.Scene()
	for i := range s.Lanes {
		// What is open stands as 0 in the record; the plan's own words say it.
		if s.Lanes[i].Name == "planned" && len(s.Lanes[i].Cells) == 1 {
			s.Lanes[i].Cells[0].Label = safe.Text(p.Text)
		}
	}
	s.Title = "planned: " + p.Text
	return s
}
