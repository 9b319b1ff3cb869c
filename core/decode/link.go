package decode

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// Line is where the levels of a line of a bus come from: a line of the source,
// several by an expression, or none.
type Line struct {
	inputs  []int // index into the source's names
	derived *wire.Derived
}

// Present says whether there is such a line.
func (l Line) Present() bool { return len(l.inputs) > 0 }

func (l Line) window(ws []wire.Window) wire.Window {
	if l.derived != nil {
		return l.derived.Window(ws)
	}
	return ws[0]
}

// Link says which lines are which bus.
type Link struct {
	Name string
	Kind *bus.Kind
	// Settings are those of the ends, the MCU's first; a single one holds for all.
	Settings []bus.Settings
	Ends     []string // what the ends are called
	Lines    []Line   // by role
	// Filter is the width of the pulses that are left out of the lines before they are decoded.
	Filter quantity.Time
}

// Roles are the parts that lines play on the link, called by its devices where they have names.
func (l *Link) Roles() []bus.Role {
	if len(l.Ends) > 1 && len(l.Ends) == len(l.Settings) {
		return l.Kind.RolesFor(l.Ends[1:])
	}
	return l.Kind.RolesOf(l.Settings)
}

// decoder gives the link's decoder; nil for lines that nobody has described, and where there are
// none.
func (l *Link) decoder(index uint16) bus.Decoder {
	if l.Kind.Decoder == nil || l.Absent() {
		return nil
	}
	return l.Kind.Decoder(index, l.Settings)
}

// receivers gives what the receiving ends read; nil where an ideal tap sees what they do.
func (l *Link) receivers(index uint16) bus.Decoder {
	if l.Kind.Receivers == nil || l.Absent() {
		return nil
	}
	return l.Kind.Receivers(index, l.Settings)
}

// ParseLink reads a link in the words of a bench: a name, the kind of bus, and
// roles and settings as key=value, as
//
//	gauge uart device=top.rx rate=28.8kBd frame=7E1
//
// A value with blanks stands in double quotes. A line may be a boolean
// expression over lines of the source (wire.ParseExpression).
func ParseLink(text string, names []string) (Link, error) {
	words, err := split(text)
	if err != nil {
		return Link{}, fmt.Errorf("%q: %w", text, err)
	}
	if len(words) < 2 {
		return Link{}, fmt.Errorf("%q: write a name, a kind of bus, and key=value pairs", text)
	}
	l := Link{Name: words[0], Kind: all.ByName(words[1])}
	if l.Kind == nil {
		return Link{}, fmt.Errorf("%q: there is no bus %q; known are %s", text, words[1], strings.Join(all.Names(), ", "))
	}
	l.Lines = make([]Line, len(l.Kind.Lines))
	settings := "{"
	for _, w := range words[2:] {
		key, value, ok := strings.Cut(w, "=")
		if !ok {
			return Link{}, fmt.Errorf("%q: %q is no key=value", text, w)
		}
		role := l.role(key)
		if key == filterKey && !slices.ContainsFunc(l.Kind.Schema.Keys(), func(k doc.Key) bool { return k.Name == filterKey }) {
			if l.Filter, err = quantity.ParseSpan(value); err != nil || l.Filter > mostFilter {
				return Link{}, fmt.Errorf("%q: filter=%s: write the width of the pulses that are left out, as 50ns, up to %s", text, value, mostFilter)
			}
			continue
		}
		if role < 0 {
			settings += fmt.Sprintf("%q: %q, ", key, value)
			continue
		}
		if l.Lines[role], err = parseLine(names, value); err != nil {
			return Link{}, fmt.Errorf("%q: %w", text, err)
		}
	}
	set, err := ParseSettings(l.Kind, settings+"}")
	if err != nil {
		return Link{}, fmt.Errorf("%q: %w", text, err)
	}
	l.Settings = []bus.Settings{set}
	return l, l.complete(text)
}

// filterKey leaves short pulses out of the lines of any bus. One that has such a filter itself, as
// inputs of I2C do, has it among its settings.
const filterKey = "filter"

// mostFilter bounds the filter: the lines are known only so much later.
const mostFilter = 10 * quantity.Millisecond

// ParseSettings reads the settings of an end from a map in the words of a
// bench.
func ParseSettings(k *bus.Kind, text string) (bus.Settings, error) {
	file, faults := doc.Parse("settings", []byte(text))
	if file == nil {
		return nil, errors.New(faults[0].Seen)
	}
	if faults := k.Schema.Validate(file.Root); len(faults) > 0 {
		return nil, fmt.Errorf("%s; %s", faults[0].Seen, faults[0].Change)
	}
	return k.Parse(file.Root)
}

// SplitSettings makes a map of key=value words.
func SplitSettings(text string) (string, error) {
	words, err := split(text)
	if err != nil {
		return "", fmt.Errorf("%q: %w", text, err)
	}
	out := "{"
	for _, w := range words {
		key, value, ok := strings.Cut(w, "=")
		if !ok {
			return "", fmt.Errorf("%q: %q is no key=value", text, w)
		}
		out += fmt.Sprintf("%q: %q, ", key, value)
	}
	return out + "}", nil
}

