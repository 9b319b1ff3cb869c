// Package access knows how an operation on a part's registers stands on its bus.
//
// A pattern is a score of two lines, what the bus controller sends over what the part
// sends, with bars at the same moments:
//
//	out: reg.7 1 | skip.8 | skip.8 ...
//	in:  skip.8  | skip.8 | value.8 ...
//
// A cell is a name with its number of bits, or with the bits of the whole that it
// carries, as reg[14:8]; 0 and 1 are single bits, other constants are written 00 (hex,
// four bits a digit) or 0b101. The names are reg, the register's number; value, its
// content; more, which is 1 when the operation goes on to further registers; skip,
// which means nothing; and those of registers, whose content stands there whatever is
// asked for. Three dots behind the last column: it is repeated for each further
// register. The word that ends a span and begins the next one (release, restart)
// stands in a column of its own; _ is an empty column.
package access

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// What says what a cell carries.
type What uint8

// The kinds of cells.
const (
	Skip     What = iota // nothing: 0 is sent, nothing is driven
	Fixed                // a constant
	Number               // the number of the register
	Value                // the content of the register that the operation is about
	Held                 // the content of a register that is named
	More                 // 1: the number goes up behind each register
	Count                // how many registers are asked for
	Chars                // a text
	Echo                 // of an answer: what stands in the same place of the request
	Why                  // of a refusal: its reason
	Check                // what tells damage
	Sequence             // of a request: one more than in the one before; of an answer: that of the request
)

// Cell is some bits of a line.
type Cell struct {
	What  What
	Name  string // of the register, of Held
	At    int    // place of its first bit in the span
	Bits  int
	Low   int // the lowest bit of the whole that it carries
	Fixed uint64
	// Form is how the content stands there, in messages; of characters Digits is how
	// many there are, 0 as many as it takes, or those behind the point. Signed: a sign may
	// stand in front.
	Form   Form
	Digits int
	Signed bool
}

// end is the place behind the cell.
func (c *Cell) end() int { return c.At + c.Bits }

// bit gives the bit of the whole that stands at a place of the cell.
func (c *Cell) bit(at int) int { return c.Low + c.Bits - 1 - (at - c.At) }

// Line is one of the two lines of a score.
type Line uint8

// The lines.
const (
	Out Line = iota // the bus controller's
	In              // the part's
)

// Span is what passes from a select to its release, or from one start to the next.
type Span struct {
	Lines [2][]Cell
	Bits  int // of one pass
	// Tail is the place from which the span is repeated for each further register;
	// Bits where it is not.
	Tail int
	// Reads: the part sends, on a bus where one party sends at a time.
	Reads bool
}

// Pattern is an operation as it stands on the bus.
type Pattern struct {
	Name  string
	Spans []Span
	// NumberBits and ValueBits are the sizes of the register's number and of its
	// content; 0 where the pattern has none.
	NumberBits, ValueBits int
	// Reads and Writes say which way the content goes.
	Reads, Writes bool
	// HeldIn and HeldOut are the registers that are named in the lines.
	HeldIn, HeldOut []string
	// More: the operation has a mark for going on to further registers.
	More bool
	// Message: the part is asked and answers; the first span is the request, the second
	// the answer.
	Message bool
	// Most is how many registers it takes in one go; 0: as many as there are. Whole: more are
	// not asked for in several goes.
	Most  int
	Whole bool
	// CountBits is the size of the number of registers that are asked for; 0: none is.
	CountBits int
	// SequenceBits is the size of the number by which a request differs from the one before, of
	// one bit a toggle bit; 0: there is none.
	SequenceBits int
	// Text is the text that it carries; nil where it carries none.
	Text *Text
	// Beside are the texts with names that an answer carries after the first.
	Beside []Text

	checking *Checking
}

// Carries says whether a text with a name stands in the operation.
func (p *Pattern) Carries(text string) bool {
	return p.Text != nil && p.Text.Name == text || slices.ContainsFunc(p.Beside, func(t Text) bool { return t.Name == text })
}

// Repeats says whether the operation can go on to further registers.
func (p *Pattern) Repeats() bool {
	return slices.ContainsFunc(p.Spans, func(s Span) bool { return s.Tail < s.Bits })
}

