// Package operate does operations on the parts of a link, whoever is behind it: it
// reads, writes and reads back, proves identities, and says what came of it.
package operate

import (
	"context"
	"fmt"
	"strings"

	"gavrix/core/access"
	"gavrix/core/bench"
	"gavrix/core/coding"
	"gavrix/core/device"
	"gavrix/core/link"
	"gavrix/core/operation"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/register"
)

// Verdict is how an operation ended.
type Verdict string

// The verdicts, the better first.
const (
	OK      Verdict = "ok"
	Warn    Verdict = "warning" // the result counts, and something is to be known
	Fault   Verdict = "fault"   // traffic took place, no good result
	Refused Verdict = "refused" // nothing was sent
)

// Result is what came of an operation.
type Result struct {
	Text    string
	Part    string
	Verdict Verdict
	// Says are sentences, the most important first.
	Says      []string
	Exchanges []Exchange
	Values    []Named
	Changes   []Change
}

// Exchange is a transaction that was done.
type Exchange struct {
	Text    string // in the words of the bus
	OK      bool
	Outcome string
	// Record is what the MCU's end saw of it; nil where that is not known.
	Record *record.Record
	At     quantity.Time
}

// Named is a value that was read.
type Named struct {
	Name string
	coding.Value
}

// Change is what writing made of a register.
type Change struct {
	Register string
	// Before and After are its contents; unknown where the part does not tell.
	Before, After           uint64
	KnowsBefore, KnowsAfter bool
	// Wrote is what was written.
	Wrote uint64
	Bits  int
}

// Changed lists the bits that differ, as 7:6 4.
func (c *Change) Changed() string {
	if !c.KnowsBefore || !c.KnowsAfter {
		return ""
	}
	return register.Bits(c.Before ^ c.After)
}

func (r *Result) say(v Verdict, format string, args ...any) {
	rank := map[Verdict]int{OK: 0, Warn: 1, Fault: 2, Refused: 3}
	if rank[v] > rank[r.Verdict] {
		r.Verdict = v
		r.Says = append([]string{fmt.Sprintf(format, args...)}, r.Says...)
		return
	}
	r.Says = append(r.Says, fmt.Sprintf(format, args...))
}

// Bench does operations on one link of a session.
type Bench struct {
	Session link.Session
	Link    *bench.Link
	// known are the contents of registers as they were read or written last.
	known map[*device.Register]uint64
}

// On gives what does operations on a link.
func On(s link.Session, l *bench.Link) *Bench {
	return &Bench{Session: s, Link: l, known: map[*device.Register]uint64{}}
}

// Do does an operation. The error says that it could not be tried at all.
func (b *Bench) Do(ctx context.Context, text string, op *operation.Operation) (*Result, error) {
	r := &Result{Text: text, Verdict: OK}
	if op.Part != nil {
		r.Part = op.Part.Name
	}
	x := &run{Bench: b, ctx: ctx, op: op, r: r}
	switch op.Verb {
	case operation.Raw:
		x.transact(op.Text)
	case operation.Read:
		x.read()
	case operation.Prove:
		x.prove()
	case operation.Command:
		if step, err := op.Part.CommandStep(op.Pattern); err != nil {
			r.say(Refused, "%v", err)
		} else if _, ok := x.do(step); ok {
			r.say(OK, "%s was sent", op.Pattern.Name)
		}
	case operation.Write:
		x.write()
	}
	return r, x.err
}

// run is one operation on its way.
type run struct {
	*Bench
	ctx context.Context
	op  *operation.Operation
	r   *Result
	err error
}

// transact does a transaction; false where it failed.
func (x *run) transact(text string) (*record.Record, bool) {
	if x.err != nil {
		return nil, false
	}
	out, err := x.Session.Do(x.ctx, x.Link.Index, link.Transact{Text: text})
	if err != nil {
		x.err = err
		return nil, false
	}
	x.r.Exchanges = append(x.r.Exchanges, Exchange{text, out.OK, out.Text, out.Record, out.At})
	if !out.OK {
		x.r.say(Fault, "%s", out.Text)
	}
	return out.Record, out.OK
}

