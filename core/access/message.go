package access

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Messages are patterns of parts that are asked and answer, as on a character link: the
// line `out` is the whole request, the line `in` the whole answer behind it, without
// what frames them.
//
//	out: 'L?' reg.hex2
//	in:  'L=' value.point3
//
// Beside the cells that all patterns know there are texts in quotes, numbers as
// characters (value.dec, value.dec5, value.hex4, value.point3: three digits behind the
// point), texts of the part by their name, count (how many registers are asked for),
// and echo, in answers: the bits that stood in the same place of the request.

// Form is how a content stands in a message.
type Form uint8

// The forms.
const (
	Plain Form = iota // bits as they are
	Dec               // decimal digits
	Hex               // hex digits
	Point             // decimal digits with a point
)

// Text is a content of characters that a message carries.
type Text struct {
	Name   string // "": the one with the number that is asked for
	Writes bool
	// Most is the greatest number of characters.
	Most int
}

// variable says whether the cell has no fixed length.
func (c *Cell) variable() bool {
	return c.What == Chars || c.Form == Point || c.Form == Dec && c.Digits == 0
}

// ParseMessage reads a pattern of a part that is asked and answers. An empty line `in`
// is no answer.
func ParseMessage(name, out, in string, rules Rules) (*Pattern, error) {
	p := &Pattern{Name: name, Message: true}
	for i, line := range []string{out, in} {
		s := Span{Reads: i == In.index()}
		if i == In.index() && strings.TrimSpace(line) == "" {
			break
		}
		cells, tail, err := messageCells(line, rules)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", []string{"out", "in"}[i], err)
		}
		if err := s.settle(cells, tail); err != nil {
			return nil, fmt.Errorf("%s: %w", []string{"out", "in"}[i], err)
		}
		s.Lines[i] = s.Lines[0]
		if i == In.index() {
			s.Lines[Out] = nil
		}
		p.Spans = append(p.Spans, s)
	}
	if err := p.messageCheck(rules); err != nil {
		return nil, err
	}
	return p, p.check(rules)
}

func (l Line) index() int { return int(l) }

// Refusal is what a part answers in place of an answer.
type Refusal struct {
	Span Span
	// WhyBits is the size of the number that says why; 0: none does.
	WhyBits int
	Codes   map[uint64]string
}

// ParseRefusal reads the line of a refusal, in which `why` is its reason.
func ParseRefusal(in string, rules Rules) (*Refusal, error) {
	cells, tail, err := messageCells(in, rules)
	if err != nil {
		return nil, err
	}
	r := &Refusal{Span: Span{Reads: true}}
	if err := r.Span.settle(cells, tail); err != nil {
		return nil, err
	}
	r.Span.Lines = [2][]Cell{nil, r.Span.Lines[0]}
	var why cover
	for i := range cells {
		switch c := &cells[i]; c.What {
		case Why:
			if err := why.add(c); err != nil {
				return nil, err
			}
		case Fixed, Skip, Echo:
		default:
			return nil, fmt.Errorf("%s has no place in a refusal: it holds constants, skip, echo and why", c.word())
		}
	}
	r.WhyBits, err = why.size("why")
	return r, err
}

