package doc

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Type says what may stand at a place of a file. One table of types gives
// validation, spelling help and the published JSON Schema.
type Type struct {
	shape  shape
	name   string // of a scalar: what it is, in words
	parse  func(string) (any, error)
	enum   []string
	keys   []Key
	each   *Type // of MapOf and ListOf
	dotted bool  // of MapOf: points may stand in names
	minLen int
	by     string // of ByKey: the key that chooses
	kinds  []Kind
}

// Kind is one form of a map that a key chooses.
type Kind struct {
	Name string
	Type *Type // a Map; the key that chooses need not be among its keys
}

type shape uint8

const (
	scalarShape shape = iota
	structShape
	mapShape
	listShape
	kindShape
)

// Key is one key of a map.
type Key struct {
	Name     string
	Doc      string
	Type     *Type
	Required bool
	Default  string // what holds when the key is absent, as it would be written
}

// Map is a map with fixed keys.
func Map(keys ...Key) *Type { return &Type{shape: structShape, keys: keys} }

// With gives the map with more keys behind its own.
func (t *Type) With(keys ...Key) *Type {
	c := *t
	c.keys = append(append([]Key(nil), t.keys...), keys...)
	return &c
}

// Keys gives the keys of a Map.
func (t *Type) Keys() []Key { return t.keys }

// MapOf is a map from names of one's own to values of one type.
func MapOf(each *Type) *Type { return &Type{shape: mapShape, each: each} }

// MapOfNamed is MapOf for names of what is described elsewhere, as CTRL.START: points may stand in
// them.
func MapOfNamed(each *Type) *Type { return &Type{shape: mapShape, each: each, dotted: true} }

// ByKey is a map whose keys depend on the word that stands at one of them.
func ByKey(key, about string, kinds ...Kind) *Type {
	t := &Type{shape: kindShape, by: key}
	for _, k := range kinds {
		k.Type = Map(append([]Key{{Name: key, Doc: about, Type: Enum(k.Name), Required: true}}, k.Type.keys...)...)
		t.kinds = append(t.kinds, k)
	}
	return t
}

// Of gives the map for a word of ByKey; nil where there is none.
func (t *Type) Of(word string) *Type {
	for _, k := range t.kinds {
		if k.Name == word {
			return k.Type
		}
	}
	return nil
}

// ListOf is a list with at least minLen elements.
func ListOf(each *Type, minLen int) *Type {
	return &Type{shape: listShape, each: each, minLen: minLen}
}

// Scalar is a plain value that parse reads. The name says what it is: "a rate".
func Scalar[T any](name string, parse func(string) (T, error)) *Type {
	return &Type{name: name, parse: func(s string) (any, error) {
		v, err := parse(s)
		return v, err
	}}
}

// Checked is a plain text that the check accepts.
func Checked(name string, check func(string) error) *Type {
	return Scalar(name, func(s string) (string, error) { return s, check(s) })
}

// Enum is one of some words; its value is the word.
func Enum(words ...string) *Type {
	t := Scalar("one of "+strings.Join(words, ", "), func(s string) (string, error) { return s, nil })
	t.enum = words
	return t
}

// OneOf is one of some numbers.
func OneOf(numbers ...int) *Type {
	var words []string
	for _, n := range numbers {
		words = append(words, strconv.Itoa(n))
	}
	t := Scalar("one of "+strings.Join(words, ", "), strconv.Atoi)
	t.enum = words
	return t
}

// Int is a whole number from low to high, decimal, hex (0x) or binary (0b).
func Int(low, high int) *Type {
	return Scalar(fmt.Sprintf("a whole number from %d to %d", low, high), func(s string) (int, error) {
		n, err := strconv.ParseInt(strings.ReplaceAll(s, "_", ""), 0, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number", s)
		}
		if n < int64(low) || n > int64(high) {
			return 0, fmt.Errorf("%d is outside %d to %d", n, low, high)
		}
		return int(n), nil
	})
}

// YesNo is yes or no; its value is true or false.
var YesNo = yesNo()

func yesNo() *Type {
	t := Scalar("one of yes, no", func(s string) (bool, error) { return s == "yes", nil })
	t.enum = []string{"yes", "no"}
	return t
}

