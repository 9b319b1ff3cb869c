package wire

import (
	"fmt"
	"sort"
	"strings"
	"unicode"

	"gavrix.org/gavrix/core/quantity"
)

// mostInputs bounds the lines of an expression; its truth table has two to the
// power of them rows.
const mostInputs = 8

// Derived is a line whose level follows from others by a boolean expression.
type Derived struct {
	// Inputs are the names in the expression, in the order in which Window
	// takes their lines.
	Inputs []string
	table  []bool // the level for each combination, the first input lowest
	out    []quantity.Time
}

// ParseExpression reads a boolean expression over lines:
//
//	enable and not (mosi or "top.spare 2")
//
// `not` binds strongest, then `and`, then `xor`, then `or`. A name with other
// signs than letters, digits and _ . [ ] - stands in double quotes.
func ParseExpression(text string) (*Derived, error) {
	p := &expression{text: text}
	p.next()
	f, err := p.or()
	if err == nil && p.word != "" {
		err = p.fail("an operator is missing before %q", p.word)
	}
	if err != nil {
		return nil, err
	}
	d := &Derived{Inputs: p.names}
	for row := range 1 << len(p.names) {
		d.table = append(d.table, f(row))
	}
	return d, nil
}

// IsExpression says whether a text is more than the name of a line.
func IsExpression(text string) bool {
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || r == '(' || r == ')' }) {
		switch w {
		case "not", "and", "or", "xor":
			return true
		}
	}
	return strings.HasPrefix(strings.TrimSpace(text), "(")
}

// Window gives the derived line over the stretch of the given windows, which
// are those of Inputs. Its toggles are valid until the next call.
func (d *Derived) Window(lines []Window) Window {
	row := 0
	at := make([]int, len(lines))
	for i := range lines {
		if lines[i].High {
			row |= 1 << i
		}
	}
	w := Window{From: lines[0].From, To: lines[0].To, High: d.table[row]}
	for i := range lines {
		w.Unknown = append(w.Unknown, lines[i].Unknown...)
	}
	w.Unknown = merged(w.Unknown)
	level := w.High
	d.out = d.out[:0]
	for {
		t := quantity.Forever
		for i := range lines {
			if at[i] < len(lines[i].Toggles) {
				t = min(t, lines[i].Toggles[at[i]])
			}
		}
		if t == quantity.Forever {
			w.Toggles = d.out
			return w
		}
		for i := range lines {
			if at[i] < len(lines[i].Toggles) && lines[i].Toggles[at[i]] == t {
				row ^= 1 << i
				at[i]++
			}
		}
		if d.table[row] != level {
			level = !level
			d.out = append(d.out, t)
		}
	}
}

// merged gives stretches in order, without overlap. What comes of several lines is not
// open.
func merged(spans []Span) []Span {
	sort.Slice(spans, func(i, j int) bool { return spans[i].From < spans[j].From })
	out := spans[:0]
	for _, s := range spans {
		s.Open = false
		if n := len(out); n > 0 && s.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, s.To)
			continue
		}
		out = append(out, s)
	}
	return out
}

// formula gives the level for a combination of the inputs.
type formula func(row int) bool

// expression is a parser over one text.
type expression struct {
	text string

	at    int    // behind the present word
	from  int    // where it begins
	word  string // "" at the end
	name  bool   // the word is a name, whatever it says
	names []string
	depth int
	bad   error // of the scanner
}

func (p *expression) fail(format string, args ...any) error {
	return fmt.Errorf("column %d of %q: %s", p.from+1, p.text, fmt.Sprintf(format, args...))
}

// next goes on to the next word.
func (p *expression) next() {
	for p.at < len(p.text) && (p.text[p.at] == ' ' || p.text[p.at] == '\t') {
		p.at++
	}
	p.from, p.word, p.name = p.at, "", false
	if p.at == len(p.text) {
		return
	}
	switch c := p.text[p.at]; {
	case c == '(' || c == ')':
		p.at++
		p.word = string(c)
	case c == '"':
		end := strings.IndexByte(p.text[p.at+1:], '"')
		if end < 0 {
			p.bad = p.fail("a quote is not closed")
			p.at = len(p.text)
			return
		}
		p.word, p.name = p.text[p.at+1:p.at+1+end], true
		p.at += end + 2
	default:
		for p.at < len(p.text) && plain(p.text[p.at]) {
			p.at++
		}
		if p.at == p.from {
			p.at++
		}
		p.word = p.text[p.from:p.at]
	}
}

func plain(c byte) bool {
	return c == '_' || c == '.' || c == '[' || c == ']' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func (p *expression) operator(w string) bool {
	if p.name || p.word != w {
		return false
	}
	p.next()
	return true
}

func (p *expression) binary(word string, deeper func() (formula, error), join func(a, b bool) bool) (formula, error) {
	f, err := deeper()
	for err == nil && p.operator(word) {
		a := f
		var b formula
		if b, err = deeper(); err == nil {
			f = func(row int) bool { return join(a(row), b(row)) }
		}
	}
	return f, err
}

func (p *expression) or() (formula, error) {
	return p.binary("or", p.xor, func(a, b bool) bool { return a || b })
}

func (p *expression) xor() (formula, error) {
	return p.binary("xor", p.and, func(a, b bool) bool { return a != b })
}

func (p *expression) and() (formula, error) {
	return p.binary("and", p.not, func(a, b bool) bool { return a && b })
}

func (p *expression) not() (formula, error) {
	if p.depth++; p.depth > 100 {
		return nil, p.fail("the expression is too deep")
	}
	defer func() { p.depth-- }()
	if p.operator("not") {
		f, err := p.not()
		if err != nil {
			return nil, err
		}
		return func(row int) bool { return !f(row) }, nil
	}
	if p.operator("(") {
		f, err := p.or()
		if err == nil && !p.operator(")") {
			err = p.fail("a ) is missing")
		}
		return f, err
	}
	return p.line()
}

// line reads the name of a line.
func (p *expression) line() (formula, error) {
	switch {
	case p.bad != nil:
		return nil, p.bad
	case p.word == "" && !p.name:
		return nil, p.fail("the name of a line is missing at the end")
	case !p.name && (p.word == ")" || p.word == "and" || p.word == "or" || p.word == "xor" || !plain(p.word[0])):
		return nil, p.fail("the name of a line is missing before %q", p.word)
	}
	index := -1
	for i, n := range p.names {
		if n == p.word {
			index = i
		}
	}
	if index < 0 {
		if len(p.names) == mostInputs {
			return nil, p.fail("more than %d lines in one expression", mostInputs)
		}
		index = len(p.names)
		p.names = append(p.names, p.word)
	}
	p.next()
	return func(row int) bool { return row>>index&1 == 1 }, nil
}
