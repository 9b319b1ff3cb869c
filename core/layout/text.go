package layout

import (
	"encoding/binary"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/safe"
)

// Form is how a field stands in a text.
type Form uint8

// The forms.
const (
	Number Form = iota // digits, with a sign and a point
	Hex                // hex digits
	Word               // anything up to what follows
)

// Forms are the words for the forms, in their order.
var Forms = []string{"number", "hex", "word"}

// Piece is fixed text, or a field.
type Piece struct {
	Fixed string
	Field *Field
}

// Write gives the layout of a text with the names of fields in braces.
func Write(text string, fields []*Field) (*Layout, *Fault) {
	l := &Layout{WordBits: 8, Fields: fields}
	bad := func(format string, args ...any) *Fault { return &Fault{0, fmt.Sprintf(format, args...)} }
	used := map[*Field]bool{}
	for rest := text; rest != ""; {
		fixed, more, found := strings.Cut(rest, "{")
		if strings.Contains(fixed, "}") {
			return nil, bad("a } without a { before it in %q", text)
		}
		if fixed != "" {
			l.Text = append(l.Text, Piece{Fixed: fixed})
		}
		if !found {
			break
		}
		name, after, closed := strings.Cut(more, "}")
		if !closed {
			return nil, bad("a { without a } behind it in %q", text)
		}
		f := l.Named(name)
		switch {
		case f == nil:
			return nil, bad("{%s} is not in the legend", name)
		case used[f]:
			return nil, bad("{%s} appears twice", name)
		}
		used[f] = true
		if n := len(l.Text); n > 0 && l.Text[n-1].Field != nil {
			return nil, bad("{%s} follows {%s} at once: nothing tells where one ends", name, l.Text[n-1].Field.Name)
		}
		l.Text = append(l.Text, Piece{Field: f})
		rest = after
	}
	if len(l.Text) == 0 {
		return nil, bad("an empty text")
	}
	l.Fields = nil
	for _, f := range fields {
		switch {
		case !used[f]:
			return nil, &Fault{-1, fmt.Sprintf("%s is not in the text", f.Name)}
		case f.List == 0:
			l.Fields = append(l.Fields, f)
		}
		for k := range f.List {
			l.Fields = append(l.Fields, f.member(k))
		}
	}
	return l, nil
}

// Read reads a message of text. Where it is none of the layout, why says at which
// character it differs.
func (l *Layout) Read(text []byte) (values []Value, why string) {
	at := 0
	for i, p := range l.Text {
		if p.Field == nil {
			if !strings.HasPrefix(string(text[at:]), p.Fixed) {
				return values, differs(text, at, strconv.Quote(p.Fixed))
			}
			at += len(p.Fixed)
			continue
		}
		end := len(text)
		if i+1 < len(l.Text) {
			if n := strings.Index(string(text[at:]), l.Text[i+1].Fixed); n >= 0 {
				end = at + n
			}
		}
		if p.Field.List > 0 {
			var members []Value
			if members, why = l.list(p.Field, text, at, end); why != "" {
				return append(values, members...), why
			}
			values, at = append(values, members...), end
			continue
		}
		v := Value{Field: p.Field, From: at, To: end}
		if v.Value, why = p.Field.read(text, at, end); why != "" {
			return values, why
		}
		values = append(values, v)
		at = end
	}
	if at < len(text) {
		return values, differs(text, at, "nothing more")
	}
	return values, ""
}

// list reads the members of a list that stand from a character on.
func (l *Layout) list(f *Field, text []byte, from, to int) (values []Value, why string) {
	for k := 0; ; k++ {
		m := l.Named(fmt.Sprintf("%s-%d", f.Name, k+1))
		if m == nil {
			return values, fmt.Sprintf("more than %d of %s, from character %d on", f.List, f.Name, from+1)
		}
		end, last := to, true
		if n := strings.Index(string(text[from:to]), f.Between); n >= 0 {
			end, last = from+n, false
		}
		v := Value{Field: m, From: from, To: end}
		if v.Value, why = m.read(text, from, end); why != "" {
			return values, why
		}
		if values = append(values, v); last {
			return values, ""
		}
		from = end + len(f.Between)
	}
}

func differs(text []byte, at int, want string) string {
	if at >= len(text) {
		return fmt.Sprintf("it ends after %d characters, where %s was expected", len(text), want)
	}
	return fmt.Sprintf("'%c' at character %d, where %s was expected", safe.Byte(text[at]), at+1, want)
}

// mostDigits bounds a number in a text.
const mostDigits = 30

