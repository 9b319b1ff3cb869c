package device

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

// Acts is what a simulated part with registers does by itself.
type Acts struct {
	// Moves are values that follow a quantity.
	Moves []Move
	// Bars keep values from being written while a condition holds.
	Bars []Bar
	// Counts are what counts by itself and can be set.
	Counts []Count
	// Flags are what comes up by what the values are.
	Flags []Flag
}

// Bar is a condition of values under which a register, a field, a value or a text is not
// written.
type Bar struct {
	Name   string
	While  *formula.Formula
	Inputs []*Value
}

// Move is a value that follows an expression of t, the time in seconds.
type Move struct {
	Value *Value
	Of    *formula.Formula
}

var actsSchema = doc.Map(
	doc.Key{Name: "values", Doc: "names of values and expressions of t, the time in seconds, that they follow", Type: doc.MapOfNamed(exprType)},
	countsKey, flagsKey, barsKey,
)

// barsKey is what can't be written at times. Parts that are asked say so, parts on I2C don't
// acknowledge it, those on SPI keep what they hold.
var barsKey = doc.Key{Name: "refuses", Doc: "names of registers, values or texts that can't be written, and of what values that depends: MODE == 2", Type: doc.MapOfNamed(doc.AnyText)}

// bindActs reads what a part with registers does by itself.
func bindActs(d *Device, n *doc.Node) []finding.Finding {
	x := &mapper{m: d.Map}
	if d.Map == nil {
		if len(n.All()) > 0 {
			x.fault("behaviour-without-registers", n, "add `registers:` and `access:`", "what moves must stand in registers")
		}
		return x.faults
	}
	acts := x.acts(n, false)
	if len(x.faults) == 0 {
		d.Acts = acts
	}
	return x.faults
}

// acts reads what moves, and what is barred; others: there may be values beside those
// that bits hold.
func (x *mapper) acts(n *doc.Node, others bool) *Acts {
	acts := &Acts{}
	for _, v := range n.Get("values").All() {
		if others && x.m.Value(v.Key) == nil {
			continue
		}
		if to := x.bitsValue(v, v.Key); to != nil {
			acts.Moves = append(acts.Moves, Move{to, doc.As[*formula.Formula](v)})
		}
	}
	acts.Counts, acts.Flags = x.counts(n), x.flags(n)
	for _, v := range n.Get("refuses").All() {
		if x.m.TextNamed(v.Key) == nil && x.bitsValue(v, v.Key) == nil {
			continue
		}
		if f, in, ok := x.expression(v.Key, v); ok {
			acts.Bars = append(acts.Bars, Bar{v.Key, f, in})
			if x.m.Barred == nil {
				x.m.Barred = map[string]string{}
			}
			x.m.Barred[strings.ToLower(v.Key)] = v.Scalar
		}
	}
	return acts
}

// Part is a part with registers at work. It implements access.Registers.
type Part struct {
	m      *Map
	acts   *Acts
	holds  map[*Register]uint64
	ends   []quantity.Time   // of each job; Forever while it does not run
	frozen map[*Value]uint64 // values that stand until a job takes them
	still  map[*Value]bool   // values that follow nothing any more
	now    quantity.Time
	// Of a memory: its bytes, what came for it and is stored when the writing ends, and
	// until when that takes.
	cells   *Cells
	written map[uint64]byte
	texts   map[*Text]string
	counted []quantity.Time // up to when each count has gone on
	// in and out are the pieces of registers that came, or went, so far.
	in, out   map[*Register]*turn
	torn      []int
	before    map[uint64]byte // what stood where the newest writing went
	busyUntil quantity.Time
	odd       *Odd
	was       []bool // whether the condition of each flag held
}

// NewPart gives the part as it is after power-up, with the bytes of its memory, where it
// has one; nil are new ones.
func (d *Device) NewPart(cells *Cells) *Part {
	if cells == nil {
		cells = d.NewCells()
	}
	p := &Part{cells: cells, m: d.Map, acts: d.Acts, holds: map[*Register]uint64{}, frozen: map[*Value]uint64{}, still: map[*Value]bool{}, texts: map[*Text]string{}, in: map[*Register]*turn{}, out: map[*Register]*turn{}}
	for _, r := range d.Map.Registers {
		p.holds[r] = r.Reset
	}
	for _, t := range d.Map.Texts {
		p.texts[t] = t.Holds
	}
	if p.acts == nil {
		p.acts = &Acts{}
	}
	if p.odd = d.Odd; p.odd == nil {
		p.odd = &Odd{}
	}
	p.was = make([]bool, len(p.acts.Flags))
	p.counted = make([]quantity.Time, len(p.acts.Counts))
	for _, j := range p.m.Jobs {
		p.ends = append(p.ends, quantity.Forever)
		for _, v := range j.Gives {
			p.frozen[v] = v.Of(p.content)
		}
	}
	return p
}

