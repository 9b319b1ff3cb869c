// Package operation reads what is to be done with a part in words, as `read
// pressure` or `write CTRL.RATE 25 Hz`, and knows it as transactions on the part's bus:
// their words, the meaning of each bit, and what came back.
package operation

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/register"
)

// Part is a device on a link as operations reach it.
type Part struct {
	Name string
	// Index is the device's place on the link, from 0 on.
	Index int
	*device.Device
}

// Verb is what is to be done.
type Verb uint8

// The verbs.
const (
	Read    Verb = iota
	Write        // to a register, or to a field of one, whose other bits are kept
	Prove        // that the part is the one that is described
	Command      // an operation about no register, or a job
	Raw          // a transaction in the words of its bus
	Scan         // ask every address who is there
	Fill         // bytes of a memory with one
	Compare      // bytes of a memory with others
	Load         // a file into a memory
	Save         // bytes of a memory into a new file
	Free         // a bus that is held
)

var verbs = []string{"read", "write", "prove", "do", "raw", "scan", "fill", "compare", "load", "save", "free"}

func (v Verb) String() string { return verbs[v] }

// Operation is something to be done with a part.
type Operation struct {
	Verb Verb
	Part *Part // nil of Raw
	// Values are what is read, or the one that is written; Registers, where there are
	// none, are those that were named by their number.
	Values    []*device.Value
	Registers []*device.Register
	// Bytes of a memory: from At on, Count of them; of writing and comparing Data.
	Bytes     bool
	Area      *device.Area // that was named
	At, Count int
	Data      []byte
	File      string // of Load and Save
	// Chars is a text that is read or written.
	Chars *device.Text
	// Pattern or Job is that of Command.
	Pattern *access.Pattern
	Job     *device.Job
	Text    string // what is written, or the words of Raw
	// Rounded says that what is written is not just what was asked for; "": it is.
	Rounded string
	// Force: it is done although it may do harm.
	Force bool
}

// Help says how operations are written.
const Help = `    read PART.VALUE VALUE...   registers, fields, or values; by number: read PART 0x10 count 3
    write PART.VALUE TO        a quantity with its unit, the word of a code, or bits as 0x1F
    prove PART                 that it is the part that its file describes
    do PART.OPERATION          an operation about no register, or a job: start it, wait, read
    raw WORDS                  a transaction in the words of its bus
    free                       an I2C bus that a device holds: up to nine pulses of the clock, and a stop
    scan, scan reading         every address of the bus is asked, by writing or by reading
    read PART 0x40 count 16    bytes of a memory; write PART 0x40 DE AD; fill PART 0x40 count 16 FF;
                               compare PART 0x40 DE AD; load PART FILE; save PART 0x40 count 16 FILE
    read PART.AREA             a named area of a memory; write PART.AREA default writes what its file states
    force in front             although it may do harm`

// Parse reads an operation on one of the parts of a link. The name of the part may be
// left out where there is only one.
func Parse(text string, parts []*Part) (*Operation, error) {
	words := strings.Fields(text)
	op := &Operation{}
	if len(words) > 0 && words[0] == "force" {
		op.Force = true
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("say what to do: %s", strings.Join(verbs, ", "))
	}
	verb := slices.Index(verbs, words[0])
	if verb < 0 {
		hint := "known are " + strings.Join(verbs, ", ")
		if m := doc.Nearest(words[0], verbs); m != "" {
			hint = "did you mean " + m + "?"
		}
		return nil, fmt.Errorf("%q is nothing to do; %s", words[0], hint)
	}
	op.Verb = Verb(verb)
	words = words[1:]
	if op.Verb == Raw {
		if op.Text = strings.Join(words, " "); op.Text == "" {
			return nil, fmt.Errorf("raw: write the words of a transaction")
		}
		if len(parts) > 0 && !op.Force {
			if doubts := wires[parts[0].Kind.Name].doubts; doubts != nil {
				if ask := doubts(parts, op.Text); ask != "" {
					return nil, fmt.Errorf("%s; force in front sends it as it is", ask)
				}
			}
		}
		return op, nil
	}
	if op.Verb == Free {
		return op, op.frees(parts, words)
	}
	if op.Verb == Scan {
		op.Text = strings.Join(words, " ")
		return op, op.scans(parts)
	}
	part, rest, err := find(strings.Join(words, " "), parts)
	if err != nil {
		return nil, err
	}
	op.Part = part
	if part.Map == nil {
		return nil, fmt.Errorf("%s: its file describes no registers: add `registers:` and `access:` to %s, or write raw", part.Name, part.File)
	}
	words = strings.Fields(rest)
	name := ""
	if len(words) > 0 {
		name, words = words[0], words[1:]
	}
	return op, op.target(name, words)
}

