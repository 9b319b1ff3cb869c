package operation

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Meaning is what a transaction says of a part's registers.
type Meaning struct {
	Part *Part
	// Laid is a message that has a layout; nil of operations.
	Laid *Laid
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
	// Message is that of a part that is asked and answers, as which it stands in its
	// record; nil of other parts. Chars is the text that it carries.
	Message *Message
	Text    *device.Text
	Chars   string
	Beside  []BesideText // further ones
	page    uint64       // that the part is on
	// Before is how many transactions before this one belong to the operation; Begins: one
	// more does, and nothing came back yet.
	Before int
	Begins bool
	// Misfit: a check does not fit; contents that came back beside it are not taken.
	Misfit bool
	// Pieces are those of registers that go in several, one after the other.
	Pieces []Piece
	// Moved says what passed through a chain that was no whole of it; "" of others. Its
	// registers that are not in Contents hold something that is not known.
	Moved string
}

// Piece is a part of a register that went alone; which one it is depends on what went
// before.
type Piece struct {
	*device.Register
	Value uint64
	Wrote bool
}

// Reader finds what the transactions of a link are among the operations of its parts, as
// they come in the order of time: an operation may take several. Parts that are asked and
// answer are followed by a Talk. It is not safe for use by several goroutines.
type Reader struct {
	parts []*Part
	begun map[begun][]access.Seen // spans of an operation that goes on
}

// begun is a part as a receiver sees it.
type begun struct {
	*Part
	seen record.End
}

// NewReader gives what reads the transactions of parts on a link.
func NewReader(parts []*Part) *Reader {
	return &Reader{parts: parts, begun: map[begun][]access.Seen{}}
}

// Follows reports whether what a transaction means may depend on one before it.
func (x *Reader) Follows() bool {
	return slices.ContainsFunc(x.parts, func(p *Part) bool {
		return p.Map != nil && !p.Asked() && Known(p.Kind.Name) && p.Kind.Selects &&
			slices.ContainsFunc(p.Map.Patterns, func(pat *access.Pattern) bool { return len(pat.Spans) > 1 })
	})
}

// Of finds what a transaction is. Page gives the page that a part is on; it may be nil.
func (x *Reader) Of(r *record.Record, page func(*Part) uint64) (*Meaning, bool) {
	for _, p := range x.parts {
		if p.Map == nil || p.Asked() || !Known(p.Kind.Name) {
			continue
		}
		spans, with := p.Seen(r)
		if !with {
			continue
		}
		at := device.NoPage
		if page != nil && p.Map.Pages != nil {
			at = page(p)
		}
		if m, found := x.meaning(begun{p, r.Seen}, spans, at); found {
			return m, true
		}
	}
	return nil, false
}

func (x *Reader) meaning(p begun, spans []access.Seen, page uint64) (*Meaning, bool) {
	if !p.Kind.Selects {
		return p.meaning(spans, page)
	}
	begins := func() *Meaning {
		plan, found := access.Begins(p.Map.Patterns, x.begun[p], p.Map.Fits)
		if !found {
			delete(x.begun, p)
			return nil
		}
		return &Meaning{Part: p.Part, Plan: plan, Begins: true, Wrote: !plan.Pattern.Reads, Before: len(x.begun[p]) - 1, page: page}
	}
	if before := x.begun[p]; len(before) > 0 {
		all := append(slices.Clone(before), spans...)
		if m, found := p.meaning(all, page); found {
			// What goes out with the answer may ask for the next.
			m.Before, x.begun[p] = len(before), spans
			begins()
			return m, true
		}
		x.begun[p] = all
		if m := begins(); m != nil {
			return m, true
		}
	}
	if m, found := p.meaning(spans, page); found {
		return m, true
	}
	x.begun[p] = spans
	m := begins()
	return m, m != nil
}

// Of finds what a single transaction is, without those before it.
func Of(parts []*Part, r *record.Record, page func(*Part) uint64) (*Meaning, bool) {
	return NewReader(parts).Of(r, page)
}

