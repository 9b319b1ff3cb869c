package timing

import (
	"fmt"
	"math"
	"strings"

	"gavrix/core/bench"
	"gavrix/core/bus/i2c"
	"gavrix/core/bus/spi"
	"gavrix/core/picture"
	"gavrix/core/quantity"
	"gavrix/draw/cells"
)

// bus draws the head and the clock path of a bus that several devices share; with
// one, the device with the index is marked.
func (v *View) bus(a cells.Area, b *bench.Link, marked int) *sum {
	x := a.Text(0, 0, cells.Head, "TIMING")
	x = a.Text(x+2, 0, cells.Strong, b.Name)
	for i, n := range b.Devices() {
		style := cells.Quiet
		if i == marked {
			style = cells.Strong
		}
		if x+3+cells.Width(n) > a.W {
			break
		}
		x = a.Text(x+3, 0, style, n)
		if style == cells.Strong {
			a.Text(x-cells.Width(n)-2, 0, cells.Strong, "▸")
		}
	}
	out := &sum{a, 2}
	if a.H < 30 {
		out.y = 1
	}
	a.Text(0, out.y, cells.Head, "RATE")
	out.path(b.Unit.Clock)
	return out
}

// picture draws the scene of the bus below the numbers.
func (v *View) picture(out *sum, b *bench.Link, head string) {
	s := picture.Timing(b, v.look(b))
	if s == nil {
		return
	}
	tight := out.a.H < 30
	if !tight {
		out.y++
	}
	x := out.a.Text(0, out.y, cells.Head, head)
	out.a.Text(x+2, out.y, cells.Plain, s.Title)
	out.y++
	if !tight {
		out.y++
	}
	pic := out.a.Part(2, out.y, out.a.W-2, out.a.H-out.y)
	cells.Scene(pic, s)
	out.y += cells.SceneHeight(s, pic.W)
}

// left prints a time that is left, or lacks.
func left(t quantity.Time) (string, cells.Style) {
	if t < 0 {
		return "lacks " + (-t).Round(3), cells.Bad
	}
	return t.Round(3), cells.Good
}

func (v *View) drawSPI(a cells.Area, b *bench.Link) {
	out := v.bus(a, b, v.device(b))
	d := b.Model.(*bench.SPI).Devices[v.device(b)]
	origin := "best"
	if d.Chosen {
		origin = "chosen"
	}
	style := cells.Strong
	if d.Margin.Refused != "" {
		style = cells.Bad
	}
	out.row(fmt.Sprintf("÷ %d", d.Margin.Divider), "prescaler, "+origin, mega(d.Margin.Rate), style, fmt.Sprintf("a word of %d bits takes %s", d.MCU.Word, d.WordTime().Round(3)))
	words, err := b.WordsFor(v.device(b))
	if err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	out.row("", d.Name, mega(d.End.Most), cells.Strong, "at most   "+d.Source)
	if a.H >= 30 {
		a.Text(0, 1, cells.Quiet, d.About)
		out.y++
	}
	a.Text(0, out.y, cells.Head, "DIVIDERS")
	a.Text(nameAt, out.y, cells.Quiet, "half a period less what both ends want; + and - choose")
	out.y++
	at := []int{nameAt + 2, nameAt + 8, nameAt + 24, nameAt + 42}
	a.Text(at[2], out.y, cells.Quiet, "left reading")
	a.Text(at[3], out.y, cells.Quiet, "left writing")
	out.y++
	rows := 5
	if a.H < 30 {
		rows = 3
	}
	for _, m := range around(d, rows) {
		mark, style := " ", cells.Plain
		if m.Divider == d.Margin.Divider {
			mark, style = "▸", cells.Strong
		}
		a.Text(nameAt, out.y, style, mark)
		a.Text(at[0], out.y, style, fmt.Sprintf("÷%d", m.Divider))
		a.Right(at[2]-3, out.y, style, mega(m.Rate))
		read, rs := left(m.Read)
		if d.End.Valid == 0 {
			read, rs = "–", cells.Quiet
		}
		a.Text(at[2], out.y, rs, read)
		write, ws := left(m.Write)
		x := a.Text(at[3], out.y, ws, write)
		if m.Rate > d.End.Most {
			text := "✗ too fast"
			if x = max(x+2, at[3]+14); x+cells.Width(text) > a.W {
				text = "✗"
			}
			a.Text(x, out.y, cells.Bad, text)
		}
		out.y++
	}
	v.picture(out, b, "WINDOW")
	y := a.Paragraph(2, out.y, cells.Plain, fmt.Sprintf("MCU: %s (%s)", d.MCU.Describe(), d.MCU.Words()), 2)
	ds, style := "as the MCU", cells.Good
	if d.MCU != d.End.Settings {
		ds, style = d.End.Settings.Describe()+" ("+d.End.Settings.Words()+")", cells.Bad
	}
	y = a.Paragraph(2, y, style, d.Name+" wants: "+ds, 2)
	a.Paragraph(2, y, cells.Quiet, fmt.Sprintf("select: %s before the first edge (wants %s), %s behind the last (%s), %s between transfers (%s)",
		d.Lead.Round(3), d.End.Lead, d.Lag.Round(3), d.End.Lag, d.Idle.Round(3), d.End.Idle), 2)
}