// FromBench gives the links of a bench, in its order and under its numbers, then the buses that
// are observed, with the lines of the names. A link of which the lines are not there is absent; of
// an observed bus nothing is given then. Missing says of what is not there which line it is.
func FromBench(b *bench.Bench, names []string) (links []Link, missing []error) {
	for _, l := range b.Links {
		var ends []string
		for _, e := range l.Ends {
			ends = append(ends, e.Name)
		}
		x := Link{Name: l.Name, Kind: l.Kind, Settings: l.Model.Tap(), Ends: ends}
		x.Lines = make([]Line, len(x.Roles()))
		if whys := x.find(l.Lines, names); len(whys) > 0 {
			missing = append(missing, whys...)
		}
		links = append(links, x)
	}
	for _, o := range b.Observed {
		x := Link{Name: o.Name, Kind: o.Kind, Settings: []bus.Settings{o.Settings}}
		x.Lines = make([]Line, len(x.Roles()))
		if whys := x.find(o.Lines, names); len(whys) > 0 {
			missing = append(missing, whys...)
		}
		if !x.Absent() {
			links = append(links, x)
		}
	}
	return links, missing
}

// find takes the lines of a link by role; where one that the bus needs is not there, none.
func (l *Link) find(lines map[string]string, names []string) (missing []error) {
	for i, r := range l.Roles() {
		value := lines[r.Name]
		if value == "" {
			continue
		}
		var err error
		if l.Lines[i], err = parseLine(names, value); err == nil {
			continue
		}
		// Nobody wrote the usual name of a line that need not be there.
		if usual := r.Optional && value == l.Name+"."+r.Name; !usual {
			missing = append(missing, fmt.Errorf("%s: %w", l.Name, err))
		}
		if !r.Optional {
			clear(l.Lines)
			return missing
		}
	}
	if err := l.complete(l.Name); err != nil {
		clear(l.Lines)
		missing = append(missing, err)
	}
	return missing
}

// Absent reports whether no line of the link is there.
func (l *Link) Absent() bool { return !slices.ContainsFunc(l.Lines, Line.Present) }

// Any reports whether any of the links has lines.
func Any(links []Link) bool {
	return slices.ContainsFunc(links, func(l Link) bool { return !l.Absent() })
}

func (l *Link) role(name string) int {
	for i, r := range l.Kind.Lines {
		if r.Name == name {
			return i
		}
	}
	return -1
}

// complete checks that the lines which the bus needs are given.
func (l *Link) complete(text string) error {
	given := 0
	roles := l.Roles()
	for i, r := range roles {
		if l.Lines[i].Present() {
			given++
		} else if !r.Optional {
			return fmt.Errorf("%q: which line is the %s? add %s=LINE", text, r.Name, r.Name)
		}
	}
	for i := range roles {
		for k := range i {
			if a, b := l.Lines[i], l.Lines[k]; a.Present() && b.Present() && a.derived == nil && b.derived == nil && a.inputs[0] == b.inputs[0] {
				return fmt.Errorf("%q: one line plays two roles, %s and %s", text, roles[k].Name, roles[i].Name)
			}
		}
	}
	if given == 0 {
		return fmt.Errorf("%q: which line is it? add %s=LINE or %s=LINE", text, roles[0].Name, roles[1].Name)
	}
	if s, ok := l.Settings[0].(interface{ NeedsSelect() bool }); ok && len(l.Settings) < 3 && s.NeedsSelect() && !l.Lines[l.role("select")].Present() {
		return fmt.Errorf("%q: add select=LINE, or active=none with a gap", text)
	}
	return nil
}

// parseLine finds a line of the source, or makes one from an expression.
func parseLine(names []string, text string) (Line, error) {
	i, err := Index(names, text)
	switch {
	case err == nil:
		return Line{inputs: []int{i}}, nil
	case !wire.IsExpression(text):
		return Line{}, err
	}
	d, err := wire.ParseExpression(text)
	if err != nil {
		return Line{}, err
	}
	l := Line{derived: d}
	for _, n := range d.Inputs {
		i, err := Index(names, n)
		if err != nil {
			return Line{}, err
		}
		l.inputs = append(l.inputs, i)
	}
	return l, nil
}

func split(text string) ([]string, error) {
	var out []string
	var word strings.Builder
	quoted, any := false, false
	for _, r := range text {
		switch {
		case r == '"':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if any {
				out = append(out, word.String())
				word.Reset()
				any = false
			}
		default:
			word.WriteRune(r)
			any = true
		}
	}
	if quoted {
		return nil, errors.New("a quote is not closed")
	}
	if any {
		out = append(out, word.String())
	}
	return out, nil
}

// Index finds a line by its name, or by the last parts of it where only one
// has them. The backslash of an escaped name may be left out.
func Index(names []string, want string) (int, error) {
	found := -1
	for i, n := range names {
		if n == want {
			return i, nil
		}
	}
	bare := strings.NewReplacer(`\`, "")
	want = bare.Replace(want)
	for i, n := range names {
		n = bare.Replace(n)
		if n != want && !strings.HasSuffix(n, "."+want) {
			continue
		}
		if found >= 0 {
			return -1, fmt.Errorf("several lines are called %q; give the name with its scopes", want)
		}
		found = i
	}
	if found < 0 {
		known := append([]string(nil), names...)
		for _, n := range names {
			known = append(known, n[strings.LastIndexByte(n, '.')+1:])
		}
		if m := doc.Nearest(want, known); m != "" {
			return -1, fmt.Errorf("there is no line %q; did you mean %s?", want, m)
		}
		return -1, fmt.Errorf("there is no line %q; the file has %s", want, List(names))
	}
	return found, nil
}

// List gives names as text, the first dozen of many.
func List(names []string) string {
	if len(names) > 12 {
		return strings.Join(names[:12], ", ") + fmt.Sprintf(" and %d more", len(names)-12)
	}
	return strings.Join(names, ", ")
}
