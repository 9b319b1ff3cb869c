package bench

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/startup"
)

// Chain gives the start-up chain of the MCU's end: the fields that its settings
// go into, step by step. Without a description of the registers it is empty.
func (l *Link) Chain() (startup.Chain, error) {
	c := startup.Chain{Locked: l.Unit.Locked, Latched: l.Unit.Latched}
	words, err := l.Words()
	if err != nil || l.registers == nil {
		return c, err
	}
	var steps []*startup.Step
	byRole := map[string]*startup.Step{}
	step := func(name string) *startup.Step {
		if byRole[name] == nil {
			byRole[name] = &startup.Step{Role: startup.RoleNamed(name)}
			steps = append(steps, byRole[name])
		}
		return byRole[name]
	}
	for _, w := range words {
		writes := map[string]*startup.Write{}
		var order []string
		for _, ch := range w.Choices {
			at := writes[ch.Role]
			if at == nil {
				at = &startup.Write{Register: w.Register}
				writes[ch.Role] = at
				order = append(order, ch.Role)
			}
			at.Mask |= ch.Field.Mask()
			at.Value |= ch.Value << ch.Field.Low
			if at.Text != "" {
				at.Text += ", "
			}
			at.Text += ch.Field.Name + " " + ch.Field.Meaning(ch.Value)
		}
		for _, role := range order {
			step(role).Writes = append(step(role).Writes, *writes[role])
		}
	}
	if where, word := fieldAndWord(l.Unit.Control["configuration"]); where != "" {
		r, f, err := place(l.registers, where)
		if err != nil {
			return c, err
		}
		v, err := f.Parse(word)
		if err != nil {
			return c, fmt.Errorf("configuration: %w", err)
		}
		step("configuration").Writes = []startup.Write{{Register: r, Mask: f.Mask(), Value: v << f.Low, Text: f.Name + " " + f.Meaning(v)}}
	}
	if where := l.Unit.Control["clear"]; where != "" {
		r, f, err := place(l.registers, where)
		if err != nil {
			return c, err
		}
		s := step("clear")
		s.Pending = len(l.LeftOver) > 0
		s.Writes = append(s.Writes, startup.Write{Register: r, Mask: f.Mask(), Text: f.Name + " cleared"})
	}
	return c.With(steps...), nil
}

// Steps are the start-up steps that the firmware does.
func (l *Link) Steps(c startup.Chain) []string {
	if l.Startup != nil {
		return l.Startup
	}
	return c.Needed()
}

// lintStart finds start-up steps that are missing or stand where they have no
// effect, and what belongs to another unit.
func (l *Link) lintStart() []finding.Finding {
	var out []finding.Finding
	if l.Handler != "" && l.Handler != l.Unit.Name {
		out = append(out, finding.Finding{
			Severity: finding.Error, Code: "handler-of-another-unit", Where: l.node.Get("mcu", "handler").Place(),
			Seen:   fmt.Sprintf("the link is on %s, its interrupt handler is that of %s", l.Unit.Name, l.Handler),
			Why:    fmt.Sprintf("the handler of %s never runs: the first character waits, overrun from the second one on", l.Unit.Name),
			Change: "write the handler of " + l.Unit.Name,
			Fixes:  []finding.Fix{{Label: "handler of " + l.Unit.Name, Edits: []finding.Edit{{Op: finding.Delete, Path: l.path("mcu", "handler")}}}},
		})
	}
	c, err := l.Chain()
	if err != nil || len(c.Steps) == 0 {
		return out // Words' own fault, or nothing is described
	}
	where := l.node.Get("mcu", "startup").Place()
	for _, name := range l.Startup {
		if c.Step(name) == nil {
			out = append(out, finding.Finding{
				Severity: finding.Note, Code: "startup-step-unknown", Where: where,
				Seen: fmt.Sprintf("step %s: unit %s does not say which field it writes", name, l.Unit.Name), Change: "add it below the unit's `control:`, or leave it out here",
			})
		}
	}
	done := l.Steps(c)
	mended := false
	for _, v := range c.Judge(done) {
		if !v.Broken() {
			continue
		}
		f := finding.Finding{Severity: finding.Error, Code: "startup-step-missing", Where: where, Why: v.Why}
		f.Seen = fmt.Sprintf("%s: startup step %s (%s) is missing", l.Unit.Name, v.Name, v.Title)
		f.Change = "do it: " + v.Text()
		if v.State == startup.OutOfOrder {
			f.Code = "startup-out-of-order"
			f.Seen = fmt.Sprintf("%s: startup step %s (%s) %s", l.Unit.Name, v.Name, v.Title, v.How)
			f.Change = "put it where it has its effect"
		}
		if !mended {
			mended = true
			steps, moved := c.Mended(done)
			label := "do all steps in their usual order"
			if moved != "" {
				label = "do: " + c.Step(moved).Title
				if slices.Contains(done, moved) {
					label = "move: " + c.Step(moved).Title
				}
			}
			f.Fixes = []finding.Fix{{Label: label, Edits: []finding.Edit{l.StartEdit(steps)}}}
		}
		out = append(out, f)
	}
	return out
}

// StartEdit gives the edit that makes the firmware do these steps, in this order.
func (l *Link) StartEdit(steps []string) finding.Edit {
	if c, err := l.Chain(); err == nil && slices.Equal(steps, c.Needed()) {
		return finding.Edit{Op: finding.Delete, Path: l.path("mcu", "startup")}
	}
	return finding.Edit{Path: l.path("mcu", "startup"), Value: strings.Join(steps, ", ")}
}
