package operation

import (
	"fmt"
	"slices"
	"strings"

	"gavrix/core/access"
	"gavrix/core/device"
	"gavrix/core/record"
)

// Meaning is what a transaction says of a part's registers.
type Meaning struct {
	Part *Part
	Plan *access.Plan
	// Contents are those of the registers that were read or written.
	Contents map[*device.Register]uint64
	Wrote    bool
	// Silent are registers that should have come back while nobody drove the line.
	Silent []*device.Register
	// Stays: one register was accessed again and again.
	Stays bool
	// Bytes are those of a memory, from At on.
	Bytes []byte
	At    uint64
	// Extra are bits behind it that belong to nothing.
	Extra int
}

// Of finds what a transaction is among the operations of the parts of a link.
func Of(parts []*Part, r *record.Record) (*Meaning, bool) {
	for _, p := range parts {
		if p.Map == nil || !Known(p.Kind.Name) {
			continue
		}
		spans, with := p.Seen(r)
		if !with {
			continue
		}
		if m, found := p.meaning(spans); found {
			return m, true
		}
	}
	return nil, false
}

func (p *Part) meaning(spans []access.Seen) (*Meaning, bool) {
	plan, extra, found := access.Match(p.Map.Patterns, spans, p.Map.Fits)
	if !found {
		return nil, false
	}
	m := &Meaning{Part: p, Plan: plan, Contents: map[*device.Register]uint64{}, Wrote: plan.Pattern.Writes || len(plan.Pattern.HeldOut) > 0, Stays: plan.Stays, Extra: extra}
	a := plan.Answer(In(spans))
	if mem := p.Map.Memory; mem != nil && plan.Pattern.ValueBits == 8 && p.Map.At(plan.Number) == nil {
		m.At = plan.Number
		for _, v := range plan.Values {
			m.Bytes = append(m.Bytes, byte(v))
		}
		if plan.Pattern.Reads {
			for _, v := range a.Values {
				m.Bytes = append(m.Bytes, byte(v))
			}
		}
		return m, true
	}
	number := plan.Number
	for i := range plan.Units {
		r := p.Map.At(number)
		if !plan.Stays {
			number = p.Map.Next(number)
		}
		switch {
		case r == nil || !plan.Pattern.Reads && !plan.Pattern.Writes:
		case plan.Pattern.Writes:
			m.Contents[r] = plan.Values[i]
		case a.Known[i]:
			m.Contents[r] = a.Values[i]
		default:
			m.Silent = append(m.Silent, r)
		}
	}
	for name, v := range plan.Held {
		m.Contents[p.Map.Named(name)] = v
	}
	for _, name := range plan.Pattern.HeldIn {
		if v, known := a.Held[name]; known {
			m.Contents[p.Map.Named(name)] = v
		}
	}
	return m, true
}

// CameBack says whether a register's content came from the part.
func (m *Meaning) CameBack(r *device.Register) bool {
	return m.Plan.Pattern.Reads && !slices.Contains(m.Plan.Pattern.HeldOut, r.Name) || slices.Contains(m.Plan.Pattern.HeldIn, r.Name)
}

// Registers are those whose contents were read or written.
func (m *Meaning) Registers() []*device.Register {
	var out []*device.Register
	for _, r := range m.Part.Map.Registers {
		if _, has := m.Contents[r]; has {
			out = append(out, r)
		}
	}
	return out
}

// Values are what the contents mean: values of several registers that are all there, and
// registers that belong to none of them.
func (m *Meaning) Values() []*device.Value {
	var out []*device.Value
	used := map[*device.Register]bool{}
	for _, v := range m.Part.Map.Values {
		if v.From != nil || len(v.Pieces) < 2 {
			continue
		}
		rs := v.Registers()
		if slices.ContainsFunc(rs, func(r *device.Register) bool { _, has := m.Contents[r]; return !has }) {
			continue
		}
		out = append(out, v)
		for _, r := range rs {
			used[r] = true
		}
	}
	for _, r := range m.Registers() {
		// What comes along with every operation is not what this one is about.
		beside := m.Plan.Pattern.NumberBits > 0 && slices.Contains(m.Plan.Pattern.HeldIn, r.Name)
		if !used[r] && !beside {
			out = append(out, m.Part.Map.Value(r.Name))
		}
	}
	return out
}

// Details lists what the contents mean, a line each: values, registers, fields.
func (m *Meaning) Details() []string {
	content := func(r *device.Register) uint64 { return m.Contents[r] }
	var out []string
	line := func(name string, v *device.Value, more string) {
		d := v.Decode(content)
		text := name + " = " + d.Meaning()
		if d.Meaning() != d.Hex() {
			text += "  (" + d.Hex() + ")"
		}
		if why := v.Warns[d.Raw]; why != "" {
			text += "  " + why
		}
		out = append(out, text+more)
	}
	for _, v := range m.Values() {
		if len(v.Pieces) > 1 {
			line(v.Name, v, "")
		}
	}
	for _, r := range m.Registers() {
		number := ""
		if r.Numbered {
			number = fmt.Sprintf("   register 0x%02X", r.Address)
		}
		line(r.Name, m.Part.Map.Value(r.Name), number)
		for i := range r.Fields {
			if v := m.Part.Map.Value(r.Name + "." + r.Fields[i].Name); v != nil {
				line(v.Name, v, "   bits "+r.Fields[i].Range())
			}
		}
	}
	return out
}

// Sentence says what the transaction is: `leaf-angle.angle read 31.4 °`.
func (m *Meaning) Sentence() string {
	if m.Bytes != nil {
		return m.bytes()
	}
	var parts []string
	for _, v := range m.Values() {
		d := v.Decode(func(r *device.Register) uint64 { return m.Contents[r] })
		verb := "read"
		if m.Wrote && !slices.Contains(m.Plan.Pattern.HeldIn, v.Name) {
			verb = "written"
		}
		parts = append(parts, fmt.Sprintf("%s %s %s", v.Name, verb, d.Meaning()))
	}
	if len(m.Silent) > 0 {
		var names []string
		for _, r := range m.Silent {
			names = append(names, r.Name)
		}
		parts = append(parts, strings.Join(names, ", ")+" read, nobody answers")
	}
	if len(parts) == 0 {
		parts = append(parts, m.Plan.Pattern.Name)
	}
	s := m.Part.Name + "." + strings.Join(parts, ", ")
	if m.Stays {
		s += fmt.Sprintf(", %d times: the number of the register does not go up", m.Plan.Units)
	}
	return s
}

// bytes says which bytes of a memory were read or written.
func (m *Meaning) bytes() string {
	verb, noun := "read", "bytes"
	if m.Wrote {
		verb = "written"
	}
	if len(m.Bytes) == 1 {
		noun = "byte"
	}
	text := fmt.Sprintf("% X", m.Bytes[:min(len(m.Bytes), 16)])
	if len(m.Bytes) > 16 {
		text += " …"
	}
	return fmt.Sprintf("%s 0x%04X %s, %d %s: %s", m.Part.Name, m.At, verb, len(m.Bytes), noun, text)
}
