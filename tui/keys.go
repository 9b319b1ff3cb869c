package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/prove"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sim"
	"github.com/sahilm/fuzzy"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/draw/pdf"
	"gavrix.org/gavrix/draw/svg"
	"gavrix.org/gavrix/tui/prefs"
	"gavrix.org/gavrix/tui/ui"
)

// key gives a key to who listens: the help, an entry line, the shell's
// commands, the view's.
func (a *App) key(k tea.KeyPressMsg) tea.Cmd {
	if k.Code == tea.KeyEscape {
		k.Mod &^= tea.ModAlt // pressed twice at once it comes as one key with Alt
	}
	name := k.String()
	if name == "ctrl+c" {
		return a.quit("")
	}
	if a.help {
		a.helpKey(name)
		return nil
	}
	if a.command != nil {
		return a.commandKey(k)
	}
	if a.current().Typing() && a.focus == viewPane {
		a.message = ""
		return a.current().Type(k, a)
	}
	a.message = ""
	if name != "q" {
		a.quitting = false
	}
	if name == "esc" {
		if a.cancel != nil {
			a.cancel()
		} else if s, ok := a.current().(ui.Stopper); ok && a.focus == viewPane {
			s.Stop(a)
		}
		a.focus = viewPane
		return nil
	}
	cs := a.commands()
	switch {
	case a.focus == linksPane:
		cs = append(a.paneCommands(), cs...)
	case a.focus == notesPane && !a.proposing():
		cs = append(append(a.notesCommands(), a.viewCommands()...), cs...)
	default:
		cs = append(a.viewCommands(), cs...)
	}
	for _, c := range cs {
		if a.prefers.Keys[c.Name] == name {
			return c.Run("")
		}
	}
	for _, c := range cs {
		for _, want := range c.Keys {
			if want == name {
				return c.Run("")
			}
		}
	}
	a.Say("%s does nothing in %s; ? lists the keys that do", safe.Text(name), a.current().Name())
	return nil
}

// prefer changes one preference, in the user's file too.
func (a *App) prefer(arg string) tea.Cmd {
	name, value, _ := strings.Cut(arg, " ")
	if name == "" {
		path, err := prefs.Path()
		if err != nil {
			a.Warn("%v", err)
			return nil
		}
		a.Say("theme %s, colours %s, lines %s, %s of your own; in %s", a.prefers.Theme, a.prefers.Colours, a.prefers.Lines, plural(len(a.prefers.Keys), "key"), path)
		return nil
	}
	if command, is := strings.CutPrefix(name, "keys."); is && !slices.ContainsFunc(a.allCommands(), func(c ui.Command) bool { return c.Name == command }) {
		a.Warn("there is no command %s in this view", command)
		return nil
	}
	p, err := prefs.Set(name, strings.TrimSpace(value))
	if err != nil {
		a.Warn("%v", err)
		return nil
	}
	a.prefers = p
	a.dress()
	a.Say("%s: %s", name, cmp.Or(strings.TrimSpace(value), "taken out"))
	return nil
}

// preferences lists what can be preferred, and behind one what it may be.
func preferences(arg string) []string {
	name, _, has := strings.Cut(arg, " ")
	if !has {
		return []string{"theme ", "colours ", "lines ", "keys."}
	}
	words, _ := prefs.Schema.Choices(nil, name)
	var out []string
	for _, w := range words {
		out = append(out, name+" "+w)
	}
	return out
}

func (a *App) helpKey(name string) {
	switch name {
	case "down", "j":
		a.helpTop++
	case "up", "k":
		a.helpTop = max(a.helpTop-1, 0)
	case "pgdown", "space":
		a.helpTop += max(a.h-4, 1)
	case "pgup":
		a.helpTop = max(a.helpTop-max(a.h-4, 1), 0)
	default:
		a.help, a.helpTop = false, 0
	}
}