// frees gives the words that free a bus, or says why there are none.
func (op *Operation) frees(parts []*Part, words []string) error {
	switch {
	case len(words) > 0:
		return fmt.Errorf("free %s: nothing follows free", strings.Join(words, " "))
	case len(parts) == 0 || wires[parts[0].Kind.Name].frees == "":
		return fmt.Errorf("only an I2C bus can be freed: on others no device can hold the line for want of a clock")
	}
	op.Text = wires[parts[0].Kind.Name].frees
	return nil
}

// scans says why a scan can't be done.
func (op *Operation) scans(parts []*Part) error {
	switch {
	case op.Text != "" && op.Text != "reading":
		return fmt.Errorf("scan %s: write scan, or scan reading", op.Text)
	case len(parts) == 0:
		return fmt.Errorf("the link has no parts with addresses to ask")
	case wires[parts[0].Kind.Name].probe == nil:
		return fmt.Errorf("parts on %s have no addresses that all could be asked", parts[0].Kind.Title)
	}
	return nil
}

// Probe is a question to an address.
type Probe struct {
	Address int
	Text    string // the transaction
	Part    *Part  // that is expected there; nil: none is
}

// Probes gives the questions of a scan, in the order of the addresses.
func (op *Operation) Probes(parts []*Part) []Probe {
	return wires[parts[0].Kind.Name].probe(parts, op.Text == "reading")
}

// find finds the part with whose name a text begins, and what follows it behind a dot
// or a blank.
func find(text string, parts []*Part) (part *Part, rest string, err error) {
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
		if n := len(p.Name); len(text) >= n && strings.EqualFold(text[:n], p.Name) && (part == nil || n > len(part.Name)) {
			if len(text) == n || text[n] == '.' || text[n] == ' ' {
				part, rest = p, strings.TrimSpace(text[min(n+1, len(text)):])
			}
		}
	}
	name, _, _ := strings.Cut(text, ".")
	name, _, _ = strings.Cut(name, " ")
	near := doc.Nearest(name, names)
	switch {
	case part != nil:
		return part, rest, nil
	case len(parts) == 1:
		return parts[0], text, nil
	case len(parts) == 0:
		return nil, "", fmt.Errorf("the link has no parts with registers")
	case text == "":
		return nil, "", fmt.Errorf("say which part: %s", strings.Join(names, ", "))
	case near != "":
		return nil, "", fmt.Errorf("%q is no part on this link; did you mean %s?", name, near)
	}
	return nil, "", fmt.Errorf("%q is no part on this link; there are %s", name, strings.Join(names, ", "))
}