// settle gives the cells of a message their places.
func (s *Span) settle(cells []Cell, tail int) error {
	at, odd := 0, 0
	s.Tail = -1
	for i := range cells {
		c := &cells[i]
		if c.Form != Plain || c.What == Chars || c.What == Fixed && c.Bits == 0 {
			if odd%8 != 0 {
				return fmt.Errorf("%d bits in front of %s are no whole number of bytes", odd, c.word())
			}
			odd = 0
		} else {
			odd += c.Bits
		}
		if i == tail {
			s.Tail = at
		}
		c.At = at
		at += c.width()
		if c.variable() && i+1 < len(cells) {
			next := &cells[i+1]
			if next.What != Fixed || next.Bits%8 != 0 {
				return fmt.Errorf("%s has no fixed length: a constant character must follow it, or nothing", c.word())
			}
			if first := byte(next.Fixed >> (next.Bits - 8)); c.What != Chars && (first >= '0' && first <= '9' || first == '-' || first == '.') {
				return fmt.Errorf("%s has no fixed length, and %q after it may belong to a number", c.word(), first)
			}
		}
		if c.variable() && tail >= 0 {
			return fmt.Errorf("%s has no fixed length: nothing can be repeated beside it", c.word())
		}
	}
	switch {
	case len(cells) == 0:
		return errors.New("it is empty")
	case odd%8 != 0:
		return fmt.Errorf("%d bits at its end are no whole number of bytes", odd)
	case at > most:
		return fmt.Errorf("more than %d bits", most)
	}
	if s.Bits = at; s.Tail < 0 {
		s.Tail = at
	} else if (at-s.Tail)%8 != 0 {
		return fmt.Errorf("%d bits are repeated, which are no whole number of bytes", at-s.Tail)
	}
	s.Lines[0] = cells
	return nil
}

// width is the number of bits that the cell takes; of one without a fixed length 0.
func (c *Cell) width() int {
	switch {
	case c.variable():
		return 0
	case c.Form != Plain:
		return 8 * c.Digits
	}
	return c.Bits
}

// messageCells reads the cells of a line; tail is the index of the first that is
// repeated, -1 where none is.
func messageCells(line string, rules Rules) (cells []Cell, tail int, err error) {
	tail, column := -1, 0
	for rest := strings.TrimSpace(line); rest != ""; rest = strings.TrimSpace(rest) {
		switch {
		case tail >= 0:
			return nil, 0, errors.New("nothing follows what is repeated")
		case rest[0] == '|':
			rest, column = rest[1:], len(cells)
			continue
		case strings.HasPrefix(rest, "..."):
			rest, tail = rest[3:], column
			if column == len(cells) {
				return nil, 0, errors.New("nothing stands in front of the three dots")
			}
			continue
		case rest[0] == '\'':
			end := strings.IndexByte(rest[1:], '\'')
			if end < 1 {
				return nil, 0, fmt.Errorf("%s: a text stands in quotes", rest)
			}
			for _, b := range []byte(rest[1 : 1+end]) {
				cells = append(cells, Cell{What: Fixed, Bits: 8, Fixed: uint64(b)})
			}
			rest = rest[end+2:]
			continue
		}
		end := strings.IndexAny(rest, " \t|")
		if end < 0 {
			end = len(rest)
		}
		w := rest[:end]
		dotted := false
		if w, dotted = strings.CutSuffix(w, "..."); dotted {
			rest = " ..." + rest[end:]
		} else {
			rest = rest[end:]
		}
		c, err := messageCell(w, rules)
		if err != nil {
			return nil, 0, err
		}
		cells = append(cells, c)
	}
	return cells, tail, nil
}