// Plain values that many files use.
var (
	AnyText  = Checked("a text", func(string) error { return nil })
	NameType = Checked("a name", func(s string) error {
		if strings.TrimSpace(s) == "" {
			return fmt.Errorf("the name is empty")
		}
		return nil
	})
	RateType = Scalar("a rate", func(s string) (quantity.Rate, error) {
		r, err := quantity.ParseRate(s)
		if err == nil && (r < quantity.Baud || r > 1000*quantity.Megabaud) {
			return 0, fmt.Errorf("%s is not between 1 Bd and 1000 MBd", s)
		}
		return r, err
	})
	TimeType = Scalar("a time", func(s string) (quantity.Time, error) {
		t, err := quantity.ParseTime(s)
		if err == nil && t < 0 {
			return 0, fmt.Errorf("%s is negative", s)
		}
		return t, err
	})
	FreqType = Scalar("a frequency", func(s string) (quantity.Freq, error) {
		f, err := quantity.ParseFreq(s)
		if err == nil && f <= 0 {
			return 0, fmt.Errorf("%s is not above 0", s)
		}
		return f, err
	})
	ClockType = Scalar("a clock frequency", quantity.ParseClock)
	PPMType   = Scalar("a deviation in ppm or %", quantity.ParsePPM)
)

// Validate gives every fault of the tree at once.
func (t *Type) Validate(n *Node) []finding.Finding {
	var out []finding.Finding
	t.validate(n, "the file", &out)
	return out
}

func (t *Type) validate(n *Node, what string, out *[]finding.Finding) {
	n.of = t
	fault := func(code string, where finding.Place, seen, change string) {
		*out = append(*out, finding.Finding{Severity: finding.Error, Code: code, Where: where, Seen: seen, Change: change})
	}
	switch t.shape {
	case scalarShape:
		if n.Kind != Value {
			fault("wrong-shape", n.Place(), fmt.Sprintf("%s is %s; expected %s", what, n.Kind, t.name), "write one plain value")
			return
		}
		if t.enum != nil {
			for _, w := range t.enum {
				if w == n.Scalar {
					n.value, _ = t.parse(w)
					return
				}
			}
			change := "write " + t.name
			if m := Nearest(n.Scalar, t.enum); m != "" {
				change = fmt.Sprintf("did you mean %s?", m)
			}
			fault("unknown-word", n.Place(), fmt.Sprintf("%s: %q; expected %s", what, n.Scalar, t.name), change)
			return
		}
		v, err := t.parse(n.Scalar)
		if err != nil {
			fault("bad-value", n.Place(), fmt.Sprintf("%s: %v", what, err), "write "+t.name)
			return
		}
		n.value = v
	case structShape:
		if n.Kind != Mapping {
			fault("wrong-shape", n.Place(), fmt.Sprintf("%s is %s; expected a map with %s", what, n.Kind, t.keyList()), "write its keys below it, indented")
			return
		}
		meant := map[string]bool{}
		for _, c := range n.Entries {
			k := t.key(c.Key)
			if k == nil {
				change := "the keys here are " + t.keyList()
				if m := Nearest(c.Key, t.names()); m != "" {
					meant[m] = true
					change = fmt.Sprintf("did you mean %q?", m)
				}
				fault("unknown-key", c.KeyPlace(), fmt.Sprintf("unknown key %q in %s", c.Key, what), change)
				continue
			}
			k.Type.validate(c, c.Key, out)
		}
		for _, k := range t.keys {
			if k.Required && n.child(k.Name) == nil && !meant[k.Name] {
				fault("key-missing", n.KeyPlace(), fmt.Sprintf("%s has no %q: %s", what, k.Name, k.Doc), fmt.Sprintf("add `%s: …`", k.Name))
			}
		}
	case mapShape:
		if n.Kind != Mapping {
			fault("wrong-shape", n.Place(), fmt.Sprintf("%s is %s; expected a map of names", what, n.Kind), "write one name a line, each with its keys below it")
			return
		}
		for _, c := range n.Entries {
			if strings.TrimSpace(c.Key) == "" || strings.ContainsAny(c.Key, "\n\t") || !t.dotted && strings.Contains(c.Key, ".") {
				fault("bad-name", c.KeyPlace(), fmt.Sprintf("%q is no usable name in %s", c.Key, what), "use letters, digits and dashes")
			}
			t.each.validate(c, c.Key, out)
		}
	case kindShape:
		var words []string
		for _, k := range t.kinds {
			words = append(words, k.Name)
		}
		if n.Kind != Mapping {
			fault("wrong-shape", n.Place(), fmt.Sprintf("%s is %s; expected a map that begins with `%s:`", what, n.Kind, t.by), "write its keys below it, indented")
			return
		}
		chosen := n.child(t.by)
		if chosen == nil {
			for _, c := range n.Entries {
				if Nearest(c.Key, []string{t.by}) != "" {
					fault("unknown-key", c.KeyPlace(), fmt.Sprintf("unknown key %q in %s", c.Key, what), fmt.Sprintf("did you mean %q?", t.by))
					return
				}
			}
			fault("key-missing", n.KeyPlace(), fmt.Sprintf("%s has no %q", what, t.by), fmt.Sprintf("add `%s:` with one of %s", t.by, strings.Join(words, ", ")))
			return
		}
		if of := t.Of(chosen.Scalar); of != nil {
			of.validate(n, what, out)
			return
		}
		Enum(words...).validate(chosen, t.by, out)
	case listShape:
		if n.Kind != Sequence {
			fault("wrong-shape", n.Place(), fmt.Sprintf("%s is %s; expected a list", what, n.Kind), "write one element a line after a dash")
			return
		}
		if len(n.Entries) < t.minLen {
			fault("list-too-short", n.Place(), fmt.Sprintf("%s has %d elements; at least %d are needed", what, len(n.Entries), t.minLen), "add elements")
		}
		for _, c := range n.Entries {
			t.each.validate(c, what+" element "+c.Key, out)
		}
	}
}

