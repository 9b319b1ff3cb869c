package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/tui/ui"
)

// moment is a time that was chosen in a view; all others go to it.
type moment struct {
	from   quantity.Time // when what was selected began
	at     quantity.Time // and ended
	chosen bool
	past   *ledger.Ledger // what was known of registers then; nil until that is reckoned
}

// mostPast bounds the records that are looked at for what was known of registers at a moment.
const mostPast = 50_000

// turnTo shows a view. What is selected in the one before is where it stands.
func (a *App) turnTo(i int) tea.Cmd {
	var cmd tea.Cmd
	if s, is := a.current().(ui.Selector); is && i != a.view {
		if from, to, ok := s.Selected(); ok {
			cmd = a.choose(from, to, a.current())
		} else {
			a.moment = moment{}
		}
	}
	a.view, a.focus = i, viewPane
	return cmd
}

// choose takes all views but one to a moment.
func (a *App) choose(from, to quantity.Time, but ui.View) tea.Cmd {
	if a.moment.chosen && a.moment.from == from {
		return nil // it is where the views stand
	}
	a.moment = moment{from: from, at: to, chosen: true}
	for _, v := range a.views {
		if f, ok := v.view.(ui.Finder); ok && v.view != but {
			f.Find(from, a)
		}
	}
	if a.bench == nil {
		return nil
	}
	b, snap := a.bench.Still(), a.snap
	return func() tea.Msg {
		past := ledger.New(b)
		past.Until(snap, to, mostPast)
		return ui.Done(func(ui.Host) tea.Cmd {
			if a.moment.chosen && a.moment.at == to && past.Fits(a.bench) {
				a.moment.past = past
			}
			return nil
		})
	}
}

// then gives what was known of registers at the chosen moment; nil where there is none, or the
// bench was edited since.
func (a *App) then() *ledger.Ledger {
	if p := a.moment.past; p != nil && p.Fits(a.bench) {
		return p
	}
	return nil
}

// Moment implements ui.Host.
func (a *App) Moment() quantity.Time {
	if a.then() != nil {
		return a.moment.at
	}
	return a.Now()
}

// Ledger implements ui.Host.
func (a *App) Ledger() *ledger.Ledger {
	if p := a.then(); p != nil {
		return p
	}
	return a.ledger
}

// momentCommands are those about moments.
func (a *App) momentCommands() []ui.Command {
	return []ui.Command{
		{Name: "at", Args: "TIME", Help: "all views to that time of the capture", Run: func(arg string) tea.Cmd {
			t, err := quantity.ParseTime(arg)
			if err != nil || t < 0 {
				a.Warn("write a time of the capture, as at 1.25 s")
				return nil
			}
			if t > a.snap.Now {
				a.Warn("at %s: the capture has come to %s", arg, a.snap.Now.Round(6))
				return nil
			}
			a.moment = moment{} // a view may have moved since
			return a.choose(t, t, nil)
		}},
		{Name: "now", Keys: []string{"ctrl+g"}, Help: "registers as they are now, not at a selected moment", Run: func(string) tea.Cmd {
			a.moment = moment{}
			return nil
		}},
		{Name: "note", Args: "TEXT", Keys: []string{"*"}, Help: "write something down: about what is selected, else now", Run: a.note},
		{Name: "on", Args: "EVENT do COMMAND", Help: "a command whenever an event or filter is met; alone: which; off: none", Run: a.on, Complete: func(arg string) []string {
			if _, _, has := strings.Cut(arg, " do "); has {
				return nil
			}
			return a.filters(arg)
		}},
		{Name: "alert", Args: "TEXT", Help: "ring, and show a text", Run: func(arg string) tea.Cmd {
			a.Warn("%s", arg)
			return tea.Raw("\a")
		}},
	}
}

// note writes something down in the capture.
func (a *App) note(arg string) tea.Cmd {
	if arg == "" {
		e := ui.NewEntry()
		e.Set("note ")
		a.command, a.picked = &e, -1
		return nil
	}
	at, link := a.Now(), a.LinkIndex()
	if s, is := a.current().(ui.Selector); is {
		if from, _, ok := s.Selected(); ok {
			at = from
		}
	}
	if l, is := a.current().(ui.Linked); is {
		if n, ok := l.SelectedLink(); ok {
			link = n
		}
	}
	a.store.Note(link, at, arg)
	a.version = 0
	where := ""
	if a.session == nil {
		where = "; :keep FILE writes a capture with it"
	} else if a.recorder == nil {
		where = "; :record FILE keeps it"
	}
	a.Say("noted at %s%s", at.Round(6), where)
	return nil
}

// reaction is a command that is carried out whenever something is seen.
type reaction struct {
	text    string
	event   string
	command string
	trigger sim.Trigger
	met     int
}

// mostReactions bounds how many there are.
const mostReactions = 16

// on reads EVENT do COMMAND.
func (a *App) on(arg string) tea.Cmd {
	event, command, has := strings.Cut(arg, " do ")
	command = strings.TrimPrefix(strings.TrimSpace(command), ":")
	switch {
	case arg == "off":
		a.Say("%s ended", plural(len(a.reactions), "reaction"))
		a.reactions = nil
		return nil
	case arg == "":
		if len(a.reactions) == 0 {
			a.Say("nothing is waited for; write on EVENT do COMMAND, as on pump errors do note bad frame")
			return nil
		}
		var all []string
		for _, r := range a.reactions {
			all = append(all, fmt.Sprintf("%s (met %d times)", r.text, r.met))
		}
		a.Say("%s; on off ends all", strings.Join(all, "; "))
		return nil
	case !has || command == "":
		a.Warn("write EVENT do COMMAND, as on pump errors do note bad frame")
		return nil
	case len(a.reactions) == mostReactions:
		a.Warn("there are %d already; on off ends all", mostReactions)
		return nil
	}
	name, _, _ := strings.Cut(command, " ")
	known := false
	for _, c := range a.allCommands() {
		known = known || c.Name == name
	}
	if !known || name == "on" {
		a.Warn("on %s: there is no command %q to do then", event, name)
		return nil
	}
	t, err := a.triggerOf(event)
	if err != nil {
		a.Warn("on %s: %v", event, err)
		return nil
	}
	a.reactions = append(a.reactions, &reaction{text: arg, event: event, command: command, trigger: t})
	a.Say("from now on: %s", arg)
	return nil
}

// react carries out what is to be done for what was seen; at most once each between two
// pictures.
func (a *App) react() tea.Cmd {
	var cmds []tea.Cmd
	for _, r := range a.reactions {
		link, at, ok := r.trigger.Fired(a.snap)
		if !ok {
			continue
		}
		r.met++
		if _, once := r.trigger.(*capture.Trigger); once {
			if t, err := a.triggerOf(r.event); err == nil {
				r.trigger = t
			}
		}
		was := a.link
		a.link = int(link)
		name, text, _ := strings.Cut(r.command, " ")
		if name == "note" && text != "" {
			// It is about what was seen.
			a.store.Note(link, at, text)
			a.Say("noted at %s: %s", at.Round(6), text)
		} else {
			cmds = append(cmds, a.runCommand(r.command))
		}
		if a.link == int(link) {
			a.link = was
		}
	}
	return tea.Batch(cmds...)
}
