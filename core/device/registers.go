package device

import (
	"math/big"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

// Map is what a part with registers holds, and how one gets at it.
type Map struct {
	// Registers are in order of their numbers, those without a number last.
	Registers []*Register
	// Values are everything that has a name: registers, their fields as
	// REGISTER.FIELD, and values that are made of several.
	Values []*Value
	// Patterns are the operations, in the order of the file.
	Patterns []*access.Pattern
	// Identity is what tells the part from others; nil where the file names none.
	Identity *Identity
	Jobs     []*Job
	// Retries is how often what failed without harm is sent again, RetryAfter the time
	// before each.
	Retries    int
	RetryAfter quantity.Time
	// Memory is a part whose numbers reach bytes; nil of others.
	Memory *Memory
	// Pages is the value that says on which page a part is; nil of parts without pages.
	Pages *Value
	// Chain is the number of parts behind each other through which the bits of the only
	// pattern move; 0: it is no chain. Latch: they take over what they hold only behind a
	// multiple of so many clocks; 0: always.
	Chain, Latch int
	// Texts are contents of characters.
	Texts []*Text
	// Dialogue is how a part is asked that answers; nil of others.
	Dialogue *Dialogue
	// PowerUp is the time from supply to the first answer, Busy the time for which a
	// part takes nothing behind a write.
	PowerUp quantity.Time
	// Wrap: behind the last number the first one follows.
	Wrap bool
	// Barred says, by the names of values in small letters, while what they can't be written.
	Barred map[string]string
	// Refuses: the part does not acknowledge numbers that are those of no register.
	Refuses bool

	about   map[*access.Pattern]string
	endures map[*access.Pattern]int
}

// Register is a register of a part.
type Register struct {
	register.Register
	// Access is that of bits that belong to no field.
	Access register.Access
	// Numbered: it is reached by its number; others stand in patterns by name.
	Numbered bool
	// Paged: it is reached only while the part is on Page; others always.
	Paged bool
	Page  uint64
	// Side is that of a register whose number reaches another one when it is used the
	// other way.
	Side Side
	// Turn is the size of the pieces in which it is read and written one after the other
	// under its number; 0: it goes as a whole. LowFirst: the lowest piece first.
	Turn     int
	LowFirst bool
}

// Turns is in how many pieces the register goes.
func (r *Register) Turns() int {
	if r.Turn == 0 {
		return 1
	}
	return r.Bits / r.Turn
}

// Shift is the place of the piece with an index.
func (r *Register) Shift(i int) int {
	if r.LowFirst {
		return i * r.Turn
	}
	return r.Bits - (i+1)*r.Turn
}

// AtOnce is the number of bits that one access moves.
func (r *Register) AtOnce() int {
	if r.Turn > 0 {
		return r.Turn
	}
	return r.Bits
}

// Side says which way of access reaches a register.
type Side uint8

// The sides.
const (
	BothSides Side = iota
	ReadSide
	WriteSide
)

// NoPage is a page that is not known, or that of a part without pages.
const NoPage = ^uint64(0)

// Identity is a value that all parts of a kind have alike.
type Identity struct {
	Value  *Value
	Expect uint64
}

// Value is something with a name that bits of registers hold.
type Value struct {
	Name, About string
	// Own: it has a name of its own, beside those of registers and fields.
	Own bool
	// Pieces are the bits that it is made of, the most significant first.
	Pieces []Piece
	coding.Format
	Effect
	// Warns are contents with which something is to be known, and what.
	Warns map[uint64]string
	// From is the expression of other values that gives it, in place of bits.
	From   *formula.Formula
	Inputs []*Value
	// UnitBy is the value whose word is the unit; nil: the unit is that of the format.
	UnitBy *Value
}

// Piece is some bits of a register.
type Piece struct {
	*Register
	Low, Bits int
}

// Registers gives the registers that hold the value, each once.
func (v *Value) Registers() []*Register {
	var out []*Register
	for _, p := range v.Pieces {
		if !slices.Contains(out, p.Register) {
			out = append(out, p.Register)
		}
	}
	for _, in := range v.Inputs {
		for _, r := range in.Registers() {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Reads gives the registers that must be known to tell the value: those that hold it, and those
// of its unit.
func (v *Value) Reads() []*Register {
	out := v.Registers()
	if v.UnitBy != nil {
		for _, r := range v.UnitBy.Registers() {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Of takes the value's bits out of the contents of registers.
func (v *Value) Of(content func(*Register) uint64) uint64 {
	raw := uint64(0)
	for _, p := range v.Pieces {
		raw = raw<<p.Bits | content(p.Register)>>p.Low&ones(p.Bits)
	}
	return raw
}

// Into puts the value's bits into the content of one of its registers, and gives which
// of the register's bits they are.
func (v *Value) Into(r *Register, content, raw uint64) (out, mask uint64) {
	at := v.Bits
	for _, p := range v.Pieces {
		at -= p.Bits
		if p.Register == r {
			m := ones(p.Bits) << p.Low
			content = content&^m | raw>>at&ones(p.Bits)<<p.Low
			mask |= m
		}
	}
	return content, mask
}

// Whole says whether the value is all of one register.
func (v *Value) Whole() bool {
	return len(v.Pieces) == 1 && v.Pieces[0].Bits == v.Pieces[0].Register.Bits
}

// Decode gives the meaning of the value from the contents of the registers that it reads.
func (v *Value) Decode(content func(*Register) uint64) coding.Value {
	d := v.decode(content)
	if v.UnitBy != nil && d.Number != nil {
		unit := v.UnitBy.Decode(content)
		if d.Unit = unit.Code; unit.Code == "" {
			return coding.Value{Raw: d.Raw, Fault: v.UnitBy.Name + ", which says its unit: " + unit.Meaning()}
		}
	}
	return d
}

func (v *Value) decode(content func(*Register) uint64) coding.Value {
	if v.From == nil {
		return v.Format.Decode(v.Of(content))
	}
	var in []float64
	for _, i := range v.Inputs {
		d := i.Decode(content)
		switch {
		case d.Number != nil:
			f, _ := d.Number.Float64()
			in = append(in, f)
		case d.Code != "":
			in = append(in, float64(d.Raw))
		default:
			return coding.Value{Fault: i.Name + ": " + d.Meaning()}
		}
	}
	return v.calculated(v.From.Value(in...))
}

// calculated is the value whose number is that of its expression.
func (v *Value) calculated(number float64) coding.Value {
	n := new(big.Rat).SetFloat64(number)
	if n == nil {
		return coding.Value{Fault: "it can't be calculated of these"}
	}
	if len(v.Codes) == 0 {
		return coding.Value{Number: n, Unit: v.Unit}
	}
	if n.IsInt() && n.Sign() >= 0 && n.Num().IsUint64() {
		raw := n.Num().Uint64()
		if word, known := v.Codes[raw]; known {
			return coding.Value{Raw: raw, Code: word}
		}
	}
	return coding.Value{Fault: coding.Text(n) + " has no meaning in the table"}
}

// Mask covers the bits of the register.
func (r *Register) Mask() uint64 { return ones(r.Bits) }

func ones(bits int) uint64 {
	if bits >= 64 {
		return ^uint64(0)
	}
	return 1<<bits - 1
}

// Clears says whether reading the register changes it.
func (r *Register) Clears() bool {
	return r.some(func(a register.Access) bool { return a == register.ReadClears })
}

// Cleared gives the bits of a content that reading it clears.
func (r *Register) Cleared(content uint64) uint64 {
	out := uint64(0)
	r.Each(func(mask uint64, a register.Access) {
		if a == register.ReadClears {
			out |= content & mask
		}
	})
	return out
}

// Readable says whether any of its bits can be read.
func (r *Register) Readable() bool {
	return r.some(func(a register.Access) bool { return a != register.WriteOnly })
}

// Writable says whether any of its bits can be written.
func (r *Register) Writable() bool {
	return r.some(func(a register.Access) bool {
		return a != register.ReadOnly && a != register.ReadClears
	})
}

// Repeatable says whether reading it, or writing it, twice is like once.
func (r *Register) Repeatable(writing bool) bool {
	return r.Turns() == 1 && !r.some(func(a register.Access) bool {
		if writing {
			return a == register.WriteOne || a == register.WriteStarts
		}
		return a == register.ReadClears
	})
}

// Value gives the value with a name, however it is written in capitals; nil where there
// is none.
func (m *Map) Value(name string) *Value {
	for _, v := range m.Values {
		if strings.EqualFold(v.Name, name) {
			return v
		}
	}
	return nil
}

// OnPage gives the register with a number, when it is read or written while a part is on a
// page; nil where there is none. Where the page is not known, a number that several pages
// have is none.
func (m *Map) OnPage(number, page uint64, writing bool) *Register {
	other := WriteSide
	if writing {
		other = ReadSide
	}
	var only *Register
	n := 0
	for i := m.index(number); i >= 0 && i < len(m.Registers); i++ {
		r := m.Registers[i]
		if !r.Numbered || r.Address != number {
			break
		}
		if r.Side == other {
			continue
		}
		if !r.Paged || r.Page == page {
			return r
		}
		only = r
		n++
	}
	if page == NoPage && n == 1 {
		return only
	}
	return nil
}

// PageOf gives the page from the contents of registers; NoPage where that is not known.
func (m *Map) PageOf(content func(*Register) (uint64, bool)) uint64 {
	if m.Pages == nil {
		return NoPage
	}
	known := true
	page := m.Pages.Of(func(r *Register) uint64 {
		v, has := content(r)
		known = known && has
		return v
	})
	if !known {
		return NoPage
	}
	return page
}

// At gives the register with a number, of several pages the first; nil where there is
// none.
func (m *Map) At(number uint64) *Register {
	if i := m.index(number); i >= 0 {
		return m.Registers[i]
	}
	return nil
}

// index gives the place of the first register with a number; -1 where there is none.
func (m *Map) index(number uint64) int {
	i, found := slices.BinarySearchFunc(m.Registers, number, func(r *Register, n uint64) int {
		switch {
		case !r.Numbered || r.Address > n:
			return 1
		case r.Address < n:
			return -1
		}
		return 0
	})
	if !found {
		return -1
	}
	for i > 0 && m.Registers[i-1].Address == number {
		i--
	}
	return i
}

// Next gives the number behind another: behind the last the first, where numbers wrap.
func (m *Map) Next(number uint64) uint64 {
	last := -1
	for i, r := range m.Registers {
		if r.Numbered {
			last = i
		}
	}
	if last >= 0 && m.Wrap && number >= m.Registers[last].Address {
		return m.Registers[0].Address
	}
	return number + 1
}

// Named gives the register with a name; nil where there is none.
func (m *Map) Named(name string) *Register {
	for _, r := range m.Registers {
		if strings.EqualFold(r.Name, name) {
			return r
		}
	}
	return nil
}

// Pattern gives the operation with a name; nil where there is none.
func (m *Map) Pattern(name string) *access.Pattern {
	for _, p := range m.Patterns {
		if strings.EqualFold(p.Name, name) {
			return p
		}
	}
	return nil
}

// About says what an operation is for.
func (m *Map) About(p *access.Pattern) string { return m.about[p] }

// Endures says how often an operation may be done at one place; 0: that is not stated.
func (m *Map) Endures(p *access.Pattern) int {
	if n := m.endures[p]; n > 0 {
		return n
	}
	if m.Memory != nil && p.Writes && p.ValueBits == 8 {
		return m.Memory.Endurance
	}
	return 0
}

// Job gives the job with a name; nil where there is none.
func (m *Map) Job(name string) *Job {
	for _, j := range m.Jobs {
		if strings.EqualFold(j.Name, name) {
			return j
		}
	}
	return nil
}

// Command says whether an operation is about no register.
func Command(p *access.Pattern) bool {
	return !p.Reads && !p.Writes && p.Text == nil && len(p.HeldIn)+len(p.HeldOut) == 0
}

// Fits says whether a pattern with a number is one for the register with it.
func (m *Map) Fits(p *access.Pattern, number uint64) bool {
	if p.Text != nil {
		return m.TextAt(number) != nil
	}
	for i := m.index(number); i >= 0 && i < len(m.Registers) && m.Registers[i].Numbered && m.Registers[i].Address == number; i++ {
		if m.Registers[i].AtOnce() == p.ValueBits {
			return true
		}
	}
	return m.index(number) < 0 && m.Memory != nil && number < uint64(m.Memory.Size) && p.ValueBits == 8
}

// Names lists the names of values and of operations about no register, for help.
func (m *Map) Names() []string {
	var out []string
	for _, v := range m.Values {
		out = append(out, v.Name)
	}
	for _, t := range m.Texts {
		out = append(out, t.Name)
	}
	if m.Memory != nil {
		for _, a := range m.Memory.Areas {
			out = append(out, a.Name)
		}
	}
	return append(out, m.Commands()...)
}

// Commands lists the operations about no register, and the jobs.
func (m *Map) Commands() []string {
	var out []string
	for _, p := range m.Patterns {
		if Command(p) {
			out = append(out, p.Name)
		}
	}
	for _, j := range m.Jobs {
		out = append(out, j.Name)
	}
	return out
}

// Lasting gives how long the job takes at most, with the numbers that values have.
func (j *Job) Lasting(number func(*Value) float64) quantity.Time {
	if j.Times == nil {
		return j.Lasts
	}
	n := j.Times.value(number)
	if !(n >= 0) {
		n = 0
	}
	return quantity.Time(min(float64(j.Lasts)*n, float64(longestJob)))
}

// Registers are those on whose contents it depends how long the job takes.
func (j *Job) Registers() (out []*Register) {
	if j.Times == nil {
		return nil
	}
	for _, v := range j.Times.Inputs {
		for _, r := range v.Registers() {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// LastingWith is Lasting for contents of registers.
func (j *Job) LastingWith(content func(*Register) uint64) quantity.Time {
	return j.Lasting(func(v *Value) float64 { return v.Number(content) })
}

// Number gives the value as a number: a word of its codes counts as its bits.
func (v *Value) Number(content func(*Register) uint64) float64 {
	d := v.Decode(content)
	if d.Number == nil {
		return float64(d.Raw)
	}
	f, _ := d.Number.Float64()
	return f
}

// longestJob bounds what a job can be said to take.
const longestJob = 24 * 3600 * quantity.Second

// Job is something that writing a bit starts: it takes its time, a bit says that it
// runs and others that it is over.
type Job struct {
	Name, About string
	Start       *Value
	Busy        *Value // nil where nothing says that it runs
	Ready       []*Value
	// Clash is the bit that comes up when it is started while it runs; nil: none.
	Clash *Value
	Lasts quantity.Time
	// Times is what Lasts is multiplied by, as settings have it; nil: 1.
	Times *Condition
	// Gives are values that stand still from one job to the next.
	Gives []*Value
}
