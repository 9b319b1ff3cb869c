package register

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Seen is a register's value as a dump has it.
type Seen struct {
	Line      int
	Address   uint64
	Value     uint64
	*Register // nil where no register has the address
}

// mostLines bounds a dump.
const mostLines = 1_000_000

// ReadDump reads a dump of registers: a line has an address or a register's name
// and a value, with blanks, a colon or = between; # begins a comment. Numbers are
// hexadecimal, with 0x in front or not.
func (m *Map) ReadDump(in io.Reader) ([]Seen, error) {
	var out []Seen
	s := bufio.NewScanner(in)
	s.Buffer(nil, 1<<16)
	for n := 1; s.Scan(); n++ {
		text, _, _ := strings.Cut(s.Text(), "#")
		words := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == ':' || r == '=' || r == ',' })
		if len(words) == 0 {
			continue
		}
		if len(words) != 2 || n > mostLines {
			return out, fmt.Errorf("line %d: write an address or a register's name, and a value", n)
		}
		x := Seen{Line: n}
		var err error
		if x.Register = m.Named(words[0]); x.Register != nil {
			x.Address = x.Register.Address
		} else {
			if x.Address, err = hexNumber(words[0]); err != nil {
				return out, fmt.Errorf("line %d: %q is neither a register nor an address in hex", n, words[0])
			}
			x.Register = m.At(x.Address)
		}
		if x.Value, err = hexNumber(words[1]); err != nil {
			return out, fmt.Errorf("line %d: %q is no value in hex", n, words[1])
		}
		if x.Register != nil && x.Value&^mask(x.Bits) != 0 {
			return out, fmt.Errorf("line %d: %X does not fit the %d bits of %s", n, x.Value, x.Bits, x.Name)
		}
		out = append(out, x)
	}
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		return out, fmt.Errorf("line %d has more than 65536 characters: it is no dump of registers", len(out)+1)
	}
	return out, s.Err()
}

func hexNumber(s string) (uint64, error) {
	s = strings.TrimPrefix(strings.ToLower(s), "0x")
	return number("0x" + strings.ReplaceAll(s, "_", ""))
}