func (a *App) allCommands() []ui.Command {
	cs := append(a.commands(), a.viewCommands()...)
	for i, n := range a.views {
		if i != a.view {
			cs = append(cs, n.view.Commands(a)...)
		}
	}
	return append(append(cs, a.paneCommands()...), a.notesCommands()...)
}

func (a *App) runCommand(text string) tea.Cmd {
	if text == "" {
		return nil
	}
	name, arg, _ := strings.Cut(text, " ")
	var names []string
	for _, c := range a.allCommands() {
		if c.Name == name {
			return c.Run(strings.TrimSpace(arg))
		}
		names = append(names, c.Name)
	}
	near := ""
	if found := fuzzy.Find(name, names); len(found) > 0 {
		near = "; did you mean " + found[0].Str + "?"
	} else if n := doc.Nearest(name, names); n != "" {
		near = "; did you mean " + n + "?"
	}
	a.Warn("there is no command %q%s", name, near)
	return nil
}

// paneCommands are those of the list of links.
func (a *App) paneCommands() []ui.Command {
	return []ui.Command{
		{Name: "link-above", Keys: []string{"up", "k"}, Help: "select the link above", Run: a.moveLink(-1)},
		{Name: "link-below", Keys: []string{"down", "j"}, Help: "select the link below", Run: a.moveLink(1)},
		{Name: "to-view", Keys: []string{"enter", "right"}, Help: "go to the view of the link", Run: func(string) tea.Cmd { a.focus = viewPane; return nil }},
	}
}

func (a *App) moveLink(by int) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		n := len(a.snap.Meta().Links)
		a.link = (a.link + by + n) % max(n, 1)
		a.why = 0
		return nil
	}
}

// commands are the shell's own, valid in every view.
func (a *App) commands() []ui.Command {
	cs := []ui.Command{
		{Name: "help", Keys: []string{"?"}, Help: "keys and commands of this view", Run: func(string) tea.Cmd { a.help = true; return nil }},
		{Name: "command", Keys: []string{":"}, Help: "type a command; Tab completes", Run: func(string) tea.Cmd {
			e := ui.NewEntry()
			a.command, a.picked = &e, -1
			return nil
		}},
		{Name: "next-pane", Keys: []string{"tab"}, Help: "go to the next pane: links, view, notes", Run: func(string) tea.Cmd { a.focus = (a.focus + 1) % 3; return nil }},
		{Name: "last-pane", Keys: []string{"shift+tab"}, Help: "go to the pane before", Run: func(string) tea.Cmd { a.focus = (a.focus + 2) % 3; return nil }},
		{Name: "view", Args: "NAME", Help: "go to a view by name", Run: a.viewNamed, Complete: a.viewNames},
		{Name: "link", Args: "NAME", Help: "select a link by name", Run: a.linkNamed, Complete: a.linkNames},
		{Name: "next-link", Keys: []string{"J", "shift+down"}, Help: "select the next link", Short: "link", Run: a.moveLink(1)},
		{Name: "previous-link", Keys: []string{"K", "shift+up"}, Help: "select the previous link", Run: a.moveLink(-1)},
	}
	for i, v := range a.views {
		cs = append(cs, ui.Command{Name: strings.ToLower(v.view.Name()), Keys: []string{v.key}, Help: "the " + v.view.Name() + " view", Run: func(string) tea.Cmd {
			return a.turnTo(i)
		}})
	}
	cs = append(cs, a.momentCommands()...)
	if a.bench != nil {
		cs = append(cs, a.benchCommands()...)
	}
	if a.session != nil {
		cs = append(cs, a.timeCommands()...)
		cs = append(cs, a.linkCommands()...)
	}
	if a.levels != nil {
		cs = append(cs, a.proposeCommands()...)
	}
	return append(cs,
		ui.Command{Name: "prefer", Args: "[NAME VALUE]", Help: "theme, colours, lines, keys.COMMAND", Run: a.prefer, Complete: preferences},
		ui.Command{Name: "draw", Args: "FILE", Help: "save the picture as .svg or .pdf", Run: a.drawFile, Complete: ui.Files},
		ui.Command{Name: "draw-here", Keys: []string{"W"}, Help: "save the picture here as VIEW-N.svg", Run: a.drawHere},
		ui.Command{Name: "keep", Args: "FILE", Help: "save the capture so far as pcapng; FILE with levels has these too", Run: a.keep, Complete: ui.Files},
		ui.Command{Name: "quit", Keys: []string{"q"}, Help: "leave", Run: a.quit})
}

