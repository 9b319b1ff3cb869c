package register

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/fault"
)

// Columns are those of a table of registers; register, address and bits or field
// must be there. A row is one field; a row without a field describes the
// register itself. Meanings are written 0=off 1=on, a word with blanks in double
// quotes doubled by the table.
var Columns = []string{"register", "address", "width", "reset", "field", "bits", "access", "meanings", "about"}

// Read reads registers from a file by the ending of its name: .csv or .svd.
func Read(ext string, in io.Reader) (*Map, error) {
	switch strings.ToLower(ext) {
	case ".csv":
		return ReadCSV(in)
	case ".svd", ".xml":
		return ReadSVD(in)
	}
	return nil, fmt.Errorf("registers are read from .csv and .svd files, not from %q", ext)
}

// ReadCSV reads a table of registers.
func ReadCSV(in io.Reader) (*Map, error) {
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	r.TrimLeadingSpace = true
	r.Comment = '#'
	head, err := r.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("the table is empty; its first line names the columns: %s", strings.Join(Columns, ", "))
		}
		return nil, fault.CSV(err)
	}
	at := map[string]int{}
	for i, h := range head {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	for _, need := range []string{"register", "address"} {
		if _, ok := at[need]; !ok {
			return nil, fmt.Errorf("line 1: there is no column %q; the columns are %s", need, strings.Join(Columns, ", "))
		}
	}
	m := &Map{}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return m, m.finish()
		}
		if err != nil {
			return nil, fault.CSV(err)
		}
		line, _ := r.FieldPos(0)
		get := func(column string) string {
			if i, ok := at[column]; ok && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		if err := m.row(get); err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
	}
}

// row takes one row of a table.
func (m *Map) row(get func(string) string) error {
	name := get("register")
	if name == "" {
		return errors.New("the register's name is missing")
	}
	reg := m.Named(name)
	if reg == nil {
		address, err := number(get("address"))
		if err != nil {
			return fmt.Errorf("address of %s: %w", name, err)
		}
		m.Registers = append(m.Registers, Register{Name: name, Address: address, Bits: 32})
		reg = &m.Registers[len(m.Registers)-1]
	}
	if w := get("width"); w != "" {
		n, err := strconv.Atoi(w)
		if err != nil {
			return fmt.Errorf("width of %s: %q is no number", name, w)
		}
		reg.Bits = n
	}
	if v := get("reset"); v != "" {
		n, err := number(v)
		if err != nil {
			return fmt.Errorf("reset value of %s: %w", name, err)
		}
		reg.Reset = n
	}
	field := get("field")
	if field == "" {
		reg.About = get("about")
		return nil
	}
	f := Field{Name: field, About: get("about")}
	var err error
	if f.Low, f.Bits, err = ParseBits(get("bits")); err != nil {
		return fmt.Errorf("%s.%s: %w", name, field, err)
	}
	if f.Access, err = ParseAccess(get("access")); err != nil {
		return fmt.Errorf("%s.%s: %w", name, field, err)
	}
	if f.Meanings, err = parseMeanings(get("meanings")); err != nil {
		return fmt.Errorf("%s.%s: %w", name, field, err)
	}
	if reg.Field(field) != nil {
		return fmt.Errorf("%s has two fields %s", name, field)
	}
	reg.Fields = append(reg.Fields, f)
	return reg.Check()
}

// ParseBits reads the place of a field: 11:0, or 7.
func ParseBits(s string) (low, bits int, err error) {
	high, lowText, ranged := strings.Cut(strings.Trim(s, "[] "), ":")
	h, err := strconv.Atoi(strings.TrimSpace(high))
	low = h
	if err == nil && ranged {
		low, err = strconv.Atoi(strings.TrimSpace(lowText))
	}
	if err != nil || low < 0 || h < low || h > 63 {
		return 0, 0, fmt.Errorf("%q: write the bits as 11:0, or a single one as 7", s)
	}
	return low, h - low + 1, nil
}

func number(s string) (uint64, error) {
	n, err := strconv.ParseUint(strings.TrimSpace(s), 0, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no number: write 0x1F, 31 or 0b11111", s)
	}
	return n, nil
}

// parseMeanings reads 0=off 1="8 bits" 2=odd.
func parseMeanings(s string) (map[uint64]string, error) {
	out := map[uint64]string{}
	for rest := strings.TrimSpace(s); rest != ""; rest = strings.TrimSpace(rest) {
		key, after, ok := strings.Cut(rest, "=")
		v, err := number(key)
		if !ok || err != nil {
			return nil, fmt.Errorf("meanings %q: write 0=off 1=on", s)
		}
		word := ""
		if strings.HasPrefix(after, `"`) {
			end := strings.Index(after[1:], `"`)
			if end < 0 {
				return nil, fmt.Errorf("meanings %q: a quote is not closed", s)
			}
			word, rest = after[1:1+end], after[2+end:]
		} else {
			word, rest, _ = strings.Cut(after, " ")
		}
		out[v] = word
	}
	return out, nil
}