// messageCell reads one cell.
func messageCell(w string, rules Rules) (Cell, error) {
	if most, known := rules.text(w); known {
		return Cell{What: Chars, Name: w, Bits: 8 * most}, nil
	}
	if w == "text" {
		return Cell{What: Chars}, nil
	}
	if name, form, digits, has := formOf(w); has {
		c := Cell{Form: form, Digits: digits, Bits: 4 * digits}
		switch {
		case form == Hex && digits == 0:
			return c, fmt.Errorf("%s: say how many digits, as %s.hex2", w, name)
		case digits > 20 || form == Point && (digits < 1 || digits > 9) || form == Hex && digits > 16:
			return c, fmt.Errorf("%s: too many or too few digits", w)
		}
		bits, known := rules.Register(name)
		switch {
		case name == "reg" && form != Point:
			c.What = Number
		case name == "value" && form == Hex:
			c.What = Value
		case name == "count" && form != Point:
			c.What = Count
		case name == "why" && form != Point:
			c.What = Why
		case known:
			c.What, c.Name, c.Bits = Held, name, bits
			c.Signed = rules.Signed != nil && rules.Signed(name)
		case name == "reg" || name == "value" || name == "count" || name == "why":
			return c, fmt.Errorf("%s can't stand in this form", w)
		default:
			return c, fmt.Errorf("%q is the name of no register", name)
		}
		if form == Dec && c.What != Held {
			if c.Bits = 64; digits > 0 {
				c.Bits = bitsOfDigits(digits)
			}
		}
		if c.Signed && form == Dec && digits > 0 {
			return c, fmt.Errorf("%s: a number with a sign has no fixed count of digits", w)
		}
		return c, nil
	}
	x := &reader{rules: rules}
	switch name, bits, _ := strings.Cut(w, "."); name {
	case "sequence":
		n, err := strconv.Atoi(bits)
		if err != nil || n < 1 || n > 32 {
			return Cell{}, fmt.Errorf("%q: write the number of bits after the dot, as sequence.1 for a toggle bit", w)
		}
		return Cell{What: Sequence, Bits: n}, nil
	case "echo", "count", "why":
		n, err := strconv.Atoi(bits)
		if err == nil && n >= 1 && (n <= 64 || name == "echo" && n <= most) {
			return Cell{What: map[string]What{"echo": Echo, "count": Count, "why": Why}[name], Bits: n}, nil
		}
		if bits != "" {
			return Cell{}, fmt.Errorf("%q: write the number of bits after the dot, as %s.8", w, name)
		}
	}
	// count and why in pieces are read as value is.
	for name, what := range map[string]What{"count": Count, "why": Why} {
		if strings.HasPrefix(w, name+"[") {
			c, err := x.cell("value" + strings.TrimPrefix(w, name))
			c.What = what
			return c, err
		}
	}
	return x.cell(w)
}

// bitsOfDigits is how many bits the numbers of some decimal digits fit.
func bitsOfDigits(n int) int {
	limit := uint64(1)
	for range min(n, 19) {
		limit *= 10
	}
	bits := 0
	for v := limit - 1; v > 0; v >>= 1 {
		bits++
	}
	return bits
}

func formOf(w string) (name string, form Form, digits int, has bool) {
	dot := strings.LastIndexByte(w, '.')
	if dot <= 0 {
		return "", 0, 0, false
	}
	for word, f := range map[string]Form{"dec": Dec, "hex": Hex, "point": Point} {
		if rest, is := strings.CutPrefix(w[dot+1:], word); is {
			if rest == "" {
				return w[:dot], f, 0, true
			}
			if n, err := strconv.Atoi(rest); err == nil && n > 0 {
				return w[:dot], f, n, true
			}
		}
	}
	return "", 0, 0, false
}

func (r *Rules) text(name string) (most int, known bool) {
	if r.Text == nil {
		return 0, false
	}
	return r.Text(name)
}

// messageCheck holds a pattern to what only messages have.
func (p *Pattern) messageCheck(rules Rules) error {
	for k := range p.Spans {
		var count cover
		numbered := false
		for line, cells := range p.Spans[k].Lines {
			for i := range cells {
				c := &cells[i]
				switch {
				case c.What == More:
					return errors.New("more has no meaning in messages: count says how many")
				case c.What == Sequence && numbered:
					return errors.New("sequence appears twice")
				case c.What == Sequence && Line(line) == In && p.SequenceBits != c.Bits:
					return errors.New("an answer repeats the sequence of its request, in as many bits")
				case c.What == Sequence:
					p.SequenceBits, numbered = c.Bits, true
				case c.What == Why:
					return errors.New("why stands in refusals alone")
				case c.What == Echo && Line(line) == Out:
					return errors.New("echo stands in answers: it repeats the request")
				case c.What == Count && Line(line) == In:
					return errors.New("count is asked for: it stands in the line `out`")
				case c.What == Count:
					if err := count.add(c); err != nil {
						return err
					}
				case c.What == Chars && p.Text != nil && (c.Name == "" || p.Text.Name == "" || Line(line) == Out || p.Text.Writes):
					return errors.New("a message carries one text; answers may carry several that have names")
				case c.What == Chars && p.Carries(c.Name):
					return fmt.Errorf("%s appears twice", c.Name)
				case c.What == Chars && p.Text != nil:
					p.Beside = append(p.Beside, Text{Name: c.Name, Most: c.Bits / 8})
				case c.What == Chars:
					p.Text = &Text{Name: c.Name, Writes: Line(line) == Out, Most: c.Bits / 8}
				}
			}
		}
		if count.bits > 0 {
			bits, err := count.size("count")
			if err != nil {
				return err
			}
			p.CountBits = bits
		}
	}
	return nil
}

