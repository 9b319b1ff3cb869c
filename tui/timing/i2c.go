package timing

import (
	"fmt"
	"math"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

func (v *View) drawI2C(a cells.Area, b *bench.Link) {
	out := v.bus(a, b, -1)
	i := b.Model.(*bench.I2C)
	t := i.Timing
	origin := "found"
	if i.Chosen {
		origin = "chosen"
	}
	out.rate("", "low "+fmt.Sprint(t.Low)+", "+origin, t.LowTime.Round(4), cells.Plain, "counted, with what the unit adds")
	out.rate("+", "high "+fmt.Sprint(t.High), t.HighTime.Round(4), cells.Plain, "")
	out.row("+", "rise, fall", (i.Rise + i.Fall).Round(4), cells.Plain, fmt.Sprintf("%s and %s", i.Rise.Round(3), i.Fall.Round(3)))
	style := cells.Strong
	if i.Rise > i.Class.Rise {
		style = cells.Bad
	}
	out.rate("1 ÷", "a period", quantity.Group(t.Rate.Bd()/1e3, 2)+" kbit/s", style, fmt.Sprintf("%+.2f %% of %s, class %s", 100*t.Error, i.Wanted.BitRate(), i.Class.Name))
	if words, err := b.Words(); err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	if !v.tight() {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "PULL-UP")
	v.pullUp(out, i)
	if !v.tight() {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "DEVICES")
	for _, d := range i.Devices {
		style, glyph := cells.Good, "●"
		if t.Rate > d.End.Most {
			style, glyph = cells.Bad, "✗"
		}
		x := a.Text(nameAt, out.y, style, glyph)
		x = a.Text(x+1, out.y, cells.Plain, fmt.Sprintf("%-14s", d.Name))
		x = a.Text(x+1, out.y, cells.Plain, fmt.Sprintf("%s  (%s)", d.End.Address, d.End.Address.OnWire()))
		x = a.Text(x+2, out.y, cells.Plain, "to "+d.End.Most.BitRate())
		for _, note := range []string{d.About, d.Source} {
			if x+2+cells.Width(note) <= a.W {
				a.Text(x+2, out.y, cells.Quiet, note)
				break
			}
		}
		out.y++
	}
	v.picture(out, b, "CLOCK")
	bytes := 3
	a.Paragraph(2, out.y, cells.Quiet, fmt.Sprintf("%d bytes with their acknowledges, start and stop: about %s", bytes, i2c.Duration(t.Time, bytes).Round(3)), 2)
}

// pullUp draws the range of the pull-up on a logarithmic scale.
func (v *View) pullUp(out *sum, i *bench.I2C) {
	a := out.a
	text := "there is none: the lines never go high"
	style := cells.Bad
	if i.PullUp > 0 {
		text = fmt.Sprintf("%s, lines of %s rise in %s", quantity.Scaled(i.PullUp, "Ω"), quantity.Scaled(i.Load, "F"), i.Rise.Round(3))
		if i.PullUp >= i.Range.Least && i.PullUp <= i.Range.Most {
			style = cells.Good
		}
	}
	x := a.Text(nameAt, out.y, style, text)
	if i.NoRange != nil {
		out.y = a.Paragraph(nameAt, out.y+1, cells.Bad, i.NoRange.Error(), 2)
		return
	}
	a.Text(x+2, out.y, cells.Quiet, fmt.Sprintf("allowed %s to %s", quantity.Scaled(i.Range.Least, "Ω"), quantity.Scaled(i.Range.Most, "Ω")))
	out.y++
	least, most := math.Min(i.Range.Least, max(i.PullUp, i.Range.Least/2))/1.5, math.Max(i.Range.Most, i.PullUp)*1.5
	bar := a.Part(nameAt, out.y, a.W-nameAt-1, 2)
	at := func(ohm float64) int {
		return int(math.Round(math.Log(ohm/least) / math.Log(most/least) * float64(bar.W-1)))
	}
	for c := range bar.W {
		r := '·'
		switch {
		case c == at(i.Range.Least):
			r = '['
		case c == at(i.Range.Most):
			r = ']'
		case c > at(i.Range.Least) && c < at(i.Range.Most):
			r = '─'
		}
		bar.Put(c, 0, cells.Quiet, r)
	}
	if i.PullUp > 0 {
		glyph := '●'
		if style == cells.Bad {
			glyph = '✗'
		}
		bar.Put(at(i.PullUp), 0, style, glyph)
	}
	bar.Text(0, 1, cells.Quiet, "outputs must sink more")
	bar.Right(bar.W, 1, cells.Quiet, "lines rise more slowly")
	out.y += 2
}

// i2cCommands work on pull-up, rate and counts.
func (v *View) i2cCommands(h ui.Host, link *bench.Link) []ui.Command {
	b := link.Model.(*bench.I2C)
	pull := func(up bool) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			ohm := b.PullUp
			if ohm == 0 {
				ohm = b.Range.Most
			}
			next := i2c.Step(ohm, up)
			if next == 0 {
				h.Say("there is no usual resistor beyond %s", quantity.Scaled(ohm, "Ω"))
				return nil
			}
			return edit(h, quantity.Scaled(next, "Ω"), "links", b.Name, "pull-up")
		}
	}
	rate := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			best := quantity.Rate(0)
			for _, r := range []quantity.Rate{10, 50, 100, 200, 400, 1000} {
				r *= quantity.Kilobaud
				if by > 0 && r > b.Wanted && best == 0 || by < 0 && r < b.Wanted {
					best = r
				}
			}
			if best == 0 {
				h.Say("no usual rate beyond %s; :set links.%s.mcu.rate VALUE takes any", b.Wanted, b.Name)
				return nil
			}
			return edit(h, best.String(), "links", b.Name, "mcu", "rate")
		}
	}
	counts := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			t := b.Timing
			h.Edit(
				finding.Edit{Path: []string{"links", b.Name, "mcu", "low"}, Value: strconv.Itoa(t.Low + by)},
				finding.Edit{Path: []string{"links", b.Name, "mcu", "high"}, Value: strconv.Itoa(t.High - by)})
			return nil
		}
	}
	return []ui.Command{
		{Name: "weaker-pull-up", Keys: []string{"+", "="}, Help: "the next usual resistor above", Short: "pull-up", Run: pull(true)},
		{Name: "stronger-pull-up", Keys: []string{"-"}, Help: "the next usual resistor below", Run: pull(false)},
		{Name: "rate-up", Keys: []string{">"}, Help: "next usual rate above", Short: "rate", Run: rate(1)},
		{Name: "rate-down", Keys: []string{"<"}, Help: "next usual rate below", Run: rate(-1)},
		{Name: "longer-low", Keys: []string{"right"}, Help: "a count more for low, one less for high", Short: "low/high", Run: counts(1)},
		{Name: "longer-high", Keys: []string{"left"}, Help: "a count less for low, one more for high", Run: counts(-1)},
		{Name: "found-counts", Keys: []string{"z"}, Help: "back to the counts that are found", Run: func(string) tea.Cmd {
			if b.Chosen {
				h.Edit(finding.Edit{Op: finding.Delete, Path: []string{"links", b.Name, "mcu", "low"}}, finding.Edit{Op: finding.Delete, Path: []string{"links", b.Name, "mcu", "high"}})
			}
			return nil
		}},
	}
}
