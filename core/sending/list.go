package sending

import (
	"fmt"
	"strings"
	"unicode"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
)

// What reads what is to be sent on a link: a text with escapes on a UART, a transaction's words on
// the other buses.
func What(l *bench.Link, text string) (link.Intent, error) {
	if text = strings.TrimLeft(text, " "); text == "" {
		return nil, fmt.Errorf("say what to send on %s", l.Name)
	}
	if !operation.Characters(l.Kind.Name) {
		return link.Transact{Text: text}, nil
	}
	data, err := check.ParseText(text)
	if err != nil {
		return nil, fmt.Errorf("%q: %w", text, err)
	}
	return link.Send{Data: data}, nil
}

// List reads a list of things to send, a line for each: a time from the begin, a link, what; what
// stands behind # at the beginning of a line is a remark. Errors begin with name and line.
func List(b *bench.Bench, name, text string) ([]Item, error) {
	var out []Item
	for n, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		it, err := listed(b, line)
		if err == nil && len(out) > 0 && it.After < out[len(out)-1].After {
			err = fmt.Errorf("%s is before the line above: write the lines in order of their times", it.After)
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", name, n+1, err)
		}
		out = append(out, it)
	}
	if out == nil {
		return nil, fmt.Errorf("%s: the list is empty: write TIME LINK WHAT in each line, as 20ms pump 2A5 01 60", name)
	}
	return out, nil
}

// listed reads a line.
func listed(b *bench.Bench, line string) (Item, error) {
	w := strings.Fields(line)
	at, err := quantity.ParseSpan(w[0])
	used := 1
	if err != nil && len(w) > 1 {
		at, err = quantity.ParseSpan(w[0] + " " + w[1])
		used = 2
	}
	switch {
	case err != nil || at < 0:
		return Item{}, fmt.Errorf("%q is no time: write TIME LINK WHAT, as 20ms pump 2A5 01 60", w[0])
	case len(w) < used+2:
		return Item{}, fmt.Errorf("%q lacks a part: write TIME LINK WHAT, as 20ms pump 2A5 01 60", line)
	}
	l := b.Link(w[used])
	if l == nil {
		var names []string
		for _, l := range b.Links {
			names = append(names, l.Name)
		}
		return Item{}, fmt.Errorf("the bench has no link %q; it has %s", w[used], strings.Join(names, ", "))
	}
	for range used + 1 {
		line = strings.TrimLeftFunc(strings.TrimLeftFunc(line, func(r rune) bool { return !unicode.IsSpace(r) }), unicode.IsSpace)
	}
	i, err := What(l, line)
	return Item{After: at, Link: l.Index, Intent: i, Text: line}, err
}
