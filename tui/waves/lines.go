package waves

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/tui/ui"
)

// arranged is how a link's lines are shown.
type arranged struct {
	order   []int          // the lines shown; nil for all
	names   map[int]string // given on the screen
	derived []derived
	plan    *intent.Plan

	found []found       // where records part from the plan
	agree int           // records that are as planned
	mark  records.Mark  // what came after it was not compared yet
	of    *capture.Meta // the capture in which they were
}

// derived is a line made from others of its link.
type derived struct {
	name  string
	expr  *wire.Derived
	lines []int // one for each of the expression's names
}

// of gives how the selected link is shown.
func (v *View) of(h ui.Host) *arranged { return v.at(h, int(h.LinkIndex())) }

// at gives how a link is shown. Links of a capture come and go, so an arrangement
// belongs to a name, a kind and lines, not to a place in the list.
func (v *View) at(h ui.Host, link int) *arranged {
	l := h.Snapshot().Meta().Links[link]
	key := strings.Join(append([]string{l.Name, l.Kind}, l.Roles...), "\x00")
	a := v.arranged[key]
	if a == nil {
		a = &arranged{names: map[int]string{}}
		v.arranged[key] = a
	}
	return a
}

// meaning says what records of a link mean by the device files of the bench.
func meaning(h ui.Host, link string) func(*record.Record) string {
	m := h.Meanings()
	return func(r *record.Record) string { return m.Brief(link, m.Of(link, r)) }
}

// band describes a link to the picture.
func (v *View) band(h ui.Host, i int, k *bus.Kind) picture.Band {
	l := h.Snapshot().Meta().Links[i]
	a := v.at(h, i)
	b := picture.Band{
		Link: uint16(i), Kind: k, Name: l.Name, Settings: h.Settings(i),
		Shown: a.order, Plan: a.plan, Meaning: meaning(h, l.Name),
	}
	for _, d := range a.derived {
		x := picture.Derived{Name: d.name, Expr: d.expr}
		for _, line := range d.lines {
			x.Inputs = append(x.Inputs, [2]int{i, line})
		}
		b.Derived = append(b.Derived, x)
	}
	b.LineNames = append(b.LineNames, lineNames(l)...)
	for line, name := range a.names {
		for len(b.LineNames) <= line {
			b.LineNames = append(b.LineNames, "")
		}
		b.LineNames[line] = name
	}
	return b
}

// called gives the present name of a line.
func (v *View) called(h ui.Host, k *bus.Kind, line int) string {
	b := v.band(h, int(h.LinkIndex()), k)
	if line < len(b.LineNames) && b.LineNames[line] != "" {
		return b.LineNames[line]
	}
	return k.Lines[line].Name
}

// find gives the selected link's line of a name, or -1 with a warning.
func (v *View) find(h ui.Host, k *bus.Kind, name string) int {
	var known []string
	for i, r := range k.Lines {
		if _, ok := h.Snapshot().Kept(h.LinkIndex(), i); !ok {
			continue
		}
		if n := v.called(h, k, i); n == name || r.Name == name {
			return i
		}
		known = append(known, v.called(h, k, i))
	}
	h.Warn("there is no line %q; the link has %s", name, strings.Join(known, ", "))
	return -1
}

// order gives the lines shown, to be changed.
func (v *View) order(h ui.Host, k *bus.Kind) []int {
	if a := v.of(h); a.order != nil {
		return a.order
	}
	var out []int
	for i := range k.Lines {
		if _, ok := h.Snapshot().Kept(h.LinkIndex(), i); ok {
			out = append(out, i)
		}
	}
	return out
}

// lineCommands arrange lines and plan transactions.
func (v *View) lineCommands(h ui.Host) []ui.Command {
	on := func(f func(k *bus.Kind, arg string)) func(string) tea.Cmd {
		return func(arg string) tea.Cmd {
			if k, _ := kind(h); k != nil {
				f(k, arg)
			}
			return nil
		}
	}
	return []ui.Command{
		{Name: "hide", Args: "LINE", Help: "hide a line of the link", Run: on(func(k *bus.Kind, arg string) {
			if i := v.find(h, k, arg); i >= 0 {
				v.of(h).order = slices.DeleteFunc(slices.Clone(v.order(h, k)), func(l int) bool { return l == i })
			}
		})},
		{Name: "show-all", Help: "show all lines in their own order", Run: on(func(*bus.Kind, string) { v.of(h).order = nil })},
		{Name: "first-line", Args: "LINE", Help: "move a line of the link to the top", Run: on(func(k *bus.Kind, arg string) {
			if i := v.find(h, k, arg); i >= 0 {
				rest := slices.DeleteFunc(slices.Clone(v.order(h, k)), func(l int) bool { return l == i })
				v.of(h).order = append([]int{i}, rest...)
			}
		})},
		{Name: "name", Args: "LINE NAME", Help: "give a line of the link another name", Run: on(func(k *bus.Kind, arg string) {
			line, name, ok := strings.Cut(arg, " ")
			if !ok {
				h.Warn("write the line and its new name: name in3 gauge-out")
			} else if i := v.find(h, k, line); i >= 0 {
				v.of(h).names[i] = strings.TrimSpace(name)
			}
		})},
		{Name: "derive", Args: "NAME = EXPR", Help: "show a line made from others", Run: on(func(k *bus.Kind, arg string) { v.derive(h, k, arg) })},
		{Name: "plan", Args: "[TRANSACTION]", Help: "say what should be there; alone: nothing", Run: on(func(k *bus.Kind, arg string) { v.planned(h, k, arg) })},
		{Name: "plan-alone", Keys: []string{"o"}, Help: "draw the plan alone, or the capture", Run: on(func(*bus.Kind, string) {
			if v.of(h).plan == nil {
				h.Say("nothing is planned for this link: :plan TRANSACTION")
				return
			}
			v.alone = !v.alone
		})},
		{Name: "plan-mode", Keys: []string{"M"}, Help: "draw the plan in the next of the modes that its bus has", Run: on(func(*bus.Kind, string) { v.nextVariant(h) })},
		{Name: "next-difference", Keys: []string{"d"}, Help: "next place not as planned or sent", Short: "difference", Run: on(func(*bus.Kind, string) { v.difference(h, false) })},
		{Name: "previous-difference", Keys: []string{"D"}, Help: "the difference before", Run: on(func(*bus.Kind, string) { v.difference(h, true) })},
	}
}

// derive adds a line made by an expression, or takes it away without one.
func (v *View) derive(h ui.Host, k *bus.Kind, arg string) {
	name, expr, ok := strings.Cut(arg, "=")
	name = strings.TrimSpace(name)
	a := v.of(h)
	if !ok || name == "" {
		h.Warn("write a name and an expression: derive busy = not select")
		return
	}
	a.derived = slices.DeleteFunc(a.derived, func(d derived) bool { return d.name == name })
	if strings.TrimSpace(expr) == "" {
		h.Say("%s is no longer shown", name)
		return
	}
	e, err := wire.ParseExpression(expr)
	if err != nil {
		h.Warn("%v", err)
		return
	}
	d := derived{name: name, expr: e}
	for _, in := range e.Inputs {
		i := v.find(h, k, in)
		if i < 0 {
			return
		}
		d.lines = append(d.lines, i)
	}
	a.derived = append(a.derived, d)
	h.Say("%s is shown below the link's lines; derive %s = takes it away", name, name)
}
