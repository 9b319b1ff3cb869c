// Package operate does operations on the parts of a link, whoever is behind it: it
// reads, writes and reads back, proves identities, and says what came of it.
package operate

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/safe"
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
	// Found is what a scan found: all that answered, and those expected that did not.
	Found []Found
	// Bytes are those of a memory that were read, from At on.
	Bytes []byte
	At    int
}

// Found is an address that was asked.
type Found struct {
	Address  int
	Part     string // that is expected there; "": none is
	Answered bool
	// Near are expected parts whose address differs in one bit, as by a strap.
	Near []string
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

// Words gives what was seen of it in the words of the link's bus; of characters who
// sent them, and their bytes.
func (x *Exchange) Words(l *bench.Link) string {
	switch r := x.Record; {
	case r == nil:
		return x.Outcome
	case r.Kind == record.Chars && len(l.Ends) > 1:
		from, to := l.Ends[0].Name, l.Ends[1].Name
		if r.From == record.Device {
			from, to = to, from
		}
		return fmt.Sprintf("%s → %s  % X  %s", from, to, r.Data, safe.Bytes(r.Data))
	default:
		return l.Kind.Sentence(r)
	}
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

// Text says what writing made of the register: before, wrote, after, changed bits.
func (c *Change) Text() string {
	hex := func(v uint64, known bool) string {
		if !known {
			return "?"
		}
		return fmt.Sprintf("0x%0*X", (c.Bits+3)/4, v)
	}
	s := fmt.Sprintf("%s: before %s, wrote %s, after %s", c.Register, hex(c.Before, c.KnowsBefore), hex(c.Wrote, true), hex(c.After, c.KnowsAfter))
	switch bits := c.Changed(); {
	case bits != "":
		s += ", changed bits " + bits
	case c.KnowsBefore && c.KnowsAfter:
		s += ", no bit changed"
	}
	return s
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
	// ledger knows what registers held when anybody read or wrote them last.
	ledger *ledger.Ledger
	reads  *operation.Reader // of transactions in the words of the bus
}

// On gives what does operations on a link of a bench.
func On(s link.Session, b *bench.Bench, l *bench.Link) *Bench {
	return &Bench{Session: s, Link: l, ledger: ledger.New(b), reads: operation.NewReader(l.Parts())}
}

// Do does an operation. The error says that it could not be tried at all.
func (b *Bench) Do(ctx context.Context, text string, op *operation.Operation) (*Result, error) {
	r := &Result{Text: text, Verdict: OK}
	if op.Part != nil {
		r.Part = op.Part.Name
	}
	x := &run{Bench: b, ctx: ctx, op: op, r: r, driven: map[*device.Register]uint64{}}
	switch {
	case !op.Bytes:
	case op.Verb == operation.Read:
		x.readBytes()
		return r, x.err
	case op.Verb == operation.Compare:
		x.compareBytes()
		return r, x.err
	case op.Verb == operation.Load:
		x.load()
		return r, x.err
	case op.Verb == operation.Save:
		x.save()
		return r, x.err
	default:
		x.writeBytes(op.At, op.Data)
		return r, x.err
	}
	switch op.Verb {
	case operation.Raw:
		x.raw()
	case operation.Read:
		if op.Chars != nil {
			x.readText()
			break
		}
		x.read()
	case operation.Prove:
		x.prove()
	case operation.Command:
		x.command()
	case operation.Scan:
		x.scan()
	case operation.Free:
		x.free()
	case operation.Write:
		if op.Chars != nil {
			x.writeText()
			break
		}
		x.write(op.Values[0], op.Text)
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
	// partly: registers of which only some bits were driven are taken too; driven says
	// which bits.
	partly bool
	// answers: the part drove some bit of the transaction that was done last.
	answers bool
	driven  map[*device.Register]uint64
}

// transact does a transaction; false where it failed.
func (x *run) transact(text string) (*record.Record, bool) {
	if x.err != nil {
		return nil, false
	}
	intent, err := x.intent(text)
	if err != nil {
		x.err = err
		return nil, false
	}
	out, err := x.Session.Do(x.ctx, x.Link.Index, intent)
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

// do does a step, and gives what came back. What failed is tried again as often as the
// part's file says, where that can do no harm.
func (x *run) do(s operation.Step) (access.Answer, bool) {
	m := x.op.Part.Map
	if err := x.number(&s); err != nil {
		x.r.say(Refused, "%v", err)
		return access.Answer{}, false
	}
	said, verdict := len(x.r.Says), x.r.Verdict
	for n := 1; ; n++ {
		a, ok := x.once(s)
		good := ok && !(s.Plan.Pattern.Reads && mute(a))
		if good && n > 1 {
			x.r.say(Warn, "%s answered at attempt %d of %d", x.op.Part.Name, n, m.Retries+1)
		}
		if good || x.err != nil || n > m.Retries || !x.harmless(s) {
			return a, ok
		}
		x.r.Says, x.r.Verdict = x.r.Says[:said], verdict
		if x.err = x.wait(x.Session.Now() + m.RetryAfter); x.err != nil {
			return a, false
		}
	}
}

// number gives a request the number behind that of the newest one on the link.
func (x *run) number(s *operation.Step) (err error) {
	if s.Plan.Pattern.SequenceBits == 0 {
		return nil
	}
	x.ledger.Update(x.Session.Store().Snapshot())
	next := uint64(0)
	if k := x.ledger.Part(x.Link.Index, x.op.Part.Index); k != nil && k.Numbered {
		next = k.Sequence + 1
	}
	s.Plan, err = s.Plan.Again(next)
	return err
}

// mute says whether none of what should have come back did.
func mute(a access.Answer) bool { return len(a.Known) > 0 && !slices.Contains(a.Known, true) }

// harmless says whether a step that failed can be done again: nobody heard it, or doing it
// twice is like doing it once.
func (x *run) harmless(s operation.Step) bool {
	if n := len(x.r.Exchanges); n > 0 && operation.Silent(x.Link.Kind.Name, x.r.Exchanges[n-1].Record) {
		return true
	}
	return !device.Command(s.Plan.Pattern) && !slices.ContainsFunc(s.Registers, func(r *device.Register) bool { return !r.Repeatable(s.Plan.Pattern.Writes) })
}

// once does a step.
func (x *run) once(s operation.Step) (access.Answer, bool) {
	if x.op.Part.Asked() {
		return x.ask(s)
	}
	var spans []access.Seen
	for _, t := range s.Texts {
		rec, ok := x.transact(t)
		if !ok {
			x.refusedAt(s, rec)
			return access.Answer{}, false
		}
		if rec == nil {
			x.r.say(Fault, "nothing was seen of the transaction")
			return access.Answer{}, false
		}
		if rec.AllFlags()&record.Collision != 0 {
			x.r.say(Fault, "two outputs drive a data line against each other (contention): nothing that is read on it counts; look for a part that is selected at the same time, or that does not let the line go")
			return access.Answer{}, false
		}
		more, with := x.op.Part.Seen(rec)
		if !with {
			x.r.say(Fault, "the transaction that was seen is with another part")
			return access.Answer{}, false
		}
		spans = append(spans, more...)
	}
	x.answers = x.op.Part.Drives(spans)
	a := s.Plan.Answer(operation.In(spans))
	if n := len(s.Plan.Misfits(spans)); n > 0 {
		x.r.say(Fault, "the check of what came does not fit, at %s: no value is taken from it; read it again", quantity.Count(n, "place"))
		return a, false
	}
	x.along(s.Plan.Pattern.HeldIn, a)
	for _, it := range a.Unlike {
		x.r.say(Fault, "bits %d to %d should come back as the constant %0*b, and do not", it.At, it.At+it.Bits-1, it.Bits, it.Fixed)
	}
	return a, true
}

// along says what is to be known of the contents of registers that came with an answer
// that is about another, each once.
func (x *run) along(names []string, a access.Answer) {
	about := x.op.About()
	for _, name := range names {
		reg := x.op.Part.Map.Named(name)
		if _, known := a.Held[name]; !known || reg == nil || slices.Contains(about, reg) {
			continue
		}
		for _, v := range x.op.Part.Map.Values {
			if rs := v.Registers(); v.From != nil || len(rs) != 1 || rs[0] != reg {
				continue
			}
			why := v.Warns[v.Of(func(*device.Register) uint64 { return a.Held[name] })]
			if text := fmt.Sprintf("%s came along: %s", v.Name, why); why != "" && !slices.Contains(x.r.Says, text) {
				x.r.say(Warn, "%s", text)
			}
		}
	}
}

// refusedAt says what the byte means that a part did not acknowledge.
func (x *run) refusedAt(s operation.Step, rec *record.Record) {
	if rec == nil {
		return
	}
	spans, with := x.op.Part.Seen(rec)
	if !with || len(spans) == 0 || len(spans) > len(s.Plan.Spans) || spans[len(spans)-1].Reads {
		return
	}
	at := len(spans[len(spans)-1].Out) - 1
	for _, it := range s.Plan.Spans[len(spans)-1].Items {
		if it.Line != access.Out || at < it.At || at >= it.At+it.Bits {
			continue
		}
		switch it.What {
		case access.Number:
			x.r.say(Fault, "%s refuses the register number 0x%02X: it has no such register", x.op.Part.Name, s.Plan.Number)
		case access.Value, access.Held:
			x.r.say(Fault, "%s refuses the content%s", x.op.Part.Name, x.barred(x.op.Part.Map.At(s.Plan.Number)))
		}
		return
	}
}

// barred says while what a register, or a part of it, can't be written; "" where the file knows of
// nothing.
func (x *run) barred(reg *device.Register) string {
	for _, v := range x.op.Part.Map.Values {
		if text := x.op.Part.Map.Barred[strings.ToLower(v.Name)]; text != "" && reg != nil && v.From == nil && slices.Contains(v.Registers(), reg) {
			return fmt.Sprintf(": by its file %s is not written while %s", v.Name, text)
		}
	}
	return ""
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
		if s.Selects {
			continue
		}
		if s.Registers[0].Turn > 0 {
			reg := s.Registers[0]
			if !a.Known[0] {
				x.r.say(Fault, "nobody drives the line while piece %d of %s should come back", s.Turn+1, reg.Name)
				return nil, false
			}
			out[reg] |= a.Values[0] << reg.Shift(s.Turn)
			continue
		}
		for i, reg := range s.Registers {
			v, known := a.Held[reg.Name]
			driven := a.HeldDriven(reg.Name)
			if s.Plan.Pattern.Reads && reg.Numbered {
				v, known, driven = a.Values[i], a.Known[i], a.Driven(i)
			}
			if !known {
				switch {
				case driven == 0 && x.answers:
					x.r.say(Fault, "%s answers, but nothing comes where %s should stand: what is sent does not reach it, one side has another order of bits or another word size, or it takes another operation for asked", x.op.Part.Name, reg.Name)
					return nil, false
				case driven == 0:
					x.r.say(Fault, "nobody drives the line while %s should come back: %s is absent, without supply, not selected, or its wires are open or exchanged", reg.Name, x.op.Part.Name)
					return nil, false
				case !x.partly:
					x.r.say(Fault, "nobody drives the line at bits %s of %s: one side samples at the wrong edge, or the part begins elsewhere than its file says", register.Bits(reg.Mask()&^driven), reg.Name)
					return nil, false
				}
				x.driven[reg] = driven
			}
			out[reg] = v
		}
	}
	return out, true
}

// page gives the page that a part is on.
func (x *run) page(p *operation.Part) uint64 {
	x.ledger.Update(x.Session.Store().Snapshot())
	if k := x.ledger.Part(x.Link.Index, p.Index); k != nil {
		return k.Page(p)
	}
	return device.NoPage
}

// content gives what a register held when it was last read or written.
func (x *run) content(r *device.Register) (uint64, bool) {
	x.ledger.Update(x.Session.Store().Snapshot())
	k := x.ledger.Part(x.Link.Index, x.op.Part.Index)
	if k == nil || k.Entries[r] == nil {
		return 0, false
	}
	return k.Entries[r].Content, true
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
			if _, known := x.content(r); !known && !about && !x.op.Force {
				x.r.say(Refused, "%s writes %s too, and what it holds is not known: write it first, or force its reset value %s", s.Plan.Pattern.Name, name, r.Hex(r.Reset))
				return false
			}
		}
	}
	return true
}

// read reads what was asked for, and decodes it.
func (x *run) read() {
	about := x.op.About()
	got, ok := x.contents(about)
	if !ok {
		return
	}
	if names := cleared(about, got); len(names) > 0 {
		verdict := OK
		if len(x.op.Registers) > 1 {
			verdict = Warn // they need not have been meant
		}
		x.r.say(verdict, "reading cleared %s", strings.Join(names, ", "))
	}
	asked := map[*device.Register]bool{}
	for _, v := range x.op.Values {
		if len(v.Registers()) == 1 {
			asked[v.Registers()[0]] = true
		}
	}
	for _, r := range x.op.Registers {
		asked[r] = true
	}
	x.tell(x.op.Values, about, got, asked)
}

// tell lists what the contents of registers mean: the values, then what else stands in
// the registers. What is to be known of a register that was asked for itself is no
// warning.
func (x *run) tell(values []*device.Value, about []*device.Register, got map[*device.Register]uint64, asked map[*device.Register]bool) {
	content := func(r *device.Register) uint64 { return got[r] }
	told := map[*device.Value]bool{}
	add := func(v *device.Value) {
		if told[v] {
			return
		}
		told[v] = true
		d := v.Decode(content)
		x.r.Values = append(x.r.Values, Named{v.Name, d})
		if d.Fault != "" {
			x.r.say(Warn, "%s: %s", v.Name, d.Fault)
		}
		if why := v.Warns[d.Raw]; why != "" && (v.From == nil || d.Code != "") {
			verdict := Warn
			if rs := v.Registers(); len(rs) == 1 && asked[rs[0]] {
				verdict = OK
			}
			x.r.say(verdict, "%s: %s", v.Name, why)
		}
	}
	used := map[*device.Register]uint64{}
	for _, v := range values {
		add(v)
		for _, r := range v.Registers() {
			_, mask := v.Into(r, 0, 0)
			if !v.Whole() {
				used[r] |= mask
			}
		}
	}
	for _, reg := range about {
		whole := x.op.Part.Map.Value(reg.Name)
		if len(values) == 0 {
			if whole != nil && x.op.Part.Map.Named(reg.Name) == reg {
				add(whole)
			} else {
				f := coding.Format{Bits: reg.Bits}
				x.r.Values = append(x.r.Values, Named{reg.Name, f.Decode(got[reg])})
			}
		}
		for i := range reg.Fields {
			if v := x.op.Part.Map.Value(reg.Name + "." + reg.Fields[i].Name); v != nil && reg.Fields[i].Mask()&used[reg] == 0 {
				add(v)
			}
		}
	}
}

// cleared gives the fields that were not 0 and that reading cleared.
func cleared(rs []*device.Register, got map[*device.Register]uint64) []string {
	var names []string
	for _, r := range rs {
		for i := range r.Fields {
			if f := &r.Fields[i]; f.Access == register.ReadClears && f.Of(got[r]) != 0 {
				names = append(names, r.Name+"."+f.Name)
			}
		}
		if len(r.Fields) == 0 && r.Access == register.ReadClears && got[r] != 0 {
			names = append(names, r.Name)
		}
	}
	return names
}

// raw does a transaction as it was written, and says what it is.
func (x *run) raw() {
	if operation.Characters(x.Link.Kind.Name) {
		x.rawCharacters()
		return
	}
	mark := x.Session.Store().Snapshot().Mark()
	rec, sent := x.transact(x.op.Text)
	if sent {
		x.rawFrame(mark)
	}
	if rec == nil {
		return
	}
	m, found := x.reads.Of(rec, x.page)
	if !found {
		return
	}
	verdict := OK
	if m.Stays || len(m.Silent) > 0 {
		verdict = Warn
	}
	if names := cleared(m.Registers(), m.Contents); len(names) > 0 && !m.Wrote {
		x.r.say(Warn, "reading cleared %s", strings.Join(names, ", "))
	}
	x.r.say(verdict, "%s", m.Sentence())
}

// free sends pulses until nobody holds the bus.
func (x *run) free() {
	if _, ok := x.transact(x.op.Text); ok {
		x.r.say(OK, "%s", x.r.Exchanges[0].Outcome)
	}
}

// prove compares the identity.
func (x *run) prove() {
	if x.op.Part.Map.Identity == nil {
		x.proveChain()
		return
	}
	id := x.op.Part.Map.Identity
	hex := func(v uint64) string { return fmt.Sprintf("0x%0*X", (id.Value.Bits+3)/4, v) }
	x.partly = true
	got, ok := x.contents(x.op.About())
	if !ok {
		return
	}
	content := func(r *device.Register) uint64 { return got[r] }
	raw, driven := id.Value.Of(content), id.Value.Of(func(r *device.Register) uint64 {
		if m, partly := x.driven[r]; partly {
			return m
		}
		return ^uint64(0)
	})
	x.r.Values = append(x.r.Values, Named{id.Value.Name, id.Value.Decode(content)})
	if raw == id.Expect && len(x.driven) == 0 {
		x.r.say(OK, "%s is what its file describes: %s holds %s", x.op.Part.Name, id.Value.Name, hex(raw))
		return
	}
	x.r.say(Fault, "%s holds %s where %s is expected: %s", id.Value.Name, hex(raw), hex(id.Expect), Unlike(raw, driven, id.Expect, id.Value.Bits, x.Link.Kind.Selects))
}

// Unlike says what may have made one identity of another, of a number of bits; driven are
// the bits at which somebody drove the line; selected says that the bus has selects, and
// so a mode.
func Unlike(got, driven, expect uint64, bits int, selected bool) string {
	all := ^uint64(0) >> (64 - bits)
	driven &= all
	reversed := uint64(0)
	for i := range bits {
		reversed |= expect >> i & 1 << (bits - 1 - i)
	}
	alike := func(a, mask uint64) bool { return (got^a)&driven&mask&all == 0 && driven&mask != 0 }
	open := ""
	if driven != all {
		open = fmt.Sprintf("; at bits %s nobody drove the line", register.Bits(all&^driven))
	}
	switch {
	case got&driven == driven && alike(all, all) && expect != all:
		return "all ones: nobody drives the line and it rests high, or it is stuck there" + open
	case got&driven == 0 && expect != 0:
		return "all zeros: the line is stuck low, the part is held in reset, or nobody drives it" + open
	case bits > 2 && (alike(expect<<1, all&^1) || alike(expect>>1, all>>1)):
		if !selected {
			return "it is shifted by one bit: an edge is lost or added on the line, as by a glitch" + open
		}
		return "it is shifted by one bit: one side samples at the wrong edge (mode), or an edge is lost or added" + open
	case alike(reversed, all):
		return "its bits come in the opposite order" + open
	case alike(^expect, all):
		return "all bits are inverted" + open
	case alike(expect, all):
		return "the bits that came are right" + open
	}
	return "another part, or one that is set up otherwise" + open
}

// command does an operation about no register, or a job.
func (x *run) command() {
	if x.op.Job != nil {
		x.job(x.op.Job)
		return
	}
	step, err := x.op.Part.CommandStep(x.op.Pattern)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	if n := step.Endures(); n > 0 {
		defer x.r.say(OK, "%s may be done %d times in all: it wears what keeps it", x.op.Pattern.Name, n)
	}
	switch _, ok := x.do(step); {
	case !ok:
	case x.op.Pattern.Message && x.op.Pattern.Answers():
		x.r.say(OK, "%s was sent, and %s answered that it is done", x.op.Pattern.Name, x.op.Part.Name)
	default:
		x.r.say(OK, "%s was sent; nothing comes back that proves it", x.op.Pattern.Name)
	}
}

// busy waits for the end of a job that somebody else started, and refuses to start one
// that does not end: what is waited for then would be the end of another one.
func (x *run) busy(j *device.Job) bool {
	if j.Busy == nil || x.op.Force {
		return false
	}
	regs := j.Busy.Registers()
	for _, r := range regs {
		if !x.op.Part.Readable(r) || r.Clears() {
			return false
		}
	}
	lasts, ok := x.lasting(j)
	if !ok {
		return true
	}
	for limit := x.Session.Now() + 2*lasts + 20*quantity.Millisecond; ; {
		got, ok := x.contents(regs)
		if !ok {
			return true
		}
		if j.Busy.Of(func(r *device.Register) uint64 { return got[r] }) == 0 {
			return false
		}
		if x.Session.Now() >= limit {
			x.r.say(Refused, "%s runs already, and does not end: %s stays set, and a start is not taken meanwhile; force sends it nevertheless", j.Name, j.Busy.Name)
			return true
		}
		if x.err = x.wait(x.Session.Now() + max(lasts/8, quantity.Microsecond)); x.err != nil {
			return true
		}
	}
}

// lasting gives how long a job takes at most, with the settings that the part has: they are read
// where that does no harm, and else taken as they are after power-up.
func (x *run) lasting(j *device.Job) (quantity.Time, bool) {
	regs := j.Registers()
	got := map[*device.Register]uint64{}
	if len(regs) > 0 && !slices.ContainsFunc(regs, func(r *device.Register) bool { return !x.op.Part.Readable(r) || r.Clears() }) {
		var ok bool
		if got, ok = x.contents(regs); !ok {
			return 0, false
		}
	}
	return j.LastingWith(func(r *device.Register) uint64 {
		if v, read := got[r]; read {
			return v
		}
		return r.Reset
	}), true
}

// job starts a job, waits until it is over, and reads what it gives.
func (x *run) job(j *device.Job) {
	if x.busy(j) {
		return
	}
	lasts, ok := x.lasting(j)
	if !ok || !x.write(j.Start, "1") {
		return
	}
	started := x.Session.Now()
	watched := j.Ready
	if j.Busy != nil {
		watched = append([]*device.Value{j.Busy}, watched...)
	}
	if len(watched) == 0 {
		if x.err = x.wait(started + lasts); x.err != nil {
			return
		}
	}
	var regs []*device.Register
	for _, v := range watched {
		for _, r := range v.Reads() {
			if !slices.Contains(regs, r) {
				regs = append(regs, r)
			}
		}
	}
	// A part that takes longer than its sheet says is not given up at once: others may
	// start it too, and a port may be slow.
	limit, asks := started+2*lasts+20*quantity.Millisecond, 0
	for len(watched) > 0 {
		got, ok := x.contents(regs)
		if !ok {
			return
		}
		asks++
		content := func(r *device.Register) uint64 { return got[r] }
		over := j.Busy == nil || j.Busy.Of(content) == 0
		for _, v := range j.Ready {
			over = over && v.Of(content) != 0
		}
		if over {
			x.tell(nil, regs, got, nil)
			break
		}
		if x.Session.Now() >= limit {
			x.r.say(Fault, "%s is not over after %s; it lasts %s at most", j.Name, (x.Session.Now() - started).Round(3), lasts.Round(3))
			return
		}
		if x.err = x.wait(x.Session.Now() + max(lasts/8, quantity.Microsecond)); x.err != nil {
			return
		}
	}
	x.r.say(OK, "%s is over after %s; it was asked for %s", j.Name, (x.Session.Now() - started).Round(3), quantity.Count(asks, "time"))
	if len(j.Gives) == 0 {
		return
	}
	var about []*device.Register
	for _, v := range j.Gives {
		for _, r := range v.Reads() {
			if !slices.Contains(about, r) {
				about = append(about, r)
			}
		}
	}
	if got, ok := x.contents(about); ok {
		x.tell(j.Gives, about, got, nil)
	}
}

func (x *run) wait(until quantity.Time) error {
	return x.Session.Wait(x.ctx, until, func(*capture.Snapshot) bool { return false })
}
