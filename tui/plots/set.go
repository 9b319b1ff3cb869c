package plots

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/setpoint"
	"gavrix.org/gavrix/core/values"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// pace is the least time from one sending of a set-point to the next: moves in between become
// one.
const pace = 100 * time.Millisecond

// mostBack bounds how far back the message of a set-point is looked for.
const mostBack = 2000

// knob is a value that is set by hand.
type knob struct {
	point  *setpoint.Point
	number float64 // what it was set to last
	turned bool
	roll   bool
	sent   time.Time
	move   *setpoint.Move // that waits to be sent
	moves  int            // that it stands for
}

// settable gives the name of the value that keys set: of a lane the first that can be.
func (v *View) settable() string {
	if v.page == listPage {
		if v.shown != nil && v.row < len(v.shown.rows) {
			return v.shown.rows[v.row].name
		}
		return ""
	}
	lanes := v.drawn()
	if v.lane >= len(lanes) {
		return ""
	}
	if v.shown != nil {
		for _, name := range lanes[v.lane] {
			for i := range v.shown.rows {
				if r := &v.shown.rows[i]; r.name == name && r.wrote {
					return name
				}
			}
		}
	}
	return lanes[v.lane][0]
}

// when does something with the book, now or as soon as it is free.
func (v *View) when(h ui.Host, f func(h ui.Host) tea.Cmd) tea.Cmd {
	if v.book == nil {
		h.Say("the values are being read: try again in a moment")
		return nil
	}
	if v.working {
		v.queue = append(v.queue, f)
		return nil
	}
	return f(h)
}

// turnTo sets the value under the cursor: to a text, or by steps where that is empty.
func (v *View) turnTo(h ui.Host, text string, by int) tea.Cmd {
	name := v.settable()
	if name == "" {
		h.Say("no value is under the cursor")
		return nil
	}
	return v.when(h, func(h ui.Host) tea.Cmd {
		n, err := v.book.Find(name)
		if err != nil {
			h.Warn("%v", err)
			return nil
		}
		links := h.Snapshot().Meta().Links
		k := v.knobs[n.String()]
		if k == nil {
			k = &knob{}
		}
		if k.point, err = setpoint.Of(h.Bench(), n, links[n.Link].Name); err != nil {
			h.Warn("%v", err)
			return nil
		}
		if h.Session() == nil {
			h.Warn("a capture is shown: nothing can be set")
			return nil
		}
		if int(n.Link) != int(h.LinkIndex()) {
			h.Warn("%s is on link %s: select that (J, K), it is set from there", name, links[n.Link].Name)
			return nil
		}
		k.point.Roll = k.roll
		v.knobs[n.String()] = k
		m, err := v.moved(h, k, v.book.Of(n), text, by)
		if err != nil {
			h.Warn("%v", err)
			return nil
		}
		if m.Same {
			h.Say("%s is at its end, %s: nothing is sent; r lets it roll over", name, m.Text)
			return nil
		}
		k.number, k.turned, k.move = m.Number, true, m
		k.moves++
		return v.flush(h)
	})
}

// moved says what a set-point is to become.
func (v *View) moved(h ui.Host, k *knob, s *values.Series, text string, by int) (*setpoint.Move, error) {
	snap := h.Snapshot()
	last := k.point.Last(func(yield func(*record.Record) bool) {
		n := 0
		for i := range snap.Before(snap.Len(), records.Query{Link: int(h.LinkIndex()), Traffic: true}) {
			if n++; n > mostBack || !yield(snap.At(i)) {
				return
			}
		}
	})
	if text != "" {
		return k.point.To(text, last)
	}
	now := k.number
	if !k.turned {
		if s == nil || s.Len() == 0 {
			return nil, fmt.Errorf("%s was not seen yet: e types what it is to be", k.point.Name)
		}
		_, now = s.At(s.Len() - 1)
	}
	return k.point.Step(now, by, last)
}

