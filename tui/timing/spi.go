package timing

import (
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

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
	out.rate(fmt.Sprintf("÷ %d", d.Margin.Divider), "prescaler, "+origin, mega(d.Margin.Rate), style, fmt.Sprintf("a word of %d bits takes %s", d.MCU.Word, d.WordTime().Round(3)))
	words, err := b.WordsFor(v.device(b))
	if err == nil {
		out.write(ofUnit(words), b.Unit.Source)
	}
	out.row("", d.Name, mega(d.End.Most), cells.Strong, "at most   "+d.Source)
	if !v.tight() {
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
	if v.tight() {
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
	if devices := b.Model.(*bench.SPI).Devices; len(devices) > 1 {
		var all [][]spi.Margin
		for _, d := range devices {
			all = append(all, d.Margins)
		}
		text, style := "none serves every device of the bus", cells.Doubt
		if m, ok := spi.OneForAll(all...); ok {
			text, style = fmt.Sprintf("one for all devices of the bus: ÷%d, %s", m.Divider, mega(m.Rate)), cells.Quiet
		}
		a.Text(nameAt, out.y, style, text)
		out.y++
	}
	v.picture(out, b, "WINDOW")
	y := a.Paragraph(2, out.y, cells.Plain, fmt.Sprintf("MCU: %s (%s)", d.MCU.Describe(), d.MCU.Words()), 2)
	ds, style := "as the MCU", cells.Good
	if d.MCU != d.End.Settings {
		ds, style = d.End.Settings.Describe()+" ("+d.End.Settings.Words()+")", cells.Bad
	}
	y = a.Paragraph(2, y, style, d.Name+" wants: "+ds, 2)
	y = a.Paragraph(2, y, cells.Quiet, fmt.Sprintf("select: %s before the first edge (wants %s), %s after the last (%s), %s between transfers (%s)",
		d.Lead.Round(3), d.End.Lead, d.Lag.Round(3), d.End.Lag, d.Idle.Round(3), d.End.Idle), 2)
	if d.ByHand {
		style = cells.Quiet
		if d.Release != bench.WhenSent {
			style = cells.Bad
		}
		a.Paragraph(2, y, style, "select is moved by the firmware: "+d.Release.Words(), 2)
	}
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

func (v *View) spiCommands(h ui.Host, b *bench.Link) []ui.Command {
	devices := b.Model.(*bench.SPI).Devices
	at := func(f func(d *bench.SPIDevice, path []string) tea.Cmd) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			d := devices[v.device(b)]
			return f(d, []string{"links", b.Name, "devices", d.Name, "mcu"})
		}
	}
	divide := func(by int) func(string) tea.Cmd {
		return at(func(d *bench.SPIDevice, path []string) tea.Cmd {
			for i, m := range d.Margins {
				if m.Divider == d.Margin.Divider && i+by >= 0 && i+by < len(d.Margins) {
					return edit(h, strconv.Itoa(d.Margins[i+by].Divider), append(path, "divider")...)
				}
			}
			h.Say("the unit has no other divider there")
			return nil
		})
	}
	return []ui.Command{
		{Name: "next-device", Keys: []string{"n"}, Help: "the next device on the bus", Short: "device", Run: func(string) tea.Cmd { v.dev = (v.device(b) + 1) % max(len(b.Devices()), 1); return nil }},
		{Name: "slower-clock", Keys: []string{"+", "="}, Help: "the next larger divider", Short: "slower", Run: divide(1)},
		{Name: "faster-clock", Keys: []string{"-"}, Help: "the next smaller divider", Short: "faster", Run: divide(-1)},
		{Name: "mode", Keys: []string{"m"}, Help: "the next of the four modes for this device", Short: "mode", Run: at(func(d *bench.SPIDevice, path []string) tea.Cmd {
			return edit(h, strconv.Itoa((d.MCU.Mode()+1)%4), append(path, "mode")...)
		})},
		{Name: "bit-order", Keys: []string{"O"}, Help: "least or most significant bit first", Run: at(func(d *bench.SPIDevice, path []string) tea.Cmd {
			return edit(h, map[bool]string{false: "lsb", true: "msb"}[d.MCU.LSBFirst], append(path, "order")...)
		})},
		{Name: "wider-word", Keys: []string{">"}, Help: "a word of one bit more", Run: at(func(d *bench.SPIDevice, path []string) tea.Cmd {
			return edit(h, strconv.Itoa(d.MCU.Word+1), append(path, "word")...)
		})},
		{Name: "narrower-word", Keys: []string{"<"}, Help: "a word of one bit less", Run: at(func(d *bench.SPIDevice, path []string) tea.Cmd {
			return edit(h, strconv.Itoa(d.MCU.Word-1), append(path, "word")...)
		})},
	}
}