// target reads what the operation is about.
func (op *Operation) target(name string, words []string) error {
	m := op.Part.Map
	switch op.Verb {
	case Prove:
		if name != "" || len(words) > 0 {
			return fmt.Errorf("prove takes the name of a part alone")
		}
		if m.Chain > 0 && m.Identity == nil {
			return nil
		}
		if m.Identity == nil {
			return fmt.Errorf("%s: its file names no identity: add `identity:` to %s", op.Part.Name, op.Part.File)
		}
		op.Values = []*device.Value{m.Identity.Value}
		return nil
	case Command:
		op.Job, op.Pattern = m.Job(name), m.Pattern(name)
		if op.Job == nil && (op.Pattern == nil || !device.Command(op.Pattern)) {
			return unknown("operation without a register, or job,", name, op.Part.Name, m.Commands())
		}
		if len(words) > 0 {
			return fmt.Errorf("%q: nothing follows the name of the operation", strings.Join(words, " "))
		}
		return nil
	}
	if op.Verb == Load {
		return op.load(name, words)
	}
	if a := m.Memory.Area(name); a != nil {
		return op.area(a, words)
	}
	if m.Memory != nil {
		if number, err := strconv.ParseUint(name, 0, 64); err == nil && m.At(number) == nil {
			return op.bytes(number, words)
		}
	}
	switch {
	case op.Verb == Fill || op.Verb == Compare || op.Verb == Save:
		return fmt.Errorf("%s: name bytes of a memory by their number, as 0x40", op.Verb)
	case len(m.Values)+len(m.Texts) == 0 && m.Memory != nil && len(m.Memory.Areas) > 0:
		return fmt.Errorf("say which bytes of %s, as 0x40 count 16, or an area: %s", op.Part.Name, some(m.Names()))
	case len(m.Values)+len(m.Texts) == 0 && m.Memory != nil:
		return fmt.Errorf("say which bytes of %s, as 0x40 count 16", op.Part.Name)
	case name == "":
		return fmt.Errorf("say what of %s: %s", op.Part.Name, some(m.Names()))
	}
	if number, err := strconv.ParseUint(name, 0, 64); err == nil {
		var err error
		if number, words, err = op.sub(number, words); err != nil {
			return err
		}
		if words, err = op.numbered(number, words); err != nil {
			return err
		}
	} else if op.Chars = m.TextNamed(name); op.Chars != nil {
		return op.text(words)
	} else if err := op.add(name); err != nil {
		return err
	}
	if op.Verb == Read {
		if len(words) > 0 && len(op.Registers) > 0 {
			return fmt.Errorf("%q: nothing follows registers that are read by number", strings.Join(words, " "))
		}
		for _, w := range words {
			if err := op.add(strings.TrimPrefix(w, op.Part.Name+".")); err != nil {
				return err
			}
		}
		return nil
	}
	if len(words) > 0 && (words[0] == "=" || words[0] == "to") {
		words = words[1:]
	}
	if op.Text = strings.Join(words, " "); op.Text == "" {
		return fmt.Errorf("say what is written to %s", name)
	}
	if len(op.Registers) == 1 {
		v := m.Value(op.Registers[0].Name)
		if v == nil {
			return fmt.Errorf("%s has no register 0x%X in its file: what does writing it do?", op.Part.Name, op.Registers[0].Address)
		}
		op.Values, op.Registers = []*device.Value{v}, nil
	}
	switch {
	case len(op.Values) != 1:
		return fmt.Errorf("one register at a time is written by its number")
	case op.Values[0].From != nil:
		return op.inverse(op.Values[0])
	}
	return nil
}

// inverse makes of what is written to a calculated value what is written to the one that it
// depends on.
func (op *Operation) inverse(v *device.Value) error {
	of, raw, gives, exact, err := v.Inverse(op.Text)
	if err != nil {
		return err
	}
	if !exact {
		op.Rounded = fmt.Sprintf("%s can't be %s exactly: %s is written", v.Name, op.Text, gives.Meaning())
	}
	op.Values, op.Text = []*device.Value{of}, fmt.Sprintf("0x%X", raw)
	return nil
}

// sub reads the sub-index behind the index of an object.
func (op *Operation) sub(index uint64, words []string) (uint64, []string, error) {
	d := op.Part.Map.Dialogue
	if d == nil || !d.Objects {
		return index, words, nil
	}
	if len(words) < 2 || words[0] != "sub" {
		return 0, nil, fmt.Errorf("0x%X: write index and sub-index, as 0x2001 sub 1", index)
	}
	n, err := strconv.ParseUint(words[1], 0, 8)
	if err != nil || index > 0xFFFF {
		return 0, nil, fmt.Errorf("0x%X sub %s: an index has 16 bits, a sub-index 8", index, words[1])
	}
	return index<<8 | n, words[2:], nil
}