// flush sends the set-points whose time has come.
func (v *View) flush(h ui.Host) tea.Cmd {
	var cmds []tea.Cmd
	for _, k := range v.knobs {
		if k.move == nil || time.Since(k.sent) < pace {
			continue
		}
		m, moves := k.move, k.moves
		k.move, k.moves, k.sent = nil, 0, time.Now()
		name := k.point.Part + "." + k.point.Value
		note := ""
		switch {
		case moves > 1:
			note = fmt.Sprintf("; %d moves became one", moves)
		case m.Clamped:
			note = "; that is its end"
		case m.Rolled:
			note = "; it rolled over"
		}
		switch {
		case m.Edit != nil:
			h.Edit(*m.Edit)
			h.Say("%s set to %s%s: the firmware sends it from now on", name, m.Text, note)
		case m.Intent != nil:
			h.Say("%s set to %s%s", name, m.Text, note)
			cmds = append(cmds, h.Do(m.Intent, nil))
		default:
			cmds = append(cmds, v.operate(h, k, m, name, note))
		}
	}
	return tea.Batch(cmds...)
}

// operate writes a register's value.
func (v *View) operate(h ui.Host, k *knob, m *setpoint.Move, name, note string) tea.Cmd {
	op, err := operation.Parse(m.Operation, k.point.Link.Parts())
	if err != nil {
		h.Warn("%v", err)
		return nil
	}
	on := operate.On(h.Session(), h.Bench(), h.Link())
	return h.Work(func(ctx context.Context) ui.Done {
		r, err := on.Do(ctx, m.Operation, op)
		return func(h ui.Host) tea.Cmd {
			switch {
			case err != nil:
				h.Warn("%s: %v", name, err)
			case r.Verdict == operate.Fault || r.Verdict == operate.Refused:
				h.Warn("%s: not set to %s", name, m.Text)
			default:
				h.Say("%s set to %s%s", name, m.Text, note)
			}
			return nil
		}
	})
}

// setCommands are those that set values.
func (v *View) setCommands(h ui.Host) []ui.Command {
	return []ui.Command{
		{Name: "set-point", Args: "[QUANTITY]", Keys: []string{"e"}, Help: "set the value under the cursor; beyond its ends it stops there", Short: "set", Run: func(arg string) tea.Cmd {
			if arg != "" {
				return v.turnTo(h, arg, 0)
			}
			e := ui.NewEntry()
			v.entry = &e
			return nil
		}},
		{Name: "set-up", Keys: []string{">"}, Help: "one count more", Run: func(string) tea.Cmd { return v.turnTo(h, "", 1) }},
		{Name: "set-down", Keys: []string{"<"}, Help: "one count less", Run: func(string) tea.Cmd { return v.turnTo(h, "", -1) }},
		{Name: "roll-over", Keys: []string{"r"}, Help: "beyond its end a set-point goes on at the other, or stops", Run: func(string) tea.Cmd {
			name := v.settable()
			return v.when(h, func(h ui.Host) tea.Cmd {
				n, err := v.book.Find(name)
				if err != nil {
					h.Warn("%v", err)
					return nil
				}
				k := v.knobs[n.String()]
				if k == nil {
					k = &knob{}
					v.knobs[n.String()] = k
				}
				k.roll = !k.roll
				h.Say("%s %s", name, map[bool]string{true: "rolls over at its ends", false: "stops at its ends"}[k.roll])
				return nil
			})
		}},
	}
}

// Typing implements ui.View.
func (v *View) Typing() bool { return v.entry != nil }

// Type implements ui.View.
func (v *View) Type(key tea.KeyPressMsg, h ui.Host) tea.Cmd {
	switch key.String() {
	case "esc":
		v.entry = nil
	case "enter":
		text := v.entry.Text()
		v.entry = nil
		if text != "" {
			return v.turnTo(h, text, 0)
		}
	default:
		v.entry.Key(key)
	}
	return nil
}

// typing draws the set-point that is typed.
func (v *View) typing(a cells.Area) {
	if v.entry == nil {
		return
	}
	x := a.Text(0, a.H-1, cells.Strong, v.settable()+" = ")
	for i := x; i < a.W; i++ {
		a.Put(i, a.H-1, cells.Plain, ' ')
	}
	v.entry.Draw(a, x, a.H-1, "   Enter sets it, Esc leaves")
}
