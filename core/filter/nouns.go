package filter

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/values"
)

// Nouns are what filters can be about: the links of a capture, and what a bench knows of them.
type Nouns struct {
	meta    *capture.Meta
	catalog *values.Catalog
	words   []string
}

// NounsOf gives those of a capture; the bench may be nil.
func NounsOf(b *bench.Bench, m *capture.Meta) *Nouns {
	n := &Nouns{meta: m, catalog: values.Of(b, m)}
	n.words = n.all()
	return n
}

// ends are the names of devices on links.
func (n *Nouns) ends() []string {
	var out []string
	for i := range n.meta.Links {
		for _, e := range n.meta.Links[i].Ends[min(1, len(n.meta.Links[i].Ends)):] {
			if !slices.Contains(out, values.Dashed(e)) {
				out = append(out, values.Dashed(e))
			}
		}
	}
	return out
}

func (n *Nouns) links() []string {
	var out []string
	for i := range n.meta.Links {
		out = append(out, values.Dashed(n.meta.Links[i].Name))
	}
	return out
}

func (n *Nouns) messages() []string {
	var out []string
	for _, x := range n.catalog.All {
		if m := values.Dashed(x.Message); x.Message != "" && !slices.Contains(out, m) {
			out = append(out, m)
		}
	}
	return out
}

// Words are all names and keywords with which a clause can begin.
func (n *Nouns) Words() []string { return n.words }

