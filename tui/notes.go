package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// notesHeight bounds what the notes say, in rows.
const notesHeight = 400

// notesFold says whether the notes have so little to say that the view takes their room:
// nothing is wrong on the link, no check was run, and nobody asked for them.
func (a *App) notesFold() bool {
	if a.focus == notesPane || a.levels != nil && len(a.levels.rest) > 0 || a.bench == nil {
		return false
	}
	if len(a.counts(-1)) > 0 || len(a.current().Why(a)) > 0 {
		return false
	}
	if l := a.Link(); l != nil && (l.Port != nil || len(a.results[l.Name]) > 0) {
		return false
	}
	return true
}

// proposing reports whether the notes are about what lines may be.
func (a *App) proposing() bool { return a.levels != nil && (a.bench == nil || a.proposed != nil) }

// drawNotes shows what is wrong, what is proven and why; what is longer than its room is
// scrolled while the pane has the keys.
func (a *App) drawNotes(p cells.Area) {
	if a.proposing() {
		a.drawProposals(p)
		return
	}
	g := cells.New(p.W, notesHeight)
	n := a.notes(g.All())
	room := p.H
	if n > room {
		room--
	}
	a.notesTop = max(min(a.notesTop, n-room), 0)
	p.Part(0, 0, p.W, min(room, n-a.notesTop)).Copy(g, a.notesTop)
	if n <= p.H {
		return
	}
	text := "↓ more"
	switch {
	case a.notesTop+room >= n:
		text = "↑ more"
	case a.focus != notesPane:
		text += ", Tab goes there"
	}
	p.Right(p.W, p.H-1, cells.Quiet, text)
}

// notesCommands scroll the notes.
func (a *App) notesCommands() []ui.Command {
	by := func(n func() int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			a.notesTop = max(a.notesTop+n(), 0) // drawing knows where it ends
			return nil
		}
	}
	page := max(a.h-4, 1)
	return []ui.Command{
		{Name: "notes-up", Keys: []string{"up", "k"}, Help: "a row up", Run: by(func() int { return -1 })},
		{Name: "notes-down", Keys: []string{"down", "j"}, Help: "a row down", Run: by(func() int { return 1 })},
		{Name: "notes-page-up", Keys: []string{"pgup"}, Help: "a page up", Run: by(func() int { return -page })},
		{Name: "notes-page-down", Keys: []string{"pgdown"}, Help: "a page down", Run: by(func() int { return page })},
	}
}

// notes writes all of them and gives their number of rows.
func (a *App) notes(p cells.Area) int {
	fs := a.linkFindings()
	name := ""
	if l := a.captured(); l != nil {
		name = l.Name
	}
	y := 0
	switch {
	case a.bench == nil:
		p.Text(0, y, a.headStyle(notesPane), "NO BENCH, SO NO FINDINGS")
		y += 2
	case len(fs) == 0:
		x := p.Text(0, y, a.headStyle(notesPane), "NO PROBLEMS FOUND")
		p.Text(x+1, y, cells.Quiet, "on "+name)
		y++
	default:
		head := "WHAT IS WRONG"
		if worst, _ := finding.Worst(fs); worst == finding.Note {
			head = "WORTH KNOWING"
		}
		x := p.Text(0, y, a.headStyle(notesPane), head)
		p.Text(x+1, y, cells.Quiet, "on "+name)
		y++
	}
	if text := a.elsewhere(); text != "" {
		y = p.Paragraph(0, y, cells.Doubt, text, 2) + 1
	} else if a.bench != nil && len(fs) == 0 {
		y++
	}
	fixable, hasFix := a.fixable()
	for _, f := range fs {
		y = a.drawFinding(p, y, f, hasFix && f.Code == fixable.Code && f.Seen == fixable.Seen)
	}
	y = a.drawPort(p, y)
	y = a.drawChecks(p, y)
	y = a.drawWhy(p, y)
	if a.levels != nil && len(a.levels.rest) > 0 {
		y = p.Paragraph(0, y+1, cells.Quiet, fmt.Sprintf("%s of the file without a link; P looks what they may be.", plural(len(a.levels.rest), "line")), 0)
	}
	return y
}

// elsewhere counts what is wrong on other links.
func (a *App) elsewhere() string {
	counts := a.counts(a.link)
	var out []string
	for _, k := range []struct {
		severity finding.Severity
		word     string
	}{{finding.Error, "error"}, {finding.Warning, "warning"}, {finding.Note, "note"}} {
		if n := counts[k.severity]; n > 0 {
			out = append(out, plural(n, k.word))
		}
	}
	if out == nil {
		return ""
	}
	return "on other links: " + strings.Join(out, ", ") + "; ! goes there"
}

// counts counts the findings of all links but one, by severity.
func (a *App) counts(but int) map[finding.Severity]int {
	out := map[finding.Severity]int{}
	for i, fs := range a.found.all {
		if i == but {
			continue
		}
		for _, f := range fs {
			out[f.Severity]++
		}
	}
	return out
}

// nextFinding goes to the next link with something wrong, the worst severity first.
func (a *App) nextFinding(string) tea.Cmd {
	n := len(a.found.all)
	for _, worst := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		for k := 1; k <= n; k++ {
			i := (a.link + k) % n
			for _, f := range a.found.all[i] {
				if f.Severity != worst {
					continue
				}
				if i == a.link {
					a.Say("nothing worse is known on another link")
					return nil
				}
				a.link, a.why, a.notesTop = i, 0, 0
				return nil
			}
		}
	}
	a.Say("no problems found on any link")
	return nil
}

// drawFinding shows a finding, with its fixes where f and F mean it.
func (a *App) drawFinding(p cells.Area, y int, f finding.Finding, fixes bool) int {
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
	if f.Change != "" {
		text := "→ " + f.Change
		if fixes {
			text += ":"
		}
		y = p.Paragraph(2, y, cells.Good, text, 2)
	}
	if fixes {
		for i, x := range f.Fixes[:min(len(f.Fixes), 2)] {
			p.Text(4, y, cells.Strong, []string{"f", "F"}[i])
			y = p.Part(7, y, p.W-7, p.H-y).Paragraph(0, 0, cells.Good, x.Label, 0) + y
		}
	}
	return y + 1
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
	if l == nil || len(l.Checks) == 0 || y >= p.H || a.session == nil {
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

func (a *App) drawWhy(p cells.Area, y int) int {
	ds := a.current().Why(a)
	if len(ds) == 0 || y >= p.H {
		return y
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
	return y
}