// read reads a field of a text.
func (f *Field) read(text []byte, from, to int) (coding.Value, string) {
	s := string(text[from:to])
	switch f.Form {
	case Word:
		for raw, word := range f.Codes {
			if word == s {
				return f.Decode(raw), ""
			}
		}
		if len(f.Codes) > 0 {
			return coding.Value{}, fmt.Sprintf("%s is no word of %s", safe.Bytes([]byte(s)), f.Name)
		}
		return coding.Words(s), ""
	case Hex:
		v, err := strconv.ParseUint(s, 16, 64)
		if err != nil {
			return coding.Value{}, f.digit(text, from, to, "0123456789abcdefABCDEF")
		}
		out := f.Decode(v)
		return out, ""
	}
	r, ok := rat(s)
	if !ok || len(s) > mostDigits || strings.ContainsAny(s, "/eExXpP_") {
		return coding.Value{}, f.digit(text, from, to, "+-0123456789.")
	}
	if word, known := f.code(r); known {
		return f.Decode(word), ""
	}
	if f.Scale != nil {
		r.Mul(r, f.Scale)
	}
	if f.Offset != nil {
		r.Add(r, f.Offset)
	}
	return coding.Exactly(r, f.Unit), ""
}

// code gives the number of a text as one of the field's codes.
func (f *Field) code(r *big.Rat) (uint64, bool) {
	if len(f.Codes) == 0 || !r.IsInt() || !r.Num().IsUint64() {
		return 0, false
	}
	_, known := f.Codes[r.Num().Uint64()]
	return r.Num().Uint64(), known
}

// digit names the character that is no digit.
func (f *Field) digit(text []byte, from, to int, digits string) string {
	for i := from; i < to; i++ {
		if !strings.ContainsRune(digits, rune(text[i])) {
			return fmt.Sprintf("'%c' at character %d is no digit of %s", safe.Byte(text[i]), i+1, f.Name)
		}
	}
	if from == to {
		return fmt.Sprintf("%s has no digits", f.Name)
	}
	return fmt.Sprintf("%s is no number: %s", f.Name, safe.Bytes(text[from:to]))
}

// Say writes a message of text; values are those of all fields.
func (l *Layout) Say(values map[string]string) ([]byte, error) {
	var out []byte
	for name := range values {
		if l.Named(name) == nil {
			return nil, fmt.Errorf("%s has no value %q; its values are %s", l.Name, name, strings.Join(l.Names(), ", "))
		}
	}
	for _, p := range l.Text {
		if p.Field == nil {
			out = append(out, p.Fixed...)
			continue
		}
		if p.Field.List > 0 {
			said, err := l.sayList(p.Field, values)
			if err != nil {
				return nil, err
			}
			out = append(out, said...)
			continue
		}
		text, has := values[p.Field.Name]
		if !has {
			return nil, fmt.Errorf("%s has no value", p.Field.Name)
		}
		written, err := p.Field.say(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Field.Name, err)
		}
		out = append(out, written...)
	}
	if back, why := l.Read(out); why != "" || len(back) != len(values) {
		return nil, fmt.Errorf("the text can't be read back: %s", why)
	}
	return out, nil
}

// sayList writes the members of a list, as many as there are from the first on.
func (l *Layout) sayList(f *Field, values map[string]string) (string, error) {
	var out []string
	for k := range f.List {
		text, has := values[fmt.Sprintf("%s-%d", f.Name, k+1)]
		if !has {
			break
		}
		written, err := f.say(text)
		if err != nil {
			return "", fmt.Errorf("%s-%d: %w", f.Name, k+1, err)
		}
		out = append(out, written)
	}
	if len(out) == 0 {
		return "", fmt.Errorf("%s-1 has no value", f.Name)
	}
	return strings.Join(out, f.Between), nil
}

func (f *Field) say(text string) (string, error) {
	text = strings.TrimSpace(text)
	for raw, word := range f.Codes {
		if strings.EqualFold(word, text) {
			switch f.Form {
			case Word:
				return word, nil
			case Hex:
				return fmt.Sprintf("%X", raw), nil
			}
			return fmt.Sprint(raw), nil
		}
	}
	if f.Form == Word {
		if len(f.Codes) > 0 {
			return "", fmt.Errorf("%q is no word of it", text)
		}
		return text, nil
	}
	if f.Form == Hex {
		w, err := f.Format.Encode(text)
		return fmt.Sprintf("%X", w.Raw), err
	}
	r, err := f.Asked(text)
	if err != nil {
		return "", err
	}
	if f.Offset != nil {
		r.Sub(r, f.Offset)
	}
	if f.Scale != nil {
		r.Quo(r, f.Scale)
	}
	return coding.Text(r), nil
}

// Words gives bytes as words of a drawing.
func Words(data []byte) []uint64 {
	out := make([]uint64, len(data))
	for i, b := range data {
		out[i] = uint64(b)
	}
	return out
}

// Bytes gives the words of a drawing as bytes, as many each as the words need, the least
// significant first.
func (l *Layout) Bytes(words []uint64) []byte {
	n := (l.WordBits + 7) / 8
	var out []byte
	for _, w := range words {
		out = append(out, binary.LittleEndian.AppendUint64(nil, w)[:n]...)
	}
	return slices.Clip(out)
}