// do does a step, and gives what came back.
func (x *run) do(s operation.Step) (access.Answer, bool) {
	var spans []access.Seen
	for _, t := range s.Texts {
		rec, ok := x.transact(t)
		if !ok {
			return access.Answer{}, false
		}
		if rec == nil {
			x.r.say(Fault, "nothing was seen of the transaction")
			return access.Answer{}, false
		}
		more, with := x.op.Part.Seen(rec)
		if !with {
			x.r.say(Fault, "the transaction that was seen is with another part")
			return access.Answer{}, false
		}
		spans = append(spans, more...)
	}
	a := s.Plan.Answer(operation.In(spans))
	for _, it := range a.Unlike {
		x.r.say(Fault, "bits %d to %d should come back as the constant %0*b, and do not", it.At, it.At+it.Bits-1, it.Bits, it.Fixed)
	}
	return a, true
}

// contents reads registers, and gives what they hold; false where that failed.
func (x *run) contents(rs []*device.Register) (map[*device.Register]uint64, bool) {
	steps, err := x.op.Part.ReadSteps(rs, x.content)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return nil, false
	}
	if !x.sends(steps) {
		return nil, false
	}
	out := map[*device.Register]uint64{}
	for _, s := range steps {
		a, ok := x.do(s)
		if !ok {
			return nil, false
		}
		for i, reg := range s.Registers {
			v, known := a.Held[reg.Name]
			if s.Plan.Pattern.Reads {
				v, known = a.Values[i], a.Known[i]
			}
			if !known {
				x.r.say(Fault, "nobody drives the line while %s should come back: %s is absent, without supply, not selected, or its output does not reach the MCU", reg.Name, x.op.Part.Name)
				return nil, false
			}
			out[reg] = v
			x.known[reg] = v
		}
	}
	return out, true
}

// content gives what a register held when it was last read or written.
func (x *run) content(r *device.Register) (uint64, bool) {
	v, known := x.known[r]
	return v, known
}

// sends refuses steps that write registers along whose contents are not known.
func (x *run) sends(steps []operation.Step) bool {
	for _, s := range steps {
		for _, name := range s.Plan.Pattern.HeldOut {
			r := x.op.Part.Map.Named(name)
			about := false
			for _, o := range s.Registers {
				about = about || o == r
			}
			if _, known := x.known[r]; !known && !about && !x.op.Force {
				x.r.say(Refused, "%s writes %s too, and what it holds is not known: write it first, or force its reset value %s", s.Plan.Pattern.Name, name, r.Hex(r.Reset))
				return false
			}
		}
	}
	return true
}

// read reads what was asked for, and decodes it.
func (x *run) read() {
	x.clears(x.op.About(), "clears")
	got, ok := x.contents(x.op.About())
	if !ok {
		return
	}
	content := func(r *device.Register) uint64 { return got[r] }
	if v := x.op.Value; v != nil {
		d := v.Decode(content)
		x.r.Values = append(x.r.Values, Named{v.Name, d})
		if d.Fault != "" {
			x.r.say(Warn, "%s: %s", v.Name, d.Fault)
		}
	}
	for _, reg := range x.op.About() {
		v := got[reg]
		if x.op.Value == nil {
			d := coding.Value{Raw: v, Bits: reg.Bits}
			if whole := x.op.Part.Map.Value(reg.Name); whole != nil && x.op.Part.Map.Named(reg.Name) == reg {
				d = whole.Format.Decode(v)
			} else {
				f := coding.Format{Bits: reg.Bits}
				d = f.Decode(v)
			}
			x.r.Values = append(x.r.Values, Named{reg.Name, d})
		}
		if x.op.Value == nil || x.op.Value.Whole() {
			x.fields(reg, v)
		}
	}
}

// fields lists what the fields of a register hold.
func (x *run) fields(reg *device.Register, content uint64) {
	for i := range reg.Fields {
		name := reg.Name + "." + reg.Fields[i].Name
		if v := x.op.Part.Map.Value(name); v != nil {
			x.r.Values = append(x.r.Values, Named{name, v.Decode(func(*device.Register) uint64 { return content })})
		}
	}
}

// clears says which fields reading clears.
func (x *run) clears(rs []*device.Register, how string) bool {
	var names []string
	for _, r := range rs {
		for i := range r.Fields {
			if r.Fields[i].Access == register.ReadClears {
				names = append(names, r.Name+"."+r.Fields[i].Name)
			}
		}
		if len(r.Fields) == 0 && r.Access == register.ReadClears {
			names = append(names, r.Name)
		}
	}
	if len(names) > 0 {
		x.r.Says = append(x.r.Says, fmt.Sprintf("reading %s %s", how, strings.Join(names, ", ")))
	}
	return len(names) > 0
}

