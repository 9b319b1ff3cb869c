// Package transfers is the view of how words get into memory and out of it: each
// transfer's plan as a sentence that can be changed, what its run on the traffic shows, the
// methods beside each other, and who owns which channel.
package transfers

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/follow"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/transfer"
	"gavrix.org/gavrix/tui/ui"
)

// page is what the view shows.
type page int

const (
	planPage page = iota
	slotsPage
	methodsPage
	ownersPage
)

// mostTaken is how many records are followed in one go.
const mostTaken = 20_000

// View is the view of transfers.
type View struct {
	at    map[string]int // the transfer that is shown, by link
	slot  int            // place in the sentence, or in the list of slots
	page  page
	top   int
	entry *ui.Entry // the value that is being typed
	key   string    // its slot

	from, span quantity.Time
	fixed      bool          // the picture stays where it is
	moment     quantity.Time // that is selected while it does
	columns    int
	buffered   bool // the buffer is shown in place of the picture

	// What is followed, in the background.
	setup    *transfer.Setup
	follower *follow.Follower
	working  bool
	more     bool
	asked    request
	shown    *shown
	methods  *compared
}

// request is what a picture is made of.
type request struct {
	setup   *transfer.Setup
	link    uint16
	name    string
	now     quantity.Time
	from    quantity.Time
	span    quantity.Time
	columns int
	moment  quantity.Time // that is selected; -1: none
}

// compared are the methods beside each other.
type compared struct {
	setup *transfer.Setup
	link  uint16
	name  string
	at    quantity.Time
	rows  []follow.Row
	busy  bool
}

// New gives a view that follows the latest words.
func New() *View {
	return &View{at: map[string]int{}, columns: 80}
}

// Name implements ui.View.
func (v *View) Name() string { return "Transfers" }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.entry != nil }

// Why implements ui.View: how the greatest rate of the plan came about, and its cost.
func (v *View) Why(h ui.Host) []finding.Derivation {
	l, t := v.current(h)
	if t == nil {
		return nil
	}
	part := &l.Setup().Part
	return append(t.Plan.Cost(part).Why, t.Plan.Limit(part).Why...)
}

// current gives the transfer that is shown; nil where the link has none.
func (v *View) current(h ui.Host) (*bench.Link, *bench.Transfer) {
	l := h.Link()
	if l == nil || len(l.Transfers) == 0 {
		return l, nil
	}
	i := v.at[l.Name] % len(l.Transfers)
	return l, l.Transfers[(i+len(l.Transfers))%len(l.Transfers)]
}

// slots gives the keys of the slots that the page shows, in order.
func (v *View) slots(t *bench.Transfer) []string {
	var out []string
	if v.page == slotsPage {
		for i := range transfer.Slots {
			if s := &transfer.Slots[i]; s.For(t.Plan) {
				out = append(out, s.Key)
			}
		}
		return out
	}
	for _, p := range t.Plan.Phrases() {
		if p.Slot != "" && !slices.Contains(out, p.Slot) {
			out = append(out, p.Slot)
		}
	}
	return out
}