func (a *App) benchCommands() []ui.Command {
	return []ui.Command{
		{Name: "next-finding", Keys: []string{"!"}, Help: "go to the next link with something wrong", Run: a.nextFinding},
		{Name: "fix", Keys: []string{"f"}, Help: "correct the first finding the first way", Short: "fix", Run: a.fix(0)},
		{Name: "fix-other", Keys: []string{"F"}, Help: "correct the first finding the second way", Run: a.fix(1)},
		{Name: "undo", Keys: []string{"ctrl+z", "u"}, Help: "take the last edit back", Short: "undo", Run: func(string) tea.Cmd {
			if a.bench.Undo() {
				a.applied("taken back   Ctrl+Y makes it again")
			} else {
				a.Say("nothing to take back")
			}
			return nil
		}},
		{Name: "redo", Keys: []string{"ctrl+y", "U", "ctrl+r"}, Help: "make the edit again that was taken back", Run: func(string) tea.Cmd {
			if a.bench.Redo() {
				a.applied("made again")
			} else {
				a.Say("nothing to make again")
			}
			return nil
		}},
		{Name: "set", Args: "PATH VALUE", Help: "change a value: links.NAME.mcu.rate 19200", Run: func(arg string) tea.Cmd {
			edits, err := bench.ParseSet(arg, ' ')
			if err != nil {
				a.Warn("%v; write a path and a value: set links.lower-gauge.mcu.rate 19200", err)
				return nil
			}
			a.Edit(edits...)
			return nil
		}, Complete: a.settings},
		{Name: "remove", Args: "PATH", Help: "remove a value: its default holds then", Run: func(arg string) tea.Cmd {
			path, err := bench.ParsePath(arg)
			if err != nil {
				a.Warn("%v", err)
				return nil
			}
			a.Edit(finding.Edit{Op: finding.Delete, Path: path})
			return nil
		}, Complete: func(string) []string { return a.settable() }},
		{Name: "save", Args: "[FILE]", Keys: []string{"S", "ctrl+s"}, Help: "save the bench", Short: "save", Run: a.save, Complete: ui.Files},
		{Name: "reload", Help: "read the bench file again, as it is on disk", Run: a.readAgain},
		{Name: "checks", Keys: []string{"c"}, Help: "run the link's checks; Esc stops them", Short: "checks", Run: a.runChecks},
		{Name: "why", Keys: []string{"w"}, Help: "show how the next number came about", Short: "why", Run: func(string) tea.Cmd {
			if n := len(a.current().Why(a)); n > 0 {
				a.why = (a.why + 1) % n
			}
			return nil
		}},
	}
}

// The paces that are asked for by number.
const (
	leastSpeed = 1e-6
	mostSpeed  = 10_000
)