// Preset puts bits into a value, past its access: how a part was before. What followed a
// quantity by itself stays so from there on.
func (p *Part) Preset(name string, raw uint64) error {
	v := p.m.Value(name)
	if v == nil || v.From != nil {
		return fmt.Errorf("there is no value %q that bits hold", name)
	}
	if raw&^ones(v.Bits) != 0 {
		return fmt.Errorf("%s has %d bits", name, v.Bits)
	}
	p.put(v, raw)
	for f := range p.frozen {
		if touch(v, f) {
			p.frozen[f] = f.Of(p.content)
		}
	}
	for _, m := range p.acts.Moves {
		if touch(v, m.Value) {
			p.still[m.Value] = true
			p.frozen[m.Value] = m.Value.Of(p.content)
		}
	}
	return nil
}

// PresetBytes puts characters into a text, or bytes into a memory from the one with a
// number on.
func (p *Part) PresetBytes(name string, data []byte) error {
	if t := p.m.TextNamed(name); t != nil {
		if len(data) > t.Most {
			return fmt.Errorf("%s has %d characters", name, t.Most)
		}
		p.texts[t] = string(data)
		return nil
	}
	at, err := strconv.ParseUint(name, 0, 64)
	if err != nil || p.cells == nil {
		return fmt.Errorf("there is no text and no byte of a memory %q", name)
	}
	if at > uint64(len(p.cells.Bytes)) || uint64(len(data)) > uint64(len(p.cells.Bytes))-at {
		return fmt.Errorf("%d bytes from 0x%X on reach beyond the memory", len(data), at)
	}
	copy(p.cells.Bytes[at:], data)
	return nil
}

// touch says whether two values have bits in common.
func touch(a, b *Value) bool {
	for _, p := range a.Pieces {
		for _, q := range b.Pieces {
			if p.Register == q.Register && ones(p.Bits)<<p.Low&(ones(q.Bits)<<q.Low) != 0 {
				return true
			}
		}
	}
	return false
}

// Freeze lets time go on to t: from there on all registers hold what belongs to that
// moment.
func (p *Part) Freeze(t quantity.Time) {
	p.now = t
	for i, j := range p.m.Jobs {
		if p.ends[i] > t {
			continue
		}
		at := p.ends[i]
		p.ends[i] = quantity.Forever
		for _, m := range p.acts.Moves {
			if !p.still[m.Value] && slices.Contains(j.Gives, m.Value) {
				p.frozen[m.Value] = m.at(at)
			}
		}
		for _, v := range j.Gives {
			p.put(v, p.frozen[v])
		}
		for _, v := range j.Ready {
			p.put(v, ones(v.Bits))
		}
		if j.Busy != nil {
			p.put(j.Busy, 0)
		}
		if j.Busy != j.Start {
			p.put(j.Start, 0)
		}
		p.raise(j)
	}
	for i := range p.acts.Counts {
		c := &p.acts.Counts[i]
		if n := (t - p.counted[i]) / c.Every; n > 0 {
			p.count(c, uint64(n))
			p.counted[i] += n * c.Every
		}
	}
	for _, m := range p.acts.Moves {
		if _, taken := p.frozen[m.Value]; !taken {
			p.put(m.Value, m.at(t))
		}
	}
	p.raise(nil)
}

// at gives the bits of what the value follows; it stops at the ends of its range.
func (m *Move) at(t quantity.Time) uint64 {
	return m.Value.Nearest(m.Of.Value(t.Seconds()))
}

func (p *Part) content(r *Register) uint64 { return p.holds[r] }

func (p *Part) put(v *Value, raw uint64) {
	for _, r := range v.Registers() {
		p.holds[r], _ = v.Into(r, p.holds[r], raw)
	}
}

// Size implements access.Registers.
func (p *Part) Size(number uint64) int {
	r := p.at(number, false)
	if r == nil {
		r = p.at(number, true)
	}
	switch {
	case r != nil:
		return r.AtOnce()
	case p.m.Memory != nil && number < uint64(p.m.Memory.Size):
		return 8
	}
	return 0
}

// Named implements access.Registers: registers without a number are reached by a key
// beyond all numbers.
func (p *Part) Named(name string) (uint64, bool) {
	for i, r := range p.m.Registers {
		if r.Name == name {
			if r.Numbered {
				return r.Address, true
			}
			return unnumbered + uint64(i), true
		}
	}
	return 0, false
}

