// Package registers is the view of the registers of the parts on a link: what they
// hold, what that means, since when, and what is to be written.
package registers

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// View implements ui.View.
type View struct {
	part  map[int]int    // the part that is shown, by link
	row   map[string]int // the row under the cursor, by link and part
	entry *ui.Entry      // what is to be written is typed
	about string         // to what

	staged  []staged
	results []*operate.Result // of operations, the newest last
	busy    bool
	bench   map[int]*operate.Bench
	of      any // the session that the benches are of

	controls bool              // the MCU's registers are shown
	typed    map[uint64]uint64 // values to hold against them, by address
	word     int               // the one under the cursor

	mark    map[*device.Register]uint64     // what registers held when it was set
	texts   map[*device.Text]string         // and texts
	bytes   map[*device.Map]map[uint64]byte // and memories
	watches []*watch
	waiting []waits
	top     int // first row of the list that is shown
	listAt  int // where the list was drawn, for the mouse
	listH   int
}

// row is a line of the list: a register, a field of one, a value of several, or a text.
type row struct {
	reg   *device.Register
	field *register.Field // nil of whole registers
	value *device.Value
	text  *device.Text
}

// staged is something that is to be written.
type staged struct {
	link int
	part *operation.Part
	text string // the operation
	op   *operation.Operation
}

// watch reads a value again and again.
type watch struct {
	link  int
	text  string
	op    *operation.Operation
	every quantity.Time
	next  quantity.Time
}

// New gives the view.
func New() *View {
	return &View{part: map[int]int{}, row: map[string]int{}, bench: map[int]*operate.Bench{}}
}

// Name implements ui.View.
func (v *View) Name() string { return "Registers" }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.entry != nil }

// Why implements ui.View.
func (v *View) Why(ui.Host) []finding.Derivation { return nil }

// parts are those of the selected link that have registers.
func parts(h ui.Host) []*operation.Part {
	l := h.Link()
	if l == nil {
		return nil
	}
	var out []*operation.Part
	for _, p := range l.Parts() {
		if p.Map != nil {
			out = append(out, p)
		}
	}
	return out
}

// slot is what can be shown of a part: its registers, or the bytes of its memory.
type slot struct {
	part   *operation.Part
	memory bool
}

// slots lists what can be shown of the parts of the selected link.
func slots(h ui.Host) []slot {
	var out []slot
	for _, p := range parts(h) {
		if len(p.Map.Registers)+len(p.Map.Texts) > 0 || p.Map.Memory == nil {
			out = append(out, slot{p, false})
		}
		if p.Map.Memory != nil {
			out = append(out, slot{p, true})
		}
	}
	return out
}

// shown gives the part that is shown; nil where there is none.
func (v *View) shown(h ui.Host) *operation.Part {
	all := slots(h)
	if len(all) == 0 {
		return nil
	}
	return all[v.part[int(h.LinkIndex())]%len(all)].part
}

// rowsOf lists values with names of their own, registers with their fields, and texts.
func rowsOf(m *device.Map) []row {
	var out []row
	for _, v := range m.Values {
		if v.Own {
			out = append(out, row{value: v})
		}
	}
	for _, r := range byPage(m.Registers) {
		out = append(out, row{reg: r, value: m.Value(r.Name)})
		for _, p := range r.Apart(0) {
			out = append(out, row{reg: r, field: p.Field, value: m.Value(r.Name + "." + p.Name)})
		}
	}
	for _, t := range m.Texts {
		out = append(out, row{text: t})
	}
	return out
}

// byPage gives registers page by page, those that are on all pages first.
func byPage(all []*device.Register) []*device.Register {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b *device.Register) int {
		switch {
		case a.Paged != b.Paged && b.Paged:
			return -1
		case a.Paged != b.Paged:
			return 1
		}
		return cmp.Compare(a.Page, b.Page)
	})
	return all
}

func (v *View) key(h ui.Host, p *operation.Part) string {
	return fmt.Sprintf("%s\x00%s\x00%t", h.Link().Name, p.Name, v.onMemory(h))
}

// current gives the row under the cursor.
func (v *View) current(h ui.Host) (*operation.Part, row, bool) {
	p := v.shown(h)
	if p == nil {
		return nil, row{}, false
	}
	rows := rowsOf(p.Map)
	if len(rows) == 0 {
		return p, row{}, false
	}
	return p, rows[min(max(v.row[v.key(h, p)], 0), len(rows)-1)], true
}

