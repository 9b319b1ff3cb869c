// Package layout knows how values stand in messages. A layout is drawn: a row for each
// word, its most significant bit left, with a letter for each bit that belongs to a value
// and a dot for one that belongs to none,
//
//	0:   ..mmrrrr
//	1-2: pppppppp
//
// and a legend says of each letter what its bits mean. So the order of bytes is seen, and
// no bit can belong to two values. Messages of text have a line with names in braces
// instead, as `{level} m`.
package layout

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/coding"
)

// Field is a value of a layout.
type Field struct {
	Name, About string
	coding.Format
	// Letter is the one that stands for it in the drawing; 0 of a field of a text.
	Letter rune
	// LowFirst: of its words the one that comes first is the least significant.
	LowFirst bool
	// Places are its bits in the words, the most significant first.
	Places []Place
	// Form is how it stands in a text.
	Form Form
	// Warns are contents with which something is to be known, and what.
	Warns map[uint64]string
	// List is how often it may stand there one after the other; 0: once. Between is what separates
	// it from the next in a text.
	List    int
	Between string
	// ListOf is the field of which this one is a member; nil of others.
	ListOf *Field
}

// Place is a bit of a word of a message; bit 0 is the least significant.
type Place struct{ Word, Bit int }

// Condition holds for messages in which a field has one of some contents.
type Condition struct {
	Field *Field
	Raw   []uint64
}

// Layout is how values stand in one kind of message.
type Layout struct {
	Name, About string
	Fields      []*Field
	// WordBits is the width of a word of the drawing.
	WordBits int
	// Drawn are the words that have a row.
	Drawn []bool
	// When are conditions that all must hold; none: it fits every message.
	When []Condition
	// Text is that of a message of characters; nil of a drawn one.
	Text []Piece
	// Length is how many words the message has; 0: not stated.
	Length int
	// listed is the first word of its list, each how many words a member has; 0: it has none.
	listed, each int
}

// Row is a row of a drawing: the letters of words From to To.
type Row struct {
	From, To int
	Letters  string
}

// MostWords bounds a drawing.
const MostWords = 4096

// Draw gives the layout of a drawing. The letters have their fields already; those whose
// letter is drawn get their places. An error says what is wrong with the row that it names.
func Draw(bits int, rows []Row, fields []*Field) (*Layout, *Fault) {
	l := &Layout{WordBits: bits, Fields: fields}
	bad := func(row int, format string, args ...any) *Fault { return &Fault{row, fmt.Sprintf(format, args...)} }
	byLetter := map[rune]*Field{}
	for _, f := range fields {
		byLetter[f.Letter] = f
	}
	// Places by word, so that each letter gets them in order whatever the order of the rows.
	drawn := map[int]string{}
	for i, r := range rows {
		switch {
		case r.From < 0 || r.To < r.From || r.To >= MostWords:
			return nil, bad(i, "words %d to %d: write numbers from 0 to %d, the smaller first", r.From, r.To, MostWords-1)
		case len([]rune(r.Letters)) != bits:
			return nil, bad(i, "%q has %d letters; a row has %d, one for each bit", r.Letters, len([]rune(r.Letters)), bits)
		}
		for _, c := range r.Letters {
			if c != '.' && byLetter[c] == nil {
				return nil, bad(i, "the letter %c has no row in the legend", c)
			}
		}
		for w := r.From; w <= r.To; w++ {
			if _, twice := drawn[w]; twice {
				return nil, bad(i, "word %d has two rows", w)
			}
			drawn[w] = r.Letters
		}
	}
	words := 0
	for w := range drawn {
		words = max(words, w+1)
	}
	l.Drawn = make([]bool, words)
	for w := range words {
		letters, has := drawn[w]
		l.Drawn[w] = has
		for i, c := range []rune(letters) {
			if f := byLetter[c]; f != nil {
				f.Places = append(f.Places, Place{w, bits - 1 - i})
			}
		}
	}
	for _, f := range fields {
		if len(f.Places) == 0 {
			return nil, bad(-1, "the letter %c of %s is in no row", f.Letter, f.Name)
		}
		if len(f.Places) > 64 {
			return nil, bad(-1, "%s has %d bits; at most 64 make a value", f.Name, len(f.Places))
		}
		if f.LowFirst {
			f.turn()
		}
		f.Bits = len(f.Places)
	}
	return l, l.lists(bad)
}