// Paths lists where plain values may stand in a tree: those of its type's keys, and
// below names of one's own those that the tree has.
func (t *Type) Paths(n *Node) [][]string {
	var out [][]string
	t.paths(n, nil, &out)
	return out
}

func (t *Type) paths(n *Node, path []string, out *[][]string) {
	below := func(name string) []string { return append(append([]string{}, path...), name) }
	switch t.shape {
	case scalarShape:
		*out = append(*out, path)
	case structShape:
		for _, k := range t.keys {
			k.Type.paths(n.Get(k.Name), below(k.Name), out)
		}
	case kindShape:
		if of := t.Of(n.Text(t.by)); of != nil {
			of.paths(n, path, out)
		}
	case mapShape:
		for _, c := range n.All() {
			t.each.paths(c, below(c.Key), out)
		}
	}
}

// What says in words what stands there: a value, a map, a list of values.
func (t *Type) What() string {
	switch t.shape {
	case listShape:
		if t.each.shape == scalarShape {
			return "list of: " + t.each.name
		}
		return "list"
	case scalarShape:
		return t.name
	}
	return "map"
}

// Each calls f for every key below, from the top, with its path: <name> stands for a name of
// one's own, and [] for an element of a list. Keys of one kind only come with its word.
func (t *Type) Each(f func(path []string, kind string, k Key)) { t.every(nil, "", f) }

func (t *Type) every(path []string, kind string, f func([]string, string, Key)) {
	below := func(name string) []string { return append(append([]string{}, path...), name) }
	switch t.shape {
	case structShape:
		for _, k := range t.keys {
			f(below(k.Name), kind, k)
			k.Type.every(below(k.Name), kind, f)
		}
	case kindShape:
		for _, k := range t.kinds {
			k.Type.every(path, k.Name, f)
		}
	case mapShape:
		t.each.every(below("<name>"), kind, f)
	case listShape:
		t.each.every(below("[]"), kind, f)
	}
}

// Choices gives the words that may stand at a path, and says in words what may; nil and ""
// where no plain value may.
func (t *Type) Choices(n *Node, path ...string) (words []string, what string) {
	if t.shape == kindShape {
		if of := t.Of(n.Text(t.by)); of != nil {
			return of.Choices(n, path...)
		}
		return nil, ""
	}
	if len(path) == 0 {
		return t.enum, t.name
	}
	switch t.shape {
	case structShape:
		if k := t.key(path[0]); k != nil {
			return k.Type.Choices(n.Get(path[0]), path[1:]...)
		}
	case mapShape:
		return t.each.Choices(n.Get(path[0]), path[1:]...)
	}
	return nil, ""
}

