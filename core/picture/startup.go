package picture

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/startup"
)

// Glyph marks the state of a start-up step.
func Glyph(s startup.State) string {
	return map[startup.State]string{
		startup.Done: "●", startup.AtReset: "·", startup.Missing: "✗", startup.OutOfOrder: "⇅", startup.Waits: "○", startup.NotSeen: "?",
	}[s]
}

// Chain puts verdicts in the order in which they are shown: the steps as they are
// done, missing ones where they belong, those that reset does at the end.
func Chain(vs []startup.Verdict, done []string) []startup.Verdict {
	var order []string
	for _, d := range done {
		if !slices.Contains(order, d) {
			order = append(order, d)
		}
	}
	for i, v := range vs {
		if slices.Contains(order, v.Name) || v.AtReset {
			continue
		}
		// Behind the last of those that usually come before it.
		at := 0
		for _, before := range vs[:i] {
			at = max(at, slices.Index(order, before.Name)+1)
		}
		order = slices.Insert(order, at, v.Name)
	}
	var out, rest []startup.Verdict
	for _, name := range order {
		for _, v := range vs {
			if v.Name == name {
				out = append(out, v)
			}
		}
	}
	for _, v := range vs {
		if !slices.Contains(order, v.Name) {
			rest = append(rest, v)
		}
	}
	return append(out, rest...)
}

// StateText says what became of a step.
func StateText(v startup.Verdict) string {
	switch {
	case v.State == startup.Waits && v.On != "":
		return "waits for " + startup.RoleNamed(v.On).Title
	case v.State == startup.OutOfOrder:
		return v.How
	}
	return v.State.String()
}

// Startup is the start-up chain of the MCU's end, as the firmware does it or as a
// dump shows it (from says which).
func Startup(l *bench.Link, vs []startup.Verdict, from string) *scene.Scene {
	s := &scene.Scene{Title: fmt.Sprintf("%s: startup of %s, %s", l.Name, l.Unit.Name, startup.Progress(vs))}
	n := 0
	for _, v := range vs {
		h := scene.Hop{Mark: "   " + Glyph(v.State), Name: v.Title, Value: v.Text(), Detail: StateText(v)}
		if v.State != startup.AtReset {
			n++
			h.Mark = fmt.Sprintf("%2d %s", n, Glyph(v.State))
		}
		switch v.State {
		case startup.AtReset, startup.NotSeen:
			h.Tone = scene.Quiet
		case startup.Waits:
			h.Tone = scene.Doubt
		case startup.Missing, startup.OutOfOrder:
			h.Tone, h.Under = scene.Differ, v.Why
		}
		s.Hops = append(s.Hops, h)
	}
	s.Notes = append(s.Notes, "Judged from "+from+".")
	return s
}

// Registers takes values of registers apart, field by field; what is as after
// reset stands on one line.
func Registers(title string, words []bench.SharedWord) *scene.Scene {
	s := &scene.Scene{Title: title}
	for _, w := range words {
		s.Hops = append(s.Hops, apart(w.Register, w.Value, strings.Join(w.Links, ", "))...)
	}
	return s
}

func apart(r *register.Register, value uint64, whose string) []scene.Hop {
	head := fmt.Sprintf("%s  0x%08X  = %s", r.Name, r.Address, r.Hex(value))
	detail := whose
	if value == r.Reset {
		detail += ", as after reset"
	}
	out := []scene.Hop{{Heading: true, Name: head, Detail: detail}}
	var same []string
	for _, p := range r.Apart(value) {
		if p.AtReset {
			same = append(same, p.Name+" "+p.Meaning)
			continue
		}
		out = append(out, scene.Hop{Mark: p.Range(), Name: p.Name, Value: fmt.Sprint(p.Meaning), Detail: p.About})
	}
	if len(same) > 0 {
		out = append(out, scene.Hop{Name: fmt.Sprintf("%d at reset", len(same)), Value: strings.Join(same, ", "), Tone: scene.Quiet})
	}
	return out
}
