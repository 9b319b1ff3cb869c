package filter

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// kindOf says what a token is.
type kindOf uint8

const (
	end     kindOf = iota
	word           // a name, a number, a keyword
	quoted         // a text in quotation marks
	pattern        // a regular expression between slashes
	sign           // ( ) , or a comparison
)

// token is a piece of a filter's text.
type token struct {
	kind     kindOf
	text     string
	from, to int
}

var signs = []string{"<=", ">=", "!=", "≤", "≥", "≠", "<", ">", "=", "(", ")", ","}

// scan takes the text apart.
func scan(text string) ([]token, *Error) {
	var out []token
	for at := 0; at < len(text); {
		r, size := utf8.DecodeRuneInString(text[at:])
		switch {
		case unicode.IsSpace(r):
			at += size
			continue
		case r == '"' || r == '/' && (len(out) > 0 && strings.EqualFold(out[len(out)-1].text, "matches")):
			kind := quoted
			if r == '/' {
				kind = pattern
			}
			var b strings.Builder
			i := at + 1
			for ; i < len(text) && text[i] != byte(r); i++ {
				if text[i] == '\\' && i+1 < len(text) && text[i+1] == byte(r) {
					i++
				}
				b.WriteByte(text[i])
			}
			if i >= len(text) {
				return nil, &Error{text, at, string(r) + " is not closed", "put a " + string(r) + " at its end"}
			}
			out = append(out, token{kind, b.String(), at, i + 1})
			at = i + 1
			continue
		}
		if s := signAt(text[at:]); s != "" {
			out = append(out, token{sign, s, at, at + len(s)})
			at += len(s)
			continue
		}
		i := at
		for i < len(text) {
			r, size := utf8.DecodeRuneInString(text[i:])
			if unicode.IsSpace(r) || r == '"' || signAt(text[i:]) != "" {
				break
			}
			i += size
		}
		out = append(out, token{word, text[at:i], at, i})
		at = i
	}
	return append(out, token{end, "", len(text), len(text)}), nil
}

func signAt(s string) string {
	for _, x := range signs {
		if strings.HasPrefix(s, x) {
			return x
		}
	}
	return ""
}