// Rules are what a bus and a part demand of patterns.
type Rules struct {
	// Duplex: both lines run at once, so that columns have as many bits in both.
	Duplex bool
	// Break is the word between two spans.
	Break string
	// Word is the number of bits of which spans are whole multiples.
	Word int
	// Register gives the size of a register by its name.
	Register func(name string) (bits int, known bool)
	// Checking is how damage is told; nil where it is not.
	Checking *Checking
	// Signed says whether a register holds a number with a sign; Text gives the greatest
	// length of a text. They may be nil.
	Signed func(name string) bool
	Text   func(name string) (most int, known bool)
}

// most bits of a span.
const most = 4096

// Parse reads a pattern. The error says in which line and column what is wrong.
func Parse(name, out, in string, rules Rules) (*Pattern, error) {
	p := &Pattern{Name: name}
	rows := [2][]string{columns(out), columns(in)}
	for i, row := range rows {
		if other := rows[1-i]; len(row) > len(other) {
			for len(other) < len(row) {
				other = append(other, "")
			}
			rows[1-i] = other
		}
	}
	x := &reader{rules: rules, pattern: p, only: len(rows[0]) == 1}
	x.begin()
	for k := range rows[0] {
		if err := x.column(k, rows[0][k], rows[1][k]); err != nil {
			return nil, err
		}
	}
	if err := x.finish(); err != nil {
		return nil, err
	}
	if err := p.check(rules); err != nil {
		return nil, err
	}
	p.checking = rules.Checking
	return p, p.checkFits()
}

func columns(line string) []string {
	if strings.TrimSpace(line) == "" {
		return nil
	}
	out := strings.Split(line, "|")
	for i := range out {
		if out[i] = strings.TrimSpace(out[i]); out[i] == "_" {
			out[i] = ""
		}
	}
	return out
}

// reader puts the spans of a pattern together.
type reader struct {
	rules   Rules
	pattern *Pattern
	span    Span
	dots    bool // the span is repeated from its last column
	only    bool // it has one column
}

func (x *reader) begin() { x.span, x.dots = Span{}, false }

// finish takes the span over.
func (x *reader) finish() error {
	s := &x.span
	switch {
	case s.Bits == 0 && x.rules.Duplex && len(x.pattern.Spans) == 0 && x.only:
	case s.Bits == 0:
		return errors.New("a part of it has no bits: write what is sent and what comes back")
	case x.rules.Word > 0 && s.Bits%x.rules.Word != 0:
		return fmt.Errorf("%d bits are no whole number of words of %d bits", s.Bits, x.rules.Word)
	case x.dots && x.rules.Word > 0 && (s.Bits-s.Tail)%x.rules.Word != 0:
		return fmt.Errorf("%d bits are repeated, which are no whole number of words of %d bits", s.Bits-s.Tail, x.rules.Word)
	}
	if !x.dots {
		s.Tail = s.Bits
	}
	if !x.rules.Duplex {
		s.Reads = slices.ContainsFunc(s.Lines[In], func(c Cell) bool { return c.What != Skip })
		if s.Reads && slices.ContainsFunc(s.Lines[Out], func(c Cell) bool { return c.What != Skip }) {
			return fmt.Errorf("both sides send in one go: write %s in a column of its own between them", x.rules.Break)
		}
	}
	x.pattern.Spans = append(x.pattern.Spans, *s)
	return nil
}

// column takes one column of both lines.
func (x *reader) column(k int, out, in string) error {
	at := func(err error) error { return fmt.Errorf("column %d: %w", k+1, err) }
	if b := x.rules.Break; b != "" && (out == b || in == b) {
		if out != b && out != "" || in != b && in != "" {
			return at(fmt.Errorf("%s stands in a column of its own", b))
		}
		if err := x.finish(); err != nil {
			return err
		}
		x.begin()
		return nil
	}
	if x.dots {
		return at(errors.New("nothing follows what is repeated"))
	}
	from := x.span.Bits
	var cells [2][]Cell
	bits := [2]int{}
	for i, text := range []string{out, in} {
		rest, dotted := strings.CutSuffix(text, "...")
		x.dots = x.dots || dotted
		to := from
		for _, w := range strings.Fields(rest) {
			c, err := x.cell(w)
			if err != nil {
				return at(err)
			}
			c.At = to
			to += c.Bits
			cells[i] = append(cells[i], c)
		}
		bits[i] = to - from
	}
	width := max(bits[0], bits[1])
	if width == 0 && x.rules.Duplex && !x.dots && len(x.pattern.Spans) == 0 && from == 0 {
		return nil // a select without clocks, if nothing follows
	}
	if width == 0 {
		return at(errors.New("it is empty"))
	}
	for i := range cells {
		if bits[i] == 0 {
			cells[i] = []Cell{{What: Skip, At: from, Bits: width}}
			bits[i] = width
		}
	}
	if bits[0] != bits[1] {
		return at(fmt.Errorf("%d bits are sent and %d come back in the same time", bits[0], bits[1]))
	}
	if x.dots {
		x.span.Tail = from
	}
	for i := range cells {
		x.span.Lines[i] = append(x.span.Lines[i], cells[i]...)
	}
	if x.span.Bits = from + width; x.span.Bits > most {
		return at(fmt.Errorf("more than %d bits", most))
	}
	return nil
}

