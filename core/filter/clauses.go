package filter

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/safe"
)

// form is a clause that begins with a keyword.
type form struct {
	word string
	// shape is what follows, and help what it picks out.
	shape, help string
	read        func(p *parser) (test, *Error)
}

var forms []form

func init() {
	forms = []form{
		{"errors", "", "records with an error mark", func(p *parser) (test, *Error) {
			p.may = func(s *records.Summary) bool { return s.Flags != 0 }
			return func(x *look, _ *cell) bool { return x.AllFlags() != 0 }, nil
		}},
		{"error", "KIND", "records with that error mark", (*parser).errorMark},
		{"from", "END", "what that end sent", (*parser).sender},
		{"to", "END", "what was sent to that end", (*parser).receiver},
		{"identifier", "HEX [to HEX]", "frames with the identifier, or with one in the range", (*parser).identifier},
		{"bytes", "HEX ..", "records that hold these bytes; .. is any byte", func(p *parser) (test, *Error) { return p.bytes(false) }},
		{"begins", "HEX ..", "records that begin with these bytes", func(p *parser) (test, *Error) { return p.bytes(true) }},
		{"text", "\"TEXT\"", "records that hold this text", (*parser).contains},
		{"matches", "/EXPRESSION/", "records whose text the regular expression fits", (*parser).matches},
		{"gap", "over TIME", "records with a longer silence before them on their link", (*parser).gap},
		{"answers", "[later than TIME | within TIME]", "what a device sent behind what the MCU sent to it", (*parser).answers},
		{"length", "over N | under N | N", "records with this many bytes or words", (*parser).length},
		{"after", "TIME", "records that begin after that time of the capture", func(p *parser) (test, *Error) { return p.moment(true) }},
		{"before", "TIME", "records that begin before that time of the capture", func(p *parser) (test, *Error) { return p.moment(false) }},
	}
	for _, k := range []struct {
		word, help string
		kinds      []record.Kind
	}{
		{"characters", "runs of characters", []record.Kind{record.Chars}},
		{"frames", "CAN frames", []record.Kind{record.Frame}},
		{"transactions", "transactions of SPI, I2C and pulse lines", []record.Kind{record.Transaction}},
		{"traffic", "all that went over a bus", []record.Kind{record.Chars, record.Frame, record.Transaction, record.Flow}},
		{"changes", "settings that were changed, wires that were cut", []record.Kind{record.Changed}},
		{"checks", "outcomes of checks", []record.Kind{record.Verdict}},
		{"notes", "what was written down about a moment", []record.Kind{record.Note}},
		{"inputs", "what was put into the simulation", []record.Kind{record.Input}},
		{"flow", "ends that say whether they can receive", []record.Kind{record.Flow}},
		{"port", "ports that were lost, and came back", []record.Kind{record.Opened, record.Lost, record.Gap, record.Returned}},
	} {
		forms = append(forms, form{k.word, "", k.help, func(p *parser) (test, *Error) {
			p.may = func(s *records.Summary) bool { return slices.ContainsFunc(k.kinds, s.HoldsKind) }
			return func(x *look, _ *cell) bool { return slices.Contains(k.kinds, x.Kind) }, nil
		}})
	}
}

// Help lists the clauses, what follows each, and what it picks out.
func Help() []string {
	var out []string
	for _, f := range forms {
		out = append(out, fmt.Sprintf("%-40s %s", strings.TrimSpace(f.word+" "+f.shape), f.help))
	}
	out = append(out,
		fmt.Sprintf("%-40s %s", "LINK, PART, MESSAGE", "records on the link, with the part, of the message with a layout"),
		fmt.Sprintf("%-40s %s", "VALUE", "records that tell of the value"),
		fmt.Sprintf("%-40s %s", "VALUE = < > <= >= != QUANTITY", "with such a content; words of codes too"),
		fmt.Sprintf("%-40s %s", "VALUE between QUANTITY and QUANTITY", "with a content from one to the other"),
		fmt.Sprintf("%-40s %s", "VALUE changes, rises, falls", "with another content than before"),
		fmt.Sprintf("%-40s %s", "VALUE crosses QUANTITY", "that went over it, or under it"),
		fmt.Sprintf("%-40s %s", "VALUE written, read", "put there by the MCU, or by the part"),
		fmt.Sprintf("%-40s %s", "… and …, … or …, not …, ( … )", "joined; clauses without a word between them must all hold"),
		fmt.Sprintf("%-40s %s", "…, then … [within TIME]", "a record behind another one"))
	return out
}