func (a *App) timeCommands() []ui.Command {
	pace := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			if a.session.Real() {
				a.Say("with a real port in the bench, time can't be stopped or bent")
				return nil
			}
			f()
			a.version = 0
			return nil
		}
	}
	return []ui.Command{
		{Name: "run", Keys: []string{"space"}, Help: "stop time, or let it go on", Short: "time", Run: pace(func() { a.session.World.SetRunning(!a.session.World.Pace().Running) })},
		{Name: "step", Keys: []string{"."}, Help: "stop, and go on to the next character", Run: pace(a.session.World.StepChar)},
		{Name: "step-bit", Keys: []string{","}, Help: "stop, and go on by one bit of the link", Run: pace(func() { a.session.World.StepBit(a.LinkIndex()) })},
		{Name: "stop-at", Args: "EVENT", Help: "run to error, parity, gap 5 ms, a TEXT or a filter", Run: a.stopAt, Complete: a.filters},
		{Name: "slower", Keys: []string{"["}, Help: "time at a tenth of the pace", Run: pace(func() { a.session.World.SetSpeed(a.session.World.Pace().Speed / 10) })},
		{Name: "faster", Keys: []string{"]"}, Help: "time at ten times the pace", Run: pace(func() { a.session.World.SetSpeed(a.session.World.Pace().Speed * 10) })},
		{Name: "speed", Args: "N", Help: "time at N times the real pace, as 20 or 0.5", Run: func(arg string) tea.Cmd {
			n, err := strconv.ParseFloat(strings.TrimPrefix(strings.TrimSpace(arg), "×"), 64)
			if err != nil || !(n >= leastSpeed && n <= mostSpeed) {
				a.Warn("write how many times the real pace, %g to %g, as speed 20", leastSpeed, float64(mostSpeed))
				return nil
			}
			return pace(func() { a.session.World.SetSpeed(n) })("")
		}},
		{Name: "record", Args: "FILE [LIMITS]", Help: "record to a pcapng file; limits: every 100 MB, every 10 min, keep 5, with levels", Run: a.record, Complete: ui.Files},
		{Name: "end-recording", Help: "close the file that is recorded to", Run: a.endRecording},
	}
}

// stopAt lets time go on to an event.
func (a *App) stopAt(arg string) tea.Cmd {
	if arg == "" {
		a.trigger = nil
		if !a.session.Real() {
			a.session.World.StopAt(nil)
		}
		a.Say("nothing is waited for any more; stop-at takes %s", capture.ConditionHelp)
		return nil
	}
	t, err := a.triggerOf(arg)
	switch {
	case err != nil:
		a.Warn("stop-at %s: %v", arg, err)
	case a.session.Real():
		a.trigger = t
		a.Say("the views stop at %s; time of a real port goes on", arg)
	default:
		a.session.World.StopAt(t)
		a.Say("time stops at %s", arg)
	}
	return nil
}

// filters completes a filter.
func (a *App) filters(arg string) []string {
	return filter.Complete(arg, filter.NounsOf(a.Bench(), a.snap.Meta()))
}

// triggerOf reads what is waited for: an event, a filter, or a word as text.
func (a *App) triggerOf(arg string) (sim.Trigger, error) {
	now := a.store.Snapshot()
	if n := len(arg); n > 2 && arg[0] == '"' && arg[n-1] == '"' {
		text, err := check.ParseText(arg[1 : n-1])
		return capture.NewTrigger(now, capture.Condition{Bytes: text}), err
	}
	want, err := capture.ParseCondition(arg, check.ParseText)
	if err == nil && want.Line != "" {
		_, _, err = now.Meta().Find(want.Line)
	}
	if want.Line != "" && err != nil {
		return nil, err
	}
	if err == nil && want.Bytes == nil {
		return capture.NewTrigger(now, want), nil
	}
	f, bad := filter.Parse(arg, filter.NounsOf(a.Bench(), now.Meta()))
	switch {
	case bad == nil:
		return filter.NewTrigger(a.Bench(), now, f), nil
	case err != nil:
		return nil, err
	case strings.Contains(arg, " "):
		return nil, fmt.Errorf("%w; a text with blanks stands in quotation marks", bad)
	}
	return capture.NewTrigger(now, want), nil
}

