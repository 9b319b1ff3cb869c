package tui

import (
	"fmt"
	"strings"
	"time"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
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
	if a.command != nil {
		a.drawOffers(body)
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
	case a.w >= wideFrom && !a.notesFold():
		show(linksPane, body.Part(1, 0, linksWidth, body.H))
		rule(linksWidth + 1)
		show(viewPane, body.Part(linksWidth+3, 0, a.w-linksWidth-notesWidth-6, body.H))
		rule(a.w - notesWidth - 2)
		show(notesPane, body.Part(a.w-notesWidth, 0, notesWidth-1, body.H))
	case a.w >= midFrom && (a.focus != notesPane || a.w >= wideFrom):
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

// worldName returns what is behind the links, and how sure that is.
func (a *App) worldName() (string, cells.Style) {
	switch {
	case a.opening != nil && a.opening.Share() < 1:
		return fmt.Sprintf("CAPTURE %s, read to %.0f %%", a.source, 100*a.opening.Share()), cells.Doubt
	case a.levels != nil && !a.levels.done.Load():
		return fmt.Sprintf("CAPTURE %s, read to %.0f %%", a.source, 100*a.levels.file.Share()), cells.Doubt
	case a.damage != "":
		return "CAPTURE " + a.source + ", damaged", cells.Doubt
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
		x = s.Text(x+3, 0, cells.Doubt, fmt.Sprintf("records before %.1f s discarded", before.Seconds()))
	}
	if a.then() != nil && a.current().Name() == "Registers" {
		x = s.Text(x+3, 0, cells.Doubt, fmt.Sprintf("registers as at %s; Ctrl+G now", a.moment.at.Round(6)))
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
	counts := a.counts(-1)
	errors, warnings, notes := counts[finding.Error], counts[finding.Warning], counts[finding.Note]
	text, st := "no problems found", cells.Good
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
	case notes > 0:
		text, st = fmt.Sprintf("· %s", plural(notes, "note")), cells.Info
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

// keysRoom is what the footer keeps for the keys of a view.
const keysRoom = 45

// wideFooter is the width from which on the footer says what : and ? do.
const wideFooter = 100

// footer shows the views, the keys of this one, or what is being typed or
// was said.
func (a *App) footer(f cells.Area) {
	if a.command != nil {
		x := f.Text(0, 0, cells.Strong, ":")
		a.command.Draw(f, x, 0, "   Tab completes, ↑ ↓ choose, Esc leaves")
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
	right := ": command   ? help"
	if f.W < wideFooter {
		right = ": ? help"
	}
	limit := f.W - cells.Width(right) - 2
	names := 1
	for _, v := range a.views {
		names += cells.Width(v.key+" "+v.view.Name()) + 2
	}
	x := 1
	for i, v := range a.views {
		style, text, apart := cells.Quiet, v.key+" "+v.view.Name(), 2
		if i == a.view {
			style = cells.Strong
		} else if names+keysRoom > limit { // the others by their keys alone
			text, apart = v.key, 1
		}
		x = f.Text(x, 0, style, text) + apart
	}
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
		"pgup": "PgUp", "pgdown": "PgDn", "home": "Home", "end": "End", "ctrl+s": "Ctrl+S", "ctrl+g": "Ctrl+G", "ctrl+r": "Ctrl+R", "ctrl+z": "Ctrl+Z", "ctrl+y": "Ctrl+Y", "shift+up": "Shift+↑", "shift+down": "Shift+↓",
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
	left = section(left, "IN THE NOTES", a.notesCommands())
	right = section(right, "EVERYWHERE", a.commands())
	columns := [][]helpRow{append(left, right...)}
	if p.W >= 150 {
		columns = [][]helpRow{left, right}
	}
	room, longest := p.H-1, 0
	for i, c := range columns {
		columns[i] = unclipped(c, p.W/len(columns)-2-helpTextAt)
		longest = max(longest, len(columns[i]))
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

// Columns of the help.
const (
	helpNameAt = 16
	helpTextAt = 38
)

// unclipped gives rows none of whose texts is wider than w: what is longer goes on below.
func unclipped(rows []helpRow, w int) []helpRow {
	var out []helpRow
	for _, r := range rows {
		if r.head != "" || r.text == "" {
			out = append(out, r)
			continue
		}
		for i, part := range safe.Wrap(r.text, max(w, 10)) {
			if i > 0 {
				r = helpRow{}
			}
			r.text = part
			out = append(out, r)
		}
	}
	return out
}

func (r helpRow) draw(p cells.Area, y int) {
	if r.head != "" {
		p.Text(0, y, cells.Head, r.head)
		return
	}
	p.Part(0, y, helpNameAt-1, 1).Text(0, 0, cells.Strong, r.keys)
	p.Part(helpNameAt, y, helpTextAt-helpNameAt-1, 1).Text(0, 0, cells.Info, r.name)
	p.Part(helpTextAt, y, p.W-helpTextAt, 1).Text(0, 0, cells.Plain, safe.Text(r.text))
}