// selected gives the slot under the cursor.
func (v *View) selected(t *bench.Transfer) string {
	keys := v.slots(t)
	return keys[min(max(v.slot, 0), len(keys)-1)]
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	l, t := v.current(h)
	if l == nil {
		return nil
	}
	add := ui.Command{Name: "add", Args: "NAME WAY", Help: "a new transfer, that is receive or send", Complete: func(arg string) []string {
		name, _, has := strings.Cut(arg, " ")
		if !has {
			return nil
		}
		return []string{name + " receive", name + " send"}
	}, Run: func(arg string) tea.Cmd { return v.add(h, l, arg) }}
	owners := ui.Command{Name: "owners", Keys: []string{"o"}, Help: "who has which channel, request line and level; o again goes back", Short: "owners", Run: v.turn(ownersPage)}
	move := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			if v.page == ownersPage {
				v.top += by
				return nil
			}
			if t == nil {
				return nil
			}
			v.slot = min(max(v.slot+by, 0), len(v.slots(t))-1)
			return nil
		}
	}
	pan := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd { v.pan(h, by); return nil }
	}
	zoom := func(times, over quantity.Time) func(string) tea.Cmd {
		return func(string) tea.Cmd { v.zoom(times, over); return nil }
	}
	turns := func(by int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			n := len(l.Transfers)
			v.at[l.Name] = ((v.at[l.Name]+by)%n + n) % n
			v.slot, v.top, v.methods, v.span, v.fixed = 0, 0, nil, 0, false
			return nil
		}
	}
	up := ui.Command{Name: "slot-before", Keys: []string{"up", "k"}, Help: "the slot before", Run: move(-1)}
	down := ui.Command{Name: "slot-behind", Keys: []string{"down", "j"}, Help: "the next slot", Short: "slot", Run: move(1)}
	if t == nil {
		return []ui.Command{up, down, add, owners}
	}
	return v.onPage(h, []ui.Command{
		up, down,
		{Name: "change", Keys: []string{"enter"}, Help: "the next choice for the slot under the cursor, or type its value", Short: "change", Run: func(string) tea.Cmd { return v.change(h, l, t) }},
		{Name: "type", Keys: []string{"e"}, Help: "type a value for the slot under the cursor", Run: func(string) tea.Cmd { v.open(t); return nil }},
		{Name: "derive-slot", Keys: []string{"d"}, Help: "take the given value away: the slot is derived again", Short: "derive", Run: func(string) tea.Cmd { return v.derive(h, l, t) }},
		{Name: "slot", Args: "KEY VALUE", Help: "put a value into a slot, as :slot channel 5", Complete: slotOffers, Run: func(arg string) tea.Cmd { return v.put(h, l, t, arg) }},
		{Name: "next-transfer", Keys: []string{"n"}, Help: "the next transfer of the link", Short: "next", Run: turns(1)},
		{Name: "previous-transfer", Keys: []string{"N"}, Help: "the transfer before", Run: turns(-1)},
		{Name: "picture-earlier", Keys: []string{"left", "h"}, Help: "the picture earlier", Run: pan(-1)},
		{Name: "picture-later", Keys: []string{"right", "l"}, Help: "the picture later", Run: pan(1)},
		{Name: "less-time", Keys: []string{"+", "="}, Help: "less time across, more detail", Short: "zoom", Run: zoom(1, 2)},
		{Name: "more-time", Keys: []string{"-"}, Help: "more time across", Run: zoom(2, 1)},
		{Name: "newest-words", Keys: []string{"end", "G"}, Help: "the picture follows the newest words", Run: func(string) tea.Cmd { v.fixed = false; return nil }},
		{Name: "loss", Keys: []string{"r"}, Help: "the picture goes to the newest word that was lost", Run: func(string) tea.Cmd { v.toLoss(h); return nil }},
		{Name: "buffer", Keys: []string{"b"}, Help: "the buffer and what was taken, in place of the picture", Run: func(string) tea.Cmd { v.buffered = !v.buffered; return nil }},
		{Name: "slots", Keys: []string{"s"}, Help: "every slot with its reason; s again goes back", Short: "slots", Run: v.turn(slotsPage)},
		{Name: "methods", Keys: []string{"m"}, Help: "polled, interrupt and DMA on the same traffic; m again goes back", Short: "methods", Run: v.turn(methodsPage)},
		owners, add,
	})
}