// halted goes to where a trigger stopped time, and says whether one did.
func (a *App) halted() bool {
	var h sim.Halt
	ok := false
	switch {
	case a.session == nil:
	case a.session.Real():
		if a.trigger != nil {
			h.Link, h.At, ok = a.trigger.Fired(a.snap)
		}
	default:
		h, ok = a.session.World.Halted()
	}
	if !ok {
		return false
	}
	a.trigger = nil
	a.link = int(h.Link)
	for _, v := range a.views {
		if f, ok := v.view.(ui.Finder); ok {
			f.Find(h.At, a)
		}
	}
	how := "space goes on"
	if a.session.Real() {
		how = "End follows again"
	}
	a.Say("stopped at %s on %s; %s", h.At, a.snap.Meta().Links[h.Link].Name, how)
	return true
}

// ask makes a command of an intent of one word.
func (a *App) ask(what string, make func(arg string) link.Intent) func(string) tea.Cmd {
	return func(arg string) tea.Cmd {
		if arg == "" {
			a.Warn("write %s", what)
			return nil
		}
		return a.Do(make(arg), nil)
	}
}

// linkCommands are what can be asked of a link.
func (a *App) linkCommands() []ui.Command {
	return []ui.Command{
		{Name: "cut", Args: "END", Help: "break a wire: mcu, a device, or a line", Run: a.ask("whose wire: mcu, a device, or a line as in", func(arg string) link.Intent { return link.Cut{End: arg} }), Complete: a.ends},
		{Name: "reconnect", Args: "END", Help: "join the wire there again", Run: a.ask("whose wire: mcu, a device, or a line as in", func(arg string) link.Intent { return link.Cut{End: arg, Joined: true} }), Complete: a.ends},
		{Name: "hold-line", Args: "LINE", Help: "hold a bus line at its active level", Run: a.ask("which line: "+a.roles(), func(arg string) link.Intent { return link.Hold{Role: arg} }), Complete: a.lineNames},
		{Name: "release-line", Args: "LINE", Help: "let it go", Run: a.ask("which line: "+a.roles(), func(arg string) link.Intent { return link.Hold{Role: arg, Release: true} }), Complete: a.lineNames},
		{Name: "loop-back", Args: "[off]", Help: "join out and in by a jumper", Run: func(arg string) tea.Cmd {
			if arg != "" && arg != "off" {
				a.Warn("write loop-back, or loop-back off")
				return nil
			}
			return a.Do(link.Loop{On: arg == ""}, nil)
		}},
		{Name: "cross", Args: "DEVICE", Help: "exchange the two wires at a device", Run: a.ask("at which device", func(arg string) link.Intent { return link.Cross{Device: arg} }), Complete: a.devices},
		{Name: "uncross", Args: "DEVICE", Help: "put them right again", Run: a.ask("at which device", func(arg string) link.Intent { return link.Cross{Device: arg, Right: true} }), Complete: a.devices},
		{Name: "power-off", Args: "DEVICE", Help: "take the supply from a device", Run: a.ask("which device", func(arg string) link.Intent { return link.Power{Device: arg} }), Complete: a.devices},
		{Name: "power-on", Args: "DEVICE", Help: "give it back", Run: a.ask("which device", func(arg string) link.Intent { return link.Power{Device: arg, On: true} }), Complete: a.devices},
		{Name: "transact", Args: "TRANSACTION", Help: "do one transaction on the link", Run: a.ask("the transaction"+a.planHelp(), func(arg string) link.Intent { return link.Transact{Text: arg} })},
	}
}

// roles lists the lines of the selected link.
func (a *App) roles() string {
	if l := a.captured(); l != nil {
		return strings.Join(l.Roles, ", ")
	}
	return ""
}

func (a *App) planHelp() string {
	if l := a.Link(); l != nil {
		return ": " + l.Kind.PlanHelp
	}
	return ""
}

func (a *App) viewNamed(arg string) tea.Cmd {
	for i, v := range a.views {
		if strings.EqualFold(v.view.Name(), arg) || v.key == arg {
			return a.turnTo(i)
		}
	}
	a.Warn("there is no view %q", arg)
	return nil
}

