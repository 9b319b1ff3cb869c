// Package register knows control registers: it takes values apart into fields
// with their meanings, puts choices together to values, compares two values, and
// says what a write would touch that it should not.
package register

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
)

// Access says what reading and writing do.
type Access uint8

// The kinds of access.
const (
	ReadWrite   Access = iota
	ReadOnly           // writes are ignored
	WriteOnly          // reads tell nothing
	WriteOne           // writing 1 clears the bit, 0 leaves it: flags
	ReadClears         // reading clears it
	WriteStarts        // writing 1 starts something; it reads as 0
)

var accessNames = [...]string{"read-write", "read-only", "write-only", "write-1-to-clear", "clear-on-read", "write-1-to-start"}

func (a Access) String() string { return accessNames[a] }

// ParseAccess is the inverse of String; "" is read-write.
func ParseAccess(s string) (Access, error) {
	if s == "" {
		return ReadWrite, nil
	}
	for i, n := range accessNames {
		if n == s {
			return Access(i), nil
		}
	}
	return 0, fmt.Errorf("%q is no access; known are %s", s, strings.Join(accessNames[:], ", "))
}

// Field is some bits of a register with one meaning.
type Field struct {
	Name     string
	Low      int // least significant bit
	Bits     int
	Access   Access
	About    string
	Meanings map[uint64]string
}

// Mask covers the field in its register.
func (f *Field) Mask() uint64 { return mask(f.Bits) << f.Low }

func mask(bits int) uint64 {
	if bits >= 64 {
		return ^uint64(0)
	}
	return 1<<bits - 1
}

// Of gives the field's value in a register's.
func (f *Field) Of(value uint64) uint64 { return value >> f.Low & mask(f.Bits) }

// Range gives the field's bits as 11:0, or a single one as 7.
func (f *Field) Range() string {
	if f.Bits == 1 {
		return strconv.Itoa(f.Low)
	}
	return fmt.Sprintf("%d:%d", f.Low+f.Bits-1, f.Low)
}

// Meaning gives the word for a value of the field, or its number.
func (f *Field) Meaning(v uint64) string {
	if m := f.Meanings[v]; m != "" {
		return m
	}
	return fmt.Sprint(v)
}

// Parse reads a value of the field: a number in any base, or a meaning.
func (f *Field) Parse(text string) (uint64, error) {
	text = strings.TrimSpace(text)
	for v, m := range f.Meanings {
		if strings.EqualFold(m, text) {
			return v, nil
		}
	}
	v, err := strconv.ParseUint(text, 0, 64)
	if err != nil {
		var known []string
		for _, m := range f.Meanings {
			known = append(known, m)
		}
		sort.Strings(known)
		hint := "write a number"
		if len(known) > 0 {
			hint += ", or one of " + strings.Join(known, ", ")
		}
		return 0, fmt.Errorf("%s: %q is no value of the field; %s", f.Name, text, hint)
	}
	if v > mask(f.Bits) {
		return 0, fmt.Errorf("%s: %d does not fit %d bits", f.Name, v, f.Bits)
	}
	return v, nil
}

// Register is a control register.
type Register struct {
	Name    string
	Address uint64
	Bits    int // width, 8 to 64
	Reset   uint64
	About   string
	Fields  []Field // by their lowest bit, most significant first
	// Times is how often it must be written to take effect, where that is more
	// than once; Note says how.
	Note string
}

// Check says what is wrong with the description.
func (r *Register) Check() error {
	if r.Bits < 1 || r.Bits > 64 {
		return fmt.Errorf("%s: a register has 1 to 64 bits, not %d", r.Name, r.Bits)
	}
	if r.Reset&^mask(r.Bits) != 0 {
		return fmt.Errorf("%s: the reset value %X does not fit %d bits", r.Name, r.Reset, r.Bits)
	}
	used, by := uint64(0), ""
	for i := range r.Fields {
		f := &r.Fields[i]
		if f.Bits < 1 || f.Low < 0 || f.Low+f.Bits > r.Bits {
			return fmt.Errorf("%s.%s: bits %s are outside the register's %d", r.Name, f.Name, f.Range(), r.Bits)
		}
		if used&f.Mask() != 0 {
			return fmt.Errorf("%s.%s: bits %s overlap with %s", r.Name, f.Name, f.Range(), by)
		}
		for v := range f.Meanings {
			if v > mask(f.Bits) {
				return fmt.Errorf("%s.%s: the meaning of %d does not fit %d bits", r.Name, f.Name, v, f.Bits)
			}
		}
		used |= f.Mask()
		by = f.Name
	}
	return nil
}

// Reserved covers the bits that no field has.
func (r *Register) Reserved() uint64 {
	used := uint64(0)
	for i := range r.Fields {
		used |= r.Fields[i].Mask()
	}
	return mask(r.Bits) &^ used
}

// Field gives the field with a name, or nil.
func (r *Register) Field(name string) *Field {
	for i := range r.Fields {
		if strings.EqualFold(r.Fields[i].Name, name) {
			return &r.Fields[i]
		}
	}
	return nil
}

// Part is a field with its value.
type Part struct {
	*Field
	Value   uint64
	Meaning string
	AtReset bool // as after reset
}

