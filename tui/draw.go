package tui

import (
	"fmt"
	"strings"
	"time"

	"gavrix/core/finding"
	"gavrix/core/safe"
	"gavrix/draw/cells"
	"gavrix/tui/ui"
)

const (
	linksWidth = 29
	notesWidth = 40
	wideFrom   = 132 // columns from which all three panes fit
	midFrom    = 104 // columns from which links and view fit
)

// draw makes the frame anew.
func (a *App) draw() {
	a.grid.Resize(a.w, a.h)
	all := a.grid.All()
	a.status(all.Part(0, 0, a.w, 1))
	body := all.Part(0, 1, a.w, a.h-2)
	if a.help {
		a.drawHelp(body)
	} else {
		a.panes(body)
	}
	a.footer(all.Part(0, a.h-1, a.w, 1))
	a.out.Reset()
	a.theme.Render(&a.out, a.grid)
	a.frame = a.out.String()
	a.stale, a.drawn = false, time.Now()
}

// panes lays the three panes out as they fit.
func (a *App) panes(body cells.Area) {
	a.linksAt, a.viewAt = rect{}, rect{}
	show := func(p pane, part cells.Area) {
		switch p {
		case linksPane:
			a.linksAt = rect{part.X, part.Y, part.W, part.H}
			a.drawLinks(part)
		case viewPane:
			a.viewAt = rect{part.X, part.Y, part.W, part.H}
			a.current().Draw(part, a)
		case notesPane:
			a.drawNotes(part)
		}
	}
	rule := func(x int) {
		for y := range body.H {
			body.Put(x, y, cells.Quiet, '╎')
		}
	}
	switch {
	case a.w >= wideFrom:
		show(linksPane, body.Part(1, 0, linksWidth, body.H))
		rule(linksWidth + 1)
		show(viewPane, body.Part(linksWidth+3, 0, a.w-linksWidth-notesWidth-6, body.H))
		rule(a.w - notesWidth - 2)
		show(notesPane, body.Part(a.w-notesWidth, 0, notesWidth-1, body.H))
	case a.w >= midFrom && a.focus != notesPane:
		show(linksPane, body.Part(1, 0, linksWidth, body.H))
		rule(linksWidth + 1)
		show(viewPane, body.Part(linksWidth+3, 0, a.w-linksWidth-4, body.H))
	case a.w >= midFrom:
		show(viewPane, body.Part(1, 0, a.w-notesWidth-4, body.H))
		rule(a.w - notesWidth - 2)
		show(notesPane, body.Part(a.w-notesWidth, 0, notesWidth-1, body.H))
	default:
		show(a.focus, body.Part(1, 0, a.w-2, body.H))
	}
}

// state gives what the world behind the links is.
func (a *App) worldName() (string, cells.Style) {
	switch {
	case a.levels != nil && !a.levels.done.Load():
		return fmt.Sprintf("CAPTURE %s, read to %.0f %%", a.source, 100*a.levels.file.Share()), cells.Doubt
	case a.session == nil:
		return "CAPTURE " + a.source, cells.Info
	}
	if !a.session.Real() {
		return "SIMULATED", cells.Info
	}
	for _, l := range a.bench.Links {
		if l.Port == nil {
			return "REAL + SIMULATED", cells.Doubt
		}
	}
	return "REAL", cells.Doubt
}