func (a *App) linkNamed(arg string) tea.Cmd {
	for i, l := range a.snap.Meta().Links {
		if l.Name == arg {
			a.link = i
			return nil
		}
	}
	a.Warn("there is no link %q", arg)
	return nil
}

func (a *App) linkFindings() []finding.Finding {
	return a.findingsAt(a.link)
}

// fixable gives the first finding of the link that can be mended.
func (a *App) fixable() (finding.Finding, bool) {
	for _, f := range a.linkFindings() {
		if len(f.Fixes) > 0 {
			return f, true
		}
	}
	return finding.Finding{}, false
}

func (a *App) fix(n int) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		f, ok := a.fixable()
		if !ok || n >= len(f.Fixes) {
			a.Say("nothing here can be fixed by a key")
			return nil
		}
		a.Edit(f.Fixes[n].Edits...)
		return nil
	}
}

func (a *App) save(arg string) tea.Cmd {
	path := a.path
	if arg != "" {
		path = arg
	}
	if path == "" {
		a.Warn("the demo has no file of its own: :save FOLDER/lock7.yaml writes it and its devices")
		return nil
	}
	written, err := a.bench.Save(path)
	switch {
	case errors.Is(err, bench.ErrChangedOnDisk):
		a.Warn("%s was changed by somebody else and is kept; yours is now %s", path, written)
	case err != nil:
		a.Warn("not saved: %v", err)
	default:
		a.path = written
		a.Say("saved %s", written)
	}
	return nil
}

// readAgain reads the bench file again. What was edited since it was saved is asked about.
func (a *App) readAgain(string) tea.Cmd {
	switch {
	case a.bench == nil || a.path == "":
		a.Warn("there is no file to read again: the demo ships with Gavrix")
		return nil
	case a.bench.Dirty() && !a.forgetting:
		a.forgetting = true
		a.Warn("the bench has unsaved edits: :save FILE keeps them, :reload again forgets them")
		return nil
	}
	if err := a.bench.Reload(a.path); err != nil {
		a.Warn("not read again: %v", err)
		return nil
	}
	a.applied("read again: " + a.path)
	return nil
}

func (a *App) runChecks(string) tea.Cmd {
	l := a.Link()
	switch {
	case a.session == nil:
		a.Say("checks ask the link, and a capture can't be asked; open the bench itself, or gavrix prove")
		return nil
	case l == nil:
		a.Say("the bench has no such link, so no checks of it")
		return nil
	case a.checking != "":
		a.Say("the checks of %s still run; Esc stops them", a.checking)
		return nil
	case len(l.Checks) == 0:
		a.Say("%s has no checks; write them below links.%s.checks in the bench", l.Name, l.Name)
		return nil
	case !a.session.Real() && !a.session.World.Pace().Running:
		a.Say("time is stopped; space lets it go on")
		return nil
	}
	ctx, cancel := context.WithCancel(context.Background())
	a.checking, a.cancel = l.Name, cancel
	s := a.session
	return func() tea.Msg {
		rs, err := prove.Link(ctx, s, l)
		return checkedMsg{l.Name, rs, err}
	}
}

func (a *App) checked(m checkedMsg) {
	a.checking, a.cancel = "", nil
	a.results[m.link] = m.results
	failed := 0
	for _, r := range m.results {
		if !r.Pass {
			failed++
		}
	}
	switch {
	case errors.Is(m.err, context.Canceled):
		a.Say("checks stopped after %d", len(m.results))
	case m.err != nil:
		a.Warn("checks: %v", m.err)
	case failed > 0:
		a.Warn("%s: %d of %d checks failed", m.link, failed, len(m.results))
	default:
		a.Say("%s: %s passed", m.link, quantity.Count(len(m.results), "check"))
	}
}