// onPage lets the keys that change nothing on the page say so.
func (v *View) onPage(h ui.Host, all []ui.Command) []ui.Command {
	slots, picture := v.page == methodsPage || v.page == ownersPage, v.page != planPage
	for i := range all {
		c := &all[i]
		what := ""
		switch c.Name {
		case "slot-before", "slot-behind":
			if v.page == methodsPage {
				what = "this page has no slots"
			}
		case "change", "type", "derive-slot":
			if slots {
				what = "this page has no slots"
			}
		case "picture-earlier", "picture-later", "less-time", "more-time", "newest-words", "loss", "buffer":
			if picture {
				what = "this page has no picture"
			}
		}
		if what != "" {
			back := map[page]string{slotsPage: "s", methodsPage: "m", ownersPage: "o"}[v.page]
			c.Short, c.Run = "", func(string) tea.Cmd {
				h.Say("%s; %s goes back to the plan", what, back)
				return nil
			}
		}
	}
	return all
}

func (v *View) turn(p page) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		if v.page == p {
			p = planPage
		}
		v.page, v.slot, v.top = p, 0, 0
		return nil
	}
}

func slotOffers(arg string) []string {
	key, _, has := strings.Cut(arg, " ")
	var out []string
	if has {
		if s := transfer.SlotNamed(key); s != nil {
			for _, w := range s.Type.Words() {
				out = append(out, key+" "+w)
			}
		}
		return out
	}
	for i := range transfer.Slots {
		out = append(out, transfer.Slots[i].Key+" ")
	}
	return out
}

// add puts a new transfer into the bench.
func (v *View) add(h ui.Host, l *bench.Link, arg string) tea.Cmd {
	w := strings.Fields(arg)
	if len(w) < 2 || w[len(w)-1] != "receive" && w[len(w)-1] != "send" {
		h.Warn("write a name and receive or send, as add readings receive")
		return nil
	}
	name := strings.Join(w[:len(w)-1], " ")
	if l.Transfer(name) != nil {
		h.Warn("%s has a transfer %s already", l.Name, name)
		return nil
	}
	h.Edit(l.EditTransfer(name, "direction", w[len(w)-1]))
	v.at[l.Name] = len(l.Transfers)
	return nil
}

// change gives the slot its next word, or opens it for typing.
func (v *View) change(h ui.Host, l *bench.Link, t *bench.Transfer) tea.Cmd {
	key := v.selected(t)
	s := transfer.SlotNamed(key)
	words := s.Type.Words()
	if len(words) == 0 {
		v.open(t)
		return nil
	}
	next := words[(slices.Index(words, s.Get(t.Plan))+1)%len(words)]
	h.Edit(l.EditTransfer(t.Name, key, next))
	return nil
}

func (v *View) open(t *bench.Transfer) {
	e := ui.NewEntry()
	v.key = v.selected(t)
	e.Set(transfer.SlotNamed(v.key).Get(t.Plan))
	v.entry = &e
}

func (v *View) derive(h ui.Host, l *bench.Link, t *bench.Transfer) tea.Cmd {
	key := v.selected(t)
	switch {
	case !t.Plan.Given[key]:
		h.Say("%s is derived already: %s", key, t.Plan.Why[key])
	case key == "direction":
		h.Warn("the direction can't be derived")
	default:
		e := l.EditTransfer(t.Name, key, "")
		e.Op = finding.Delete
		h.Edit(e)
	}
	return nil
}

// put edits a slot by its key.
func (v *View) put(h ui.Host, l *bench.Link, t *bench.Transfer, arg string) tea.Cmd {
	key, value, _ := strings.Cut(strings.TrimSpace(arg), " ")
	s := transfer.SlotNamed(key)
	if s == nil {
		var keys []string
		for i := range transfer.Slots {
			keys = append(keys, transfer.Slots[i].Key)
		}
		if near := doc.Nearest(key, keys); near != "" {
			h.Warn("a transfer has no slot %q; did you mean %s?", key, near)
		} else {
			h.Warn("a transfer has no slot %q; s lists them", key)
		}
		return nil
	}
	if why := s.Without(t.Plan); why != "" {
		h.Warn("%s has no effect: %s", key, why)
		return nil
	}
	if _, err := s.Type.Read(strings.TrimSpace(value)); err != nil {
		h.Warn("%s: %v", key, err)
		return nil
	}
	h.Edit(l.EditTransfer(t.Name, key, strings.TrimSpace(value)))
	return nil
}

