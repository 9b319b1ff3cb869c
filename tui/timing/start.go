package timing

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// judged gives the start-up steps in the order in which they are shown, and what
// they are judged from.
func (v *View) judged(h ui.Host, l *bench.Link) ([]startup.Verdict, string) {
	c, err := l.Chain()
	if err != nil {
		return nil, ""
	}
	if d := h.Dump(); d.Seen != nil {
		return picture.Chain(c.FromDump(d.Seen), c.Needed()), d.Source
	}
	steps := l.Steps(c)
	return picture.Chain(c.Judge(steps), steps), "the steps that the firmware does"
}

// drawStart shows the start-up chain.
func (v *View) drawStart(a cells.Area, h ui.Host, l *bench.Link) {
	vs, from := v.judged(h, l)
	x := a.Text(0, 0, cells.Head, "STARTUP")
	x = a.Text(x+2, 0, cells.Strong, l.Name)
	a.Text(x+3, 0, cells.Quiet, "unit "+l.Unit.Name)
	if len(vs) == 0 {
		a.Paragraph(1, 2, cells.Plain, "No step is described. Name the registers below mcu.registers, and say below the unit's `control:` which fields start it: clock, port-clock, transmit-pin, receive-pin, enable …", 0)
		a.Paragraph(1, 6, cells.Quiet, "s goes back to the frame.", 0)
		return
	}
	a.Text(0, 1, cells.Quiet, "judged from "+from)
	x = 2
	for _, r := range startup.Stages(vs) {
		glyph, style, more := "✓ ", cells.Good, ""
		switch {
		case !r.Yes:
			glyph, style = "✗ ", cells.Bad
		case !r.Seen:
			glyph, style, more = "○ ", cells.Doubt, " as far as seen"
		}
		x = a.Text(x, 3, style, glyph+r.Stage.String()+more) + 4
	}
	v.step = min(max(v.step, 0), len(vs)-1)
	s := picture.Startup(l, vs, from)
	const top = 5
	body := a.Part(2, top, a.W-2, a.H-top-1)
	columns := cells.ColumnsOf(s.Hops, body.W)
	// Rows of each step, so that the one under the cursor stays in sight.
	scratch := cells.New(body.W, 400).All()
	var rows []int
	y := 0
	reset := len(vs)
	for i := range s.Hops {
		if vs[i].State == startup.AtReset && reset == len(vs) {
			reset = i
			y += 2
		}
		rows = append(rows, y)
		y = cells.Hop(scratch, y, &s.Hops[i], columns)
	}
	rows = append(rows, y)
	if rows[v.step+1]-v.top > body.H {
		v.top = rows[v.step+1] - body.H
	}
	if rows[v.step] < v.top {
		v.top = rows[v.step]
	}
	if y <= body.H {
		v.top = 0
	}
	for i := range s.Hops {
		at := rows[i] - v.top
		if i == reset && at > 0 && at <= body.H {
			body.Text(columns.Name, at-1, cells.Quiet, "as after reset, need not be done")
		}
		if at < 0 || at >= body.H {
			continue
		}
		if i == v.step {
			a.Text(0, top+at, cells.Strong, "▸")
		}
		cells.Hop(body, at, &s.Hops[i], columns)
	}
	if v.top > 0 {
		a.Right(a.W, top-1, cells.Quiet, "↑ more")
	}
	if y-v.top > body.H {
		a.Right(a.W, a.H-1, cells.Quiet, "↓ more")
	}
	if h.Dump().Seen == nil && a.H-1 > top+y {
		a.Text(0, a.H-1, cells.Quiet, "x leaves the step out or puts it back, < > move it: the simulated MCU follows at once")
	} else if a.H-1 > top+y {
		a.Text(0, a.H-1, cells.Quiet, ":dump - goes back to the firmware's steps")
	}
}

// startCommands work on the chain.
func (v *View) startCommands(h ui.Host) []ui.Command {
	move := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			v.step = max(v.step+by, 0)
			return nil
		}
	}
	return []ui.Command{
		{Name: "step-above", Keys: []string{"up", "k"}, Help: "the step above", Run: move(-1)},
		{Name: "step-below", Keys: []string{"down", "j"}, Help: "the step below", Short: "step", Run: move(1)},
		{Name: "leave-out", Keys: []string{"x"}, Help: "leave the step out, or put it back", Short: "leave out", Run: v.steps(h, leaveOut)},
		{Name: "earlier", Keys: []string{"<"}, Help: "do the step earlier", Short: "earlier", Run: v.steps(h, func(s []string, name string, c startup.Chain) []string { return shift(s, name, -1) })},
		{Name: "later", Keys: []string{">"}, Help: "do the step later", Short: "later", Run: v.steps(h, func(s []string, name string, c startup.Chain) []string { return shift(s, name, 1) })},
	}
}

// steps changes what the firmware does about the step under the cursor, which
// keeps the cursor.
func (v *View) steps(h ui.Host, change func(steps []string, name string, c startup.Chain) []string) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		l := h.Link()
		if l == nil {
			return nil
		}
		if h.Dump().Seen != nil {
			h.Say("a dump is shown; :dump - goes back to the firmware's steps, which can be changed")
			return nil
		}
		vs, _ := v.judged(h, l)
		if v.step >= len(vs) {
			return nil
		}
		at := vs[v.step]
		if at.AtReset {
			h.Say("%s is as after reset: it need not be done", at.Title)
			return nil
		}
		c, err := l.Chain()
		if err != nil {
			h.Warn("%v", err)
			return nil
		}
		steps := change(slices.Clone(l.Steps(c)), at.Name, c)
		if steps == nil {
			return nil
		}
		h.Edit(l.StartEdit(steps))
		if l = h.Link(); l != nil {
			vs, _ = v.judged(h, l)
			for i := range vs {
				if vs[i].Name == at.Name {
					v.step = i
				}
			}
		}
		return nil
	}
}

// leaveOut takes a step out, or puts it where it belongs.
func leaveOut(steps []string, name string, c startup.Chain) []string {
	if i := slices.Index(steps, name); i >= 0 {
		return slices.Delete(steps, i, i+1)
	}
	at := 0
	for _, before := range c.Needed()[:slices.Index(c.Needed(), name)] {
		at = max(at, slices.Index(steps, before)+1)
	}
	return slices.Insert(steps, at, name)
}

// shift moves a step by one place; nil where it can't.
func shift(steps []string, name string, by int) []string {
	i := slices.Index(steps, name)
	if i < 0 || i+by < 0 || i+by >= len(steps) {
		return nil
	}
	steps[i], steps[i+by] = steps[i+by], steps[i]
	return steps
}

// loadDump reads a dump of registers, or takes that of the simulated MCU.
func (v *View) loadDump(h ui.Host) func(string) tea.Cmd {
	return func(name string) tea.Cmd { return ui.LoadDump(h, name, func() { v.page = startPage }) }
}

// Paste implements ui.Paster: a dump of registers.
func (v *View) Paste(text string, h ui.Host) {
	if ui.PasteDump(h, text) {
		v.page = startPage
	}
}