// known gives what the traffic tells of the part.
func known(h ui.Host, p *operation.Part) *ledger.Part {
	return h.Ledger().Part(h.LinkIndex(), p.Index)
}

// content gives what is known of a register.
func content(k *ledger.Part, r *device.Register) (*ledger.Entry, bool) {
	if k == nil {
		return nil, false
	}
	e, has := k.Entries[r]
	return e, has
}

// ShowControls implements ui.Controller.
func (v *View) ShowControls(ui.Host) { v.controls = true }

// onMCU says whether the MCU's registers are shown: they stand behind the last part, and
// alone where no part has any.
func (v *View) onMCU(h ui.Host) bool {
	return h.Link() != nil && (v.controls || len(parts(h)) == 0)
}

// turn goes to another part, or to the MCU.
func (v *View) turn(h ui.Host, by int) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		n, i := len(slots(h)), int(h.LinkIndex())
		at := v.part[i] % max(n, 1)
		if v.onMCU(h) {
			at = n
		}
		at = (at + by + n + 1) % (n + 1)
		v.controls = at == n
		if at < n {
			v.part[i] = at
		}
		v.top = 0
		return nil
	}
}

// Scene implements ui.Pictured: the MCU's registers.
func (v *View) Scene(h ui.Host) *scene.Scene {
	if !v.onMCU(h) {
		return nil
	}
	words, err := h.Bench().Words()
	if err != nil {
		return nil
	}
	return picture.Registers(h.Bench().MCU.Name+": control registers", words)
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	turns := []ui.Command{
		{Name: "next-part", Keys: []string{"n", "right"}, Help: "the next part of the link; after the last the MCU", Short: "part", Run: v.turn(h, 1)},
		{Name: "previous-part", Keys: []string{"N", "left"}, Help: "the part before", Run: v.turn(h, -1)},
	}
	if v.onMCU(h) {
		return append(turns, v.wordCommands(h)...)
	}
	p := v.shown(h)
	if p == nil {
		return nil
	}
	move := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			k := v.key(h, p)
			v.row[k] = min(max(v.row[k]+by, 0), max(v.rowCount(h, p)-1, 0))
			return nil
		}
	}
	out := []ui.Command{
		{Name: "row-above", Keys: []string{"up", "k"}, Help: "the register above", Run: move(-1)},
		{Name: "row-below", Keys: []string{"down", "j"}, Help: "the register below", Run: move(1)},
	}
	const all = 1 << 30
	out = append(out,
		ui.Command{Name: "first-row", Keys: []string{"home"}, Help: "the first row", Run: move(-all)},
		ui.Command{Name: "last-row", Keys: []string{"end"}, Help: "the last row", Run: move(all)})
	if !v.onMemory(h) {
		out = append(out,
			ui.Command{Name: "page-above", Keys: []string{"pgup"}, Help: "a screen of rows above", Run: move(-max(v.listH, 1))},
			ui.Command{Name: "page-below", Keys: []string{"pgdown"}, Help: "a screen of rows below", Run: move(max(v.listH, 1))},
			v.goTo(h, p))
	}
	out = append(out, turns...)
	if h.Session() == nil {
		return append(out, v.markCommand(h, p))
	}
	more := v.registerCommands(h, p)
	if v.onMemory(h) {
		more = v.memoryCommands(h, p)
	}
	return append(append(out, more...),
		ui.Command{Name: "send-staged", Keys: []string{"x"}, Help: "write what is staged, and read it back", Short: "send", Run: func(string) tea.Cmd { return v.sendStaged(h) }},
		ui.Command{Name: "unstage", Keys: []string{"X", "backspace"}, Help: "take back what was staged last", Run: func(string) tea.Cmd {
			if n := len(v.staged); n > 0 {
				h.Say("no longer to be written: %s", v.staged[n-1].text)
				v.staged = v.staged[:n-1]
			} else {
				h.Say("nothing is staged")
			}
			return nil
		}},
		ui.Command{Name: "scan", Args: "[reading]", Help: "ask every address of the bus who is there", Run: func(arg string) tea.Cmd { return v.start(h, strings.TrimSpace("scan "+arg)) }},
		ui.Command{Name: "do", Args: "OPERATION", Help: "any operation: leaf-tilt.measure, scan, raw", Run: v.operation(h), Complete: func(arg string) []string { return operations(h, arg) }})
}