// Meaning says what a message is while the part is on a page; false where its file does
// not tell.
func (p *Part) Meaning(msg *Message, page uint64) (*Meaning, bool) {
	m := &Meaning{Part: p, page: page, Plan: msg.Plan, Contents: map[*device.Register]uint64{}, Message: msg}
	if msg.Dropped != "" {
		return m, true
	}
	if msg.Plan == nil {
		return m, p.Map.Dialogue.Packet != nil && p.Map.Dialogue.Packet.Framed()
	}
	pat := msg.Plan.Pattern
	m.Wrote = pat.Writes || len(pat.HeldOut) > 0 || pat.Text != nil && pat.Text.Writes
	if m.Text = p.textOf(msg.Plan); m.Text != nil && pat.Text.Writes {
		m.Chars = string(msg.Plan.Chars)
	}
	a := access.Answer{Values: make([]uint64, msg.Plan.Units), Known: make([]bool, msg.Plan.Units)}
	if msg.Answer != nil {
		a = *msg.Answer
		if m.Text != nil && !pat.Text.Writes {
			m.Chars = string(a.Chars)
			for _, t := range pat.Beside {
				m.Beside = append(m.Beside, BesideText{p.Map.TextNamed(t.Name), string(a.Texts[t.Name])})
			}
		}
	}
	m.fill(a, msg.Answer != nil)
	return m, true
}

// textOf gives the text that an operation is about; nil where it is about none.
func (p *Part) textOf(plan *access.Plan) *device.Text {
	switch t := plan.Pattern.Text; {
	case t == nil:
		return nil
	case t.Name != "":
		return p.Map.TextNamed(t.Name)
	}
	return p.Map.TextAt(plan.Number)
}

func (p *Part) meaning(spans []access.Seen, page uint64) (*Meaning, bool) {
	if p.Map.Chain > 0 {
		if m, moved := p.moved(spans); moved {
			return m, true
		}
	}
	plan, extra, found := access.Match(p.Map.Patterns, spans, p.Map.Fits)
	if !found {
		return nil, false
	}
	m := &Meaning{Part: p, Plan: plan, Contents: map[*device.Register]uint64{}, Wrote: plan.Pattern.Writes || len(plan.Pattern.HeldOut) > 0, Stays: plan.Stays, Extra: extra, page: page}
	a := plan.Answer(In(spans))
	for _, it := range plan.Misfits(spans) {
		m.Misfit = true
		if it.Line == access.In {
			a = access.Answer{Values: make([]uint64, plan.Units), Known: make([]bool, plan.Units)}
		}
	}
	m.fill(a, true)
	return m, true
}

// moved says what a number of bits other than that of its pattern makes of a chain; false
// where all of them passed just once.
func (p *Part) moved(spans []access.Seen) (*Meaning, bool) {
	pat := p.Map.Patterns[0]
	bits := pat.Spans[0].Bits
	n := len(spans[0].Out)
	if n == bits || n == 0 {
		return nil, false
	}
	each := bits / p.Map.Chain
	m := &Meaning{Part: p, Contents: map[*device.Register]uint64{}, Wrote: true, Moved: fmt.Sprintf("%d bits went through a chain of %d", n, bits)}
	if n < bits {
		m.Moved += fmt.Sprintf(": what came back before stands %s further on, and the last part keeps what was in front of it", placesNoun(n, each))
		return m, true
	}
	m.Moved += fmt.Sprintf(": the first %d have left it", n-bits)
	last := []access.Seen{{Out: spans[0].Out[n-bits:]}}
	if plan, _, found := access.Match(p.Map.Patterns, last, nil); found {
		for name, v := range plan.Held {
			m.Contents[p.Map.Named(name)] = v
		}
	}
	return m, true
}

func placesNoun(bits, each int) string {
	if bits%each == 0 {
		return quantity.Count(bits/each, "part")
	}
	return quantity.Count(bits, "bit")
}