func (n *Nouns) all() []string {
	var out []string
	for _, f := range forms {
		out = append(out, f.word)
	}
	out = append(out, n.links()...)
	for _, e := range n.ends() {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	out = append(out, n.messages()...)
	for _, v := range n.catalog.All {
		out = append(out, n.catalog.Short(v))
	}
	return out
}

// same says whether a name is meant, however it is written in capitals and with dashes.
// onLinks says that a clause can hold on some links alone.
func (n *Nouns) onLinks(is func(l *capture.Link) bool) may {
	var links []uint16
	for i := range n.meta.Links {
		if is(&n.meta.Links[i]) {
			links = append(links, uint16(i))
		}
	}
	return func(s *records.Summary) bool { return slices.ContainsFunc(links, s.Holds) }
}

func same(name, text string) bool {
	return strings.EqualFold(values.Dashed(name), values.Dashed(text))
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// noun reads a clause that begins with a name.
func (p *parser) noun() (test, *Error) {
	t := p.next()
	n := p.nouns
	if !p.isVerb() {
		if slices.ContainsFunc(n.links(), func(l string) bool { return same(l, t.text) }) {
			p.may = n.onLinks(func(l *capture.Link) bool { return same(l.Name, t.text) })
			return func(x *look, _ *cell) bool { return x.link != nil && same(x.link.Name, t.text) }, nil
		}
		if slices.ContainsFunc(n.ends(), func(l string) bool { return same(l, t.text) }) {
			p.may = n.onLinks(func(l *capture.Link) bool {
				return slices.ContainsFunc(l.Ends, func(e string) bool { return same(e, t.text) })
			})
			return p.with(t.text), nil
		}
	}
	v, err := n.catalog.Find(t.text)
	if err == nil {
		p.f.values = true
		p.may = func(s *records.Summary) bool { return s.Holds(v.Link) }
		return p.value(t, v)
	}
	if slices.ContainsFunc(n.messages(), func(m string) bool { return same(m, t.text) }) {
		p.f.values = true
		return func(x *look, _ *cell) bool {
			return slices.ContainsFunc(x.samples, func(s values.Sample) bool { return s.Message != "" && same(s.Message, t.text) })
		}, nil
	}
	if strings.Contains(err.Error(), " can be ") {
		return nil, p.fault(t, "write the whole name", "%v", err)
	}
	return nil, p.fault(t, cmpOr(near(t.text, n.Words()), "see the help for clauses; names are those of links, devices, messages and values"), "%q is nothing that is known here", t.text)
}

// with is about a device: what it sends, and what goes to it.
func (p *parser) with(name string) test {
	return func(x *look, _ *cell) bool {
		if x.link == nil || !x.Traffic() {
			return false
		}
		if x.From >= record.Device && same(x.link.EndName(x.From), name) {
			return true
		}
		// On a link with one device what the MCU sends is for it.
		return x.From == record.MCU && x.Kind == record.Chars && same(x.link.EndName(record.Device), name)
	}
}

var compares = []string{"=", "!=", "≠", "<", ">", "<=", ">=", "≤", "≥"}
var valueVerbs = []string{"between", "changes", "rises", "falls", "crosses", "written", "read"}

// isVerb says whether what follows is said of a value.
func (p *parser) isVerb() bool {
	return p.is(compares...) || p.is("between", "rises", "falls", "crosses", "written")
}

// value reads what is said of a value.
func (p *parser) value(name token, v *values.Name) (test, *Error) {
	some := func(holds func(s *values.Sample, c *cell) bool) test {
		return func(x *look, c *cell) bool {
			found := false
			for i := range x.samples {
				if s := &x.samples[i]; s.Name == v || same2(s.Name, v) {
					// Every sample is looked at: what was before counts for the next.
					found = holds(s, c) || found
				}
			}
			return found
		}
	}
	before := func(holds func(old, now *values.Sample) bool) test {
		return some(func(s *values.Sample, c *cell) bool {
			if c.last == nil {
				c.last = map[*values.Name]values.Sample{}
			}
			old, has := c.last[v]
			c.last[v] = *s
			return has && holds(&old, s)
		})
	}
	switch {
	case p.take("changes"):
		return before(func(old, now *values.Sample) bool { return old.Text != now.Text }), nil
	case p.take("rises"):
		return before(func(old, now *values.Sample) bool { return now.Numeric && old.Numeric && now.Number > old.Number }), nil
	case p.take("falls"):
		return before(func(old, now *values.Sample) bool { return now.Numeric && old.Numeric && now.Number < old.Number }), nil
	case p.take("crosses"):
		to, err := p.amount(v)
		if err != nil {
			return nil, err
		}
		if to.isText {
			return nil, p.fault(p.tokens[p.at-1], "write a number: words have no order", "%q can't be crossed", to.text)
		}
		return before(func(old, now *values.Sample) bool {
			return now.Numeric && old.Numeric && (old.Number < to.number) != (now.Number < to.number)
		}), nil
	case p.take("written"):
		return some(func(s *values.Sample, _ *cell) bool { return s.Wrote }), nil
	case p.take("read"):
		return some(func(s *values.Sample, _ *cell) bool { return !s.Wrote }), nil
	case p.take("between"):
		low, err := p.amount(v)
		if err != nil {
			return nil, err
		}
		if !p.take("and") {
			return nil, p.fault(p.now(), "write it as: between 3 and 5", "between %s and what?", low.text)
		}
		high, err := p.amount(v)
		if err != nil {
			return nil, err
		}
		return some(func(s *values.Sample, _ *cell) bool {
			return s.Numeric && s.Number >= low.number && s.Number <= high.number
		}), nil
	case p.is(compares...):
		sign := p.next()
		to, err := p.amount(v)
		if err != nil {
			return nil, err
		}
		if to.isText && sign.text != "=" && sign.text != "!=" && sign.text != "≠" {
			return nil, p.fault(sign, "compare it by = or !=", "%q is a word: nothing is more or less than it", to.text)
		}
		return some(func(s *values.Sample, _ *cell) bool { return to.compare(sign.text, s) }), nil
	}
	return some(func(*values.Sample, *cell) bool { return true }), nil
}

// same2 says whether two names of different catalogs are of one value.
func same2(a, b *values.Name) bool {
	return a.Link == b.Link && a.Part == b.Part && a.Message == b.Message && a.Value == b.Value
}

// amount is what a value is compared with.
type amount struct {
	number float64
	isText bool
	text   string
}

// amount reads a quantity of a value, or one of its words.
func (p *parser) amount(v *values.Name) (amount, *Error) {
	t := p.now()
	if t.kind != word && t.kind != quoted {
		return amount{}, p.fault(t, "write a quantity, as 5 ms, or a word that the value can have", "what is it compared with?")
	}
	p.at++
	f := v.Format
	if f == nil {
		f = &coding.Format{Bits: 64}
	}
	for raw, w := range f.Codes {
		if same(w, t.text) {
			return amount{number: float64(raw), isText: true, text: w}, nil
		}
	}
	// The unit may follow as a word of its own.
	if n := p.now(); n.kind == word && t.kind == word && !p.ends() {
		r, err := f.Amount(t.text + " " + n.text)
		if err == nil {
			p.at++
			return number(r, t.text+" "+n.text), nil
		}
		if _, bare := f.Amount(t.text); bare == nil && !p.is("within") && !slices.ContainsFunc(p.nouns.Words(), func(w string) bool { return same(w, n.text) }) {
			return amount{}, p.fault(t, "", "%s: %v", values.Dashed(v.Value), err)
		}
	}
	if strings.HasPrefix(strings.ToLower(t.text), "0x") || strings.HasPrefix(strings.ToLower(t.text), "0b") {
		w, err := f.Encode(t.text)
		if err != nil {
			return amount{}, p.fault(t, "", "%v", err)
		}
		if w.Number == nil {
			return amount{number: float64(w.Raw), text: t.text}, nil
		}
		return number(w.Number, t.text), nil
	}
	r, err := f.Amount(t.text)
	if err != nil {
		if t.kind == quoted || f.Codes == nil && f.Unit == "" && v.Message != "" {
			return amount{isText: true, text: t.text}, nil
		}
		return amount{}, p.fault(t, "", "%s: %v", values.Dashed(v.Value), err)
	}
	return number(r, t.text), nil
}

func number(r *big.Rat, text string) amount {
	f, _ := r.Float64()
	return amount{number: f, text: text}
}

func (a *amount) compare(sign string, s *values.Sample) bool {
	if a.isText && (s.Text == a.text || s.Text == fmt.Sprintf("%q", a.text)) {
		return sign == "="
	}
	if a.isText || !s.Numeric {
		return sign == "!=" || sign == "≠"
	}
	switch sign {
	case "=":
		return s.Number == a.number
	case "!=", "≠":
		return s.Number != a.number
	case "<":
		return s.Number < a.number
	case ">":
		return s.Number > a.number
	case "<=", "≤":
		return s.Number <= a.number
	}
	return s.Number >= a.number
}

// Complete offers words for the last one of a text.
func Complete(text string, n *Nouns) []string {
	at := strings.LastIndexAny(text, " (,") + 1
	head, last := text[:at], text[at:]
	words := n.Words()
	fields := strings.Fields(head)
	if len(fields) > 0 {
		switch prev := strings.ToLower(fields[len(fields)-1]); prev {
		case "from", "to":
			words = append([]string{"MCU"}, n.ends()...)
		case "error":
			words = nil
			for i := range 32 {
				for _, w := range (record.Flags(1) << i).Names() {
					words = append(words, strings.ReplaceAll(w, " ", "-"))
				}
			}
		default:
			if _, err := n.catalog.Find(prev); err == nil {
				words = append(slices.Clone(valueVerbs), words...)
			}
			if f := strings.TrimRight(prev, "<>=!"); f == "" && len(fields) > 1 {
				if v, err := n.catalog.Find(fields[len(fields)-2]); err == nil && v.Format != nil {
					words = nil
					for _, w := range v.Format.Codes {
						words = append(words, values.Dashed(w))
					}
				}
			}
			words = append(words, "and", "or", "not", "then", "within")
		}
	}
	var out []string
	for _, w := range words {
		if strings.HasPrefix(strings.ToLower(w), strings.ToLower(last)) && !slices.Contains(out, head+w) {
			out = append(out, head+w)
		}
	}
	return out
}
