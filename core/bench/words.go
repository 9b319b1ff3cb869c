package bench

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"gavrix/core/bus/uart"
	"gavrix/core/doc"
	"gavrix/core/finding"
	"gavrix/core/register"
)

// control is a setting of a unit that goes into a register field.
type control struct {
	name, doc string
	// word gives the setting in the words of a field's meanings.
	word func(s uart.Settings) string
}

// on is the word for what a working link needs switched on.
func on(uart.Settings) string { return "on" }

var controls = []control{
	{"data", "data bits, as 8", func(s uart.Settings) string { return fmt.Sprint(s.Frame.Data) }},
	{"parity", "parity: none, even, odd, mark, space", func(s uart.Settings) string { return s.Frame.Parity.String() }},
	{"stop", "stop bits: 1, 1.5, 2", func(s uart.Settings) string {
		if s.Frame.Half {
			return fmt.Sprintf("%d.5", s.Frame.Stop)
		}
		return fmt.Sprint(s.Frame.Stop)
	}},
	{"oversampling", "receiver samples a bit: 16, 8, 4", func(s uart.Settings) string { return fmt.Sprint(s.Oversampling) }},
	{"receive-interrupt", "interrupt when a character is received: on", on},
	{"enable", "the unit takes part: on", on},
}

// registers reads the file of control registers; nil without one.
func (x *binder) registers(dir fs.FS, n *doc.Node) *register.Map {
	if n == nil {
		return nil
	}
	name := n.Scalar
	f, err := dir.Open(name)
	if err != nil {
		x.fault("registers-unreadable", n.Place(), "check the name; it is looked for beside the bench", "%s can't be read: %v", name, err)
		return nil
	}
	defer f.Close()
	m, err := register.Read(path.Ext(name), f)
	if err != nil {
		x.fault("registers-bad", n.Place(), "mend that file", "%s: %v", name, err)
		return nil
	}
	return m
}

// Choice is a setting as it goes into a register.
type Choice struct {
	Register *register.Register
	Field    *register.Field
	Setting  string // what it is: data, rate
	Value    uint64
	Source   string // where it comes from: derived, chosen
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

// places gives where a link's settings go, by setting.
func (l *Link) places() map[string]string {
	out := map[string]string{}
	for _, c := range controls {
		if where := l.Unit.Control[c.name]; where != "" {
			out[c.name] = where
		}
	}
	for _, v := range l.Setting.Values {
		if v.Register != "" && v.Field != "" {
			out["rate "+v.Register+"."+v.Field] = v.Register + "." + v.Field
		}
	}
	return out
}

// control checks that the settings of a link find their fields. Whether they fit
// them is Lint's: a setting that the unit can't do can still be simulated.
func (x *binder) control(b *Bench, l *Link, n *doc.Node) {
	l.registers = b.MCU.Registers
	if l.registers == nil || l.Unit == nil {
		return
	}
	for _, where := range slices.Sorted(maps.Values(l.places())) {
		if _, _, err := place(l.registers, where); err != nil {
			x.fault("setting-has-no-field", n.Get("unit").Place(), "mend the unit's `control:` or its rate generator's register, or the table of registers", "%s: %v", l.Unit.Name, err)
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
func (l *Link) Words() ([]Word, error) {
	if l.registers == nil {
		return nil, nil
	}
	byName := map[string]*Word{}
	var out []*Word
	put := func(where, setting, word, source string) error {
		r, f, err := place(l.registers, where)
		if err != nil {
			return fmt.Errorf("%s: %w", setting, err)
		}
		v, err := f.Parse(word)
		if err != nil {
			return fmt.Errorf("%s: %w", setting, err)
		}
		w := byName[r.Name]
		if w == nil {
			w = &Word{Register: r, Value: r.Reset}
			byName[r.Name] = w
			out = append(out, w)
		}
		w.Value = w.Value&^f.Mask() | v<<f.Low
		w.Choices = append(w.Choices, Choice{r, f, setting, v, source})
		return nil
	}
	for _, c := range controls {
		if where := l.Unit.Control[c.name]; where != "" {
			if err := put(where, c.name, c.word(l.MCU), "chosen"); err != nil {
				return nil, err
			}
		}
	}
	source := "derived"
	if l.Chosen {
		source = "chosen"
	}
	for _, v := range l.Setting.Values {
		if v.Register == "" || v.Field == "" {
			continue
		}
		if err := put(v.Register+"."+v.Field, "rate", fmt.Sprint(v.Value), source); err != nil {
			return nil, err
		}
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
	out := map[string]*Wanted{}
	for _, l := range b.Links {
		words, err := l.Words()
		if err != nil {
			return nil, err
		}
		for _, w := range words {
			x := out[w.Name]
			if x == nil {
				x = &Wanted{Register: w.Register, Value: w.Reset}
				out[w.Name] = x
			}
			for _, c := range w.Choices {
				x.Value = x.Value&^c.Field.Mask() | c.Value<<c.Field.Low
				x.mask |= c.Field.Mask()
			}
		}
	}
	return out, nil
}