func (p *parser) clause() (test, *Error) {
	t := p.now()
	if t.kind == word {
		for i := range forms {
			if strings.EqualFold(forms[i].word, t.text) {
				p.at++
				return forms[i].read(p)
			}
		}
	}
	if t.kind == word || t.kind == quoted {
		return p.noun()
	}
	return nil, p.unexpected()
}

func (p *parser) errorMark() (test, *Error) {
	// Names of several words may be written with blanks: the longest that fits.
	from := p.now()
	var names []string
	for i := range 32 {
		if n := (record.Flags(1) << i).Names(); len(n) == 1 {
			names = append(names, n[0])
		}
	}
	var best record.Flags
	taken := 0
	for i, name := range names {
		words := strings.Fields(name)
		n := 0
		for n < len(words) && p.tokens[min(p.at+n, len(p.tokens)-1)].kind == word && strings.EqualFold(p.tokens[p.at+n].text, words[n]) {
			n++
		}
		if n == len(words) && n > taken {
			best, taken = record.Flags(1)<<i, n
		} else if from.kind == word && taken == 0 && strings.EqualFold(from.text, strings.ReplaceAll(name, " ", "-")) {
			best, taken = record.Flags(1)<<i, 1
		}
	}
	if taken == 0 {
		if p.ends() {
			return nil, p.fault(from, "write `errors` for all of them", "error of which kind? %s", strings.Join(names, ", "))
		}
		change := near(from.text, names)
		if change == "" {
			change = "they are " + strings.Join(names, ", ")
		}
		return nil, p.fault(from, change, "%q is no error mark", from.text)
	}
	p.at += taken
	p.may = func(s *records.Summary) bool { return s.Flags&best != 0 }
	return func(x *look, _ *cell) bool { return x.AllFlags()&best != 0 }, nil
}

// end reads the name of an end.
func (p *parser) end(what string) (func(x *look, e record.End) bool, *Error) {
	t := p.next()
	if t.kind != word && t.kind != quoted {
		return nil, p.fault(t, "write MCU or the name of a device", "%s whom?", what)
	}
	name := t.text
	if strings.EqualFold(name, "mcu") {
		return func(_ *look, e record.End) bool { return e == record.MCU }, nil
	}
	if !slices.ContainsFunc(p.nouns.ends(), func(e string) bool { return same(e, name) }) {
		return nil, p.fault(t, cmpOr(near(name, p.nouns.ends()), "the ends are "+strings.Join(p.nouns.ends(), ", ")), "%q is no end of a link", name)
	}
	return func(x *look, e record.End) bool {
		return x.link != nil && e >= record.Device && same(x.link.EndName(e), name)
	}, nil
}

func (p *parser) sender() (test, *Error) {
	is, err := p.end("from")
	if err != nil {
		return nil, err
	}
	return func(x *look, _ *cell) bool { return is(x, sender(x)) }, nil
}

// sender is who sent a record. In a transaction the bus controller speaks to the device that
// the record names.
func sender(x *look) record.End {
	if x.Kind == record.Transaction {
		return record.MCU
	}
	return x.From
}

func (p *parser) receiver() (test, *Error) {
	is, err := p.end("to")
	if err != nil {
		return nil, err
	}
	return func(x *look, _ *cell) bool {
		if !x.Traffic() || x.link == nil {
			return false
		}
		switch {
		case x.Kind == record.Transaction:
			return is(x, x.From)
		case x.Kind == record.Frame || x.Kind == record.Flow: // to all
			for e := range x.link.Ends {
				if end := record.MCU + record.End(e); end != x.From && is(x, end) {
					return true
				}
			}
			return false
		case x.From == record.MCU:
			return is(x, record.Device)
		}
		return is(x, record.MCU)
	}, nil
}

func (p *parser) hex() (uint32, *Error) {
	t := p.next()
	v, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(t.text), "0x"), 16, 29)
	if t.kind != word || err != nil {
		return 0, p.fault(t, "write it in hex, as 1A5", "%q is no identifier", t.text)
	}
	return uint32(v), nil
}

// mostTried bounds the identifiers that a summary is asked for.
const mostTried = 256

