package timing

import (
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// drawPulse shows how patterns of a clocked line make pulses, and what the device
// takes.
func (v *View) drawPulse(a cells.Area, link *bench.Link) {
	l := link.Model.(*bench.Pulse)
	out := v.bus(a, link, -1)
	c := l.Choice
	origin := "best"
	if l.Chosen {
		origin = "chosen"
	}
	out.rate(fmt.Sprintf("÷ %d", c.Divider), "prescaler, "+origin, mega(c.Rate), cells.Plain, "bits of the data line")
	style := cells.Strong
	if !c.Fits {
		style = cells.Bad
	}
	out.rate(fmt.Sprintf("÷ %d", l.Patterns.Bits), "pattern", mega(quantity.FromHz(c.Rate.Hz()/float64(l.Patterns.Bits))), style, fmt.Sprintf("0 is %s, 1 is %s; a bit takes %s", l.Patterns.Text(false), l.Patterns.Text(true), c.Bit.Round(4)))
	if words, err := link.Words(); err == nil {
		out.write(ofUnit(words), link.Unit.Source)
	}
	gap := !v.tight()
	if gap {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "SYMBOLS")
	for _, t := range c.Times(l.Takes) {
		glyph, st := "●", cells.Good
		if !t.Fits() {
			glyph, st = "✗", cells.Bad
		}
		x := a.Text(nameAt, out.y, st, glyph)
		a.Text(x+1, out.y, cells.Plain, t.Name)
		a.Right(freqAt, out.y, cells.Strong, t.Is.Round(3))
		a.Text(moreAt, out.y, cells.Quiet, fmt.Sprintf("allowed %s to %s", t.Limits.Least, t.Limits.Most))
		out.y++
	}
	glyph, st := "●", cells.Good
	if l.Latch < l.Takes.Latch {
		glyph, st = "✗", cells.Bad
	}
	x := a.Text(nameAt, out.y, st, glyph)
	a.Text(x+1, out.y, cells.Plain, "latch")
	a.Right(freqAt, out.y, cells.Strong, l.Latch.Round(3))
	out.more(moreAt, fmt.Sprintf("at least %s; %s takes up to %s between bytes as no latch", l.Takes.Latch, link.Ends[1].Name, c.LargestPause.Round(3)))
	for _, f := range l.Frames {
		long := c.Frame(l.Takes, len(f.Elements), l.Latch)
		st := cells.Plain
		if long > f.Every {
			st = cells.Bad
		}
		a.Text(nameAt+2, out.y, cells.Quiet, f.Name)
		a.Right(freqAt, out.y, st, long.Round(4))
		out.more(moreAt, fmt.Sprintf("%d elements of %d bits with their latch, every %s: %.1f %% of the time", len(f.Elements), l.Takes.Element, f.Every, 100*float64(long)/float64(f.Every)))
	}
	v.picture(out, link, "BITS")
	for _, w := range c.Wrong {
		out.y = a.Paragraph(2, out.y, cells.Bad, "✗ "+w, 2)
	}
}

// pulseCommands work on divider, patterns and latch.
func (v *View) pulseCommands(h ui.Host, link *bench.Link) []ui.Command {
	l := link.Model.(*bench.Pulse)
	divide := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			for i, c := range l.Choices {
				if c.Divider == l.Choice.Divider && i+by >= 0 && i+by < len(l.Choices) {
					return edit(h, strconv.Itoa(l.Choices[i+by].Divider), "links", link.Name, "mcu", "divider")
				}
			}
			h.Say("the unit has no other divider there")
			return nil
		}
	}
	patterns := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			p, err := pulse.Wider(l.Takes, l.Patterns.Bits+by)
			if err != nil {
				h.Say("%v", err)
				return nil
			}
			h.Edit(
				finding.Edit{Path: []string{"links", link.Name, "mcu", "zero"}, Value: p.Text(false)},
				finding.Edit{Path: []string{"links", link.Name, "mcu", "one"}, Value: p.Text(true)})
			return nil
		}
	}
	latch := func(by float64) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			return edit(h, quantity.Time(float64(l.Latch)*by).Round(2), "links", link.Name, "mcu", "latch")
		}
	}
	return []ui.Command{
		{Name: "slower-clock", Keys: []string{"+", "="}, Help: "the next larger divider", Short: "slower", Run: divide(1)},
		{Name: "faster-clock", Keys: []string{"-"}, Help: "the next smaller divider", Short: "faster", Run: divide(-1)},
		{Name: "longer-pattern", Keys: []string{">"}, Help: "patterns of one bit more", Short: "pattern", Run: patterns(1)},
		{Name: "shorter-pattern", Keys: []string{"<"}, Help: "patterns of one bit less", Run: patterns(-1)},
		{Name: "longer-latch", Keys: []string{"right"}, Help: "a longer pause after each frame", Short: "latch", Run: latch(1.25)},
		{Name: "shorter-latch", Keys: []string{"left"}, Help: "a shorter pause after each frame", Run: latch(0.8)},
		{Name: "found-divider", Keys: []string{"z"}, Help: "back to the divider that is found", Run: func(string) tea.Cmd {
			if l.Chosen {
				h.Edit(finding.Edit{Op: finding.Delete, Path: []string{"links", link.Name, "mcu", "divider"}})
			}
			return nil
		}},
	}
}