// fill takes what was written, and what came back, where something did.
func (m *Meaning) fill(a access.Answer, answered bool) {
	plan := m.Plan
	if mem := m.Part.Map.Memory; mem != nil && plan.Pattern.ValueBits == 8 && m.Part.Map.At(plan.Number) == nil {
		m.At, m.Bytes = plan.Number, []byte{}
		for _, v := range plan.Values {
			m.Bytes = append(m.Bytes, byte(v))
		}
		if plan.Pattern.Reads && answered && !a.Refused {
			for _, v := range a.Values {
				m.Bytes = append(m.Bytes, byte(v))
			}
		}
		return
	}
	number := plan.Number
	for i := range plan.Units {
		r := m.Part.Map.OnPage(number, m.page, plan.Pattern.Writes)
		if !plan.Stays {
			number = m.Part.Map.Next(number)
		}
		switch {
		case r == nil || !plan.Pattern.Reads && !plan.Pattern.Writes:
		case r.Turn > 0 && plan.Pattern.Writes:
			m.Pieces = append(m.Pieces, Piece{r, plan.Values[i], true})
		case r.Turn > 0 && a.Known[i]:
			m.Pieces = append(m.Pieces, Piece{r, a.Values[i], false})
		case plan.Pattern.Writes:
			m.Contents[r] = plan.Values[i]
		case a.Known[i]:
			m.Contents[r] = a.Values[i]
		case m.Message == nil && !m.Misfit:
			m.Silent = append(m.Silent, r)
		}
	}
	for name, v := range plan.Held {
		m.Contents[m.Part.Map.Named(name)] = v
	}
	for _, name := range plan.Pattern.HeldIn {
		if v, known := a.Held[name]; known {
			m.Contents[m.Part.Map.Named(name)] = v
		}
	}
}

// BesideText is a text that an answer carries beside another one.
type BesideText struct {
	*device.Text
	Chars string
}

// CameBack says whether a register's content came from the part.
func (m *Meaning) CameBack(r *device.Register) bool {
	if m.Plan == nil {
		return false
	}
	return m.Plan.Pattern.Reads && !slices.Contains(m.Plan.Pattern.HeldOut, r.Name) || slices.Contains(m.Plan.Pattern.HeldIn, r.Name)
}

// Registers are those whose contents were read or written.
func (m *Meaning) Registers() []*device.Register {
	if m.Laid != nil {
		return nil
	}
	var out []*device.Register
	for _, r := range m.Part.Map.Registers {
		if _, has := m.Contents[r]; has {
			out = append(out, r)
		}
	}
	return out
}

// Values are what the contents mean: values with names of their own whose registers are
// all there, and registers that belong to none of them.
func (m *Meaning) Values() []*device.Value {
	if m.Laid != nil {
		return nil
	}
	var out []*device.Value
	used := map[*device.Register]bool{}
	for _, v := range m.Part.Map.Values {
		if !v.Own {
			continue
		}
		rs := v.Reads()
		if slices.ContainsFunc(rs, func(r *device.Register) bool { _, has := m.Contents[r]; return !has }) {
			continue
		}
		out = append(out, v)
		for _, r := range rs {
			used[r] = used[r] || v.From == nil
		}
	}
	for _, r := range m.Registers() {
		// What comes along with every operation is not what this one is about.
		beside := m.Plan != nil && m.Plan.Pattern.NumberBits > 0 && slices.Contains(m.Plan.Pattern.HeldIn, r.Name)
		if !used[r] && !beside {
			out = append(out, m.Part.Map.Value(r.Name))
		}
	}
	return out
}

