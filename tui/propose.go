package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// guesses is what lines without a link may be.
type guesses struct {
	best, others []decode.Guess
	lines        []recognise.Line
	seen         []recognise.Seen
}

// all gives the proposals in the order in which they are shown.
func (g *guesses) all() []decode.Guess { return append(g.best[:len(g.best):len(g.best)], g.others...) }

// proposedMsg brings proposals.
type proposedMsg struct {
	sought *sought
	guesses
	err error
}

// mostOthers bounds the second choices that are shown.
const mostOthers = 6

// proposeCommands are those for lines that nobody has described.
func (a *App) proposeCommands() []ui.Command {
	return []ui.Command{
		{Name: "propose", Keys: []string{"P"}, Help: "what may these lines be? again: the next", Short: "propose", Run: a.propose},
		{Name: "accept", Keys: []string{"y"}, Help: "accept the proposal that is marked", Run: func(string) tea.Cmd { return a.accept(false) }},
		{Name: "accept-all", Keys: []string{"Y"}, Help: "accept all first proposals", Run: func(string) tea.Cmd { return a.accept(true) }},
		{Name: "forget", Keys: []string{"X"}, Help: "make the link's lines unknown again", Run: a.forget},
	}
}

// propose looks for what the undescribed lines are, in the background, or goes
// to the next proposal.
func (a *App) propose(string) tea.Cmd {
	switch {
	case a.proposed != nil && a.proposed.busy:
		a.Say("the lines are still looked at; Esc stops it")
		return nil
	case a.proposed != nil && len(a.proposed.all()) > 0:
		a.proposed.selected = (a.proposed.selected + 1) % len(a.proposed.all())
		a.narrowToNotes()
		return nil
	case len(a.levels.rest) == 0:
		a.Say("every line of the file belongs to a link; X forgets the selected one")
		return nil
	}
	f, err := a.levels.Open()
	if err != nil {
		a.Warn("%s can't be read: %v", a.levels.Name, err)
		return nil
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &sought{cancel: cancel, busy: true}
	a.proposed, a.cancel = s, cancel
	a.narrowToNotes()
	rest, names := a.levels.rest, a.levels.names
	var taken []string
	for _, l := range a.levels.Links {
		taken = append(taken, l.Name)
	}
	return func() tea.Msg {
		defer f.Close()
		m := proposedMsg{sought: s}
		m.lines, m.err = decode.Gather(ctx, f, rest, func(t quantity.Time) { s.at.Store(int64(t)) })
		if m.lines == nil {
			return m
		}
		// After a fault in the file what stands before it is looked at.
		r, err := recognise.Lines(ctx, m.lines, func(done int) { s.weighed.Store(int64(done) + 1) })
		if err != nil {
			m.err = err
			return m
		}
		m.seen = r.Seen
		var errOthers error
		m.best, err = decode.Guesses(r.Best, m.lines, names, taken)
		m.others, errOthers = decode.Guesses(r.Others[:min(len(r.Others), mostOthers)], m.lines, names, taken)
		m.err = errors.Join(m.err, err, errOthers)
		return m
	}
}

// narrowToNotes goes to the notes where they are not beside the view.
func (a *App) narrowToNotes() {
	if a.w < wideFrom {
		a.focus = notesPane
	}
}

func (a *App) proposedCame(m proposedMsg) {
	if a.proposed != m.sought {
		return // forgotten meanwhile
	}
	m.sought.cancel()
	a.cancel = nil
	a.proposed.busy, a.proposed.guesses = false, m.guesses
	switch {
	case errors.Is(m.err, context.Canceled):
		a.proposed = nil
		a.Say("stopped; nothing is proposed")
	case m.err != nil:
		a.Warn("%v", m.err)
	case len(m.best) == 0 && resting(m.seen):
		a.Say("these lines rest: without edges nothing can be recognised")
	case len(m.best) == 0:
		a.Say("nothing that is known fits these lines")
	default:
		a.Say("%s; y accepts the marked one, Y all first ones, P goes to the next", plural(len(m.best), "proposal"))
	}
}

// resting says whether no line has an edge.
func resting(seen []recognise.Seen) bool {
	for _, s := range seen {
		if s.Edges > 0 {
			return false
		}
	}
	return true
}

func (a *App) accept(every bool) tea.Cmd {
	if a.proposed == nil || len(a.proposed.all()) == 0 {
		a.Say("nothing is proposed; P looks what the lines may be")
		return nil
	}
	a.focus = viewPane
	if every {
		links := a.levels.described()
		links = links[:len(links):len(links)]
		for _, g := range a.proposed.best {
			links = append(links, g.Link)
		}
		return a.reload(links, fmt.Sprintf("%s accepted", plural(len(a.proposed.best), "link")))
	}
	g := a.proposed.all()[a.proposed.selected]
	links := a.levels.described()
	return a.reload(append(links[:len(links):len(links)], g.Link), "accepted: --link '"+g.Text+"'")
}

// forget takes the selected link away.
func (a *App) forget(string) tea.Cmd {
	links := a.levels.described()
	if a.link >= len(links) {
		a.Say("these lines have no link to forget")
		return nil
	}
	name := links[a.link].Name
	var rest []decode.Link
	for i, l := range links {
		switch {
		case i != a.link:
			rest = append(rest, l)
		case l.Absent():
			a.Say("%s has no lines here", name)
			return nil
		case a.benchLink(i) != nil: // it keeps its place in the bench
			l.Lines = make([]decode.Line, len(l.Lines))
			rest = append(rest, l)
		}
	}
	at := a.link
	cmd := a.reload(rest, name+" forgotten")
	if a.benchLink(at) != nil {
		a.link = at
	}
	return cmd
}

// drawProposals lists what the undescribed lines may be.
func (a *App) drawProposals(p cells.Area) {
	y := 0
	p.Text(0, y, a.headStyle(notesPane), "WHAT THE LINES MAY BE")
	y += 2
	s := a.proposed
	switch {
	case s == nil && len(a.levels.rest) == 0:
		p.Paragraph(0, y, cells.Quiet, "Every line belongs to a link. X forgets the selected one.", 0)
		return
	case s == nil:
		y = p.Paragraph(0, y, cells.Plain, fmt.Sprintf("%s without a link.", plural(len(a.levels.rest), "line")), 0)
		p.Paragraph(0, y+1, cells.Quiet, "P looks which bus they are, which line plays which part, and with what settings.", 0)
		return
	case s.busy && s.weighed.Load() > 0:
		p.Paragraph(0, y, cells.Doubt, fmt.Sprintf("weighing line %d of %d; Esc stops", s.weighed.Load(), len(a.levels.rest)), 0)
		return
	case s.busy:
		p.Paragraph(0, y, cells.Doubt, fmt.Sprintf("reading levels, %s so far; Esc stops", s.reached().Round(3)), 0)
		return
	case len(s.all()) == 0:
		y = p.Paragraph(0, y, cells.Doubt, "Nothing that is known fits.", 0)
		a.drawSeen(p, y+1)
		return
	}
	for i, g := range s.all() {
		// Where there is little room, what stands before the marked one goes.
		if i < s.selected && p.H < 40 {
			continue
		}
		if i == len(s.best) {
			y++
			p.Text(0, y, cells.Quiet, "OR, WITH LESS LIKELIHOOD")
			y++
		}
		y = a.drawProposal(p, y, &g, i == s.selected)
		if y >= p.H {
			return
		}
	}
	a.drawSeen(p, y+1)
}

// drawProposal shows one proposal; the marked one with its reasons.
func (a *App) drawProposal(p cells.Area, y int, g *decode.Guess, marked bool) int {
	glyph, style := "  ", cells.Plain
	if marked {
		glyph, style = "▸ ", cells.Strong
	}
	x := p.Text(0, y, cells.Good, glyph)
	p.Text(x, y, style, g.Kind.Title)
	text := fmt.Sprintf("%s: %d %s", g.Confidence(), g.Units, g.Unit)
	if g.Bad > 0 {
		text += fmt.Sprintf(", %d bad", g.Bad)
	}
	p.Right(p.W, y, cells.Quiet, text)
	y++
	roles := ""
	for i, r := range g.Kind.Lines {
		if l := g.Lines[i]; l >= 0 {
			if roles != "" {
				roles += "  "
			}
			roles += r.Name + "=" + a.proposed.lines[l].Name
		}
	}
	y = p.Paragraph(2, y, cells.Plain, roles, 2)
	if g.Settings != "" {
		y = p.Paragraph(2, y, cells.Info, g.Settings, 2)
	}
	if !marked {
		return y
	}
	if len(g.Class) > 1 {
		y = p.Paragraph(2, y, cells.Doubt, "the same on the wire: "+strings.Join(g.Class, ", "), 2)
	}
	for _, r := range g.Reasons {
		y = p.Paragraph(2, y, cells.Quiet, "· "+r, 2)
	}
	for _, r := range g.Raise {
		y = p.Paragraph(2, y, cells.Quiet, "surer by: "+r, 2)
	}
	return y
}

// drawSeen lists the activity of each line.
func (a *App) drawSeen(p cells.Area, y int) {
	if y+1 >= p.H {
		return
	}
	p.Text(0, y, cells.Head, "LINES")
	for i, s := range a.proposed.seen {
		y++
		w := &a.proposed.lines[i].Levels
		text := s.Activity.String()
		if s.Edges > 0 {
			text = fmt.Sprintf("%.4g edges/s", float64(s.Edges)/(w.To-w.From).Seconds())
		}
		switch {
		case s.Steady > 0:
			text += ", the same every " + s.Steady.Round(3)
		case s.Pulse > 0:
			text += ", shortest " + s.Pulse.Round(3)
		}
		if s.Spikes > 0 {
			text += ", " + plural(s.Spikes, "spike")
		}
		p.Text(0, y, cells.Plain, a.proposed.lines[i].Name)
		p.Right(p.W, y, cells.Quiet, text)
	}
}