// Default is a value that is not written and holds all the same.
type Default struct {
	Path  []string
	Value string
	Doc   string
}

// Defaults lists the values that are absent from a tree and have a default. Absent
// maps have none: nothing below them is meant.
func (t *Type) Defaults(n *Node) []Default {
	var out []Default
	t.defaults(n, nil, &out)
	return out
}

func (t *Type) defaults(n *Node, path []string, out *[]Default) {
	below := func(name string) []string { return append(append([]string{}, path...), name) }
	switch t.shape {
	case structShape:
		for _, k := range t.keys {
			if c := n.child(k.Name); c != nil {
				k.Type.defaults(c, below(k.Name), out)
			} else if k.Default != "" {
				*out = append(*out, Default{below(k.Name), k.Default, k.Doc})
			}
		}
	case kindShape:
		if c := n.child(t.by); c != nil {
			if of := t.Of(c.Scalar); of != nil {
				of.defaults(n, path, out)
			}
		}
	case mapShape, listShape:
		for _, c := range n.Entries {
			t.each.defaults(c, below(c.Key), out)
		}
	}
}

func (t *Type) key(name string) *Key {
	for i := range t.keys {
		if t.keys[i].Name == name {
			return &t.keys[i]
		}
	}
	return nil
}

func (t *Type) names() []string {
	var out []string
	for _, k := range t.keys {
		out = append(out, k.Name)
	}
	return out
}

func (t *Type) keyList() string { return strings.Join(t.names(), ", ") }

// Nearest gives the word that s was probably meant to be, or "".
func Nearest(s string, words []string) string {
	if s == "" {
		return ""
	}
	best, at := "", 1+len(s)/3
	sorted := append([]string(nil), words...)
	sort.Strings(sorted)
	for _, w := range sorted {
		d := distance(strings.ToLower(s), strings.ToLower(w))
		// Of two that are as near, the one with the same first letter.
		better := best == "" || d < at || d == at && best[0] != s[0] && w[0] == s[0]
		if d <= at && better {
			best, at = w, d
		}
	}
	return best
}

// distance is the number of letters to insert, delete or change.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diag, row[j] = row[j], min(row[j]+1, row[j-1]+1, diag+cost)
		}
	}
	return row[len(b)]
}

// JSONSchema gives the type as a JSON Schema (draft 2020-12) value.
func (t *Type) JSONSchema() map[string]any {
	switch t.shape {
	case structShape:
		props, required := map[string]any{}, []string{}
		for _, k := range t.keys {
			p := k.Type.JSONSchema()
			p["description"] = k.Doc
			if k.Default != "" {
				p["default"] = k.Default
			}
			props[k.Name] = p
			if k.Required {
				required = append(required, k.Name)
			}
		}
		out := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
		if len(required) > 0 {
			out["required"] = required
		}
		return out
	case mapShape:
		return map[string]any{"type": "object", "additionalProperties": t.each.JSONSchema()}
	case kindShape:
		var of []any
		for _, k := range t.kinds {
			of = append(of, k.Type.JSONSchema())
		}
		return map[string]any{"type": "object", "oneOf": of}
	case listShape:
		return map[string]any{"type": "array", "items": t.each.JSONSchema(), "minItems": t.minLen}
	}
	out := map[string]any{"type": []string{"string", "number", "boolean"}, "title": t.name}
	if t.enum != nil {
		out["enum"] = enumValues(t.enum)
	}
	return out
}

// enumValues adds the number or truth value that an editor's YAML parser
// makes of a word.
func enumValues(words []string) []any {
	var out []any
	for _, w := range words {
		out = append(out, w)
		if n, err := strconv.Atoi(w); err == nil {
			out = append(out, n)
		}
		switch w {
		case "yes":
			out = append(out, true)
		case "no":
			out = append(out, false)
		}
	}
	return out
}
