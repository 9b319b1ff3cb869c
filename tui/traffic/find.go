package traffic

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// finder is what is looked for in the traffic.
type finder struct {
	entry *ui.Entry // the filter is being typed
	text  string    // the one that is in force; "": none
	// marked: all traffic is shown, and what fits only found by n and N.
	marked bool

	nouns    *filter.Nouns
	nounsOf  *bench.Meanings
	nounsAt  *capture.Meta
	found    *filter.Found
	foundFor *bench.Meanings
	foundAt  *capture.Meta
	working  bool
	stopping bool // what waits is passed over
	picks    *filter.Picks
	// What is typed, as far as it is understood: the number of clauses and the mistake.
	bad    *filter.Error
	parsed string
}

// nearby is how many records that fit are found beside the place that is shown before all
// others are looked at.
const nearby = 120

// mostLooked is how many records are looked at in one go.
const mostLooked = 20_000

func (f *finder) known(h ui.Host) *filter.Nouns {
	if m := h.Snapshot().Meta(); f.nouns == nil || f.nounsOf != h.Meanings() || f.nounsAt != m {
		f.nouns, f.nounsOf, f.nounsAt = filter.NounsOf(h.Bench(), m), h.Meanings(), m
	}
	return f.nouns
}

// set takes a filter; "" takes it away.
func (f *finder) set(h ui.Host, text string) bool {
	text = strings.TrimSpace(text)
	if text == "" {
		f.text, f.found, f.picks = "", nil, nil
		return true
	}
	x, bad := filter.Parse(text, f.known(h))
	if bad != nil {
		h.Warn("%v", bad)
		return false
	}
	f.text, f.picks, f.stopping = text, nil, false
	f.found, f.foundFor, f.foundAt = x.Find(h.Bench(), h.Snapshot().Meta()), h.Meanings(), h.Snapshot().Meta()
	return true
}

// Tick implements ui.Ticker: it looks at what came, in the background.
func (v *View) Tick(h ui.Host) tea.Cmd {
	if v.combs != nil {
		return tea.Batch(v.look(h), v.combs.tick(h, v.all, v.paused && v.has, v.selected.Start))
	}
	return v.look(h)
}

// look looks on for what fits the filter.
func (v *View) look(h ui.Host) tea.Cmd {
	f := &v.find
	snap := h.Snapshot()
	if f.text == "" || f.working || snap == nil {
		return nil
	}
	if f.foundFor != h.Meanings() || f.foundAt != snap.Meta() {
		// The bench was edited, or another capture is shown: what its names mean may be other.
		if text := f.text; !f.set(h, text) {
			f.text = ""
			return nil
		}
	}
	found, first := f.found, f.picks == nil
	at := snap.Len()
	if v.paused && v.has {
		at = snap.IndexAt(v.selected.Start)
	}
	f.working = true
	stop := f.stopping
	f.stopping = false
	return func() tea.Msg {
		if stop {
			found.Skip(snap)
		}
		if first {
			// What is beside the place that is shown comes first.
			found.Near(context.Background(), snap, at, nearby)
		}
		if !first || snap.Len()-snap.First() <= mostLooked {
			found.Look(snap, mostLooked)
		}
		picks := found.Picks()
		return ui.Done(func(ui.Host) tea.Cmd {
			f.working = false
			if f.found == found {
				f.picks = picks
			}
			return nil
		})
	}
}

// Stop implements ui.Stopper: of the search what was found so far stays.
func (v *View) Stop(h ui.Host) bool {
	f := &v.find
	if f.text == "" || f.picks != nil && f.picks.Behind == 0 {
		return false
	}
	f.stopping = true
	h.Say("search stopped: what was found stays, what comes is looked at; / searches anew")
	return true
}

// filtered says whether only what fits is shown.
func (f *finder) filtered() bool { return f.text != "" && !f.marked }

// only gives the records that are to be shown; nil: all.
func (f *finder) only() []records.ID {
	switch {
	case !f.filtered():
		return nil
	case f.picks == nil:
		return []records.ID{}
	}
	return f.picks.IDs
}

// header says which filter is in force, and how often each of its clauses held.
func (f *finder) header(a cells.Area, y int) int {
	if f.text == "" {
		return y
	}
	x := a.Text(0, y, cells.Head, "FILTER")
	if f.picks == nil {
		a.Text(x+2, y, cells.Quiet, "looking: "+f.text)
		return y + 1
	}
	p := f.picks
	x = a.Text(x+2, y, cells.Strong, fmt.Sprintf("%d of %d", p.Matches, p.Seen))
	if p.Behind > 0 {
		x = a.Text(x+2, y, cells.Doubt, fmt.Sprintf("%d to go, Esc stops", p.Behind))
	}
	if p.Skipped > 0 {
		x = a.Text(x+2, y, cells.Doubt, fmt.Sprintf("%d not looked at", p.Skipped))
	}
	what := "v shows the rest too"
	if f.marked {
		what = "n N go to the next and the last; v shows what fits alone"
	}
	if x+2+cells.Width(what) < a.W {
		a.Right(a.W, y, cells.Quiet, what)
	}
	y++
	x = 0
	for i, c := range p.Clauses {
		style, n := cells.Plain, fmt.Sprint(p.Hits[i])
		if p.Hits[i] == 0 && p.Behind == 0 {
			style = cells.Doubt
		}
		if w := cells.Width(c.Text) + len(n) + 5; x > 0 && x+w > a.W {
			x, y = 0, y+1
		}
		x = a.Text(x+1, y, style, c.Text)
		x = a.Text(x+1, y, cells.Strong, n) + 2
	}
	return y + 1
}