// goTo puts the cursor on what has a name, or a number.
func (v *View) goTo(h ui.Host, p *operation.Part) ui.Command {
	called := func(r row) string {
		switch {
		case r.text != nil:
			return r.text.Name
		case r.field != nil:
			return r.reg.Name + "." + r.field.Name
		case r.reg != nil:
			return r.reg.Name
		}
		return r.value.Name
	}
	return ui.Command{Name: "go-to", Args: "NAME", Help: "the row with a name, a part of one, or a number", Complete: func(string) []string {
		var out []string
		for _, r := range rowsOf(p.Map) {
			out = append(out, called(r))
		}
		return out
	}, Run: func(arg string) tea.Cmd {
		number, err := strconv.ParseUint(arg, 0, 64)
		near := -1
		for i, r := range rowsOf(p.Map) {
			name := called(r)
			exact := strings.EqualFold(name, arg) || err == nil && r.reg != nil && r.field == nil && r.reg.Numbered && r.reg.Address == number
			if exact {
				v.row[v.key(h, p)] = i
				return nil
			}
			if near < 0 && arg != "" && strings.Contains(strings.ToLower(name), strings.ToLower(arg)) {
				near = i
			}
		}
		if near < 0 {
			h.Warn("%s has no row %q; Tab lists them", p.Name, arg)
			return nil
		}
		v.row[v.key(h, p)] = near
		return nil
	}}
}

// operations lists what may be done with the parts of the link, for what is typed so far.
func operations(h ui.Host, arg string) []string {
	verb, _, has := strings.Cut(arg, " ")
	if !has {
		return []string{"read ", "write ", "prove ", "raw ", "scan", "scan reading", "free", "fill ", "compare ", "load ", "save "}
	}
	var out []string
	for _, p := range parts(h) {
		if p.Map == nil {
			continue
		}
		if verb == "prove" {
			out = append(out, "prove "+p.Name)
			continue
		}
		for _, n := range p.Map.Names() {
			out = append(out, verb+" "+p.Name+"."+n)
		}
	}
	return out
}

// registerCommands read and write what is under the cursor.
func (v *View) registerCommands(h ui.Host, p *operation.Part) []ui.Command {
	return []ui.Command{
		{Name: "read", Args: "[VALUE…]", Keys: []string{"r"}, Help: "read what is under the cursor, or these", Short: "read", Run: v.read(h, p)},
		{Name: "read-all", Keys: []string{"R"}, Help: "read all that reading leaves as it is", Short: "all", Run: v.readAll(h, p)},
		{Name: "prove", Keys: []string{"p"}, Help: "read the identity and compare it", Short: "prove", Run: func(string) tea.Cmd { return v.start(h, "prove "+p.Name) }},
		{Name: "write", Args: "[VALUE TO]", Keys: []string{"e", "enter"}, Help: "type what to write; x sends it", Short: "write", Run: v.write(h, p)},
		v.markCommand(h, p),
		{Name: "watch", Args: "[TIME]", Help: "read it every TIME too; alone: no more", Run: v.watching(h, p)},
	}
}

// markCommand keeps what registers hold, to be compared with.
func (v *View) markCommand(h ui.Host, p *operation.Part) ui.Command {
	return ui.Command{Name: "mark-contents", Keys: []string{"m"}, Help: "remember all: what differs later is marked", Short: "mark", Run: func(string) tea.Cmd {
		k := known(h, p)
		v.mark, v.texts, v.bytes = map[*device.Register]uint64{}, map[*device.Text]string{}, map[*device.Map]map[uint64]byte{}
		if k == nil || len(k.Entries)+len(k.Texts)+len(k.Cells) == 0 {
			h.Say("nothing is known of %s yet: nothing is remembered", p.Name)
			return nil
		}
		for r, e := range k.Entries {
			v.mark[r] = e.Content
		}
		for t, e := range k.Texts {
			v.texts[t] = e.Chars
		}
		bytes := map[uint64]byte{}
		for at, c := range k.Cells {
			bytes[at] = c.Byte
		}
		v.bytes[p.Map] = bytes
		h.Say("%s of %s are remembered; what differs later is marked", counted(len(v.mark), len(v.texts), len(bytes)), p.Name)
		return nil
	}}
}