// lists puts the members of a list in the place of its fields.
func (l *Layout) lists(bad func(int, string, ...any) *Fault) *Fault {
	var single, listed []*Field
	for _, f := range l.Fields {
		if f.List == 0 {
			single = append(single, f)
			continue
		}
		listed = append(listed, f)
	}
	if len(listed) == 0 {
		return nil
	}
	l.listed = len(l.Drawn)
	for _, f := range listed {
		from, _ := f.Place()
		if l.listed = min(l.listed, from); f.List != listed[0].List {
			return bad(-1, "%s and %s are of one list: say of both how long it is at most", listed[0].Name, f.Name)
		}
	}
	for _, f := range single {
		if _, to := f.Place(); to > l.listed {
			return bad(-1, "%s stands behind the beginning of the list of %s: a list is the last of a message", f.Name, listed[0].Name)
		}
	}
	l.each = len(l.Drawn) - l.listed
	if l.listed+l.each*listed[0].List > MostWords {
		return bad(-1, "the list of %s reaches beyond %d words", listed[0].Name, MostWords)
	}
	l.Fields = single
	for k := range listed[0].List {
		if k > 0 {
			l.Drawn = append(l.Drawn, l.Drawn[l.listed:l.listed+l.each]...)
		}
		for _, f := range listed {
			m := f.member(k)
			for i := range m.Places {
				m.Places[i].Word += k * l.each
			}
			l.Fields = append(l.Fields, m)
		}
	}
	return nil
}

// member gives the member of a list with an index.
func (f *Field) member(k int) *Field {
	m := *f
	m.Name, m.ListOf, m.List, m.Places = fmt.Sprintf("%s-%d", f.Name, k+1), f, 0, slices.Clone(f.Places)
	return &m
}

// Mean gives the members of lists what their fields mean.
func (l *Layout) Mean() {
	for _, f := range l.Fields {
		if of := f.ListOf; of != nil {
			f.Format, f.About, f.Warns = of.Format, of.About, of.Warns
		}
	}
}

// turn puts the last word of a field in front.
func (f *Field) turn() {
	var byWord [][]Place
	for _, p := range f.Places {
		if n := len(byWord); n == 0 || byWord[n-1][0].Word != p.Word {
			byWord = append(byWord, nil)
		}
		n := len(byWord) - 1
		byWord[n] = append(byWord[n], p)
	}
	slices.Reverse(byWord)
	f.Places = slices.Concat(byWord...)
}

// Fault is what is wrong with a drawing or a text.
type Fault struct {
	Row  int // -1: with the legend
	Text string
}

// Of gives the bits of a field; false where the message ends before.
func (f *Field) Of(words []uint64) (raw uint64, whole bool) {
	for _, p := range f.Places {
		if p.Word >= len(words) {
			return 0, false
		}
		raw = raw<<1 | words[p.Word]>>p.Bit&1
	}
	return raw, true
}

// Put puts bits into a field's places; words behind the end are left out.
func (f *Field) Put(words []uint64, raw uint64) {
	n := len(f.Places)
	for i, p := range f.Places {
		if p.Word < len(words) {
			words[p.Word] = words[p.Word]&^(1<<p.Bit) | raw>>(n-1-i)&1<<p.Bit
		}
	}
}

// Value is a field in a message.
type Value struct {
	*Field
	coding.Value
	// Missing: the message ends before it.
	Missing bool
	// From and To are the words that it stands in, To behind the last one.
	From, To int
}

// Float gives the value as a number; false where it stands for none.
func (v *Value) Float() (float64, bool) {
	if v.Missing || v.Number == nil {
		return 0, false
	}
	f, _ := v.Number.Float64()
	return f, !math.IsInf(f, 0)
}