// drawHere saves the picture under a name that is free.
func (a *App) drawHere(string) tea.Cmd {
	for n := 1; ; n++ {
		name := fmt.Sprintf("%s-%d.svg", strings.ToLower(a.current().Name()), n)
		if _, err := os.Lstat(name); errors.Is(err, os.ErrNotExist) {
			return a.drawFile(name)
		} else if err != nil {
			a.Warn("%s can't be written: %v", name, err)
			return nil
		}
	}
}

func (a *App) drawFile(arg string) tea.Cmd {
	if arg == "" {
		a.Warn("name a file: draw frame.svg")
		return nil
	}
	pictured, ok := a.current().(ui.Pictured)
	if !ok {
		pictured = a.timing
	}
	s := pictured.Scene(a)
	if s == nil {
		a.Warn("there is no picture to save")
		return nil
	}
	return func() tea.Msg {
		var b strings.Builder
		var err error
		switch strings.ToLower(filepath.Ext(arg)) {
		case ".svg":
			err = svg.Write(&b, s)
		case ".pdf":
			err = pdf.Write(&b, s)
		default:
			err = fmt.Errorf("%s: the name must end in .svg or .pdf", arg)
		}
		if err == nil {
			err = regular.Replace(arg, []byte(b.String()), 0o644)
		}
		return wroteMsg{arg, err}
	}
}

// wroteMsg says what became of a file.
type wroteMsg struct {
	path string
	err  error
}

func (a *App) keep(arg string) tea.Cmd {
	if arg == "" {
		a.Warn("name a file: keep lock7.pcapng")
		return nil
	}
	snap, save := a.snap, pcapng.Save
	if path, with := strings.CutSuffix(arg, " with levels"); with {
		arg, save = strings.TrimSpace(path), pcapng.SaveAll
	}
	return func() tea.Msg {
		return wroteMsg{arg, regular.Write(arg, 0o600, func(w io.Writer) error { return save(w, snap) })}
	}
}

func (a *App) record(arg string) tea.Cmd {
	path, limits, err := pcapng.ParseLimits(arg)
	switch {
	case err != nil:
		a.Warn("%v", err)
	case path == "":
		a.Warn("name a file: record lock7.pcapng")
	case a.recorder != nil && a.recorder.Err() == nil:
		a.Say("recording already; :end-recording closes the file")
	case a.opening != nil:
		a.Warn("this is a recorded capture already; :keep FILE writes a copy")
	default:
		r, err := startRecorder(a.store, path, limits)
		if err != nil {
			a.Warn("%v", err)
			return nil
		}
		a.recorder = r
		a.Say("recording to %s", r.File())
	}
	return nil
}

func (a *App) endRecording(string) tea.Cmd {
	r := a.recorder
	if r == nil {
		a.Say("nothing is recorded")
		return nil
	}
	a.recorder = nil
	return func() tea.Msg {
		err := r.Close()
		if err != nil {
			err = fmt.Errorf("%s was not written whole: %w", r.File(), err)
		}
		return wroteMsg{r.File(), err}
	}
}

func (a *App) quit(string) tea.Cmd {
	if a.bench != nil && a.bench.Dirty() && !a.quitting {
		a.quitting = true
		if a.path == "" {
			a.Warn("the demo has edits: :save FOLDER/lock7.yaml keeps them, q again forgets them")
			return nil
		}
		a.Warn("the bench has unsaved edits: S saves, q again leaves without")
		return nil
	}
	return tea.Quit
}

// speedText prints a pace as ×1, ×2.5, ×10, ×1/100.
func speedText(s float64) string {
	times := func(v float64) string {
		if v < 10 {
			return strconv.FormatFloat(v, 'g', 3, 64)
		}
		return strings.TrimSuffix(quantity.Group(v, 0), ".0")
	}
	switch slow := 1 / s; {
	case s >= 1:
		return "×" + times(s)
	case math.Abs(slow-math.Round(slow)) < 1e-6*slow || slow >= 10:
		return "×1/" + times(slow)
	}
	return "×" + strconv.FormatFloat(s, 'g', 2, 64)
}