// text reads what is to be done with a text.
func (op *Operation) text(words []string) error {
	t := op.Chars
	if op.Verb == Read {
		if len(words) > 0 {
			return fmt.Errorf("%q: nothing follows a text that is read", strings.Join(words, " "))
		}
		return nil
	}
	if len(words) > 0 && (words[0] == "=" || words[0] == "to") {
		words = words[1:]
	}
	op.Text = strings.Join(words, " ")
	if n := len(op.Text); n >= 2 && (op.Text[0] == '\'' || op.Text[0] == '"') && op.Text[n-1] == op.Text[0] {
		op.Text = op.Text[1 : n-1]
	}
	if len(op.Text) > t.Most {
		return fmt.Errorf("%d characters: %s has at most %d", len(op.Text), t.Name, t.Most)
	}
	return nil
}

// add adds a value to those that the operation is about.
func (op *Operation) add(name string) error {
	name = strings.TrimSuffix(name, ",")
	v := op.Part.Map.Value(name)
	if v == nil {
		return unknown("value", name, op.Part.Name, op.Part.Map.Names())
	}
	op.Values = append(op.Values, v)
	return nil
}

// numbered finds registers by the number of the first.
func (op *Operation) numbered(number uint64, words []string) ([]string, error) {
	count := 1
	if len(words) >= 2 && words[0] == "count" {
		n, err := strconv.Atoi(words[1])
		if err != nil || n < 1 || n > 4096 {
			return nil, fmt.Errorf("count %s: write a number from 1 to 4096", words[1])
		}
		count, words = n, words[2:]
	}
	for i := range count {
		r := op.Part.Map.OnPage(number+uint64(i), device.NoPage, op.Verb == Write)
		first := op.Part.Map.At(number + uint64(i))
		switch {
		case r == nil && first != nil && !first.Paged:
			return nil, fmt.Errorf("%s is %s", first.Name, first.Access)
		case r == nil && first != nil:
			return nil, fmt.Errorf("%s stands on several pages: name the register, as %s", op.Part.Map.Dialogue.Words(number+uint64(i)), first.Name)
		}
		if t := op.Part.Map.TextAt(number); t != nil && count == 1 {
			op.Chars = t
			return nil, op.text(words)
		}
		if r == nil {
			r = op.Part.undescribed(number + uint64(i))
		}
		if r == nil {
			return nil, fmt.Errorf("%s has no register %s", op.Part.Name, op.Part.Map.Dialogue.Words(number+uint64(i)))
		}
		op.Registers = append(op.Registers, r)
	}
	return words, nil
}

// undescribed gives a register that the file does not describe, of the size that a
// pattern reads; nil where no pattern reaches it.
func (p *Part) undescribed(number uint64) *device.Register {
	for _, pat := range p.Map.Patterns {
		if pat.Reads && pat.NumberBits > 0 && (pat.NumberBits >= 64 || number>>pat.NumberBits == 0) {
			r := &device.Register{Numbered: true}
			r.Name, r.Address, r.Bits = fmt.Sprintf("0x%02X", number), number, pat.ValueBits
			return r
		}
	}
	return nil
}

func unknown(what, name, part string, known []string) error {
	if name == "" {
		return fmt.Errorf("say which %s of %s: %s", what, part, some(known))
	}
	if m := doc.Nearest(name, known); m != "" {
		return fmt.Errorf("%s has no %s %q; did you mean %s?", part, what, name, m)
	}
	return fmt.Errorf("%s has no %s %q; it has %s", part, what, name, some(known))
}

// some lists names, not too many.
func some(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	if len(names) > 16 {
		names = append(slices.Clone(names[:15]), fmt.Sprintf("%d more", len(names)-15))
	}
	return strings.Join(names, ", ")
}