// counted says how many of each there are.
func counted(registers, texts, bytes int) string {
	var out []string
	for _, x := range []struct {
		n    int
		what string
	}{{registers, "register"}, {texts, "text"}, {bytes, "byte"}} {
		if x.n > 0 {
			out = append(out, quantity.Count(x.n, x.what))
		}
	}
	return strings.Join(out, ", ")
}

// name is how an operation names what is under the cursor.
func name(p *operation.Part, r row) string {
	if r.text != nil {
		return p.Name + "." + r.text.Name
	}
	return p.Name + "." + r.value.Name
}

// of puts the name of the part that is shown in front of what names none.
func of(h ui.Host, p *operation.Part, arg string) string {
	for _, o := range parts(h) {
		if rest, has := strings.CutPrefix(arg, o.Name); has && (rest == "" || rest[0] == '.' || rest[0] == ' ') {
			return arg
		}
	}
	return p.Name + "." + arg
}

func (v *View) read(h ui.Host, p *operation.Part) func(string) tea.Cmd {
	return func(arg string) tea.Cmd {
		if arg != "" {
			return v.start(h, "read "+of(h, p, arg))
		}
		if _, r, ok := v.current(h); ok {
			return v.start(h, "read "+name(p, r))
		}
		return nil
	}
}

// readAll reads what reading does not change, and what takes nothing else along.
func (v *View) readAll(h ui.Host, p *operation.Part) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		texts, left := p.Quietly()
		if len(texts) == 0 {
			h.Warn("nothing of %s can be read without changing something", p.Name)
			return nil
		}
		if len(left) > 0 {
			h.Say("left out, because reading changes something: %s", strings.Join(left, ", "))
		}
		var ops []staged
		for _, text := range texts {
			op, err := operation.Parse(text, parts(h))
			if err != nil {
				h.Warn("%v", err)
				return nil
			}
			ops = append(ops, staged{int(h.LinkIndex()), p, text, op})
		}
		return v.run(h, ops)
	}
}

func (v *View) operation(h ui.Host) func(string) tea.Cmd {
	return func(arg string) tea.Cmd {
		if arg == "" {
			h.Warn("write an operation: do read leaf-angle.angle")
			return nil
		}
		// A word that is no verb is the name of a part, and what to do with it.
		if _, err := operation.Parse(arg, parts(h)); err != nil {
			if _, again := operation.Parse("do "+arg, parts(h)); again == nil {
				arg = "do " + arg
			}
		}
		return v.start(h, arg)
	}
}

// write opens the line for what is under the cursor, or stages what is given.
func (v *View) write(h ui.Host, p *operation.Part) func(string) tea.Cmd {
	return func(arg string) tea.Cmd {
		if arg != "" {
			v.stage(h, "write "+of(h, p, arg))
			return nil
		}
		_, r, ok := v.current(h)
		if !ok {
			return nil
		}
		if r.text == nil && r.value.From != nil {
			h.Warn("%s is calculated from others: write those", r.value.Name)
			return nil
		}
		e := ui.NewEntry()
		v.entry, v.about = &e, name(p, r)
		return nil
	}
}

// stage takes an operation that is to be sent later.
func (v *View) stage(h ui.Host, text string) bool {
	op, err := operation.Parse(text, parts(h))
	if err != nil {
		h.Warn("%v", err)
		return false
	}
	if writesValue(op) {
		if _, err := op.Values[0].Encode(op.Text); err != nil {
			h.Warn("%s: %v", op.Values[0].Name, err)
			return false
		}
	}
	v.staged = append(v.staged, staged{int(h.LinkIndex()), op.Part, text, op})
	h.Say("staged: x sends it, X takes it back")
	return true
}

// writesValue says whether an operation writes bits of registers.
func writesValue(op *operation.Operation) bool {
	return op.Verb == operation.Write && len(op.Values) > 0
}

// Type implements ui.View.
func (v *View) Type(k tea.KeyPressMsg, h ui.Host) tea.Cmd {
	switch k.String() {
	case "esc":
		v.entry = nil
	case "enter":
		if v.stage(h, "write "+v.about+" "+v.entry.Text()) {
			v.entry = nil
		}
	default:
		v.entry.Key(k)
	}
	return nil
}

