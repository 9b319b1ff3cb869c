package timing

import (
	"fmt"
	"math"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// drawFrame shows clock path, margins and the frame of a uart link.
func (v *View) drawFrame(a cells.Area, link *bench.Link) {
	l := link.Model.(*bench.UART)
	d := l.Directions()
	way := d[1]
	if v.fromMCU {
		way = d[0]
	}
	x := a.Text(0, 0, cells.Head, "TIMING")
	x = a.Text(x+2, 0, cells.Strong, l.Name)
	x = a.Text(x+3, 0, cells.Quiet, way.Sender+" → "+way.Receiver)
	if w := cells.Width(l.Device.About); w > 0 && x+4+w <= a.W {
		a.Right(a.W, 0, cells.Quiet, l.Device.About)
	}
	tight := v.tight()
	y := 2
	if tight {
		y = 1
	}
	y = v.rate(a, y, l)
	if !tight {
		y++
	}
	y = v.margin(a, y, d, tight)
	y = wiring(a, y, l)
	if !tight {
		y++
	}
	const other = 14 // rows that the other direction wants below
	y = v.frame(a, y, l, v.fromMCU, tight, other)
	if v.room-y >= other-2 && v.entry == nil {
		v.frame(a, y+1, l, !v.fromMCU, tight, 0)
	}
}

const (
	gutter = 8  // column of the operators
	nameAt = 15 // column of the hop's name
	freqAt = 43 // column at which frequencies end
	moreAt = 45
)

// sum writes a calculation one stage a line, the numbers below each other.
type sum struct {
	a        cells.Area
	y        int
	unproven bool // what is behind the clock path is no surer than it
}

// rate writes a row of what follows from the clock path, with the mark of an unproven one.
func (s *sum) rate(op, name, value string, style cells.Style, more string) {
	if s.unproven {
		style, more = cells.Doubt, "? "+more
	}
	s.row(op, name, value, style, more)
}

func (s *sum) row(op, name, value string, style cells.Style, more string) {
	s.a.Text(gutter, s.y, cells.Plain, op)
	end := s.a.Text(nameAt, s.y, cells.Quiet, name)
	end = max(freqAt, end+2+cells.Width(value))
	s.a.Right(end, s.y, style, value)
	s.more(max(moreAt, end+2), more)
}

// more ends a row with what else is to be said, in as many rows as that takes.
func (s *sum) more(at int, text string) {
	if s.a.W-at < 24 && cells.Width(text) > s.a.W-at {
		// Too narrow for a column of its own.
		s.y = s.a.Paragraph(nameAt, s.y+1, cells.Quiet, text, 2)
		return
	}
	s.y = max(s.y+1, s.a.Part(at, s.y, s.a.W-at, s.a.H-s.y).Paragraph(0, 0, cells.Quiet, text, 0)+s.y)
}

// path writes the clock path of a unit.
func (s *sum) path(p clock.Path) {
	s.unproven = p.Unproven()
	for _, hop := range p {
		more := ""
		switch {
		case hop.Measured > 0:
			more = fmt.Sprintf("measured ± %.2f %%, expected %s", 100*hop.PlusMinus, mega(hop.Expected))
		case hop.Unproven:
			more = "? assumed"
		case hop.Wanted > 0:
			more = fmt.Sprintf("by option %s; wanted ÷ %d, %s", hop.Option, hop.Wanted, mega(hop.Expected))
		case hop.Op == clock.Select:
			more = "of " + strings.Join(hop.Of, ", ")
		}
		s.row(hop.Sum(), hop.Name, mega(hop.Freq), cells.Plain, more)
	}
}

// write lists register values to write, with the source where it fits.
func (s *sum) write(lines []written, source string) {
	name := "to write"
	for _, line := range lines {
		for i, part := range safe.Wrap(withSource(line.text, source, s.a.W-moreAt), s.a.W-moreAt) {
			value := line.value
			if i > 0 {
				value = ""
			}
			s.row("", name, value, cells.Strong, part)
			name = ""
		}
	}
}

// rate draws the clock path as a written sum, frequencies below each other.
func (v *View) rate(a cells.Area, y int, l *bench.UART) int {
	a.Text(0, y, cells.Head, "RATE")
	out := &sum{a: a, y: y}
	row := out.rate
	out.path(l.Unit.Clock)
	s := l.Setting
	for _, st := range s.Stages() {
		value := ""
		if st.Freq > 0 {
			value = mega(st.Freq)
		}
		row(st.Sum, st.Name, value, cells.Plain, st.Text)
	}
	origin := "best"
	if l.Chosen {
		origin = "chosen"
	}
	style := cells.Strong
	if math.Abs(s.Error) > clock.Workable {
		style = cells.Bad
	}
	off := fmt.Sprintf("%s of %s", clock.Percent(s.Error), l.Wanted)
	if s.PlusMinus > 0 {
		off = fmt.Sprintf("%.2f ± %.2f %% of %s", 100*s.Error, 100*s.PlusMinus, l.Wanted)
	}
	if s.Shift > 0 {
		off += fmt.Sprintf(", an edge up to %.1f %% of a bit off", 100*s.Shift)
	}
	by, what := "÷ "+s.Divisor(), "divider, "
	if s.Formula != "" {
		by, what = "", s.Terms+", "
	}
	row(by, what+origin, s.Rate.Grouped()+" Bd", style, off)
	out.write(toWrite(l), l.Unit.Source)
	tolerance := ""
	if t := l.DeviceEnd.Tolerance; t != 0 {
		tolerance = fmt.Sprintf("±%.2f %%  ", t.Percent())
	}
	if l.ClockOff != 0 {
		tolerance += fmt.Sprintf("clock off %+.2f %%  ", l.ClockOff.Percent())
	}
	out.row("", l.Device.Name, l.DeviceRate().Grouped()+" Bd", cells.Strong, tolerance+l.Device.Source)
	return out.y
}

func mega(f quantity.Freq) string {
	return strings.TrimSuffix(strings.TrimRight(quantity.Group(f.Hz()/1e6, 6), "0"), ".") + " MHz"
}

// written is a register value with what it means.
type written struct{ value, text string }

// toWrite gives the register values that the link's settings want: whole
// registers where they are described, else the fields of the rate alone.
func toWrite(l *bench.UART) []written {
	var out []written
	words, err := l.Words()
	if err == nil && len(words) > 0 {
		return ofUnit(words)
	}
	for _, x := range l.Setting.Values {
		out = append(out, written{fmt.Sprintf("0x%0*X", (x.Bits+3)/4, x.Value), called(x)})
	}
	return out
}

// ofUnit gives the registers that rate and frame go into. Of a register the fields
// are named that differ from its reset value; those of the start-up alone stand on
// the page of registers.
func ofUnit(words []bench.Word) []written {
	var out []written
	for _, w := range words {
		var fields []string
		own := false
		for _, c := range w.Choices {
			own = own || c.Role == "rate" || c.Role == "rate-fine" || c.Role == "frame"
			if c.Value != c.Field.Of(w.Reset) {
				fields = append(fields, c.Field.Name+" "+c.Field.Meaning(c.Value))
			}
		}
		switch {
		case !own:
		case len(fields) == 0:
			out = append(out, written{w.Hex(w.Value), w.Name + "  as after reset"})
		default:
			out = append(out, written{w.Hex(w.Value), w.Name + "  " + strings.Join(fields, ", ")})
		}
	}
	return out
}

// called names where a value goes, with the value in decimal.
func called(x clock.Value) string {
	name := x.Register
	if x.Field != "" {
		name += "." + x.Field
	}
	if name == "" {
		name = "register"
	}
	return fmt.Sprintf("%s = %d", name, x.Value)
}

// withSource adds the source where it fits.
func withSource(text, source string, room int) string {
	if with := text + "  " + source; source != "" && cells.Width(with) <= room {
		return with
	}
	return text
}

// margin draws both directions' mismatch on a scale with the limits.
func (v *View) margin(a cells.Area, y int, ds [2]bench.Direction, tight bool) int {
	a.Text(0, y, cells.Head, "MARGIN")
	span := 7.0 // per cent to each side
	for _, d := range ds {
		for _, e := range []float64{d.Worst, d.Mismatch} {
			if p := math.Abs(100*e) * 1.1; p > span {
				span = min(p, 100)
			}
		}
	}
	bar := a.Part(nameAt, y, a.W-nameAt-1, a.H-y)
	at := func(percent float64) int {
		return int(math.Round((percent + span) / (2 * span) * float64(bar.W-1)))
	}
	row := 0
	for _, d := range ds {
		style, glyph := cells.Good, "●"
		switch d.Judgement {
		case uart.DependsOnPhase:
			style, glyph = cells.Doubt, "?"
		case uart.TooLate, uart.TooEarly:
			style, glyph = cells.Bad, "✗"
		}
		text := fmt.Sprintf("%s → %s  %+.2f %%", d.Sender, d.Receiver, 100*d.Mismatch)
		if d.Worst != d.Mismatch {
			text += fmt.Sprintf(", worst %+.2f %%", 100*d.Worst)
		}
		x := bar.Text(0, row, cells.Plain, text)
		bar.Text(x+2, row, style, fmt.Sprintf("%s %s, %.0f %% used", glyph, d.Judgement, 100*d.Limits.Used(d.Worst)))
		row++
		l := d.Limits
		early, late := at(100*l.Early), at(100*l.Late)
		for c := range bar.W {
			r, s := '·', cells.Quiet
			switch {
			case c == early:
				r, s = '[', cells.Plain
			case c == late:
				r, s = ']', cells.Plain
			case c > early && c < late:
				r = '─'
			case c >= at(100*l.EarlyBest) && c <= at(100*l.LateBest):
				r, s = '?', cells.Doubt
			}
			bar.Put(c, row, s, r)
		}
		bar.Put(at(0), row, cells.Plain, '┼')
		low, high := at(100*min(d.Worst, 2*d.Mismatch-d.Worst)), at(100*max(d.Worst, 2*d.Mismatch-d.Worst))
		for c := low; c <= high; c++ {
			bar.Put(c, row, style, '━')
		}
		bar.Put(at(100*d.Mismatch), row, style, []rune(glyph)[0])
		row++
	}
	l := ds[1].Limits
	bar.Text(0, row, cells.Quiet, fmt.Sprintf("%+.0f %%", -span))
	bar.Text(at(0), row, cells.Quiet, "0")
	bar.Right(bar.W, row, cells.Quiet, fmt.Sprintf("%+.0f %%", span))
	row++
	if !tight {
		row = bar.Paragraph(0, row, cells.Quiet, fmt.Sprintf("MCU's receiver stands %+.1f / %+.1f %%: %s; ? depends on the start phase", 100*l.RuleLate, 100*l.RuleEarly, l.Rule()), 0)
		row = bar.Paragraph(0, row, cells.Quiet, l.WhenItBites(), 0)
	}
	return y + row
}

// frame draws the character with both ends' bits in one direction, and gives
// the row behind it.
func (v *View) frame(a cells.Area, y int, l *bench.UART, fromMCU, tight bool, below int) int {
	ends := picture.Ends(l, fromMCU)
	s := picture.Frame(ends, v.value)
	x := a.Text(0, y, cells.Head, "FRAME")
	a.Text(x+2, y, cells.Plain, s.Title)
	bit := quantity.PeriodOf(ends.SenderRate).Times(1)
	a.Right(a.W, y, cells.Quiet, "1 bit = "+bit.Round(4))
	y++
	if !tight {
		y++
	}
	top := y
	y = v.tall(a, y, s, 2*len(s.Notes)+2+below)
	// The end that the keys change carries a pointer.
	edited := l.Device.Name
	if !v.editDevice {
		edited = "MCU"
	}
	for i := range s.Lanes {
		if s.Lanes[i].Name == edited {
			a.Text(0, top, cells.Strong, "▸")
		}
		top += v.heights[i]
	}
	for i, n := range s.Notes {
		style := cells.Plain
		if i == 0 && !strings.Contains(n, "as sent") {
			style = cells.Bad
		}
		y = a.Paragraph(2, y, style, n, 2)
	}
	return a.Paragraph(2, y, cells.Quiet, drift(l, fromMCU), 2)
}

// drift says where in the sender's bits the receiver samples.
func drift(l *bench.UART, fromMCU bool) string {
	e := picture.Ends(l, fromMCU)
	r := float64(quantity.PeriodOf(e.ReceiverRate)) / float64(quantity.PeriodOf(e.SenderRate))
	last := uart.LimitsOf(e.ReceiverSet.Frame, e.ReceiverSet.Frame, e.ReceiverSet.Oversampling).N
	place := last*r - (last - 0.5)
	text := fmt.Sprintf("samples fall at %.1f %% of the start bit and %.1f %% of the stop bit", 50*r, 100*place)
	if os := e.ReceiverSet.Oversampling; os > 0 {
		text += fmt.Sprintf(", up to one tick (%.1f %%) later", 100*r/float64(os))
	}
	return text
}

// frameCommands change the frame on the drawn frame.
func (v *View) frameCommands(h ui.Host, link *bench.Link) []ui.Command {
	l := link.Model.(*bench.UART)
	edit := func(change func(f uart.Frame) uart.Frame) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			end, now := "mcu", l.MCU.Frame
			if v.editDevice {
				end, now = "device", l.DeviceEnd.Frame
			}
			f := change(now)
			if err := f.Check(); err != nil {
				h.Warn("%v", err)
				return nil
			}
			h.Edit(finding.Edit{Path: []string{"links", l.Name, end, "frame"}, Value: f.String()})
			return nil
		}
	}
	data := func(by int) func(string) tea.Cmd {
		return edit(func(f uart.Frame) uart.Frame { f.Data += by; return f })
	}
	return []ui.Command{
		{Name: "direction", Keys: []string{"d"}, Help: "draw the other direction", Short: "direction", Run: func(string) tea.Cmd { v.fromMCU = !v.fromMCU; return nil }},
		{Name: "end", Keys: []string{"e"}, Help: "change the other end's frame (▸ marks it)", Short: "end", Run: func(string) tea.Cmd { v.editDevice = !v.editDevice; return nil }},
		{Name: "more-bits", Keys: []string{"+", "="}, Help: "one data bit more", Short: "data bit", Run: data(1)},
		{Name: "fewer-bits", Keys: []string{"-"}, Help: "one data bit less", Run: data(-1)},
		{Name: "parity", Keys: []string{"p"}, Help: "next parity: none, even, odd, mark, space", Short: "parity", Run: edit(func(f uart.Frame) uart.Frame { f.Parity = (f.Parity + 1) % uart.Rules; return f })},
		{Name: "stop-bits", Keys: []string{"o"}, Help: "1, 1.5 or 2 stop bits", Short: "stop", Run: edit(moreStop)},
		{Name: "bit-order", Keys: []string{"O"}, Help: "least or most significant bit first", Run: edit(func(f uart.Frame) uart.Frame { f.MSBFirst = !f.MSBFirst; return f })},
		{Name: "invert-line", Keys: []string{"I"}, Help: "a line that rests high or low", Run: edit(func(f uart.Frame) uart.Frame { f.Inverted = !f.Inverted; return f })},
		{Name: "flow-control", Args: "[WAY]", Keys: []string{"H"}, Help: "next flow control: none, ready lines, XOFF", Short: "flow", Run: v.nextFlow(h, l)},
		{Name: "rate-up", Keys: []string{">"}, Help: "next usual rate above", Short: "rate", Run: v.rateStep(h, l, 1)},
		{Name: "rate-down", Keys: []string{"<"}, Help: "next usual rate below", Run: v.rateStep(h, l, -1)},
		{Name: "character", Args: "[C]", Keys: []string{"v"}, Help: "draw another character", Short: "character", Run: func(arg string) tea.Cmd {
			if arg == "" {
				e := ui.NewEntry()
				v.entry = &e
				return nil
			}
			c, err := Character(arg)
			if err != nil {
				h.Warn("%v", err)
				return nil
			}
			v.value = c
			return nil
		}},
	}
}

// rateStep goes to the next usual rate.
func (v *View) rateStep(h ui.Host, l *bench.UART, by int) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		end, now := "mcu", l.Wanted
		if v.editDevice {
			end, now = "device", l.DeviceEnd.Rate
		}
		best := quantity.Rate(0)
		for _, u := range clock.Usual {
			r := quantity.Rate(u) * quantity.Baud
			if by > 0 && r > now && best == 0 || by < 0 && r < now {
				best = r
			}
		}
		if best == 0 {
			h.Say("no usual rate beyond %s; :set links.%s.%s.rate VALUE takes any", now, l.Name, end)
			return nil
		}
		h.Edit(finding.Edit{Path: []string{"links", l.Name, end, "rate"}, Value: best.String()})
		return nil
	}
}

// moreStop gives the next number of stop bits: 1, 1.5, 2 and again 1.
func moreStop(f uart.Frame) uart.Frame {
	switch {
	case f.Half:
		f.Stop, f.Half = 2, false
	case f.Stop == 2:
		f.Stop = 1
	default:
		f.Half = true
	}
	return f
}