// Apart takes a value apart, the most significant field first.
func (r *Register) Apart(value uint64) []Part {
	var out []Part
	for i := range r.Fields {
		f := &r.Fields[i]
		v := f.Of(value)
		out = append(out, Part{f, v, f.Meaning(v), v == f.Of(r.Reset)})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Low > out[j].Low })
	return out
}

// Choice is a field with the value chosen for it.
type Choice struct {
	Field string
	Value string // a number or a meaning
}

// Compose puts choices into a value; all other bits stay as they are in base.
func (r *Register) Compose(base uint64, choices ...Choice) (uint64, error) {
	for _, c := range choices {
		f := r.Field(c.Field)
		if f == nil {
			var known []string
			for i := range r.Fields {
				known = append(known, r.Fields[i].Name)
			}
			return 0, fmt.Errorf("%s has no field %q; it has %s", r.Name, c.Field, strings.Join(known, ", "))
		}
		v, err := f.Parse(c.Value)
		if err != nil {
			return 0, fmt.Errorf("%s.%w", r.Name, err)
		}
		base = base&^f.Mask() | v<<f.Low
	}
	return base, nil
}

// Change is a field in which two values differ.
type Change struct {
	*Field
	Was, Is               uint64
	WasMeaning, IsMeaning string
}

// Compare gives the fields in which two values differ, the most significant
// first, and the reserved bits that do.
func (r *Register) Compare(was, is uint64) (changes []Change, reserved uint64) {
	for _, p := range r.Apart(is) {
		if old := p.Of(was); old != p.Value {
			changes = append(changes, Change{p.Field, old, p.Value, p.Field.Meaning(old), p.Meaning})
		}
	}
	return changes, (was ^ is) & r.Reserved()
}

// Concern is something that a write does beside what is meant.
type Concern struct {
	Code string
	Text string
	// Bad: it must be mended; else it is to be known.
	Bad bool
}

// Write says what writing a value over an old one does beside its plain fields.
func (r *Register) Write(old, value uint64) []Concern {
	var out []Concern
	add := func(bad bool, code, format string, args ...any) {
		out = append(out, Concern{code, fmt.Sprintf(format, args...), bad})
	}
	if value&^mask(r.Bits) != 0 {
		add(true, "value-too-wide", "%X does not fit the %d bits of %s", value, r.Bits, r.Name)
	}
	if x := (value ^ r.Reset) & r.Reserved(); x != 0 {
		add(true, "reserved-bits-touched", "reserved bits %s are written unlike their reset value", Bits(x))
	}
	for _, p := range r.Apart(value) {
		was := p.Of(old)
		switch p.Access {
		case ReadOnly:
			if p.Value != was {
				add(true, "read-only-written", "%s can't be written: it stays %s", p.Name, p.Field.Meaning(was))
			}
		case WriteOne:
			if x := p.Value & was; x != 0 {
				add(false, "flags-cleared", "writing 1 clears %s", p.Name)
			} else if was != 0 {
				add(false, "flags-stay", "%s is set and stays so: 1 clears it", p.Name)
			}
		case WriteStarts:
			if p.Value != 0 {
				add(false, "started", "writing 1 to %s starts it at once", p.Name)
			}
		}
	}
	if r.Note != "" {
		add(false, "written-how", "%s", r.Note)
	}
	return out
}

// Bits lists the set bits of a mask, from the most significant one on, with runs
// as 7:4.
func Bits(m uint64) string {
	var out []string
	for b := 63; b >= 0; b-- {
		if m>>b&1 == 0 {
			continue
		}
		low := b
		for low > 0 && m>>(low-1)&1 == 1 {
			low--
		}
		if low == b {
			out = append(out, strconv.Itoa(b))
		} else {
			out = append(out, fmt.Sprintf("%d:%d", b, low))
		}
		b = low
	}
	return strings.Join(out, " ")
}

// Hex prints a value with as many digits as the register has.
func (r *Register) Hex(v uint64) string { return fmt.Sprintf("0x%0*X", (r.Bits+3)/4, v) }

// Map are the registers of a part, in order of their address.
type Map struct {
	Registers []Register
}

// Named gives the register with a name, or nil.
func (m *Map) Named(name string) *Register {
	for i := range m.Registers {
		if strings.EqualFold(m.Registers[i].Name, name) {
			return &m.Registers[i]
		}
	}
	return nil
}

// At gives the register at an address, or nil.
func (m *Map) At(address uint64) *Register {
	for i := range m.Registers {
		if m.Registers[i].Address == address {
			return &m.Registers[i]
		}
	}
	return nil
}

// finish checks the registers and puts them in order.
func (m *Map) finish() error {
	sort.SliceStable(m.Registers, func(i, j int) bool { return m.Registers[i].Address < m.Registers[j].Address })
	seen := map[string]bool{}
	for i := range m.Registers {
		r := &m.Registers[i]
		if err := r.Check(); err != nil {
			return err
		}
		if key := strings.ToLower(r.Name); seen[key] {
			return fmt.Errorf("there are two registers %s", r.Name)
		} else {
			seen[key] = true
		}
	}
	return nil
}