// Paste implements ui.Paster.
func (v *View) Paste(text string, h ui.Host) {
	if v.entry == nil && v.onMCU(h) {
		ui.PasteDump(h, text)
		return
	}
	if v.entry != nil {
		v.entry.Set(v.entry.Text() + strings.Join(strings.Fields(text), " "))
	}
}

// on gives what does operations on the selected link.
func (v *View) on(h ui.Host) *operate.Bench {
	if v.of != any(h.Session()) {
		v.of, v.bench = h.Session(), map[int]*operate.Bench{}
	}
	i := int(h.LinkIndex())
	if v.bench[i] == nil || v.bench[i].Link != h.Link() {
		v.bench[i] = operate.On(h.Session(), h.Bench(), h.Link())
	}
	return v.bench[i]
}

// start does an operation in the background.
func (v *View) start(h ui.Host, text string) tea.Cmd {
	op, err := operation.Parse(text, parts(h))
	if err != nil {
		h.Warn("%v", err)
		return nil
	}
	return v.run(h, []staged{{int(h.LinkIndex()), op.Part, text, op}})
}

// sendStaged does what is staged for the selected link.
func (v *View) sendStaged(h ui.Host) tea.Cmd {
	var now, later []staged
	for _, s := range v.staged {
		if s.link == int(h.LinkIndex()) {
			now = append(now, s)
		} else {
			later = append(later, s)
		}
	}
	if len(now) == 0 {
		h.Say("nothing is staged on this link: e types what is to be written")
		return nil
	}
	cmd := v.run(h, now)
	if cmd != nil {
		v.staged = later
	}
	return cmd
}

// mostResults is how many results are kept.
const mostResults = 40

// mostWaiting is how much is queued behind an operation that is on its way.
const mostWaiting = 20

// waits are operations that wait for one that is on its way.
type waits struct {
	on  *operate.Bench
	ops []staged
}

// run does operations one after the other, behind those that are on their way. Nil where
// they can't begin now.
func (v *View) run(h ui.Host, ops []staged) tea.Cmd {
	w := waits{v.on(h), ops}
	switch {
	case !v.busy:
		return v.begin(h, w)
	case len(v.waiting) >= mostWaiting:
		h.Warn("%s wait already; Esc stops the one on its way, and drops them", quantity.Count(len(v.waiting), "operation"))
	default:
		v.waiting = append(v.waiting, w)
		h.Say("queued after what is on its way; Esc stops that, and drops the rest")
	}
	return nil
}

func (v *View) begin(h ui.Host, w waits) tea.Cmd {
	on, ops := w.on, w.ops
	cmd := h.Work(func(ctx context.Context) ui.Done {
		var rs []*operate.Result
		var failed error
		for _, s := range ops {
			r, err := on.Do(ctx, s.text, s.op)
			if err != nil {
				failed = err
				break
			}
			rs = append(rs, r)
			if r.Verdict == operate.Fault || r.Verdict == operate.Refused {
				break
			}
		}
		return func(h ui.Host) tea.Cmd {
			v.busy = false
			v.results = append(v.results, rs...)
			v.results = v.results[max(len(v.results)-mostResults, 0):]
			if failed != nil {
				h.Warn("%v", failed)
			} else if n := len(ops) - len(rs); n > 0 {
				h.Warn("%d more were not done, because one failed", n)
			}
			if failed != nil {
				v.waiting = nil
			}
			if len(v.waiting) == 0 {
				return nil
			}
			next := v.waiting[0]
			v.waiting = v.waiting[1:]
			return v.begin(h, next)
		}
	})
	v.busy = cmd != nil
	return cmd
}

// watching reads what is under the cursor again and again.
func (v *View) watching(h ui.Host, p *operation.Part) func(string) tea.Cmd {
	return func(arg string) tea.Cmd {
		if arg == "" {
			v.unwatch(h, p)
			return nil
		}
		every, err := quantity.ParseTime(arg)
		if err != nil || every < 10*quantity.Millisecond {
			h.Warn("write a time of at least 10 ms, as 200 ms")
			return nil
		}
		_, r, ok := v.current(h)
		if !ok {
			return nil
		}
		if r.text != nil {
			r.value = &device.Value{} // it stands in no register
		}
		for _, reg := range r.value.Reads() {
			if reg.Clears() {
				h.Warn("reading %s clears flags in it: read it by hand", reg.Name)
				return nil
			}
		}
		text := "read " + name(p, r)
		op, err := operation.Parse(text, parts(h))
		if err != nil {
			h.Warn("%v", err)
			return nil
		}
		w := &watch{int(h.LinkIndex()), text, op, every, h.Now()}
		if old := v.watched(h, p, r); old != nil {
			*old = *w
		} else {
			v.watches = append(v.watches, w)
		}
		h.Say("%s is read every %s; :watch alone on it ends that", name(p, r), every)
		return nil
	}
}