// prove compares the identity.
func (x *run) prove() {
	got, ok := x.contents(x.op.About())
	if !ok {
		return
	}
	id := x.op.Part.Map.Identity
	raw := id.Value.Of(func(r *device.Register) uint64 { return got[r] })
	x.r.Values = append(x.r.Values, Named{id.Value.Name, id.Value.Decode(func(r *device.Register) uint64 { return got[r] })})
	if raw == id.Expect {
		x.r.say(OK, "%s is %s: %s holds 0x%0*X", x.op.Part.Name, x.op.Part.Device.Name, id.Value.Name, (id.Value.Bits+3)/4, raw)
		return
	}
	x.r.say(Fault, "%s holds 0x%0*X where 0x%0*X is expected: %s", id.Value.Name, (id.Value.Bits+3)/4, raw, (id.Value.Bits+3)/4, id.Expect, Unlike(raw, id.Expect, id.Value.Bits))
}

// Unlike says what may have made one identity of another, of a number of bits.
func Unlike(got, expect uint64, bits int) string {
	all := ^uint64(0) >> (64 - bits)
	reversed := uint64(0)
	for i := range bits {
		reversed |= expect >> i & 1 << (bits - 1 - i)
	}
	switch {
	case got == all:
		return "all ones: nobody drives the line and it rests high, or it is stuck there"
	case got == 0:
		return "all zeros: the line is stuck low, the part is held in reset, or nobody drives it"
	case got&^1 == expect<<1&all, got == expect>>1, got == expect>>1|1<<(bits-1):
		return "it is shifted by one bit: one side samples at the wrong edge, or an edge is lost or added"
	case got == reversed:
		return "its bits come in the opposite order"
	case got == ^expect&all:
		return "all bits are inverted"
	}
	return "another part, or one that is set up otherwise"
}

// write writes a register or a part of it, and reads back.
func (x *run) write() {
	v := x.op.Value
	w, err := v.Encode(x.op.Text)
	if err != nil {
		x.r.say(Refused, "%s: %v", v.Name, err)
		return
	}
	if w.Rounded {
		x.r.say(Warn, "%s can't be %s exactly: %s is written", v.Name, coding.Text(w.Asked), w.Meaning())
	}
	for _, reg := range x.op.About() {
		if !x.may(reg, w.Raw) {
			return
		}
	}
	for _, reg := range x.op.About() {
		if !x.writeRegister(reg, w.Raw) {
			return
		}
	}
	if x.r.Verdict == OK && len(x.r.Says) == 0 {
		x.r.say(OK, "%s is %s", v.Name, w.Meaning())
	}
}

// kinds of bits of a register, by what reading and writing do.
type masks struct {
	plain   uint64 // hold what is written
	other   uint64 // of them those that do not belong to the value
	value   uint64
	locked  uint64 // of the value, can't be written
	flags   uint64 // write-1-to-clear
	starts  uint64
	clears  uint64 // clear on read
	secret  uint64 // write-only
	reading uint64 // bits that reading tells
}

func (x *run) masks(reg *device.Register) masks {
	_, value := x.op.Value.Into(reg, 0, 0)
	m := masks{value: value}
	reg.Each(func(mask uint64, a register.Access) {
		switch a {
		case register.ReadWrite:
			m.plain |= mask
			m.reading |= mask
		case register.ReadOnly:
			m.locked |= mask & value
			m.reading |= mask
		case register.WriteOnly:
			m.secret |= mask
		case register.WriteOne:
			m.flags |= mask
		case register.WriteStarts:
			m.starts |= mask
		case register.ReadClears:
			m.clears |= mask
			m.locked |= mask & value
		}
	})
	m.other = m.plain &^ value
	return m
}