// Type implements ui.View.
func (v *View) Type(k tea.KeyPressMsg, h ui.Host) tea.Cmd {
	switch k.String() {
	case "esc":
		v.entry = nil
	case "enter":
		text := v.entry.Text()
		v.entry = nil
		if l, t := v.current(h); t != nil {
			return v.put(h, l, t, v.key+" "+text)
		}
	default:
		v.entry.Key(k)
	}
	return nil
}

// Click implements ui.View.
func (v *View) Click(int, int, ui.Host) {}

// Wheel implements ui.View: the slots.
func (v *View) Wheel(down bool, h ui.Host) {
	if _, t := v.current(h); t != nil {
		by := -1
		if down {
			by = 1
		}
		v.slot = min(max(v.slot+by, 0), len(v.slots(t))-1)
	}
}

// window is the stretch of time that is shown: while it follows, the end of what happened.
func (v *View) window(active quantity.Time) (from, to quantity.Time) {
	from = v.from
	if !v.fixed {
		from = max(active-v.span*7/8, 0)
	}
	return from, from + v.span
}

// fit gives a picture that nobody has zoomed the time of some words.
func (v *View) fit(t *bench.Transfer) {
	if v.span == 0 {
		v.span = 24 * t.Plan.Stream.Word()
	}
}

func (v *View) pan(h ui.Host, by int) {
	from, to := v.window(v.reached(h))
	if !v.fixed {
		v.fixed, v.moment = true, from+(to-from)/2
	}
	v.from = max(from+quantity.Time(by)*v.span/4, 0)
	v.moment = max(v.moment+v.from-from, 0)
}

// Selected implements ui.Selector: the moment goes along with the picture.
func (v *View) Selected() (from, to quantity.Time, ok bool) { return v.moment, v.moment, v.fixed }

func (v *View) zoom(times, over quantity.Time) {
	v.span = min(max(v.span*times/over, quantity.Microsecond), 100*quantity.Second)
	if v.fixed {
		v.from = max(v.moment-v.span/2, 0)
	}
}

// reached is when something happened last.
func (v *View) reached(h ui.Host) quantity.Time {
	if v.shown != nil {
		return v.shown.active
	}
	return h.Snapshot().Now
}

// Find implements ui.Finder.
func (v *View) Find(at quantity.Time, _ ui.Host) {
	v.fixed, v.moment = true, at
	v.from = max(at-v.span/2, 0)
}

func (v *View) toLoss(h ui.Host) {
	if v.shown == nil || v.shown.lastLoss < 0 {
		h.Say("no word was lost so far")
		return
	}
	v.Find(v.shown.lastLoss, h)
}

// Scene implements ui.Pictured.
func (v *View) Scene(ui.Host) *scene.Scene {
	if v.shown == nil {
		return nil
	}
	return v.shown.scene
}

// Tick implements ui.Ticker: it follows what came, in the background.
func (v *View) Tick(h ui.Host) tea.Cmd {
	l, t := v.current(h)
	if t == nil || v.working || h.Snapshot() == nil {
		return nil
	}
	if v.setup != l.Setup() {
		v.setup, v.follower, v.shown, v.more = l.Setup(), follow.New(h.Bench(), h.Snapshot().Meta()), nil, false
	}
	snap := h.Snapshot()
	v.fit(t)
	r := request{v.setup, l.Index, t.Name, snap.Now, -1, v.span, v.columns, -1}
	if v.fixed {
		r.from, r.moment = v.from, v.moment
	}
	if v.page == methodsPage && (v.methods == nil || v.methods.setup != v.setup || v.methods.link != l.Index || v.methods.name != t.Name) {
		m := &compared{setup: v.setup, link: l.Index, name: t.Name, at: snap.Now, busy: true}
		v.methods, v.working = m, true
		return func() tea.Msg {
			rows := follow.Compare(snap, l, t, follow.Means)
			return ui.Done(func(ui.Host) tea.Cmd {
				m.rows, m.busy, v.working = rows, false, false
				return nil
			})
		}
	}
	if r == v.asked && !v.more && v.shown != nil {
		return nil
	}
	v.asked, v.working = r, true
	f := v.follower
	return func() tea.Msg {
		more := f.Take(snap, mostTaken)
		s := show(f, r)
		return ui.Done(func(ui.Host) tea.Cmd {
			v.working = false
			if v.follower == f {
				v.shown, v.more = s, more
			}
			return nil
		})
	}
}