// Fits says whether a message is one of the layout.
func (l *Layout) Fits(words []uint64) bool {
	for _, c := range l.When {
		raw, whole := c.Field.Of(words)
		if !whole || !slices.Contains(c.Raw, raw) {
			return false
		}
	}
	return true
}

// Misfit says which of its conditions a message does not meet, in words; "" where it meets all, or
// is too short to say.
func (l *Layout) Misfit(words []uint64) string {
	for _, c := range l.When {
		if raw, whole := c.Field.Of(words); whole && !slices.Contains(c.Raw, raw) {
			v := c.Field.Decode(raw)
			return c.Field.Name + " is " + v.Meaning()
		}
	}
	return ""
}

// Decode gives the values of a message that fits.
func (l *Layout) Decode(words []uint64) []Value {
	out := make([]Value, 0, len(l.Fields))
	for _, f := range l.Fields {
		v := Value{Field: f}
		v.From, v.To = f.Place()
		if f.ListOf != nil && l.behind(v.From) > len(words) {
			continue // the list is over
		}
		if raw, whole := f.Of(words); whole {
			v.Value = f.Decode(raw)
		} else {
			v.Missing = true
		}
		out = append(out, v)
	}
	return out
}

// behind is the first word behind the member of a list to which a word belongs.
func (l *Layout) behind(word int) int { return l.listed + ((word-l.listed)/l.each+1)*l.each }

// Place gives the first word of a field, and the one behind its last.
func (f *Field) Place() (from, to int) {
	from = math.MaxInt
	for _, p := range f.Places {
		from, to = min(from, p.Word), max(to, p.Word+1)
	}
	return from, to
}

// Unexplained gives the words of a message that have no row.
func (l *Layout) Unexplained(words int) []int {
	var out []int
	over := words // behind the last whole member of a list
	if l.each > 0 && words > l.listed {
		over -= (words - l.listed) % l.each
	}
	for w := range words {
		if w >= len(l.Drawn) || !l.Drawn[w] || w >= over {
			out = append(out, w)
		}
	}
	return out
}

// Encode puts values, in words, into a message, which the layout fits behind that: what is
// not named stays. Bounds of the field hold.
func (l *Layout) Encode(words []uint64, values map[string]string) ([]uint64, error) {
	out := slices.Clone(words)
	need := len(l.Drawn)
	if l.each > 0 {
		need = l.listed
		for name := range values {
			if f := l.Named(name); f != nil && f.ListOf != nil {
				from, _ := f.Place()
				need = max(need, l.behind(from))
			}
		}
	}
	for len(out) < need {
		out = append(out, 0)
	}
	for _, c := range l.When {
		if raw, _ := c.Field.Of(out); !slices.Contains(c.Raw, raw) {
			c.Field.Put(out, c.Raw[0])
		}
	}
	for name, text := range values {
		f := l.Named(name)
		if f == nil {
			return nil, fmt.Errorf("%s has no value %q; its values are %s", l.Name, name, strings.Join(l.Names(), ", "))
		}
		w, err := f.Encode(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		f.Put(out, w.Raw)
	}
	if !l.Fits(out) {
		return nil, fmt.Errorf("these values belong to another layout than %s", l.Name)
	}
	return out, nil
}

// Named gives a field by its name; nil where there is none.
func (l *Layout) Named(name string) *Field {
	for _, f := range l.Fields {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Names lists the fields.
func (l *Layout) Names() []string {
	var out []string
	for _, f := range l.Fields {
		out = append(out, f.Name)
	}
	return out
}

// Apart says whether no message can be one of both layouts.
func (l *Layout) Apart(o *Layout) bool {
	for _, a := range l.When {
		for _, b := range o.When {
			if slices.Equal(a.Field.Places, b.Field.Places) && !slices.ContainsFunc(a.Raw, func(v uint64) bool { return slices.Contains(b.Raw, v) }) {
				return true
			}
		}
	}
	return false
}

func rat(s string) (*big.Rat, bool) { return new(big.Rat).SetString(s) }