const unnumbered = uint64(1) << 63

func (p *Part) register(number uint64, writing bool) *Register {
	if i := number - unnumbered; number >= unnumbered && i < uint64(len(p.m.Registers)) && !p.m.Registers[i].Numbered {
		return p.m.Registers[i]
	}
	return p.at(number, writing)
}

// at gives the register with a number on the page that the part is on.
func (p *Part) at(number uint64, writing bool) *Register {
	return p.m.OnPage(number, p.m.PageOf(func(r *Register) (uint64, bool) { return p.holds[r], true }), writing)
}

// Each calls f for the stretches of a register with one access.
func (r *Register) Each(f func(mask uint64, a register.Access)) {
	rest := ones(r.Bits)
	for i := range r.Fields {
		f(r.Fields[i].Mask(), r.Fields[i].Access)
		rest &^= r.Fields[i].Mask()
	}
	if rest != 0 {
		f(rest, r.Access)
	}
}

// turn are the pieces of a register so far: how many, and the content.
type turn struct {
	n     int
	value uint64
}

// next gives the turn of a register, the first piece where all came.
func next(turns map[*Register]*turn, r *Register) *turn {
	t := turns[r]
	if t == nil {
		t = &turn{}
		turns[r] = t
	}
	if t.n == r.Turns() {
		*t = turn{}
	}
	return t
}

// Read implements access.Registers.
func (p *Part) Read(number uint64) uint64 {
	r := p.register(number, false)
	switch {
	case r == nil && p.cells != nil && number < uint64(len(p.cells.Bytes)):
		return uint64(p.cells.Bytes[number])
	case r == nil:
		return 0
	}
	if r.Turn > 0 {
		t := next(p.out, r)
		if t.n == 0 {
			t.value = p.take(r)
		}
		t.n++
		return t.value >> r.Shift(t.n-1) & ones(r.Turn)
	}
	return p.take(r)
}

// take reads a whole register, with what that does.
func (p *Part) take(r *Register) uint64 {
	v, holds := p.holds[r], p.holds[r]
	r.Each(func(mask uint64, a register.Access) {
		switch a {
		case register.WriteOnly:
			v &^= mask
		case register.ReadClears:
			holds &^= mask
		}
	})
	p.holds[r] = holds
	return v
}

// Write implements access.Registers.
func (p *Part) Write(number, value uint64) {
	r := p.register(number, true)
	switch {
	case r == nil && p.cells != nil && number < uint64(len(p.cells.Bytes)):
		if p.written == nil {
			p.written = map[uint64]byte{}
		}
		p.written[number] = byte(value)
		return
	case r == nil:
		return
	}
	if r.Turn > 0 {
		t := next(p.in, r)
		t.value |= value & ones(r.Turn) << r.Shift(t.n)
		if t.n++; t.n < r.Turns() {
			return
		}
		value = t.value
	}
	v := p.holds[r]
	barred := p.barredBits(r)
	r.Each(func(mask uint64, a register.Access) {
		mask &^= barred
		switch a {
		case register.ReadWrite, register.WriteOnly:
			v = v&^mask | value&mask
		case register.WriteOne:
			v &^= value & mask
		}
	})
	p.holds[r] = v
	for i, j := range p.m.Jobs {
		if j.Start.Pieces[0].Register != r {
			continue
		}
		busy := p.ends[i] != quantity.Forever || j.Busy != nil && j.Busy.Of(p.content) != 0
		switch _, mask := j.Start.Into(r, 0, 1); {
		case value&mask == 0, barred&mask != 0:
			continue
		case busy:
			if j.Clash != nil {
				p.put(j.Clash, 1)
			}
			continue
		}
		if p.ends[i] = quantity.Forever; p.lasts(j) != quantity.Forever {
			p.ends[i] = p.now + p.lasts(j)
		}
		p.put(j.Start, 1)
		for _, v := range j.Ready {
			p.put(v, 0)
		}
		if j.Busy != nil {
			p.put(j.Busy, ones(j.Busy.Bits))
		}
	}
	p.raise(nil)
}

// Command implements access.Registers: an operation about no register changes nothing in
// a part.
func (p *Part) Command(string) {}

// Next implements access.Registers.
func (p *Part) Next(number uint64, writing bool) uint64 {
	if p.m.Memory != nil && p.Size(number) == 8 && p.at(number, writing) == nil && p.at(number, !writing) == nil {
		return p.m.Memory.Next(number, writing)
	}
	return p.m.Next(number)
}