// About gives the registers that the operation is about.
func (op *Operation) About() []*device.Register {
	out := slices.Clone(op.Registers)
	for _, v := range op.Values {
		rs := v.Reads()
		if op.Verb == Write {
			rs = v.Registers()
		}
		for _, r := range rs {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Fixed gives the steps of an operation that needs no answer to go on: reading, writing
// whole registers, and operations about none.
func (op *Operation) Fixed() ([]Step, error) {
	if op.Bytes {
		switch op.Verb {
		case Load, Save:
			return nil, fmt.Errorf("%s is done by hand", op.Verb)
		case Read, Compare:
			return op.Part.ReadBytes(op.At, op.Count)
		}
		return op.Part.WriteBytes(op.At, op.Data)
	}
	switch op.Verb {
	case Command:
		if op.Job != nil {
			return nil, fmt.Errorf("%s is a job: what goes on depends on what comes back", op.Job.Name)
		}
		s, err := op.Part.CommandStep(op.Pattern)
		return []Step{s}, err
	case Read, Prove:
		if op.Chars != nil {
			return op.Part.TextSteps(op.Chars, nil, false)
		}
		return op.Part.ReadSteps(op.About(), nil)
	case Raw:
		return nil, nil
	case Free:
		return nil, fmt.Errorf("how many pulses free a bus is seen only when they are sent")
	case Scan:
		return nil, fmt.Errorf("a scan is done by hand")
	}
	if op.Chars != nil {
		return op.Part.TextSteps(op.Chars, []byte(op.Text), op.Verb == Write)
	}
	v := op.Values[0]
	w, err := v.Encode(op.Text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", v.Name, err)
	}
	to := map[*device.Register]uint64{}
	for _, r := range op.About() {
		content, mask := v.Into(r, 0, w.Raw)
		if mask != r.Mask() {
			return nil, fmt.Errorf("%s is a part of %s: what else stands there must be read first", v.Name, r.Name)
		}
		to[r] = content
	}
	return op.Part.WriteSteps(op.About(), to, nil)
}

// Step is one operation of a pattern, with the transactions that it is.
type Step struct {
	Plan  *access.Plan
	Texts []string // in the words of the bus
	// Registers are those that it reads or writes, one a unit; of a pattern that
	// names registers, those.
	Registers []*device.Register
	// Selects: it brings the part onto the page of the next ones.
	Selects bool
	// Turn is the index of the piece of the only register that it moves, where that goes
	// in several.
	Turn int
	part *Part
}

// Endures says how often the step may be done at one place; 0: that is not stated.
func (s Step) Endures() int {
	if s.part == nil || s.Plan == nil {
		return 0
	}
	return s.part.Map.Endures(s.Plan.Pattern)
}

// Writes are the registers that the step writes.
func (s Step) Writes() []*device.Register {
	if s.Plan == nil || s.part == nil {
		return nil
	}
	var out []*device.Register
	if s.Plan.Pattern.Writes {
		out = slices.Clone(s.Registers)
	}
	for _, name := range s.Plan.Pattern.HeldOut {
		if r := s.part.Map.Named(name); r != nil && !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	return out
}

// ReadSteps gives what reads registers: those with numbers that follow each other in
// one go, where the part can. Content gives what a pattern sends along, of registers that it
// names.
func (p *Part) ReadSteps(rs []*device.Register, content func(*device.Register) (uint64, bool)) ([]Step, error) {
	var out []Step
	at := device.NoPage
	for _, run := range runs(rs, p.reading) {
		turn, err := p.turn(&at, run[0], content)
		if err != nil {
			return nil, err
		}
		out = append(out, turn...)
		pat := p.reading(run[0])
		if pat == nil {
			return nil, fmt.Errorf("%s: no operation reads it", run[0].Name)
		}
		if i := slices.IndexFunc(out, func(s Step) bool { return s.Plan.Pattern == pat }); i >= 0 && pat.NumberBits == 0 {
			out[i].Registers = append(out[i].Registers, run...)
			continue
		}
		for i := range run[0].Turns() {
			step, err := p.step(pat, access.Use{Number: p.numberFor(pat, run[0]), Units: len(run)}, run, content)
			if err != nil {
				return nil, err
			}
			step.Turn = i
			out = append(out, step)
		}
	}
	return out, nil
}

// turn gives what brings the part onto the page of a register, from the one that it is on.
func (p *Part) turn(at *uint64, r *device.Register, content func(*device.Register) (uint64, bool)) ([]Step, error) {
	if !r.Paged || r.Page == *at {
		return nil, nil
	}
	*at = r.Page
	v := p.Map.Pages
	to := map[*device.Register]uint64{}
	for _, s := range v.Registers() {
		now := s.Reset
		if content != nil {
			if c, known := content(s); known {
				now = c
			}
		}
		to[s], _ = v.Into(s, now, r.Page)
	}
	out, err := p.WriteSteps(v.Registers(), to, content)
	for i := range out {
		out[i].Selects = true
	}
	return out, err
}

// runs puts registers in order, those together that a repeated pattern reaches in one go.
func runs(rs []*device.Register, by func(*device.Register) *access.Pattern) [][]*device.Register {
	rs = slices.Clone(rs)
	slices.SortStableFunc(rs, func(a, b *device.Register) int {
		if a.Numbered && b.Numbered {
			return cmp.Or(cmp.Compare(a.Page, b.Page), cmp.Compare(a.Address, b.Address))
		}
		return 0
	})
	var out [][]*device.Register
	for len(rs) > 0 {
		n := 1
		for pat := by(rs[0]); pat != nil && pat.Repeats() && rs[0].Numbered && rs[0].Turn == 0 && n < len(rs) && rs[n].Turn == 0 && rs[n].Numbered && rs[n].Bits == rs[0].Bits && rs[n].Paged == rs[0].Paged && rs[n].Page == rs[0].Page && rs[n].Address == rs[0].Address+uint64(n); {
			n++
		}
		out = append(out, rs[:n])
		rs = rs[n:]
	}
	return out
}

// reading gives the pattern that reads a register.
func (p *Part) reading(r *device.Register) *access.Pattern {
	var along *access.Pattern
	for _, pat := range p.Map.Patterns {
		switch {
		case !slices.Contains(pat.HeldIn, r.Name) || pat.Writes:
			// What writes a register is no way to read another.
		case pat.NumberBits == 0:
			return pat
		case along == nil:
			along = pat
		}
	}
	if r.Numbered && r.Side != device.WriteSide {
		for _, pat := range p.Map.Patterns {
			if pat.Reads && pat.ValueBits == r.AtOnce() {
				return pat
			}
		}
	}
	return along
}

// numberFor is the number that is sent to read a register: its own, or, where it comes
// along with any, one that can be read without harm.
func (p *Part) numberFor(pat *access.Pattern, r *device.Register) uint64 {
	if r.Numbered || pat.NumberBits == 0 {
		return r.Address
	}
	for _, o := range p.Map.Registers {
		if o.Numbered && !o.Paged && o.Side != device.WriteSide && o.AtOnce() == pat.ValueBits && o.Repeatable(false) && o.Readable() {
			return o.Address
		}
	}
	return r.Address
}

// SentWith lists the registers that reading one writes too.
func (p *Part) SentWith(r *device.Register) []string {
	if pat := p.reading(r); pat != nil {
		return pat.HeldOut
	}
	return nil
}

// Quietly gives the operations that read all of a part that reading leaves as it is, and
// takes nothing else along; left are the registers that are not among it.
func (p *Part) Quietly() (ops, left []string) {
	var names []string
	for _, r := range p.Map.Registers {
		switch {
		case !p.Readable(r) || r.Access == register.WriteOnly && len(r.Fields) == 0:
		case r.Clears() || len(p.SentWith(r)) > 0:
			left = append(left, r.Name)
		default:
			names = append(names, r.Name)
		}
	}
	if len(names) > 0 {
		ops = append(ops, "read "+p.Name+"."+strings.Join(names, " "))
	}
	for _, t := range p.Map.Texts {
		if _, err := p.TextSteps(t, nil, false); err == nil && t.Readable() {
			ops = append(ops, "read "+p.Name+"."+t.Name)
		}
	}
	return ops, left
}

// Readable says whether an operation reads a register.
func (p *Part) Readable(r *device.Register) bool { return p.reading(r) != nil }

// WriteSteps gives what writes registers: those with numbers that follow each other in
// one go, where the part can.
func (p *Part) WriteSteps(rs []*device.Register, to map[*device.Register]uint64, content func(*device.Register) (uint64, bool)) ([]Step, error) {
	var out []Step
	at := device.NoPage
	for _, run := range runs(rs, p.writing) {
		turn, err := p.turn(&at, run[0], content)
		if err != nil {
			return nil, err
		}
		out = append(out, turn...)
		pat := p.writing(run[0])
		if pat == nil {
			return nil, fmt.Errorf("%s: no operation writes it", run[0].Name)
		}
		if r := run[0]; r.Turn > 0 {
			for i := range r.Turns() {
				u := access.Use{Number: r.Address, Units: 1, Values: []uint64{to[r] >> r.Shift(i) & (1<<r.Turn - 1)}}
				step, err := p.step(pat, u, run, content)
				if err != nil {
					return nil, err
				}
				step.Turn = i
				out = append(out, step)
			}
			continue
		}
		u := access.Use{Held: map[string]uint64{run[0].Name: to[run[0]]}}
		if pat.Writes {
			u = access.Use{Number: run[0].Address, Units: len(run)}
			for _, r := range run {
				u.Values = append(u.Values, to[r])
			}
		}
		step, err := p.step(pat, u, run, content)
		if err != nil {
			return nil, err
		}
		out = append(out, step)
	}
	return out, nil
}

// writing gives the pattern that writes a register.
func (p *Part) writing(r *device.Register) *access.Pattern {
	for _, pat := range p.Map.Patterns {
		if slices.Contains(pat.HeldOut, r.Name) {
			return pat
		}
	}
	if r.Numbered && r.Side != device.ReadSide {
		for _, pat := range p.Map.Patterns {
			if pat.Writes && pat.ValueBits == r.AtOnce() {
				return pat
			}
		}
	}
	return nil
}

// TextSteps gives what reads or writes a text.
func (p *Part) TextSteps(t *device.Text, chars []byte, writes bool) ([]Step, error) {
	for _, pat := range p.Map.Patterns {
		if x := pat.Text; x != nil && x.Writes == writes && (pat.Carries(t.Name) || x.Name == "" && t.Numbered) {
			s, err := p.step(pat, access.Use{Number: t.Number, Chars: chars}, nil, nil)
			return []Step{s}, err
		}
	}
	return nil, fmt.Errorf("%s: no operation %s it", t.Name, map[bool]string{true: "writes", false: "reads"}[writes])
}

// CommandStep gives an operation that is about no register.
func (p *Part) CommandStep(pat *access.Pattern) (Step, error) {
	return p.step(pat, access.Use{}, nil, nil)
}

func (p *Part) step(pat *access.Pattern, u access.Use, rs []*device.Register, content func(*device.Register) (uint64, bool)) (Step, error) {
	for _, name := range pat.HeldOut {
		if _, given := u.Held[name]; given {
			continue
		}
		r := p.Map.Named(name)
		if content == nil {
			return Step{}, fmt.Errorf("%s sends %s too: write that", pat.Name, name)
		}
		v, known := content(r)
		if !known {
			v = r.Reset
		}
		if u.Held == nil {
			u.Held = map[string]uint64{}
		}
		u.Held[name] = v
	}
	plan, err := pat.Plan(u)
	if err != nil {
		return Step{}, err
	}
	return Step{Plan: plan, Texts: wires[p.Kind.Name].texts(p, plan), Registers: rs, part: p}, nil
}