// cell reads one cell, without its place.
func (x *reader) cell(w string) (Cell, error) {
	if c, fixed := constant(w); fixed {
		return c, nil
	}
	name, c := w, Cell{}
	if open := strings.IndexByte(w, '['); open >= 0 && strings.HasSuffix(w, "]") {
		name = w[:open]
		high, low, ranged := strings.Cut(w[open+1:len(w)-1], ":")
		h, err := strconv.Atoi(high)
		l := h
		if err == nil && ranged {
			l, err = strconv.Atoi(low)
		}
		if err != nil || l < 0 || h < l || h > 63 {
			return c, fmt.Errorf("%q: write the bits as %s[7:0]", w, name)
		}
		c.Low, c.Bits = l, h-l+1
	} else if dot := strings.LastIndexByte(w, '.'); dot > 0 {
		n, err := strconv.Atoi(w[dot+1:])
		name = w[:dot]
		if err != nil || n < 1 || n > most {
			return c, fmt.Errorf("%q: write the number of bits after the dot, as %s.8", w, name)
		}
		c.Bits = n
	}
	switch name {
	case "reg":
		c.What = Number
	case "value":
		c.What = Value
	case "skip":
		c.What = Skip
	case "check":
		if x.rules.Checking == nil {
			return c, errors.New("check: say how it is worked out, below `check:`")
		}
		if c.What = Check; c.Bits == 0 {
			c.Bits = x.rules.Checking.Bits
		}
		if c.Bits != x.rules.Checking.Bits || c.Low != 0 {
			return c, fmt.Errorf("%s: the check has %d bits", w, x.rules.Checking.Bits)
		}
	case "more":
		c.What = More
		if c.Bits == 0 {
			c.Bits = 1
		}
		if c.Bits != 1 {
			return c, errors.New("more has one bit")
		}
	default:
		bits, known := x.rules.Register(name)
		if !known {
			return c, fmt.Errorf("%q is neither reg, value, more, skip, a constant, nor the name of a register", name)
		}
		c.What, c.Name = Held, name
		if c.Bits == 0 {
			c.Bits = bits
		}
		if c.Low+c.Bits > bits {
			return c, fmt.Errorf("%s: the register has %d bits", w, bits)
		}
	}
	switch {
	case c.Bits == 0:
		return c, fmt.Errorf("%s: say how many bits, as %s.8", w, name)
	case c.Bits > 64 && c.What != Skip:
		return c, fmt.Errorf("%s: a register has at most 64 bits", w)
	}
	return c, nil
}

// constant reads 0, 1, hex digits, or 0b101.
func constant(w string) (Cell, bool) {
	c := Cell{What: Fixed}
	var err error
	switch {
	case w == "0" || w == "1":
		c.Bits, c.Fixed = 1, uint64(w[0]-'0')
	case strings.HasPrefix(w, "0b") && len(w) > 2 && len(w) <= 66:
		c.Bits = len(w) - 2
		c.Fixed, err = strconv.ParseUint(w[2:], 2, 64)
	case len(w) >= 2 && len(w) <= 16:
		c.Bits = 4 * len(w)
		c.Fixed, err = strconv.ParseUint(w, 16, 64)
	default:
		return c, false
	}
	return c, err == nil
}

