package timing

import (
	"fmt"
	"math"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

func (v *View) drawCAN(a cells.Area, b *bench.Link) {
	out := v.bus(a, b, -1)
	c := b.Model.(*bench.CAN)
	own := c.Nodes[0]
	t, chosen := &own.Nominal, c.Chosen
	if v.data && own.Data != nil {
		t, chosen = own.Data, c.DataChosen
	}
	origin := "best"
	if chosen {
		origin = "chosen"
	}
	what := "nominal"
	if v.data && own.Data != nil {
		what = "data phase"
	}
	out.rate(fmt.Sprintf("÷ %d", t.Prescaler), "prescaler", mega(quantity.FromHz(t.Clock.Hz()/float64(t.Prescaler))), cells.Plain, "a quantum is "+t.Quantum().Times(1).Round(4))
	style := cells.Strong
	if math.Abs(t.Error) > 1e-6 {
		style = cells.Doubt
	}
	out.rate(fmt.Sprintf("÷ %d", t.Quanta()), t.Split()+", "+origin, strings.TrimSuffix(strings.TrimRight(quantity.Group(t.Rate.Bd()/1e3, 3), "0"), ".")+" kbit/s", style, fmt.Sprintf("%+.3f %% of %s, %s", 100*t.Error, t.Wanted.BitRate(), what))
	out.row("", "sample point", fmt.Sprintf("%.2f %%", 100*t.Sample), cells.Strong, fmt.Sprintf("jump width %d of %d quanta", t.Jump, t.Quanta()))
	if words, err := b.Words(); err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	if !v.tight() {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "NODES")
	at := []int{nameAt, nameAt + 15, nameAt + 29, nameAt + 38, nameAt + 51}
	for i, h := range []string{"", "rate", "sample", "clock off", "tolerance"} {
		if at[i]+cells.Width(h) > a.W {
			h = ""
		}
		a.Text(at[i], out.y, cells.Quiet, h)
	}
	out.y++
	for i, e := range c.Nodes {
		lim := e.Limit()
		a.Text(at[0], out.y, cells.Plain, e.Name)
		rs := cells.Plain
		if e == c.Odd || e.Misses() {
			rs = cells.Bad
		}
		a.Text(at[1], out.y, rs, quantity.Group(e.Nominal.Rate.Bd()/1e3, 1)+" kbit/s")
		a.Text(at[2], out.y, cells.Plain, fmt.Sprintf("%.1f %%", 100*e.Nominal.Sample))
		ls, glyph := cells.Good, "●"
		if e.Error() > lim.Limit {
			ls, glyph = cells.Doubt, "△"
		}
		a.Text(at[3], out.y, ls, fmt.Sprintf("%s %.3f %%", glyph, 100*e.Error()))
		x := a.Text(at[4], out.y, cells.Plain, fmt.Sprintf("%.3f %%", 100*lim.Limit))
		if note := c.Ends[i].About; x+2+cells.Width(note) <= a.W {
			a.Text(x+2, out.y, cells.Quiet, note)
		}
		out.y++
	}
	if !v.tight() {
		out.y++
	}
	v.pairs(out, c)
	v.picture(out, b, "BIT")
	v.below(out, c)
}

// pairs judges every two nodes.
func (v *View) pairs(out *sum, b *bench.CAN) {
	a := out.a
	a.Text(0, out.y, cells.Head, "PAIRS")
	for _, p := range b.Pairs {
		style, glyph, verdict := cells.Good, "●", "understand each other"
		switch {
		case p.RatesDiffer && (p.A.ListenOnly || p.B.ListenOnly):
			listens := p.A
			if p.B.ListenOnly {
				listens = p.B
			}
			style, glyph, verdict = cells.Doubt, "△", "rates differ: "+listens.Name+" only listens, and receives nothing"
		case p.RatesDiffer:
			style, glyph, verdict = cells.Bad, "✗", "rates differ: error frames as long as both are active"
		case !p.Decodes:
			style, glyph, verdict = cells.Bad, "✗", "clocks too far apart"
		case p.FarApart():
			style, glyph, verdict = cells.Doubt, "△", fmt.Sprintf("sample %.1f %% of a bit apart", 100*p.Apart)
		}
		x := a.Text(nameAt, out.y, style, glyph+" "+p.A.Name+", "+p.B.Name)
		x = a.Text(x+2, out.y, cells.Plain, fmt.Sprintf("%.3f %% of %.3f %% used", 100*p.Sum, 100*p.Pair))
		if x+2+cells.Width(verdict) > a.W {
			x = nameAt
			out.y++
		}
		a.Text(x+2, out.y, style, verdict)
		out.y++
	}
}

// below gives length and load.
func (v *View) below(out *sum, b *bench.CAN) {
	c, a := b, out.a
	most := c.MostLength()
	text := fmt.Sprintf("length: up to %.0f m", most)
	style := cells.Plain
	if c.Length > 0 {
		text = fmt.Sprintf("length: %g m of at most %.0f m", c.Length, most)
		if c.Length > most {
			style = cells.Bad
		}
	}
	y := a.Paragraph(2, out.y, style, text, 2)
	if c.Load == nil {
		return
	}
	var late []string
	for _, m := range c.Load.Messages {
		r := "never"
		if m.Response > 0 {
			r = m.Response.Round(3)
		}
		late = append(late, fmt.Sprintf("%s %s", m.Name, r))
	}
	y = a.Paragraph(2, y, cells.Plain, fmt.Sprintf("load: %.1f %%, at most %.1f %% with stuff bits", 100*c.Load.Least, 100*c.Load.Most), 2)
	a.Paragraph(2, y, cells.Quiet, "latest arrival: "+strings.Join(late, ", "), 2)
}

// canCommands work on the bit.
func (v *View) canCommands(h ui.Host, link *bench.Link) []ui.Command {
	b := link.Model.(*bench.CAN)
	now := func() (*can.BitTiming, string) {
		if own := b.Nodes[0]; v.data && own.Data != nil {
			return own.Data, "data-timing"
		}
		return &b.Nodes[0].Nominal, "timing"
	}
	change := func(f func(t *can.BitTiming)) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			t, key := now()
			next := *t
			f(&next)
			return edit(h, next.Text(), "links", b.Name, "mcu", key)
		}
	}
	sample := func(by int) func(string) tea.Cmd {
		return change(func(t *can.BitTiming) {
			t.Seg1, t.Seg2 = t.Seg1+by, t.Seg2-by
			t.Jump = max(min(t.Jump, t.Seg1, t.Seg2), 1)
		})
	}
	quanta := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			t, key := now()
			opts := b.Options
			if key == "data-timing" {
				opts = b.DataOptions
			}
			// The best timing with more or fewer quanta.
			var best *can.BitTiming
			for i := range opts {
				o := &opts[i]
				if by > 0 && o.Quanta() <= t.Quanta() || by < 0 && o.Quanta() >= t.Quanta() {
					continue
				}
				if best == nil || by > 0 && o.Quanta() < best.Quanta() || by < 0 && o.Quanta() > best.Quanta() {
					best = o
				}
			}
			if best == nil {
				h.Say("none of the timings worth choosing has %s quanta", map[bool]string{true: "more", false: "fewer"}[by > 0])
				return nil
			}
			return edit(h, best.Text(), "links", b.Name, "mcu", key)
		}
	}
	return []ui.Command{
		{Name: "later-sample", Keys: []string{"right"}, Help: "sample one quantum later", Short: "sample", Run: sample(1)},
		{Name: "earlier-sample", Keys: []string{"left"}, Help: "sample one quantum earlier", Run: sample(-1)},
		{Name: "more-quanta", Keys: []string{"+", "="}, Help: "a timing with more quanta a bit", Short: "quanta", Run: quanta(1)},
		{Name: "fewer-quanta", Keys: []string{"-"}, Help: "a timing with fewer quanta a bit", Run: quanta(-1)},
		{Name: "wider-jump", Keys: []string{">"}, Help: "a jump width of one quantum more", Short: "jump", Run: change(func(t *can.BitTiming) { t.Jump++ })},
		{Name: "narrower-jump", Keys: []string{"<"}, Help: "a jump width of one quantum less", Run: change(func(t *can.BitTiming) { t.Jump = max(t.Jump-1, 1) })},
		{Name: "phase", Keys: []string{"d"}, Help: "the nominal or the data phase", Short: "phase", Run: func(string) tea.Cmd {
			if b.Nodes[0].Data == nil {
				h.Say("%s has no data phase of its own", b.Name)
				return nil
			}
			v.data = !v.data
			return nil
		}},
		{Name: "found-timing", Keys: []string{"z"}, Help: "back to the timing that is found", Run: func(string) tea.Cmd {
			if _, key := now(); key == "timing" && b.Chosen || key == "data-timing" && b.DataChosen {
				h.Edit(finding.Edit{Op: finding.Delete, Path: []string{"links", b.Name, "mcu", key}})
			}
			return nil
		}},
	}
}
