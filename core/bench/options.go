package bench

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/register"
)

// readOptions reads the lasting option words.
func (x *binder) readOptions(n *doc.Node, m *register.Map) {
	for _, o := range n.All() {
		var r *register.Register
		if m != nil {
			r = m.Named(o.Text("register"))
		}
		if r == nil {
			x.fault("option-without-register", o.Get("register").Place(), "describe it in the table of registers", "option %s: there is no register %q", o.Key, o.Text("register"))
			continue
		}
		w := &option{Register: r, name: o.Key, place: o.KeyPlace()}
		w.programmed = uint64(doc.Of[int](o, "programmed"))
		w.wanted = w.programmed
		if o.Get("wanted") != nil {
			w.wanted = uint64(doc.Of[int](o, "wanted"))
		}
		x.options = append(x.options, w)
	}
}

// hop reads what a clock says of a selector, or of an option that sets its factor.
func (x *binder) hop(h *clock.Hop, c, from *doc.Node) {
	if of := c.Get("of"); of != nil {
		if c.Get("times") != nil || c.Get("divide") != nil || c.Get("divide-option") != nil {
			x.fault("clock-factor", of.KeyPlace(), "make two clocks, one after the other", "clock %s both selects and changes the frequency", c.Key)
		}
		h.Op, h.Field = clock.Select, c.Text("select")
		for _, o := range of.All() {
			h.Of = append(h.Of, o.Scalar)
		}
		if !slices.Contains(h.Of, from.Scalar) {
			x.fault("clock-not-selectable", from.Place(), "write one of "+strings.Join(h.Of, ", "), "clock %s can't be made from %s", c.Key, from.Scalar)
		}
		return
	}
	if s := c.Get("select"); s != nil {
		x.fault("select-without-clocks", s.KeyPlace(), "add `of:` with the clocks to choose from", "clock %s names a field for its choice, and no clocks", c.Key)
	}
	where := c.Text("divide-option")
	if where == "" {
		return
	}
	if c.Get("times") != nil || c.Get("divide") != nil {
		x.fault("clock-factor", c.Get("divide-option").KeyPlace(), "keep one of them", "clock %s has two factors", c.Key)
	}
	at := c.Get("divide-option").Place()
	i := strings.LastIndexByte(where, '.')
	known := slices.IndexFunc(x.options, func(o *option) bool { return o.name == where[:i] })
	if known < 0 {
		x.fault("unknown-option", at, "add it below mcu.options", "there is no option %q", where[:i])
		return
	}
	o := x.options[known]
	o.clocks = true
	f := o.Field(where[i+1:])
	if f == nil {
		x.fault("unknown-option", at, "name a field of "+o.Name, "option %s has no field %q", where[:i], where[i+1:])
		return
	}
	factor := func(word uint64) int {
		n, err := strconv.Atoi(f.Meaning(f.Of(word)))
		if err != nil || n < 1 {
			x.fault("option-without-factor", at, "give the field's values factors as meanings", "%s = %d means %q, which is no factor", where, f.Of(word), f.Meaning(f.Of(word)))
			return 1
		}
		return n
	}
	h.Op, h.Factor, h.Option = clock.Divide, factor(o.programmed), where
	if w := factor(o.wanted); w != h.Factor {
		h.Wanted = w
	}
}

// misclocked reports whether an option gives the unit another clock than is wanted. Then no
// setting is at fault.
func (l *Link) misclocked() bool { return l.Unit.Clock.Meant() != l.Unit.Clock.Freq() }

const correctClock = "correct the clock, not the setting"

// lintOptions finds options that give another clock than is wanted: what no write
// at run time mends. Words that decide no clock are the first link's to tell.
func (l *Link) lintOptions() []finding.Finding {
	var out []finding.Finding
	for _, h := range l.Unit.Clock {
		if h.Wanted == 0 {
			continue
		}
		f := finding.Finding{
			Severity: finding.Error, Code: "option-not-as-wanted", Where: l.node.Get("unit").Place(),
			Seen:   fmt.Sprintf("non-volatile option %s divides clock %s by %d, wanted is %d: %s instead of %s", h.Option, h.Name, h.Factor, h.Wanted, h.Freq, h.Expected),
			Why:    fmt.Sprintf("every rate after it is %s of what was calculated for the wanted word", times(float64(h.Wanted)/float64(h.Factor))),
			Change: "program the option, or calculate with the clock as it is: `wanted:` as it is programmed",
		}
		for _, o := range l.options {
			if strings.HasPrefix(h.Option, o.name+".") {
				f.Why += "; " + o.differences()
			}
		}
		out = append(out, f)
	}
	for _, o := range l.options {
		if l.Index == 0 && !o.clocks && o.programmed != o.wanted {
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "option-word-differs", Where: o.place,
				Seen: "non-volatile option " + o.differences(), Why: "no write at run time changes it", Change: "program the option, or write what is programmed as `wanted:`",
			})
		}
	}
	return out
}

// differences lists the fields and the bits in which the programmed word is not as wanted.
func (o *option) differences() string {
	changes, reserved := o.Compare(o.wanted, o.programmed)
	var parts []string
	value := func(v uint64, meaning string) string {
		if n := strconv.FormatUint(v, 10); meaning == "" || meaning == n {
			return n
		}
		return fmt.Sprintf("%d (%s)", v, meaning)
	}
	for _, c := range changes {
		parts = append(parts, fmt.Sprintf("%s (bits %s) %s instead of %s", c.Name, c.Range(), value(c.Is, c.IsMeaning), value(c.Was, c.WasMeaning)))
	}
	if reserved != 0 {
		parts = append(parts, fmt.Sprintf("reserved bits %s", o.Hex(reserved)))
	}
	return fmt.Sprintf("%s is programmed %s, wanted is %s: %s", o.name, o.Hex(o.programmed), o.Hex(o.wanted), strings.Join(parts, ", "))
}

func times(x float64) string {
	switch x {
	case 0.5:
		return "half"
	case 0.25:
		return "one quarter"
	}
	return fmt.Sprintf("%.3g times", x)
}

// selectors are the choices of the clock path that go into fields.
func (l *Link) selectors() []wish {
	var out []wish
	for i, h := range l.Unit.Clock {
		if h.Op == clock.Select && h.Field != "" {
			out = append(out, wish{h.Field, "clock " + h.Name, "clock", l.Unit.Clock[i-1].Name, "chosen"})
		}
	}
	return out
}