func (a *App) status(s cells.Area) {
	name := "Gavrix"
	if a.bench != nil {
		name = a.bench.Name
	}
	x := s.Text(1, 0, cells.Strong, name)
	world, style := a.worldName()
	x = s.Text(x+3, 0, style, world)
	if a.session != nil && !a.session.Real() {
		p := a.session.World.Pace()
		glyph, st := "▶ ", cells.Good
		if !p.Running {
			glyph, st = "‖ stopped ", cells.Doubt
		}
		x = s.Text(x+3, 0, st, glyph+speedText(p.Speed))
		if p.Running && p.Reached < 0.9*p.Speed {
			x = s.Text(x+1, 0, cells.Doubt, fmt.Sprintf("(reaches %s)", speedText(max(p.Reached, 1e-9))))
		}
	}
	decimals := 3
	if a.session != nil && !a.session.Real() && !a.session.World.Pace().Running {
		decimals = 9
	}
	x = s.Text(x+3, 0, cells.Plain, fmt.Sprintf("t = %.*f s", decimals, a.snap.Now.Seconds()))
	if n, before := a.snap.Gone(); n > 0 {
		x = s.Text(x+3, 0, cells.Doubt, fmt.Sprintf("records before %.1f s let go", before.Seconds()))
	}
	if a.recorder != nil {
		if err := a.recorder.Err(); err != nil {
			x = s.Text(x+3, 0, cells.Bad, "recording stopped: "+err.Error())
		} else {
			x = s.Text(x+3, 0, cells.Good, fmt.Sprintf("● recording, %d", a.recorder.Count()))
		}
	}
	if a.bench != nil && a.bench.Dirty() {
		x = s.Text(x+3, 0, cells.Doubt, "edited")
	}
	if a.checking != "" {
		x = s.Text(x+3, 0, cells.Doubt, "checking "+a.checking+" …")
	}
	errors, warnings := 0, 0
	for _, fs := range a.findings {
		for _, f := range fs {
			switch f.Severity {
			case finding.Error:
				errors++
			case finding.Warning:
				warnings++
			}
		}
	}
	text, st := "nothing wrong is known", cells.Good
	switch {
	case a.bench == nil:
		text = ""
	case errors > 0:
		text, st = fmt.Sprintf("▲ %s", plural(errors, "error")), cells.Bad
		if warnings > 0 {
			text += ", " + plural(warnings, "warning")
		}
	case warnings > 0:
		text, st = fmt.Sprintf("△ %s", plural(warnings, "warning")), cells.Doubt
	}
	if x+2+cells.Width(text) < s.W {
		s.Right(s.W-1, 0, st, text)
	}
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (a *App) headStyle(p pane) cells.Style {
	if a.focus == p {
		return cells.Head
	}
	return cells.Quiet
}

// drawNotes shows what is wrong, what is proven and why.
func (a *App) drawNotes(p cells.Area) {
	if a.levels != nil {
		a.drawProposals(p)
		return
	}
	fs := a.linkFindings()
	y := 0
	if len(fs) == 0 {
		text := "NOTHING WRONG IS KNOWN"
		if a.bench == nil {
			text = "NO BENCH, SO NO FINDINGS"
		}
		p.Text(0, y, a.headStyle(notesPane), text)
		y += 2
	} else {
		p.Text(0, y, a.headStyle(notesPane), "WHAT IS WRONG")
		y++
	}
	fixable, hasFix := a.fixable()
	for _, f := range fs {
		glyph, style := "· ", cells.Info
		switch f.Severity {
		case finding.Error:
			glyph, style = "▲ ", cells.Bad
		case finding.Warning:
			glyph, style = "△ ", cells.Doubt
		}
		y = p.Paragraph(0, y, style, glyph+f.Seen, 2)
		for part := range strings.SplitSeq(f.Why, "; ") {
			if part != "" {
				y = p.Paragraph(2, y, cells.Plain, part, 2)
			}
		}
		if hasFix && f.Code == fixable.Code && f.Seen == fixable.Seen {
			p.Text(2, y, cells.Quiet, f.Change+":")
			y++
			for i, x := range f.Fixes {
				if i < 2 {
					k := p.Text(4, y, cells.Strong, []string{"f", "F"}[i])
					p.Text(k+2, y, cells.Good, x.Label)
					y++
				}
			}
		} else if f.Change != "" {
			y = p.Paragraph(2, y, cells.Good, "→ "+f.Change, 2)
		}
		y++
	}
	y = a.drawPort(p, y)
	y = a.drawChecks(p, y)
	a.drawWhy(p, y)
}

// drawPort says what the port behind the link can tell.
func (a *App) drawPort(p cells.Area, y int) int {
	if a.session == nil || y >= p.H {
		return y
	}
	i := a.session.Info(a.LinkIndex())
	if i.Simulated {
		return y
	}
	x := p.Text(0, y, cells.Head, "PORT")
	p.Text(x+2, y, cells.Quiet, i.Port)
	y = p.Paragraph(0, y+1, cells.Plain, "stands in for the "+i.Role+"; times within "+i.Resolution.Round(2), 2)
	y = p.Paragraph(0, y, cells.Plain, "error marks: "+i.Marks, 2)
	if !i.Levels {
		y = p.Paragraph(0, y, cells.Plain, "no line levels", 2)
	}
	return y + 1
}

func (a *App) drawChecks(p cells.Area, y int) int {
	l := a.Link()
	if l == nil || len(l.Checks) == 0 || y >= p.H {
		return y
	}
	rs := a.results[l.Name]
	head := "CHECKS"
	p.Text(0, y, cells.Head, head)
	world := "SIMULATED"
	if l.Port != nil {
		world = "REAL"
	}
	p.Right(p.W, y, cells.Quiet, world)
	y++
	for i, c := range l.Checks {
		switch {
		case i >= len(rs):
			y = p.Paragraph(0, y, cells.Quiet, "○ "+c.Name+": not run", 2)
		case rs[i].Pass:
			y = p.Paragraph(0, y, cells.Good, fmt.Sprintf("✓ %s (%s)", c.Name, rs[i].Took.Round(3)), 2)
		default:
			y = p.Paragraph(0, y, cells.Bad, "✗ "+c.Name, 2)
			why := rs[i].Problem
			if why == "" {
				why = "first: " + rs[i].Differences[0].String()
				if n := len(rs[i].Differences) - 1; n > 0 {
					why += fmt.Sprintf("; %d more", n)
				}
			}
			y = p.Paragraph(2, y, cells.Plain, why, 2)
		}
	}
	if len(rs) == 0 {
		p.Text(0, y, cells.Quiet, "c runs them")
		y++
	}
	return y + 1
}

func (a *App) drawWhy(p cells.Area, y int) {
	ds := a.current().Why(a)
	if len(ds) == 0 || y >= p.H {
		return
	}
	a.why = min(a.why, len(ds)-1)
	x := p.Text(0, y, cells.Head, "WHY")
	p.Text(x+2, y, cells.Quiet, fmt.Sprintf("%d of %d, w: next", a.why+1, len(ds)))
	y++
	for i, line := range ds[a.why].Lines() {
		style := cells.Plain
		if i == 0 {
			style = cells.Strong
		}
		text := strings.TrimLeft(line, " ")
		y = p.Paragraph(len(line)-len(text), y, style, text, 2)
	}
}

// footer shows the views, the keys of this one, or what is being typed or
// was said.
func (a *App) footer(f cells.Area) {
	if a.command != nil {
		x := f.Text(0, 0, cells.Strong, ":")
		behind := ""
		if c := a.completions(); len(c) > 0 && len(c) <= 8 {
			var words []string
			for _, s := range c {
				words = append(words, strings.TrimSpace(s))
			}
			behind = "   " + strings.Join(words, "  ")
		}
		a.command.Draw(f, x, 0, behind)
		return
	}
	if a.message != "" {
		style := cells.Good
		if a.warning {
			style = cells.Bad
		}
		f.Text(1, 0, style, a.message)
		return
	}
	x := 1
	for i, v := range a.views {
		style := cells.Quiet
		if i == a.view {
			style = cells.Strong
		}
		x = f.Text(x, 0, style, v.key+" "+v.view.Name()) + 2
	}
	right := ": command   ? help"
	limit := f.W - cells.Width(right) - 2
	for _, c := range append(a.viewCommands(), a.commands()...) {
		if c.Short == "" || len(c.Keys) == 0 {
			continue
		}
		k := keyName(c.Keys[0])
		if x+cells.Width(k)+cells.Width(c.Short)+3 > limit {
			break
		}
		x = f.Text(x+1, 0, cells.Strong, k)
		x = f.Text(x+1, 0, cells.Quiet, c.Short)
	}
	f.Right(f.W-1, 0, cells.Quiet, right)
}

func keyName(k string) string {
	names := map[string]string{
		"space": "Space", "enter": "Enter", "backspace": "Backspace", "up": "↑", "down": "↓", "left": "←", "right": "→", "tab": "Tab", "shift+tab": "Shift+Tab",
		"pgup": "PgUp", "pgdown": "PgDn", "home": "Home", "end": "End", "ctrl+s": "Ctrl+S", "ctrl+r": "Ctrl+R", "shift+up": "Shift+↑", "shift+down": "Shift+↓",
	}
	if n, ok := names[k]; ok {
		return n
	}
	return k
}

// drawHelp lists all commands with their keys.
func (a *App) drawHelp(p cells.Area) {
	var left, right []helpRow
	section := func(rows []helpRow, title string, cs []ui.Command) []helpRow {
		rows = append(rows, helpRow{head: title})
		for _, c := range cs {
			var keys []string
			for _, k := range c.Keys {
				keys = append(keys, keyName(k))
			}
			name := ":" + c.Name
			if c.Args != "" {
				name += " " + c.Args
			}
			rows = append(rows, helpRow{keys: strings.Join(keys, " "), name: name, text: c.Help})
		}
		return append(rows, helpRow{})
	}
	left = section(left, strings.ToUpper(a.current().Name()), a.current().Commands(a))
	left = section(left, "IN THE LIST OF LINKS", a.paneCommands())
	right = section(right, "EVERYWHERE", a.commands())
	columns := [][]helpRow{append(left, right...)}
	if p.W >= 150 {
		columns = [][]helpRow{left, right}
	}
	room, longest := p.H-1, 0
	for _, c := range columns {
		longest = max(longest, len(c))
	}
	maxTop := max(0, longest-room)
	a.helpTop = min(a.helpTop, maxTop)
	for i, c := range columns {
		w := p.W / len(columns)
		col := p.Part(1+i*w, 0, w-2, room)
		for y := 0; y < room && a.helpTop+y < len(c); y++ {
			c[a.helpTop+y].draw(col, y)
		}
	}
	more := "any other key closes the help"
	if maxTop > 0 {
		more = "↑ ↓ scroll; " + more
	}
	p.Text(1, p.H-1, cells.Quiet, more)
}

type helpRow struct{ head, keys, name, text string }

func (r helpRow) draw(p cells.Area, y int) {
	if r.head != "" {
		p.Text(0, y, cells.Head, r.head)
		return
	}
	if r.name == "" {
		return
	}
	p.Part(0, y, 12, 1).Text(0, 0, cells.Strong, r.keys)
	p.Part(13, y, 21, 1).Text(0, 0, cells.Info, r.name)
	p.Part(35, y, p.W-35, 1).Text(0, 0, cells.Plain, safe.Text(r.text))
}