// shown is what became of a transfer, as the view shows it.
type shown struct {
	request
	run      transfer.Run
	now      quantity.Time
	active   quantity.Time // when something happened last
	runs     []transfer.Taken
	behind   int
	cells    []cell
	size     int
	write    int // place that is written next
	read     int // place from which the consumer goes on
	lost     int
	doubled  int
	refused  int
	starts   int
	counts   map[string]int
	cadence  string
	lastLoss quantity.Time
	since    quantity.Time // what was written before is left over
	fresh    int           // bytes of the latest transfer
	left     int
	scene    *scene.Scene
}

// cell is a byte of the buffer.
type cell struct {
	value  byte
	never  bool // nobody wrote it
	unread bool
	lost   bool // it was written over unread
	twice  bool // it was taken more than once
	left   bool // it is of an earlier transfer than the latest
}

// show makes what the view shows of a followed transfer.
func show(f *follow.Follower, r request) *shown {
	for _, x := range f.Of(r.link) {
		if x.Transfer.Name != r.name {
			continue
		}
		run := x.Live.Run()
		s := &shown{request: r, run: *run, now: x.Live.Now(), behind: f.Behind(), refused: x.Live.Refused, starts: x.Live.Starts, lastLoss: x.Live.LastLoss(), counts: x.Live.Events(), cadence: x.Cadence.String()}
		s.since = x.Since(r.now)
		s.fresh, s.left, _ = x.Fresh(r.now)
		for _, c := range run.Buffer.Cells[:run.Buffer.Bytes] {
			s.cells = append(s.cells, cell{
				value: c.Value, never: c.Written < 0, unread: c.Written >= 0 && c.Reads == 0 && c.Serial >= 0, lost: c.Lost > 0,
				left: c.Written >= 0 && c.Written < s.since,
			})
		}
		s.size = run.Buffer.Bytes
		if run.Ring != nil {
			s.lost, s.doubled = run.Ring.Sums()
			s.read = run.Ring.Last()
			s.size = run.Plan.Count * max(run.Plan.MemoryWidth/8, 1)
			s.write = x.Live.Position()
			count := run.Moved * max(run.Plan.MemoryWidth/8, 1)
			for i := range min(s.size, len(s.cells)) {
				c := &s.cells[i]
				var extra int
				c.unread, extra = run.Ring.Fate(i, count)
				c.twice = extra > 0
			}
		}
		s.active = x.Live.Active()
		if run.Ring != nil {
			s.runs = slices.Clone(run.Ring.Recent)
		}
		from := r.from
		if from < 0 {
			from = max(s.active-r.span*7/8, 0)
		}
		s.scene = picture.Transfer(run, from, from+r.span, r.columns)
		if r.moment >= 0 {
			s.scene.Cursors = []scene.Mark{{At: r.moment, Label: "A"}}
		}
		return s
	}
	return &shown{request: r, lastLoss: -1}
}

func (v *View) reading() string {
	if v.shown == nil {
		return "the traffic is being followed"
	}
	if v.shown.behind > 0 {
		return fmt.Sprintf("following the traffic: %d records to go", v.shown.behind)
	}
	return ""
}
