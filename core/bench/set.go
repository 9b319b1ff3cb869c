package bench

import (
	"errors"
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
)

// ParseSet reads a change in words: a path, as links.gauge.mcu.rate, then sep and a
// value. Names with blanks or points stand in double quotes. A value in braces, as
// {send: A, within: 5 ms}, sets several keys below the path as one step.
func ParseSet(text string, sep byte) ([]finding.Edit, error) {
	path, rest, err := parsePath(text, sep)
	if err != nil {
		return nil, err
	}
	if rest == "" {
		return nil, fmt.Errorf("%q: a value is missing after the path", text)
	}
	value := strings.TrimSpace(rest[1:])
	if !strings.HasPrefix(value, "{") {
		return []finding.Edit{{Path: path, Value: value}}, nil
	}
	f, faults := doc.Parse("value", []byte(value))
	if f == nil {
		return nil, errors.New(faults[0].Seen)
	}
	var out []finding.Edit
	var leaves func(n *doc.Node)
	leaves = func(n *doc.Node) {
		if n.Kind == doc.Value {
			out = append(out, finding.Edit{Path: append(append([]string(nil), path...), n.Path...), Value: n.Scalar})
		}
		for _, e := range n.All() {
			leaves(e)
		}
	}
	leaves(f.Root)
	if len(out) == 0 {
		return nil, fmt.Errorf("%q: there is nothing in the braces", value)
	}
	return out, nil
}

// ParsePath reads a path alone.
func ParsePath(text string) ([]string, error) {
	path, rest, err := parsePath(strings.TrimSpace(text), 0)
	if err == nil && rest != "" {
		err = fmt.Errorf("%q: a path ends before %q", text, rest)
	}
	return path, err
}

// parsePath reads up to the separator outside of quotes, and gives what follows from
// it on.
func parsePath(text string, sep byte) (path []string, rest string, err error) {
	var name strings.Builder
	quoted := false
	for i := 0; i <= len(text); i++ {
		switch {
		case i == len(text) && quoted:
			return nil, "", fmt.Errorf("%q: a quote is not closed", text)
		case i == len(text), !quoted && text[i] == sep:
			return append(path, name.String()), text[i:], nil
		case text[i] == '"':
			quoted = !quoted
		case text[i] == '.' && !quoted:
			path = append(path, name.String())
			name.Reset()
		default:
			name.WriteByte(text[i])
		}
	}
	return path, "", nil
}
