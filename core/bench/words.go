package bench

import (
	"fmt"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/startup"
)

// registers reads the file of control registers; nil without one.
func (x *binder) registers(n *doc.Node) *register.Map {
	if n == nil {
		return nil
	}
	m, unreadable, bad := x.kept.registerMap(x.dir, n.Scalar)
	switch {
	case unreadable != nil:
		x.fault("registers-unreadable", n.Place(), "check the name; it is looked for beside the bench", "%s can't be read: %v", n.Scalar, unreadable)
	case bad != nil:
		x.fault("registers-bad", n.Place(), "fix that file", "%s: %v", n.Scalar, bad)
	}
	return m
}

// Choice is a setting as it goes into a register.
type Choice struct {
	Register *register.Register
	Field    *register.Field
	Setting  string // what it is: data, rate
	Role     string // of the start-up step that writes it
	Value    uint64
	Source   string // where it comes from: derived, chosen, needed
}

// Word is a whole register as a link's settings want it.
type Word struct {
	*register.Register
	Value   uint64
	Choices []Choice
	AtReset bool // as after reset: need not be written
}

// place finds REGISTER.FIELD.
func place(m *register.Map, text string) (*register.Register, *register.Field, error) {
	i := strings.LastIndexByte(text, '.')
	r := m.Named(text[:i])
	if r == nil {
		var known []string
		for k := range m.Registers {
			known = append(known, m.Registers[k].Name)
		}
		if near := doc.Nearest(text[:i], known); near != "" {
			return nil, nil, fmt.Errorf("there is no register %q; did you mean %s?", text[:i], near)
		}
		return nil, nil, fmt.Errorf("there is no register %q", text[:i])
	}
	f := r.Field(text[i+1:])
	if f == nil {
		return nil, nil, fmt.Errorf("register %s has no field %q", r.Name, text[i+1:])
	}
	return r, f, nil
}

// wish is a setting with the field that it goes into.
type wish struct {
	where, setting, role, word, source string
}

// written gives all settings of a link that go into fields while its unit talks to a
// device.
func (c *Link) written(dev int) []wish {
	out := append(c.Model.wishes(dev), c.selectors()...)
	for _, r := range startup.Roles {
		where, word := fieldAndWord(c.Unit.Control[r.Name])
		if where == "" || !r.Suits(c.Kind.Steps, c.Receive) || r.Name == "clear" {
			continue
		}
		if r.Name == "configuration" {
			// In the end it is left again; the chain knows that it was entered.
			out = append(out, wish{where, r.Name, "join", "off", "needed"})
			continue
		}
		out = append(out, wish{where, r.Name, r.Name, word, "needed"})
	}
	return out
}

// fieldAndWord takes REGISTER.FIELD = WORD apart; the word is on where there is
// none.
func fieldAndWord(text string) (where, word string) {
	where, word, given := strings.Cut(text, "=")
	if !given {
		word = "on"
	}
	return strings.TrimSpace(where), strings.TrimSpace(word)
}

// control checks that the settings of a link find their fields. Whether they fit
// them is Lint's: a setting that the unit can't do can still be simulated.
func (x *binder) control(l *Link) {
	if l.registers == nil || l.Unit == nil {
		return
	}
	wheres := []string{l.Unit.Control["clear"]}
	for _, w := range l.written(0) {
		wheres = append(wheres, w.where)
	}
	for _, where := range wheres {
		if where == "" {
			continue
		}
		if _, _, err := place(l.registers, where); err != nil {
			x.fault("setting-has-no-field", l.node.Get("unit").Place(), "correct the unit's `control:` or its rate generator's register, or the table of registers", "%s: %v", l.Unit.Name, err)
			return
		}
	}
}

// lintWords finds settings that the unit's registers have no value for.
func (l *Link) lintWords() []finding.Finding {
	if _, err := l.Words(); err != nil {
		return []finding.Finding{{
			Severity: finding.Error, Code: "setting-not-in-register", Where: l.node.Get("mcu").Place(),
			Seen: fmt.Sprintf("unit %s can't be set so: %v", l.Unit.Name, err), Why: "there is no value to write for it", Change: "choose what the unit has",
		}}
	}
	return nil
}

// Words gives the registers that the link's settings go into, whole, in order of
// their address; all other bits are as after reset. Without a description of the
// registers there are none.
func (l *Link) Words() ([]Word, error) { return l.WordsFor(0) }

// WordsFor gives the registers as the unit has them while it talks to the device
// with the index.
func (l *Link) WordsFor(dev int) ([]Word, error) {
	if l.registers == nil {
		return nil, nil
	}
	byName := map[string]*Word{}
	var out []*Word
	for _, x := range l.written(dev) {
		r, f, err := place(l.registers, x.where)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", x.setting, err)
		}
		v, err := f.Parse(x.word)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", x.setting, err)
		}
		w := byName[r.Name]
		if w == nil {
			w = &Word{Register: r, Value: r.Reset}
			byName[r.Name] = w
			out = append(out, w)
		}
		w.Value = w.Value&^f.Mask() | v<<f.Low
		w.Choices = append(w.Choices, Choice{r, f, x.setting, x.role, v, x.source})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Address < out[j].Address })
	words := make([]Word, len(out))
	for i, w := range out {
		w.AtReset = w.Value == w.Reset
		sort.SliceStable(w.Choices, func(i, j int) bool { return w.Choices[i].Field.Low > w.Choices[j].Field.Low })
		words[i] = *w
	}
	return words, nil
}

// SharedWord is a register as the settings of one link or of several want it.
type SharedWord struct {
	Word
	Links []string
}

// Words gives the registers of all links, whole: first those that several share,
// then link by link.
func (b *Bench) Words() ([]SharedWord, error) {
	byName := map[string]*SharedWord{}
	var order []*SharedWord
	for _, l := range b.Links {
		words, err := l.Words()
		if err != nil {
			return nil, err
		}
		for _, w := range words {
			x := byName[w.Name]
			if x == nil {
				x = &SharedWord{Word: Word{Register: w.Register, Value: w.Reset}}
				byName[w.Name] = x
				order = append(order, x)
			}
			x.Links = append(x.Links, l.Name)
			x.Choices = append(x.Choices, w.Choices...)
			for _, c := range w.Choices {
				x.Value = x.Value&^c.Field.Mask() | c.Value<<c.Field.Low
			}
			x.AtReset = x.Value == x.Reset
		}
	}
	sort.SliceStable(order, func(i, j int) bool { return len(order[i].Links) > 1 && len(order[j].Links) == 1 })
	out := make([]SharedWord, len(order))
	for i, x := range order {
		out[i] = *x
	}
	return out, nil
}

// Wanted is a register as the settings of all links want it.
type Wanted struct {
	*register.Register
	Value uint64
	mask  uint64 // of the fields that settings go into
}

// Differs says whether a value differs in a field that a setting goes into.
func (w *Wanted) Differs(v uint64) bool { return (v^w.Value)&w.mask != 0 }

// Wanted puts the words of all links together, by the register's name.
func (b *Bench) Wanted() (map[string]*Wanted, error) {
	words, err := b.Words()
	if err != nil {
		return nil, err
	}
	out := map[string]*Wanted{}
	for _, w := range words {
		x := &Wanted{Register: w.Register, Value: w.Value}
		for _, c := range w.Choices {
			x.mask |= c.Field.Mask()
		}
		out[w.Name] = x
	}
	return out, nil
}
