package timing

import (
	"strconv"

	tea "charm.land/bubbletea/v2"

	"gavrix/core/bench"
	"gavrix/core/bus/can"
	"gavrix/core/bus/i2c"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/tui/ui"
)

func edit(h ui.Host, value string, path ...string) tea.Cmd {
	h.Edit(finding.Edit{Path: path, Value: value})
	return nil
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