// check holds the pattern to what makes it an operation.
func (p *Pattern) check(rules Rules) error {
	var number, value [2]cover
	held := [2]map[string]*cover{{}, {}}
	first := place{len(p.Spans), 0} // of the content, or of what depends on the number
	last := place{-1, 0}            // of the number
	for k := range p.Spans {
		for line, cells := range p.Spans[k].Lines {
			for i := range cells {
				c := &cells[i]
				var err error
				switch c.What {
				case Number:
					last = place{k, c.end() - 1}
					err = number[line].add(c)
				case Value:
					if f := (place{k, c.At}); f.before(first) {
						first = f
					}
					err = value[line].add(c)
				case More:
					p.More = true
					if Line(line) == In {
						err = errors.New("more is sent by the bus controller, not by the part")
					}
				case Held:
					if held[line][c.Name] == nil {
						held[line][c.Name] = &cover{}
					}
					err = held[line][c.Name].add(c)
				}
				if err != nil {
					return err
				}
			}
		}
	}
	switch {
	case number[In].bits > 0:
		return errors.New("reg is sent by the bus controller: it stands in the line `out`")
	case value[Out].bits > 0 && value[In].bits > 0:
		return errors.New("value stands in both lines: an operation reads or writes")
	}
	var err error
	if p.NumberBits, err = number[Out].size("reg"); err != nil {
		return err
	}
	for line := range value {
		if value[line].bits == 0 {
			continue
		}
		if p.ValueBits, err = value[line].size("value"); err != nil {
			return err
		}
		p.Reads, p.Writes = line == int(In), line == int(Out)
	}
	for line, names := range []*[]string{&p.HeldOut, &p.HeldIn} {
		for name, c := range held[line] {
			bits, _ := rules.Register(name)
			if c.bits != bits {
				return fmt.Errorf("%s has %d bits, %d of them stand in the pattern", name, bits, c.bits)
			}
			if _, err := c.size(name); err != nil {
				return err
			}
			*names = append(*names, name)
		}
		slices.Sort(*names)
	}
	generic := p.Reads || p.Writes || p.Text != nil && p.Text.Name == ""
	switch {
	case generic && p.NumberBits == 0:
		return errors.New("value has no reg: name the register in its place")
	case p.Text != nil && (p.Reads || p.Writes):
		return errors.New("value and text stand there together")
	case p.Message && p.Reads && p.Repeats() && p.CountBits == 0:
		return errors.New("what comes back is repeated, and nothing says how often: put count into the line `out`")
	case p.CountBits > 0 && !p.Repeats():
		return errors.New("count is given, but nothing is repeated: put ... after the last column")
	case !generic && p.NumberBits > 0:
		return errors.New("reg has no value: what is read or written?")
	case p.More && !p.Repeats():
		return errors.New("more is given, but nothing is repeated: put ... after the last column")
	case p.Repeats() && !generic:
		return errors.New("what is repeated holds no value")
	case generic && !last.before(first):
		return errors.New("value comes before the register's number is known")
	}
	for _, s := range p.Spans {
		if s.Tail == s.Bits {
			continue
		}
		n := 0
		for _, cells := range s.Lines {
			for _, c := range cells {
				if c.What == Value && c.At >= s.Tail {
					n += c.Bits
				}
			}
		}
		if n != p.ValueBits {
			return fmt.Errorf("what is repeated holds %d of the %d bits of value: put all of it after the last bar", n, p.ValueBits)
		}
	}
	return nil
}

// place is a bit of a pattern.
type place struct{ span, at int }

func (p place) before(o place) bool { return p.span < o.span || p.span == o.span && p.at < o.at }

// cover collects which bits of a whole stand in a pattern.
type cover struct {
	bits int
	mask uint64
}

func (c *cover) add(cell *Cell) error {
	m := ones(cell.Bits) << cell.Low
	if c.mask&m != 0 {
		return fmt.Errorf("bits of %s stand there twice", cell.word())
	}
	c.mask |= m
	c.bits += cell.Bits
	return nil
}

// size gives the size of the whole; an error where bits of it are missing.
func (c *cover) size(name string) (int, error) {
	if c.mask != ones(c.bits) {
		return 0, fmt.Errorf("%s: some bits between the highest and bit 0 are missing", name)
	}
	return c.bits, nil
}

func ones(bits int) uint64 {
	if bits >= 64 {
		return ^uint64(0)
	}
	return 1<<bits - 1
}

// word is how the cell's name is written.
func (c *Cell) word() string {
	if c.What == Chars && c.Name != "" {
		return c.Name
	}
	return [...]string{"skip", "constant", "reg", "value", c.Name, "more", "count", "text", "echo", "why", "check"}[c.What]
}

// Describe names what the cell carries.
func (c *Cell) Describe() string {
	switch c.What {
	case Number:
		return "register number"
	case Fixed:
		return fmt.Sprintf("constant %0*b", c.Bits, c.Fixed)
	case More:
		return "goes on to further registers"
	case Skip:
		return "no meaning"
	case Count:
		return "how many"
	case Echo:
		return "as in the request"
	case Sequence:
		return "sequence number of the request"
	case Check:
		return "check of what stands in front of it"
	}
	return c.word()
}
