// Package check holds expectations about a link and judges what was seen
// against them.
package check

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
)

// Cell is one expected byte, or any byte.
type Cell struct {
	Byte byte
	Any  bool
}

// Check is one expectation: after sending, if anything is sent, the answer is
// the expected bytes and arrives in time. Without anything to send, the
// expected bytes are looked for in what streams in.
type Check struct {
	Name   string
	Send   []byte
	Expect []Cell
	// Do and Plan are, on a bus of transactions, the one to do and the one that must
	// be seen then, in the words in which the bus plans them.
	Do, Plan string
	Within   quantity.Time // from the end of what was sent to the last expected byte
}

// ParseHex reads bytes in hex, as `53 4E 0A`; with any, `..` stands for any
// byte.
func ParseHex(s string, any bool) ([]Cell, error) {
	var out []Cell
	for _, w := range strings.Fields(s) {
		if any && w == ".." {
			out = append(out, Cell{Any: true})
			continue
		}
		b, err := strconv.ParseUint(w, 16, 8)
		if err != nil || len(w) != 2 {
			return nil, fmt.Errorf("%q is no byte in hex: write two digits each, as 53 4E 0A", w)
		}
		out = append(out, Cell{Byte: byte(b)})
	}
	if len(out) == 0 {
		return nil, errors.New("no bytes in it")
	}
	return out, nil
}

// ParseText reads a text with escapes such as \n, \r or \x1b.
func ParseText(s string) ([]byte, error) {
	out, err := strconv.Unquote(`"` + strings.ReplaceAll(s, `"`, `\"`) + `"`)
	if err != nil {
		return nil, errors.New(`use \n, \r, \t, \\ and \xNN for special bytes`)
	}
	return []byte(out), nil
}

// Bytes gives the bytes of cells that hold no Any.
func Bytes(cells []Cell) []byte {
	var out []byte
	for _, c := range cells {
		out = append(out, c.Byte)
	}
	return out
}

// FromText makes cells of a text; the character any, if it is not empty,
// stands for any byte.
func FromText(s, any string) []Cell {
	var out []Cell
	for i := range len(s) {
		out = append(out, Cell{Byte: s[i], Any: any != "" && s[i] == any[0]})
	}
	return out
}

// Difference is one place in which what was seen is not what was expected.
type Difference struct {
	Index    int    `json:"index"` // of the byte, from 0
	Expected string `json:"expected"`
	Seen     string `json:"seen"`
}

func (d Difference) String() string {
	return fmt.Sprintf("byte %d: expected %s, seen %s", d.Index, d.Expected, d.Seen)
}

// Hex are bytes that JSON shows in hex.
type Hex []byte

// MarshalText implements encoding.TextMarshaler.
func (h Hex) MarshalText() ([]byte, error) { return []byte(hex.EncodeToString(h)), nil }

// Result is a verdict. Differences are in order; the first one comes first.
type Result struct {
	Link        string        `json:"link"`
	Check       string        `json:"check"`
	Pass        bool          `json:"pass"`
	Simulated   bool          `json:"simulated"`
	Sent        Hex           `json:"sent,omitempty"`
	Seen        Hex           `json:"seen"`
	Took        quantity.Time `json:"took_ps"` // from the end of sending to the last byte compared
	Problem     string        `json:"problem,omitempty"`
	Differences []Difference  `json:"differences,omitempty"`
}

// Summary gives the verdict in one line.
func (r Result) Summary() string {
	switch {
	case r.Pass:
		return fmt.Sprintf("pass  %s: %s  (%s)", r.Link, r.Check, r.Took.Round(3))
	case r.Problem != "":
		return fmt.Sprintf("FAIL  %s: %s  %s", r.Link, r.Check, r.Problem)
	}
	return fmt.Sprintf("FAIL  %s: %s  first difference at %s", r.Link, r.Check, r.Differences[0])
}

// Show gives a byte in hex and as a symbol.
func Show(b byte) string { return fmt.Sprintf("%02X '%c'", b, safe.Byte(b)) }

func (c Cell) String() string {
	if c.Any {
		return "any byte"
	}
	return Show(c.Byte)
}

// Char is one received character.
type Char struct {
	Byte  byte
	Flags record.Flags
	End   quantity.Time
}

// Answer gives where the expected line stands among whole lines, of which others may come by
// themselves; -1 where it does not, or what is expected is no line. An echo of what was
// sent is no line of the other side's own.
func Answer(expect []Cell, sent []byte, seen []Char) int {
	end := expect[len(expect)-1]
	if end.Any || end.Byte >= ' ' {
		return -1
	}
	from := 0
	for i, c := range seen {
		if c.Byte != end.Byte {
			continue
		}
		line := seen[from : i+1]
		switch {
		case len(Compare(expect, line)) == 0:
			return from
		case echoes(sent, line):
			return -1
		}
		from = i + 1
	}
	return -1
}

func echoes(sent []byte, line []Char) bool {
	if len(sent) != len(line) {
		return false
	}
	for i, c := range line {
		if c.Byte != sent[i] {
			return false
		}
	}
	return true
}

// Compare lists the differences of what was seen, position by position.
// Missing and additional bytes are differences too.
func Compare(expect []Cell, seen []Char) []Difference {
	var out []Difference
	for i := range max(len(expect), len(seen)) {
		switch {
		case i >= len(seen):
			out = append(out, Difference{i, expect[i].String(), "nothing"})
		case i >= len(expect):
			out = append(out, Difference{i, "the end", seen[i].show()})
		case seen[i].Flags != 0, !expect[i].Any && expect[i].Byte != seen[i].Byte:
			out = append(out, Difference{i, expect[i].String(), seen[i].show()})
		}
	}
	return out
}

func (c Char) show() string {
	if c.Flags != 0 {
		return Show(c.Byte) + " with " + c.Flags.String() + " error"
	}
	return Show(c.Byte)
}

// Find gives the offset of the first place where the expected bytes stand in
// what was seen, without an error mark; -1 where there is none.
func Find(expect []Cell, seen []Char) int {
	for at := 0; at+len(expect) <= len(seen); at++ {
		if len(Compare(expect, seen[at:at+len(expect)])) == 0 {
			return at
		}
	}
	return -1
}
