// Package safe turns bytes and text of unknown origin into text that can be
// shown: on a terminal, in SVG, PDF and HTML. Nothing that it returns contains
// a control character, and all of it is valid UTF-8.
package safe

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Byte gives the one-cell symbol of a byte from the wire: the character itself
// for printable ASCII, an arrow or sign of its own for the control characters
// that texts are made with, ¤ for the other ones, and a middle dot for every
// byte that ASCII does not define. The signs are ones that common terminal
// fonts have.
func Byte(b byte) rune {
	switch {
	case b == 0:
		return '∅'
	case b == '\t':
		return '⇥'
	case b == '\n':
		return '↵'
	case b == '\r':
		return '⇤'
	case b == 0x7f:
		return '⌫'
	case b < 0x20:
		return '¤'
	case b > 0x7f:
		return '·'
	}
	return rune(b)
}

// Bytes gives the symbols of bytes from the wire, one for each byte.
func Bytes(data []byte) string {
	out := make([]byte, 0, 2*len(data)) // half of random bytes take two or three
	for _, b := range data {
		if b >= ' ' && b <= '~' {
			out = append(out, b)
		} else {
			out = utf8.AppendRune(out, Byte(b))
		}
	}
	return string(out)
}

// Text makes a text showable: control characters become symbols,
// other unprintable characters and broken UTF-8 the replacement character.
func Text(s string) string {
	clean := true
	for _, r := range s {
		if r >= ' ' && r <= '~' || r == '·' {
			continue
		}
		if !unicode.IsPrint(r) || r == utf8.RuneError {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r < 0x20 || r == 0x7f:
			return Byte(byte(r))
		case !unicode.IsPrint(r) && r != ' ':
			return utf8.RuneError
		}
		return r
	}, s)
}

// JSON gives JSON in which characters that don't print, or that turn the direction of
// text, stand as escapes.
func JSON(b []byte) []byte {
	plain := func(r rune) bool { return r < 0x7f || r != utf8.RuneError && unicode.IsPrint(r) }
	if bytes.IndexFunc(b, func(r rune) bool { return !plain(r) }) < 0 {
		return b
	}
	var out []byte
	for _, r := range string(b) {
		switch high, low := utf16.EncodeRune(r); {
		case plain(r) || r == utf8.RuneError:
			out = utf8.AppendRune(out, r)
		case high != utf8.RuneError:
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
	}
	return out
}

// JSONWriter gives a writer for whole values of JSON, which come out as JSON gives them.
func JSONWriter(w io.Writer) io.Writer { return jsonWriter{w} }

type jsonWriter struct{ w io.Writer }

func (j jsonWriter) Write(p []byte) (int, error) {
	if _, err := j.w.Write(JSON(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

const (
	// longestWord is how many characters of a word a message holds, longestMessage of all.
	longestWord, longestMessage = 120, 2000
)

// Brief gives a message without the middle of words that are too long to be read, as a file or an
// argument may have them: the beginning and how long they are tell them. What still is too long
// ends where it is.
func Brief(s string) string {
	if len(s) <= longestWord {
		return s
	}
	var out strings.Builder
	word := func(w string) {
		if n := utf8.RuneCountInString(w); n > longestWord {
			r := []rune(w)
			w = fmt.Sprintf("%s… (%d characters)", string(r[:longestWord/2]), n)
		}
		out.WriteString(w)
	}
	from := 0
	for i, r := range s {
		if unicode.IsSpace(r) {
			word(s[from:i])
			out.WriteRune(r)
			from = i + utf8.RuneLen(r)
		}
	}
	word(s[from:])
	if text := []rune(out.String()); len(text) > longestMessage {
		return string(text[:longestMessage]) + "…"
	}
	return out.String()
}