// Tick implements ui.Ticker: what is watched is read when its time has come.
func (v *View) Tick(h ui.Host) tea.Cmd {
	if v.busy || h.Session() == nil {
		return nil
	}
	var due []staged
	for _, w := range v.watches {
		if w.link == int(h.LinkIndex()) && h.Now() >= w.next {
			w.next = h.Now() + w.every
			due = append(due, staged{w.link, w.op.Part, w.text, w.op})
		}
	}
	if len(due) == 0 {
		return nil
	}
	return v.run(h, due)
}

// watched gives the watch over what stands in a row; nil where there is none.
func (v *View) watched(h ui.Host, p *operation.Part, r row) *watch {
	for _, w := range v.watches {
		if w.link == int(h.LinkIndex()) && w.text == "read "+name(p, r) {
			return w
		}
	}
	return nil
}

// unwatch ends the watch over what is under the cursor; where nothing is watched there, all
// of them.
func (v *View) unwatch(h ui.Host, p *operation.Part) {
	if _, r, ok := v.current(h); ok {
		if w := v.watched(h, p, r); w != nil {
			v.watches = slices.DeleteFunc(v.watches, func(x *watch) bool { return x == w })
			h.Say("%s is not watched any more", name(p, r))
			return
		}
	}
	v.watches = nil
	h.Say("nothing is watched")
}

// Click implements ui.View.
func (v *View) Click(_, y int, h ui.Host) {
	if p := v.shown(h); p != nil && y >= v.listAt && y < v.listAt+v.listH {
		v.row[v.key(h, p)] = min(v.top+y-v.listAt, v.rowCount(h, p)-1)
	}
}

// Wheel implements ui.View.
func (v *View) Wheel(down bool, h ui.Host) {
	if p := v.shown(h); p != nil {
		by := -3
		if down {
			by = 3
		}
		v.row[v.key(h, p)] = min(max(v.row[v.key(h, p)]+by, 0), max(v.rowCount(h, p)-1, 0))
	}
}

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	x := a.Text(0, 0, cells.Head, "REGISTERS")
	l := h.Link()
	if l == nil {
		a.Paragraph(1, 2, cells.Plain, "A capture without a bench says nothing of registers: open it with --bench FILE.", 0)
		return
	}
	if v.onMCU(h) {
		v.drawWords(a, h, l)
		return
	}
	x = a.Text(x+2, 0, cells.Strong, l.Name)
	ps := parts(h)
	p := v.shown(h)
	x = a.Text(x+2, 0, cells.Strong, p.Name)
	if len(ps) > 1 {
		at := 1
		for i := range ps {
			if ps[i].Name == p.Name {
				at = i + 1
			}
		}
		x = a.Text(x+2, 0, cells.Quiet, fmt.Sprintf("part %d of %d", at, len(ps)))
	}
	if v.onMemory(h) && len(p.Map.Registers) > 0 {
		a.Text(x+2, 0, cells.Quiet, "memory")
	}
	k := known(h, p)
	pres := k.Presence()
	style := map[ledger.Presence]cells.Style{ledger.NotAsked: cells.Quiet, ledger.Silent: cells.Doubt, ledger.Answered: cells.Info, ledger.Proved: cells.Good, ledger.Other: cells.Bad, ledger.Mute: cells.Quiet}[pres]
	a.Right(a.W, 0, style, pres.String())
	about := p.About
	if p.Source != "" {
		about = strings.TrimPrefix(about+"   "+p.Source, "   ")
	}
	a.Text(1, 1, cells.Quiet, about)
	if v.onMemory(h) && k != nil {
		v.drawMemory(a.Part(0, 3, a.W, a.H-3), h, p, k)
		return
	}
	v.drawPart(a.Part(0, 3, a.W, a.H-3), h, p, k)
}