// digits gives the characters of a content.
func (c *Cell) digits(v uint64) string {
	switch c.Form {
	case Hex:
		return fmt.Sprintf("%0*X", c.Digits, v)
	case Dec:
		if c.Signed {
			return strconv.FormatInt(signed(v, c.Bits), 10)
		}
		return fmt.Sprintf("%0*d", c.Digits, v)
	}
	n, sign := v, ""
	if s := signed(v, c.Bits); c.Signed && s < 0 {
		n, sign = -uint64(s), "-"
	}
	text := fmt.Sprintf("%0*d", c.Digits+1, n)
	return sign + text[:len(text)-c.Digits] + "." + text[len(text)-c.Digits:]
}

// signed reads bits as two's complement.
func signed(v uint64, bits int) int64 { return int64(v<<(64-bits)) >> (64 - bits) }

// number is the inverse of digits.
func (c *Cell) number(text string) (uint64, bool) {
	if c.Form == Hex {
		v, err := strconv.ParseUint(text, 16, 64)
		return v, err == nil && v&^ones(c.Bits) == 0
	}
	if c.Form == Point {
		whole, part, pointed := strings.Cut(text, ".")
		if !pointed || len(part) != c.Digits || strings.ContainsAny(part, "+-") {
			return 0, false
		}
		text = whole + part
	}
	if c.Signed {
		v, err := strconv.ParseInt(text, 10, 64)
		return uint64(v) & ones(c.Bits), err == nil && signed(uint64(v)&ones(c.Bits), c.Bits) == v
	}
	v, err := strconv.ParseUint(text, 10, 64)
	return v, err == nil && v&^ones(c.Bits) == 0
}

// contents are what stands in a message.
type contents interface {
	// bits gives what a cell holds.
	bits(it *Item) uint64
	// chars gives the text.
	chars(name string) []byte
	// echoed gives a bit of the request.
	echoed(at int) bool
}

// compose gives a message bit by bit, with its cells in their places.
func (s *Span) compose(line Line, units int, from contents) (bits []bool, items []Item) {
	put := func(it Item) {
		it.At, it.Line = len(bits), line
		switch {
		case it.What == Chars:
			chars := from.chars(it.Name)
			for _, b := range chars {
				bits = appendByte(bits, b)
			}
			it.Text = string(chars)
		case it.Form != Plain:
			it.Sent = from.bits(&it)
			it.Text = it.digits(it.Sent)
			for _, b := range []byte(it.Text) {
				bits = appendByte(bits, b)
			}
		case it.What == Echo:
			for i := range it.Bits {
				bits = append(bits, from.echoed(it.At+i))
			}
		default:
			it.Sent = from.bits(&it)
			for i := range it.Bits {
				bits = append(bits, it.Bits-1-i < 64 && it.Sent>>(it.Bits-1-i)&1 == 1)
			}
		}
		it.Bits = len(bits) - it.At
		items = append(items, it)
	}
	for _, c := range s.Lines[line] {
		put(Item{Cell: c})
	}
	for u := 1; u < units; u++ {
		for _, c := range s.Lines[line] {
			if c.At >= s.Tail && s.Tail < s.Bits {
				put(Item{Cell: c, Unit: u})
			}
		}
	}
	return bits, items
}