// Details lists what the contents mean, a line each: values, registers, fields.
func (m *Meaning) Details() []string {
	if m.Laid != nil {
		return m.Laid.Details()
	}
	if m.Plan == nil && m.Moved == "" || m.Begins {
		return nil
	}
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
		if shown := v.Shown(d.Raw); shown != "" {
			out = append(out, "  "+shown)
		}
	}
	for _, v := range m.Values() {
		if v.Own {
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
	if m.Laid != nil {
		return m.Laid.Sentence(m.Part.Name)
	}
	if m.Moved != "" {
		return m.Part.Name + ": " + m.Moved
	}
	if m.Message != nil && (m.Plan == nil || m.Message.Answer == nil || m.Message.Answer.Refused) {
		return m.said()
	}
	if m.Begins {
		if m.Wrote {
			return fmt.Sprintf("%s: %s %s begins", m.Part.Name, m.Plan.Pattern.Name, m.about())
		}
		return fmt.Sprintf("asks for %s.%s", m.Part.Name, m.about())
	}
	if m.Text != nil {
		verb := "read"
		if m.Wrote {
			verb = "written"
		}
		s := fmt.Sprintf("%s.%s %s %q", m.Part.Name, m.Text.Name, verb, m.Chars)
		for _, t := range m.Beside {
			s += fmt.Sprintf(", %s %s %q", t.Name, verb, t.Chars)
		}
		return s
	}
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
	for _, p := range m.Pieces {
		verb := "read"
		if p.Wrote {
			verb = "written"
		}
		parts = append(parts, fmt.Sprintf("%s, one of its %d pieces %s 0x%0*X", p.Name, p.Turns(), verb, (p.Turn+3)/4, p.Value))
	}
	if len(parts) == 0 {
		parts = append(parts, m.Plan.Pattern.Name)
		if m.Part.Map.Pages != nil && m.page == device.NoPage && m.Part.Map.At(m.Plan.Number) != nil {
			parts[0] += fmt.Sprintf(" of 0x%02X on a page that is not known", m.Plan.Number)
		}
	}
	s := m.Part.Name + "." + strings.Join(parts, ", ")
	if m.Misfit {
		s += ", the check does not fit"
	}
	if m.Stays {
		s += fmt.Sprintf(", %d times: the number of the register does not go up", m.Plan.Units)
	}
	return s
}

// said says what a message is that is no good answer.
func (m *Meaning) said() string {
	a := m.Message.Answer
	switch {
	case m.Message.Dropped != "":
		return fmt.Sprintf("%s: no message: %s", m.Part.Name, m.Message.Dropped)
	case m.Plan == nil:
		return fmt.Sprintf("%s: message % X", m.Part.Name, m.Message.Content)
	case a != nil && m.Message.GivenUp:
		return fmt.Sprintf("the MCU gives %s.%s up: %s", m.Part.Name, m.about(), m.Part.Map.Dialogue.Refusal.Because(a.Why))
	case a != nil:
		return fmt.Sprintf("%s refuses %s: %s", m.Part.Name, m.about(), m.Part.Map.Dialogue.Refusal.Because(a.Why))
	case m.Message.Partly:
		return fmt.Sprintf("%s.%s, a part of it", m.Part.Name, m.about())
	case !m.Wrote:
		return fmt.Sprintf("asks for %s.%s", m.Part.Name, m.about())
	case m.Text != nil:
		return fmt.Sprintf("writes %s.%s %q", m.Part.Name, m.Text.Name, m.Chars)
	case m.Bytes != nil:
		return fmt.Sprintf("writes %s.%s: % X", m.Part.Name, m.about(), m.Bytes[:min(len(m.Bytes), 16)])
	}
	var parts []string
	for _, v := range m.Values() {
		d := v.Decode(func(r *device.Register) uint64 { return m.Contents[r] })
		parts = append(parts, v.Name+" "+d.Meaning())
	}
	if len(parts) == 0 {
		parts = append(parts, m.about())
	}
	return fmt.Sprintf("writes %s.%s", m.Part.Name, strings.Join(parts, ", "))
}

// about names what an operation is about, whether or not it came back.
func (m *Meaning) about() string {
	p, d := m.Plan.Pattern, m.Part.Map
	if m.Text != nil {
		return m.Text.Name
	}
	if m.Bytes != nil {
		return fmt.Sprintf("0x%04X, %s", m.At, bytesNoun(max(m.Plan.Units, 1)))
	}
	var names []string
	number := m.Plan.Number
	for range m.Plan.Units {
		if r := d.OnPage(number, m.page, m.Wrote); r != nil {
			names = append(names, r.Name)
		} else {
			names = append(names, d.Dialogue.Words(number))
		}
		number = d.Next(number)
	}
	if len(names) == 0 {
		names = append(slices.Clone(p.HeldIn), p.HeldOut...)
	}
	if len(names) == 0 {
		return p.Name
	}
	return strings.Join(names, ", ")
}

// wrapped is how many bytes of a writing went behind the end of a page, and where they
// landed.
func (m *Meaning) wrapped() (n int, to uint64) {
	page := uint64(m.Part.Map.Memory.Page)
	room := int(page - m.At%page)
	if !m.Wrote || len(m.Bytes) <= room {
		return 0, 0
	}
	return len(m.Bytes) - room, m.At - m.At%page
}

// bytes says which bytes of a memory were read or written.
func (m *Meaning) bytes() string {
	verb := "read"
	if m.Wrote {
		verb = "written"
	}
	text := fmt.Sprintf("% X", m.Bytes[:min(len(m.Bytes), 16)])
	if len(m.Bytes) > 16 {
		text += " …"
	}
	s := fmt.Sprintf("%s 0x%04X %s, %s: %s", m.Part.Name, m.At, verb, bytesNoun(len(m.Bytes)), text)
	if wrapped, to := m.wrapped(); wrapped > 0 {
		s += fmt.Sprintf("; after the page's last byte it goes on at its first, 0x%04X, with %s: write them in a transaction of their own", to, bytesNoun(wrapped))
	}
	return s
}