// around gives the dividers near the one in use.
func around(d *bench.SPIDevice, rows int) []spi.Margin {
	at := 0
	for i, m := range d.Margins {
		if m.Divider == d.Margin.Divider {
			at = i
		}
	}
	from := max(min(at-rows/2, len(d.Margins)-rows), 0)
	return d.Margins[from:min(from+rows, len(d.Margins))]
}

func (v *View) drawI2C(a cells.Area, b *bench.Link) {
	out := v.bus(a, b, -1)
	i := b.Model.(*bench.I2C)
	t := i.Timing
	origin := "found"
	if i.Chosen {
		origin = "chosen"
	}
	out.row("", "low "+fmt.Sprint(t.Low)+", "+origin, t.LowTime.Round(4), cells.Plain, "counted, with what the unit adds")
	out.row("+", "high "+fmt.Sprint(t.High), t.HighTime.Round(4), cells.Plain, "")
	out.row("+", "rise, fall", (i.Rise + i.Fall).Round(4), cells.Plain, fmt.Sprintf("%s and %s", i.Rise.Round(3), i.Fall.Round(3)))
	style := cells.Strong
	if i.Rise > i.Class.Rise {
		style = cells.Bad
	}
	out.row("1 ÷", "a period", quantity.Group(t.Rate.Bd()/1e3, 2)+" kbit/s", style, fmt.Sprintf("%+.2f %% of %s, class %s", 100*t.Error, i.Wanted.BitRate(), i.Class.Name))
	if words, err := b.Words(); err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	if a.H >= 30 {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "PULL-UP")
	v.pullUp(out, i)
	if a.H >= 30 {
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
		x = a.Text(x+1, out.y, cells.Plain, fmt.Sprintf("%02X  (%02X, %02X on the wire)", d.End.Address, d.End.Address<<1, d.End.Address<<1|1))
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
	out.row(fmt.Sprintf("÷ %d", t.Prescaler), "prescaler", mega(quantity.FromHz(t.Clock.Hz()/float64(t.Prescaler))), cells.Plain, "a quantum is "+t.Quantum().Times(1).Round(4))
	style := cells.Strong
	if math.Abs(t.Error) > 1e-6 {
		style = cells.Doubt
	}
	out.row(fmt.Sprintf("÷ %d", t.Quanta()), t.Split()+", "+origin, strings.TrimSuffix(strings.TrimRight(quantity.Group(t.Rate.Bd()/1e3, 3), "0"), ".")+" kbit/s", style, fmt.Sprintf("%+.3f %% of %s, %s", 100*t.Error, t.Wanted.BitRate(), what))
	out.row("", "sample point", fmt.Sprintf("%.2f %%", 100*t.Sample), cells.Strong, fmt.Sprintf("jump width %d of %d quanta", t.Jump, t.Quanta()))
	if words, err := b.Words(); err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	if a.H >= 30 {
		out.y++
	}
	a.Text(0, out.y, cells.Head, "NODES")
	at := []int{nameAt, nameAt + 16, nameAt + 31, nameAt + 42, nameAt + 56}
	for i, h := range []string{"", "rate", "sample", "clock off", "stands"} {
		a.Text(at[i], out.y, cells.Quiet, h)
	}
	out.y++
	for i, e := range c.Nodes {
		lim := e.Limit()
		a.Text(at[0], out.y, cells.Plain, e.Name)
		rs := cells.Plain
		if e == c.Odd {
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
	if a.H >= 30 {
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
		case p.RatesDiffer:
			style, glyph, verdict = cells.Bad, "✗", "rates differ: error frames as long as both are active"
		case !p.Decodes:
			style, glyph, verdict = cells.Bad, "✗", "clocks too far apart"
		case p.FarApart():
			style, glyph, verdict = cells.Doubt, "△", fmt.Sprintf("sample %.1f %% of a bit apart", 100*p.Apart)
		}
		x := a.Text(nameAt, out.y, style, glyph+" "+p.A.Name+", "+p.B.Name)
		x = a.Text(x+2, out.y, cells.Plain, fmt.Sprintf("%.3f %% of %.3f %% used", 100*p.Sum, 100*p.Pair))
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
	a.Paragraph(2, y, cells.Quiet, "there at the latest after: "+strings.Join(late, ", "), 2)
}