// may refuses what does harm or has no effect.
func (x *run) may(reg *device.Register, raw uint64) bool {
	if x.op.Force {
		return true
	}
	m := x.masks(reg)
	_, known := x.known[reg]
	fresh, _ := x.op.Value.Into(reg, 0, raw)
	switch {
	case m.locked != 0 && m.locked == m.value:
		x.r.say(Refused, "%s can't be written: it is read-only", x.op.Value.Name)
	case m.value != allOf(reg) && m.clears != 0 && m.other != 0:
		x.r.say(Refused, "to keep the other bits of %s it must be read first, and that clears %s; force does it", reg.Name, x.named(reg, m.clears))
	case m.value != allOf(reg) && m.secret&^m.value != 0 && !known:
		x.r.say(Refused, "%s of %s can't be read and would be overwritten: write the whole register", x.named(reg, m.secret&^m.value), reg.Name)
	case m.value == allOf(reg) && (fresh^reg.Reset)&reg.Reserved() != 0 && len(reg.Fields) > 0:
		x.r.say(Refused, "reserved bits %s of %s would be written unlike their reset value; force does it", register.Bits((fresh^reg.Reset)&reg.Reserved()), reg.Name)
	default:
		return true
	}
	return false
}

func allOf(r *device.Register) uint64 { return ^uint64(0) >> (64 - r.Bits) }

// named gives the fields that a mask touches.
func (x *run) named(reg *device.Register, mask uint64) string {
	var out []string
	for i := range reg.Fields {
		if reg.Fields[i].Mask()&mask != 0 {
			out = append(out, reg.Fields[i].Name)
		}
	}
	if len(out) == 0 {
		return "bits " + register.Bits(mask)
	}
	return strings.Join(out, ", ")
}

// writeRegister writes one of the value's registers: the other bits stay as they are,
// flags that writing 1 clears get 0.
func (x *run) writeRegister(reg *device.Register, raw uint64) bool {
	m := x.masks(reg)
	readable := x.op.Part.Readable(reg) && m.clears == 0 && m.reading != 0
	ch := Change{Register: reg.Name, Bits: reg.Bits}
	base, known := x.known[reg]
	if readable || m.other != 0 && x.op.Part.Readable(reg) {
		got, ok := x.contents([]*device.Register{reg})
		if !ok {
			return false
		}
		base, known = got[reg], true
		ch.Before, ch.KnowsBefore = got[reg], true
	}
	if !known {
		base = reg.Reset
	}
	fresh, _ := x.op.Value.Into(reg, base&^(m.flags|m.starts)|reg.Reset&reg.Reserved()&^m.plain, raw)
	if x.op.Value.Whole() {
		fresh = raw
	}
	ch.Wrote = fresh
	step, err := x.op.Part.WriteStep(reg, fresh, x.content)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return false
	}
	if !x.sends([]operation.Step{step}) {
		return false
	}
	if _, ok := x.do(step); !ok {
		return false
	}
	x.known[reg] = fresh
	defer func() { x.r.Changes = append(x.r.Changes, ch) }()
	if !readable {
		x.r.Says = append(x.r.Says, fmt.Sprintf("%s was written, and can't be read back: nothing proves that it arrived", reg.Name))
		return true
	}
	got, ok := x.contents([]*device.Register{reg})
	if !ok {
		return false
	}
	ch.After, ch.KnowsAfter = got[reg], true
	compared := m.plain & (m.value | m.other)
	switch {
	case (ch.After^fresh)&compared != 0 && ch.After == ch.Before && ch.KnowsBefore:
		x.r.say(Fault, "%s did not take it: it is still %s, where %s was written", reg.Name, reg.Hex(ch.After), reg.Hex(fresh))
		return false
	case (ch.After^fresh)&compared != 0:
		x.r.say(Fault, "%s reads %s where %s was written: bits %s differ", reg.Name, reg.Hex(ch.After), reg.Hex(fresh), register.Bits((ch.After^fresh)&compared))
		return false
	case ch.KnowsBefore && (ch.Before^fresh)&compared == 0 && fresh&(m.flags|m.starts) == 0:
		x.r.say(Warn, "%s held this already: reading it back proves nothing", reg.Name)
	}
	if flags := fresh & m.flags & ch.Before; flags != 0 {
		x.r.Says = append(x.r.Says, fmt.Sprintf("writing 1 cleared %s", x.named(reg, flags)))
	}
	if starts := fresh & m.starts; starts != 0 {
		x.r.Says = append(x.r.Says, fmt.Sprintf("writing 1 started %s", x.named(reg, starts)))
	}
	return true
}
