package filter

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Parse reads a filter. Mistakes say where they are.
func Parse(text string, n *Nouns) (*Filter, *Error) {
	tokens, err := scan(text)
	if err != nil {
		return nil, err
	}
	p := &parser{text: text, tokens: tokens, nouns: n, f: &Filter{Text: text}}
	if err := p.filter(); err != nil {
		return nil, err
	}
	return p.f, nil
}

// mostClauses bounds a filter, deepest how far parentheses go into each other.
const (
	mostClauses = 100
	deepest     = 50
)

type parser struct {
	text   string
	tokens []token
	at     int
	depth  int
	nouns  *Nouns
	f      *Filter
	may    may // of the clause that is read
}

func (p *parser) now() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != end {
		p.at++
	}
	return t
}

// is says whether the present token is a keyword or a sign.
func (p *parser) is(words ...string) bool {
	t := p.now()
	return (t.kind == word || t.kind == sign) && slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(w, t.text) })
}

// take goes on if the present token is that keyword.
func (p *parser) take(words ...string) bool {
	if p.is(words...) {
		p.at++
		return true
	}
	return false
}

func (p *parser) fault(t token, change, format string, args ...any) *Error {
	return &Error{p.text, t.from, fmt.Sprintf(format, args...), change}
}

// joins are words that end a clause.
var joins = []string{"and", "or", "not", "then", ",", ")", "("}

func (p *parser) ends() bool { return p.now().kind == end || p.is(joins...) }

func (p *parser) filter() *Error {
	if p.now().kind == end {
		return p.fault(p.now(), "write what is wanted, as: errors", "nothing is asked for")
	}
	for {
		n, err := p.either()
		if err != nil {
			return err
		}
		s := step{of: n}
		if p.is("within") {
			t := p.next()
			if len(p.f.steps) == 0 {
				return p.fault(t, "write it behind `then …`", "within says how soon something follows")
			}
			if s.within, err = p.span(); err != nil {
				return err
			}
		}
		p.f.steps = append(p.f.steps, s)
		comma := p.at
		p.take(",")
		if p.take("then") {
			continue
		}
		if p.now().kind != end {
			p.at = comma
			return p.unexpected()
		}
		return nil
	}
}

func (p *parser) unexpected() *Error {
	t := p.now()
	if t.kind == end {
		return p.fault(t, "", "something is missing at the end")
	}
	return p.fault(t, "", "%q is not expected here", t.text)
}

// either reads clauses joined by or.
func (p *parser) either() (node, *Error) {
	if p.depth++; p.depth > deepest {
		return nil, p.fault(p.now(), "take fewer parentheses", "this goes too deep")
	}
	defer func() { p.depth-- }()
	var out anyNode
	for {
		n, err := p.both()
		if err != nil {
			return nil, err
		}
		out = append(out, n)
		if !p.take("or") {
			break
		}
	}
	if len(out) == 1 {
		return out[0], nil
	}
	return out, nil
}

// both reads clauses that must all hold.
func (p *parser) both() (node, *Error) {
	var out allNode
	for {
		n, err := p.one()
		if err != nil {
			return nil, err
		}
		out = append(out, n)
		if p.is(",") && !strings.EqualFold(p.tokens[p.at+1].text, "then") {
			p.at++
			continue
		}
		if p.take("and") {
			continue
		}
		if p.now().kind == end || p.is("or", "then", ",", ")", "within") {
			break
		}
	}
	if len(out) == 1 {
		return out[0], nil
	}
	return out, nil
}

func (p *parser) one() (node, *Error) {
	switch {
	case p.take("not", "without"):
		n, err := p.one()
		if err != nil {
			return nil, err
		}
		return notNode{n}, nil
	case p.is("("):
		open := p.next()
		n, err := p.either()
		if err != nil {
			return nil, err
		}
		if !p.take(")") {
			return nil, p.fault(open, "put a ) behind what belongs together", "this ( is not closed")
		}
		return n, nil
	case p.now().kind == end:
		return nil, p.fault(p.now(), "write a clause, as: errors", "a clause is missing at the end")
	}
	from := p.now()
	if p.is(joins...) || p.is("within") {
		return nil, p.unexpected()
	}
	if len(p.f.Clauses) == mostClauses {
		return nil, p.fault(from, "take fewer", "a filter has at most %d clauses", mostClauses)
	}
	p.may = nil
	t, err := p.clause()
	if err != nil {
		return nil, err
	}
	to := p.tokens[p.at-1].to
	p.f.Clauses = append(p.f.Clauses, Clause{p.text[from.from:to], from.from, to, t, p.may})
	return clauseNode(len(p.f.Clauses) - 1), nil
}

// span reads a time.
func (p *parser) span() (quantity.Time, *Error) {
	t := p.now()
	if t.kind != word {
		return 0, p.fault(t, "write a time, as 5 ms", "a time is missing")
	}
	p.at++
	text := t.text
	if p.now().kind == word {
		if d, err := quantity.ParseSpan(text + " " + p.now().text); err == nil {
			p.at++
			return d, nil
		}
	}
	d, err := quantity.ParseSpan(text)
	if err != nil || d < 0 {
		return 0, p.fault(t, "write a number and its unit, as 5 ms", "%q is no time", text)
	}
	return d, nil
}

// near proposes a word.
func near(text string, words []string) string {
	if m := doc.Nearest(strings.ToLower(text), words); m != "" {
		return "did you mean " + m + "?"
	}
	return ""
}