// draw shows the filter as it is typed, with what is wrong with it, or how it may go on.
func (f *finder) draw(a cells.Area, h ui.Host) {
	x := a.Text(0, 0, cells.Strong, "/")
	f.entry.Draw(a, x, 0, "   Enter filters, Tab completes, Esc leaves; empty shows all")
	text := f.entry.Text()
	if strings.TrimSpace(text) == "" {
		a.Text(1, 1, cells.Quiet, "as: lower-gauge answers later than 5 ms   pump-drive.pressure > 120 bar   errors   identifier 1A5   gavrix help filters lists all")
		return
	}
	if text != f.parsed {
		f.parsed = text
		_, f.bad = filter.Parse(text, f.known(h))
	}
	if f.bad == nil {
		a.Text(1, 1, cells.Good, "understood")
		return
	}
	y := 1
	if col := 1 + len([]rune(text[:f.bad.At])); col < a.W && f.bad.At < len(text) {
		a.Put(col, 1, cells.Bad, '↑')
		y = 2
	}
	msg := f.bad.Message
	if f.bad.Change != "" {
		msg += "; " + f.bad.Change
	}
	style := cells.Bad
	if f.bad.At >= len(strings.TrimRight(text, " ")) {
		style = cells.Quiet // it is only not finished
		if offers := filter.Complete(text, f.known(h)); len(offers) > 0 {
			msg += "   may go on: " + offered(offers, text)
		}
	} else if offers := filter.Complete(text, f.known(h)); len(offers) > 0 && f.bad.At >= strings.LastIndex(text, " ") {
		style = cells.Quiet
		msg = "may be: " + offered(offers, text)
	}
	a.Text(1, y, style, msg)
}

// offered lists the last words of offers.
func offered(offers []string, text string) string {
	at := strings.LastIndexAny(text, " (,") + 1
	var words []string
	for _, o := range offers[:min(len(offers), 8)] {
		words = append(words, o[min(at, len(o)):])
	}
	return strings.Join(words, "  ")
}

// entryHeight is what the line that is typed takes.
const entryHeight = 3

// key takes a key while the filter is typed.
func (v *View) findKey(k tea.KeyPressMsg, h ui.Host) {
	f := &v.find
	switch k.String() {
	case "esc":
		f.entry = nil
	case "enter":
		if f.set(h, f.entry.Text()) {
			f.entry.Keep()
			f.entry = nil
			v.paused, v.open = false, false
		}
	case "tab":
		if offers := filter.Complete(f.entry.Text(), f.known(h)); len(offers) > 0 {
			f.entry.Set(offers[0] + " ")
		}
	default:
		f.entry.Key(k)
	}
}

// toMatch selects the next record that fits, or the last one before.
func (v *View) toMatch(h ui.Host, by int) {
	f := &v.find
	if f.text == "" {
		h.Say("no filter: / types one")
		return
	}
	if f.picks == nil {
		h.Say("still looking")
		return
	}
	at := quantity.Time(-1)
	if v.has {
		at = v.selected.Start
	}
	if !v.paused && by > 0 {
		h.Say("this is the newest; N goes back")
		return
	}
	where := int(h.LinkIndex())
	if v.all {
		where = records.Any
	}
	id, ok := f.picks.Next(at, by, where)
	for ok && !v.shows(id, h) {
		id, ok = f.picks.Next(id.Start, by, where)
	}
	if !ok {
		h.Say("nothing further fits %s", f.text)
		return
	}
	v.Find(id.Start, h)
}

// shows says whether a record is among those that the view shows.
func (v *View) shows(id records.ID, h ui.Host) bool {
	return id.Kind != record.Chars || id.Seen == record.Nobody || (id.Seen == record.Tap) == v.tap || id.Seen == record.Tap && id.From == record.MCU
}

// findCommands are those about filters.
func (v *View) findCommands(h ui.Host) []ui.Command {
	return []ui.Command{
		{Name: "filter", Args: "[FILTER]", Keys: []string{"/"}, Help: "show only what fits, as: lower-gauge answers later than 5 ms", Short: "filter", Complete: func(arg string) []string { return filter.Complete(arg, v.find.known(h)) }, Run: func(arg string) tea.Cmd {
			if arg != "" {
				v.find.set(h, arg)
				return nil
			}
			e := ui.NewEntry()
			e.Set(v.find.text)
			v.find.entry = &e
			return nil
		}},
		{Name: "no-filter", Help: "show all traffic again", Run: func(string) tea.Cmd { v.find.set(h, ""); return nil }},
		{Name: "rest-too", Keys: []string{"v"}, Help: "with a filter: show the rest of the traffic too, or what fits alone", Run: func(string) tea.Cmd {
			if v.find.text == "" {
				h.Say("no filter: / types one")
				return nil
			}
			v.find.marked = !v.find.marked
			return nil
		}},
		{Name: "next-match", Keys: []string{"n"}, Help: "the next record that fits the filter", Run: func(string) tea.Cmd { v.toMatch(h, 1); return nil }},
		{Name: "match-before", Keys: []string{"N"}, Help: "the one before", Run: func(string) tea.Cmd { v.toMatch(h, -1); return nil }},
	}
}
