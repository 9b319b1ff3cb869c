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
	"gavrix.org/gavrix/core/setpoint"
)

// The words with which something begins that is said by its name.
const (
	byOperation = "do "
	byMessage   = "message "
)

// What reads what is to be sent on a link: `do` with an operation on registers, `message` with a
// message by its name and values, else a text with escapes on a UART, a transaction's words on
// the other buses.
func What(l *bench.Link, text string) (Item, error) {
	it := Item{Link: l.Index, Text: strings.TrimLeft(text, " ")}
	var err error
	switch {
	case it.Text == "":
		return it, fmt.Errorf("say what to send on %s", l.Name)
	case strings.HasPrefix(it.Text, byOperation):
		it.operation, err = operation.Parse(it.Text[len(byOperation):], l.Parts())
	case strings.HasPrefix(it.Text, byMessage):
		it.Intent, err = setpoint.Message(l, it.Text[len(byMessage):])
	case operation.Characters(l.Kind.Name):
		var data []byte
		if data, err = check.ParseText(it.Text); err != nil {
			err = fmt.Errorf("%q: %w", it.Text, err)
		}
		it.Intent = link.Send{Data: data}
		return it, err
	default:
		it.Intent = link.Transact{Text: it.Text}
	}
	if err != nil && operation.Characters(l.Kind.Name) {
		err = fmt.Errorf(`%w; as a text it is written \x%02x%s`, err, it.Text[0], it.Text[1:])
	}
	return it, err
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
	it, err := What(l, line)
	it.After = at
	return it, err
}