func (p *parser) identifier() (test, *Error) {
	low, err := p.hex()
	if err != nil {
		return nil, err
	}
	high := low
	if p.is("to") {
		t := p.next()
		if high, err = p.hex(); err != nil {
			return nil, err
		}
		if high < low {
			return nil, p.fault(t, "write the smaller one first", "the range from %X to %X is empty", low, high)
		}
	}
	p.may = func(s *records.Summary) bool {
		if high-low > mostTried {
			return s.HoldsKind(record.Frame)
		}
		for id := low; id <= high; id++ {
			if s.HoldsID(id) {
				return true
			}
		}
		return false
	}
	return func(x *look, _ *cell) bool {
		return x.Kind == record.Frame && x.Attr&record.Incomplete == 0 && x.ID >= low && x.ID <= high
	}, nil
}

func (p *parser) bytes(begins bool) (test, *Error) {
	first := p.now()
	var want []byte
	var open []bool
	for p.now().kind == word {
		t := p.now().text
		b, err := hex.DecodeString(t)
		switch {
		case t == "..":
			want, open = append(want, 0), append(open, true)
		case err == nil && len(b) > 0:
			for _, v := range b {
				want, open = append(want, v), append(open, false)
			}
		default:
			if len(want) == 0 {
				return nil, p.fault(first, "write them in hex, as 5D 00, with .. for any", "%q is no byte", t)
			}
			goto done
		}
		p.at++
	}
done:
	if len(want) == 0 {
		return nil, p.fault(first, "write them in hex, as 5D 00, with .. for any", "bytes are missing")
	}
	fits := func(data []byte) bool {
		for i := range want {
			if !open[i] && data[i] != want[i] {
				return false
			}
		}
		return true
	}
	in := func(data []byte) bool {
		for i := 0; i+len(want) <= len(data); i++ {
			if fits(data[i:]) {
				return true
			}
			if begins {
				break
			}
		}
		return false
	}
	return func(x *look, _ *cell) bool {
		return x.Traffic() && (in(x.Data) || x.Kind == record.Transaction && x.Bits > 0 && in(x.Back))
	}, nil
}

func (p *parser) contains() (test, *Error) {
	t := p.next()
	if t.kind != quoted && t.kind != word {
		return nil, p.fault(t, "write it in quotation marks", "a text is missing")
	}
	want := []byte(t.text)
	return func(x *look, _ *cell) bool {
		return bytes.Contains(x.Data, want) || strings.Contains(x.Text, t.text)
	}, nil
}

func (p *parser) matches() (test, *Error) {
	t := p.next()
	if t.kind != pattern && t.kind != quoted {
		return nil, p.fault(t, "write it as /expression/", "a regular expression is missing")
	}
	re, err := regexp.Compile(t.text)
	if err != nil {
		return nil, p.fault(t, "correct the expression", "%v", err)
	}
	return func(x *look, _ *cell) bool {
		return x.Traffic() && re.MatchString(safe.Bytes(x.Data)) || re.Match(x.Data) || x.Text != "" && re.MatchString(x.Text)
	}, nil
}

func (p *parser) gap() (test, *Error) {
	if !p.take("over") {
		return nil, p.fault(p.now(), "write it as: gap over 5 ms", "how long a gap?")
	}
	d, err := p.span()
	if err != nil {
		return nil, err
	}
	return func(x *look, _ *cell) bool { return x.gap > d }, nil
}

func (p *parser) answers() (test, *Error) {
	later, within := quantity.Time(-1), quantity.Forever
	var err *Error
	switch {
	case p.take("later"):
		if !p.take("than") {
			return nil, p.fault(p.now(), "write it as: answers later than 5 ms", "later than what?")
		}
		later, err = p.span()
	case p.take("within"):
		within, err = p.span()
	}
	if err != nil {
		return nil, err
	}
	return func(x *look, _ *cell) bool { return x.delay >= 0 && x.delay > later && x.delay <= within }, nil
}

func (p *parser) length() (test, *Error) {
	over, under := p.take("over"), false
	if !over {
		under = p.take("under")
	}
	t := p.next()
	n, err := strconv.Atoi(t.text)
	if t.kind != word || err != nil || n < 0 {
		return nil, p.fault(t, "write a number, as: length over 8", "%q is no length", t.text)
	}
	return func(x *look, _ *cell) bool {
		switch l := x.Len(); {
		case !x.Traffic():
			return false
		case over:
			return l > n
		case under:
			return l < n
		default:
			return l == n
		}
	}, nil
}

func (p *parser) moment(after bool) (test, *Error) {
	d, err := p.span()
	if err != nil {
		return nil, err
	}
	p.may = func(s *records.Summary) bool {
		if after {
			return s.Last.End > d
		}
		return s.Earliest < d
	}
	return func(x *look, _ *cell) bool {
		if after {
			return x.Start > d
		}
		return x.Start < d
	}, nil
}