func appendByte(bits []bool, b byte) []bool {
	for i := 7; i >= 0; i-- {
		bits = append(bits, b>>i&1 == 1)
	}
	return bits
}

// findings take what stands in a message.
type findings interface {
	// take takes what a cell holds; false where it can't be that.
	take(it *Item, v uint64, known bool) bool
	text(name string, chars []byte) bool
	// echo compares a bit with the request.
	echo(at int, b Bit) bool
}

// units is how many registers a message of a length is about; false where it has another
// length.
func (s *Span) units(n int) (int, bool) {
	if slices.ContainsFunc(append(slices.Clone(s.Lines[Out]), s.Lines[In]...), func(c Cell) bool { return c.variable() }) {
		return 1, n >= s.Bits
	}
	if n < s.Bits {
		return 1, false
	}
	tail := s.Bits - s.Tail
	if tail == 0 {
		return 1, n == s.Bits
	}
	return 1 + (n-s.Bits)/tail, (n-s.Bits)%tail == 0
}

// apart takes a message apart; false where it is none of these.
func (s *Span) apart(line Line, bits []Bit, to findings) bool {
	units, fits := s.units(len(bits))
	if !fits {
		return false
	}
	cells := s.Lines[line]
	at := 0
	get := func(it Item, next *Cell) bool {
		it.At, it.Line = at, line
		width := it.width()
		if it.variable() {
			width = s.reach(&it.Cell, next, bits[at:])
		}
		if width < 0 || at+width > len(bits) {
			return false
		}
		part := bits[at : at+width]
		at += width
		switch {
		case it.What == Echo:
			for i, b := range part {
				if !to.echo(it.At+i, b) {
					return false
				}
			}
			return true
		case it.What == Chars:
			chars, known := charsOf(part)
			return known && to.text(it.Name, chars)
		case it.Form != Plain:
			chars, known := charsOf(part)
			v, is := it.number(string(chars))
			return known && is && to.take(&it, v, true)
		}
		v, known := word(part, 0, len(part))
		return to.take(&it, v, known)
	}
	for u := range units {
		for i, c := range cells {
			if u > 0 && c.At < s.Tail {
				continue
			}
			var next *Cell
			if i+1 < len(cells) {
				next = &cells[i+1]
			}
			if !get(Item{Cell: c, Unit: u}, next) {
				return false
			}
		}
	}
	return at == len(bits)
}

// reach is how many bits a cell without a fixed length has.
func (s *Span) reach(c, next *Cell, bits []Bit) int {
	for n := 0; n+8 <= len(bits); n += 8 {
		b, _ := word(bits, n, 8)
		if next != nil && b == next.Fixed>>(next.Bits-8)&0xFF {
			return n
		}
		if c.What != Chars && !(b >= '0' && b <= '9' || b == '-' || b == '.') {
			return -1
		}
	}
	if next != nil {
		return -1
	}
	return len(bits) - len(bits)%8
}

func charsOf(bits []Bit) ([]byte, bool) {
	var out []byte
	known := true
	for at := 0; at+8 <= len(bits); at += 8 {
		b, k := word(bits, at, 8)
		out, known = append(out, byte(b)), known && k
	}
	return out, known
}

// Bits gives bytes bit by bit.
func Bits(data []byte) []Bit {
	out := make([]Bit, 0, 8*len(data))
	for _, b := range data {
		for i := 7; i >= 0; i-- {
			out = append(out, BitOf(b>>i&1 == 1))
		}
	}
	return out
}

// Bytes is the inverse, of whole bytes that are known.
func Bytes(bits []bool) []byte {
	out := make([]byte, len(bits)/8)
	for i := range out {
		for k := range 8 {
			out[i] <<= 1
			if bits[8*i+k] {
				out[i] |= 1
			}
		}
	}
	return out
}
