// Package waves is the view of line levels: what was sent, the levels, and
// what the receiver made of them, at any scale from the whole capture to a
// picosecond.
package waves

import (
	"fmt"
	"math"
	"slices"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/stats"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// mostEdges bounds the stretch between the cursors that is measured.
const mostEdges = 2_000_000

// mostMeasured bounds the records between the cursors that are measured.
const mostMeasured = 20_000

// View is the view of levels.
type View struct {
	from, span quantity.Time
	follow     bool // the end of the picture is now
	cursor     quantity.Time
	placed     bool // the cursor is somewhere
	mark       quantity.Time
	marked     bool
	w          int // columns of the picture as drawn last
	names      int // column in which it begins

	arranged map[string]*arranged // by what the link is
	alone    bool                 // a link with a plan shows the plan alone
}

// New gives a view that follows the last 200 ms.
func New() *View {
	return &View{span: 200 * quantity.Millisecond, follow: true, w: 100, names: 18, arranged: map[string]*arranged{}}
}

// Name implements ui.View.
func (v *View) Name() string { return "Waves" }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// Type implements ui.View.
func (v *View) Type(tea.KeyPressMsg, ui.Host) tea.Cmd { return nil }

// Why implements ui.View.
func (v *View) Why(ui.Host) []finding.Derivation { return nil }

// kind gives the selected link's kind and its name, or nil.
func kind(h ui.Host) (*bus.Kind, string) {
	links := h.Snapshot().Meta().Links
	if int(h.LinkIndex()) >= len(links) {
		return nil, ""
	}
	l := links[h.LinkIndex()]
	return all.Of(l.Kind, l.Roles), l.Name
}

// kept gives the stretch of which any line of the link has levels.
func kept(h ui.Host, k *bus.Kind) (wire.Span, bool) {
	var out wire.Span
	found := false
	for i := range k.Lines {
		if s, ok := h.Snapshot().Kept(h.LinkIndex(), i); ok {
			if !found {
				out = s
			}
			out.From, out.To = min(out.From, s.From), max(out.To, s.To)
			found = true
		}
	}
	return out, found
}

// place keeps the picture where it should be.
func (v *View) place(h ui.Host) {
	v.span = max(v.span, quantity.Time(v.w))
	switch {
	case v.follow && h.Session() == nil:
		// A capture is shown whole, also while it is read.
		v.from, v.span = 0, max(h.Now(), quantity.Microsecond)
	case v.follow:
		v.from = max(h.Now()-v.span, 0)
	}
	v.from = max(v.from, 0)
	if !v.placed {
		v.cursor = v.from + v.span/2
	}
}

// start is where a search begins: at the cursor; without one at the picture's
// left end, or backwards at its right end.
func (v *View) start(h ui.Host, back bool) quantity.Time {
	v.place(h)
	switch {
	case v.placed:
		return v.cursor
	case back:
		return v.from + v.span
	}
	return v.from
}

// Scene gives the picture as it is shown; nil where there is none.
func (v *View) Scene(h ui.Host) *scene.Scene {
	k, _ := kind(h)
	if k == nil {
		return nil
	}
	if p := v.of(h).plan; v.alone && p != nil {
		return picture.Plan(p, v.w)
	}
	if _, ok := kept(h, k); !ok {
		return nil
	}
	v.place(h)
	w := picture.Wave{Snap: h.Snapshot(), From: v.from, To: v.from + v.span, Columns: v.w}
	// The selected link comes first, the others below it on the same time.
	links := h.Snapshot().Meta().Links
	order := []int{int(h.LinkIndex())}
	for i := range links {
		if i != order[0] {
			order = append(order, i)
		}
	}
	for _, i := range order {
		if k := all.Of(links[i].Kind, links[i].Roles); k != nil {
			w.Bands = append(w.Bands, v.band(h, i, k))
		}
	}
	if v.placed {
		w.Cursors = append(w.Cursors, scene.Mark{At: v.cursor, Label: "A"})
	}
	if v.marked {
		w.Cursors = append(w.Cursors, scene.Mark{At: v.mark, Label: "B"})
	}
	return w.Scene()
}

// lineNames says who drives the lines of a character link.
func lineNames(l capture.Link) []string {
	k := all.Of(l.Kind, l.Roles)
	if k == nil || k.LineOf == nil {
		return nil
	}
	return []string{l.MCU(), l.Device()}
}

// shownLines is the number of the selected link's lines that have levels.
func shownLines(h ui.Host, k *bus.Kind) int {
	n := 0
	for i := range k.Lines {
		if _, ok := h.Snapshot().Kept(h.LinkIndex(), i); ok {
			n++
		}
	}
	return n
}

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	v.width(a.W)
	k, name := kind(h)
	x := a.Text(0, 0, cells.Head, "WAVES")
	x = a.Text(x+2, 0, cells.Strong, name)
	if k == nil {
		a.Paragraph(0, 2, cells.Plain, "There is no link to show levels of.", 0)
		return
	}
	s := v.Scene(h)
	if s != nil && cells.NameWidth(s, a.W) != v.names {
		v.names = cells.NameWidth(s, a.W)
		v.width(a.W)
		s = v.Scene(h)
	}
	if s == nil {
		a.Paragraph(0, 2, cells.Plain, "This link has no levels: its traffic came as bytes, from a port or a file.", 0)
		a.Paragraph(0, 4, cells.Quiet, "The simulated bench has them, and files of levels: gavrix open FILE.vcd. The traffic: 5.", 0)
		return
	}
	where := "from " + picture.TimeLabel(s.From, v.span/1000)
	switch {
	case v.follow && h.Session() == nil:
		where = "all of it"
	case v.follow:
		where = "following"
	}
	if v.alone && v.of(h).plan != nil {
		where = "the plan alone"
	}
	a.Text(x+3, 0, cells.Quiet, fmt.Sprintf("%s   %s across", where, (s.To-s.From).Round(3)))
	if span, _ := kept(h, k); v.from < span.From {
		a.Right(a.W, 0, cells.Doubt, "levels before "+picture.TimeLabel(span.From, v.span/1000)+" no longer kept")
	}
	// Below the picture stand the cursors and what was measured.
	room := a.H - 2 - 3
	if v.marked {
		room -= 2 * shownLines(h, k)
	}
	if v.of(h).plan != nil {
		room -= 8
	}
	if apart := spaced(s.Lanes); len(apart) <= room {
		s.Lanes = apart
	}
	if len(s.Lanes) > room {
		s.Lanes = slices.DeleteFunc(s.Lanes, silentLane)
	}
	if rows := len(s.Lanes); rows > room {
		s.Lanes = s.Lanes[:max(room, 1)]
		a.Text(0, 1, cells.Quiet, fmt.Sprintf("%s below do not fit; J selects the next link", quantity.Count(rows-len(s.Lanes), "row")))
	}
	heights := cells.Heights(s, room)
	cells.Tall(a.Part(0, 2, a.W, room), s, heights)
	y := 3
	for _, n := range heights {
		y += n
	}
	if v.alone && v.of(h).plan != nil {
		a.Text(0, y, cells.Quiet, "planned, nothing sent: o shows the capture again")
		return
	}
	v.readout(a.Part(0, y, a.W, a.H-y), v.compared(a.Part(0, y, a.W, a.H-y), h), h, k)
}

// width takes over the width of the view: what the names leave is the picture's.
func (v *View) width(w int) { v.w = max(w-v.names-2, 10) }

// silentLane says whether a lane has a place for labels and nothing in it.
func silentLane(l scene.Lane) bool {
	return l.Levels == nil && len(l.Cells)+len(l.Ticks)+len(l.Marks) == 0 && l.Name == "" && l.Detail != ""
}

// spaced puts an empty lane between the links.
func spaced(lanes []scene.Lane) []scene.Lane {
	var out []scene.Lane
	for i, l := range lanes {
		if i > 1 && l.Name != "" {
			out = append(out, scene.Lane{})
		}
		out = append(out, l)
	}
	return out
}

// readout tells of the cursors and of the stretch between them.
func (v *View) readout(a cells.Area, y int, h ui.Host, k *bus.Kind) {
	if y >= a.H {
		y = a.H - 1
	}
	if !v.placed {
		a.Part(0, 0, a.W, a.H).Paragraph(0, min(y, max(a.H-2, 0)), cells.Quiet, "← → place a cursor; n and b go to the next edge and back; m sets a second one there", 0)
		return
	}
	x := a.Text(0, y, cells.Good, "A ")
	x = a.Text(x, y, cells.Plain, v.exactly(v.cursor))
	if !v.marked {
		a.Text(x+3, y, cells.Quiet, "m sets B here")
		return
	}
	x = a.Text(x+3, y, cells.Good, "B ")
	x = a.Text(x, y, cells.Plain, v.exactly(v.mark))
	d := v.cursor - v.mark
	if d < 0 {
		d = -d
	}
	if d == 0 {
		a.Text(x+3, y, cells.Quiet, "both at one time: move A with ← → n b r")
		return
	}
	x = a.Text(x+3, y, cells.Head, "Δt ")
	x = a.Text(x, y, cells.Strong, d.Round(6))
	x = a.Text(x+3, y, cells.Head, "1/Δt ")
	a.Text(x, y, cells.Strong, quantity.FromHz(1e12/float64(d)).Round(6))
	y++
	for _, line := range v.measured(h, k) {
		for _, part := range safe.Wrap(line, a.W) {
			if y < a.H {
				a.Text(0, y, cells.Plain, part)
			}
			y++
		}
	}
}

// exactly gives a time as finely as the picture can tell it, and ten times
// finer.
func (v *View) exactly(t quantity.Time) string {
	return picture.TimeLabel(t, max(v.span/quantity.Time(10*v.w), 1))
}

// measured gives a line of figures for each line between the cursors.
func (v *View) measured(h ui.Host, k *bus.Kind) []string {
	from, to := min(v.cursor, v.mark), max(v.cursor, v.mark)
	if from == to {
		return nil
	}
	rs, n := picture.Records(h.Snapshot(), from, to, mostMeasured, tapped(h))
	var out []string
	if figures := stats.Of(rs, from, to); n <= len(rs) {
		out = append(out, figures.Lines()...)
	}
	lines := lineNames(h.Snapshot().Meta().Links[h.LinkIndex()])
	for i, role := range k.Lines {
		cols := h.Snapshot().Columns(h.LinkIndex(), i, from, to+1, 1)
		if len(cols) == 0 {
			continue
		}
		name := role.Name
		if i < len(lines) {
			name = lines[i]
		}
		if n := v.of(h).names[i]; n != "" {
			name = n
		}
		if cols[0].Edges > mostEdges {
			out = append(out, fmt.Sprintf("%s: %d edges between A and B, too many to measure: put A and B closer", name, cols[0].Edges))
			continue
		}
		w, _ := h.Snapshot().Window(h.LinkIndex(), i, from, to+1)
		out = append(out, name+": "+figures(&w))
		if ends := h.Settings(int(h.LinkIndex())); k.Measure != nil && len(ends) > 0 && n <= len(rs) {
			if text := k.Measure(ends, i, rs, v.windows(h, k, from, to)); text != "" {
				out = append(out, name+": "+text)
			}
		}
	}
	return out
}

// tapped are the records of the selected link that an ideal tap saw.
func tapped(h ui.Host) records.Query {
	return records.Query{Link: int(h.LinkIndex()), Traffic: true, Seen: []record.End{record.Tap}}
}

// windows gives all lines between the cursors.
func (v *View) windows(h ui.Host, k *bus.Kind, from, to quantity.Time) []wire.Window {
	out := make([]wire.Window, len(k.Lines))
	for i, role := range k.Lines {
		out[i] = wire.Window{From: from, To: to, High: role.High}
		if w, ok := h.Snapshot().Window(h.LinkIndex(), i, from, to+1); ok {
			out[i] = w
		}
	}
	return out
}

// figures gives what was measured in words.
func figures(w *wire.Window) string {
	m := wire.Measure(w)
	n := m.Rises + m.Falls
	if n == 0 {
		return wire.ActivityOf(w).String()
	}
	text := fmt.Sprintf("%d edges", n)
	if n == 1 {
		text = "1 edge"
	}
	if m.Period.N > 0 {
		text += fmt.Sprintf(", period %s (%s to %s), %s", m.Period.Mean.Round(4), m.Period.Least.Round(4), m.Period.Most.Round(4), m.Frequency().Round(4))
	}
	if d := m.Duty(); !math.IsNaN(d) {
		text += fmt.Sprintf(", high %.1f %% of it", 100*d)
	}
	if m.High.N > 0 {
		text += fmt.Sprintf(", high %s to %s", m.High.Least.Round(4), m.High.Most.Round(4))
	}
	if m.Low.N > 0 {
		text += fmt.Sprintf(", low %s to %s", m.Low.Least.Round(4), m.Low.Most.Round(4))
	}
	return text
}

// Click implements ui.View: it places the cursor.
func (v *View) Click(x, _ int, h ui.Host) {
	if x < v.names || v.w == 0 {
		return
	}
	v.hold(h)
	v.cursor, v.placed = v.from+v.span/quantity.Time(v.w)*quantity.Time(x-v.names), true
}

// Wheel implements ui.View: it zooms.
func (v *View) Wheel(down bool, h ui.Host) {
	if down {
		v.zoom(h, 1.5)
	} else {
		v.zoom(h, 1/1.5)
	}
}

// hold stops following, with the picture as it is.
func (v *View) hold(h ui.Host) {
	v.place(h)
	v.follow = false
}

// zoom changes the span about the cursor, if it is in the picture, else about
// the middle; while following, about the end.
func (v *View) zoom(h ui.Host, by float64) {
	v.place(h)
	if h.Session() == nil {
		v.follow = false // a capture is no longer shown whole
	}
	about := v.from + v.span/2
	switch {
	case v.placed && v.cursor >= v.from && v.cursor <= v.from+v.span:
		about = v.cursor
	case v.follow:
		about = v.from + v.span
	}
	share := float64(about-v.from) / float64(v.span)
	span := quantity.Time(min(max(float64(v.span)*by, float64(v.w)), float64(max(h.Now(), quantity.Second))*1.1))
	v.from = max(about-quantity.Time(share*float64(span)), 0)
	v.span = span
}

// show moves the picture so that a time is seen, with room around it.
func (v *View) show(t quantity.Time) {
	if t < v.from || t > v.from+v.span {
		v.from = max(t-v.span/2, 0)
	}
}

// Find implements ui.Finder.
func (v *View) Find(at quantity.Time, h ui.Host) { v.to(h, at) }

// Selected implements ui.Selector.
func (v *View) Selected() (from, to quantity.Time, ok bool) {
	return v.cursor, v.cursor, v.placed && !v.follow
}

// to places the cursor at a time.
func (v *View) to(h ui.Host, t quantity.Time) {
	v.hold(h)
	v.cursor, v.placed = max(t, 0), true
	v.show(v.cursor)
}

func side(back bool) string {
	if back {
		return "before the cursor"
	}
	return "after the cursor; End follows the present"
}

// edge goes to the next or the previous edge of any line.
func (v *View) edge(h ui.Host, back bool) {
	k, _ := kind(h)
	if k == nil {
		return
	}
	here := v.start(h, back)
	best := quantity.Time(-1)
	for i := range k.Lines {
		if back {
			if t, ok := h.Snapshot().PreviousEdge(h.LinkIndex(), i, here); ok {
				best = max(best, t)
			}
		} else if t := h.Snapshot().NextEdge(h.LinkIndex(), i, here); t < quantity.Forever && (best < 0 || t < best) {
			best = t
		}
	}
	if best < 0 {
		if v.follow && !back {
			v.edge(h, true)
			return
		}
		h.Say("there is no edge %s", side(back))
		return
	}
	v.to(h, best)
}

// record goes to the start of the next or the previous record that is wanted.
func (v *View) record(h ui.Host, back bool, what string, q records.Query, wanted func(*record.Record) bool) {
	here := v.start(h, back)
	snap := h.Snapshot()
	best := quantity.Time(-1)
	// Records stand in the order of their ends: behind the first that is found some
	// more are looked at, which may have begun nearer.
	more := 64
	look := func(head *records.Head) bool {
		if (back && head.Start < here && head.Start > best || !back && head.Start > here && (best < 0 || head.Start < best)) && (wanted == nil || wanted(snap.Of(head))) {
			best = head.Start
		}
		if best >= 0 {
			more--
		}
		return more > 0
	}
	if back {
		for _, head := range snap.Touching(here-1, here, q) {
			look(head)
		}
		for _, head := range snap.Before(snap.IndexAt(here), q) {
			if !look(head) {
				break
			}
		}
	} else {
		for _, head := range snap.After(snap.IndexAt(here), q) {
			if !look(head) {
				break
			}
		}
	}
	if best < 0 {
		if v.follow && !back {
			v.record(h, true, what, q, wanted) // the newest one
			return
		}
		h.Say("there is no %s %s", what, side(back))
		return
	}
	v.to(h, best)
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	do := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd { f(); return nil }
	}
	step := func(by int) func(string) tea.Cmd {
		return do(func() {
			v.place(h)
			v.to(h, v.cursor+v.span*quantity.Time(by)/quantity.Time(v.w))
		})
	}
	pan := func(by quantity.Time) func(string) tea.Cmd {
		return do(func() { v.hold(h); v.from = max(v.from+by*v.span/2, 0) })
	}
	bad := records.Query{Link: int(h.LinkIndex()), Traffic: true, Flags: ^record.Flags(0)}
	return append([]ui.Command{
		{Name: "zoom-in", Keys: []string{"+", "="}, Help: "zoom in about the cursor", Short: "zoom", Run: do(func() { v.zoom(h, 0.5) })},
		{Name: "zoom-out", Keys: []string{"-"}, Help: "zoom out", Run: do(func() { v.zoom(h, 2) })},
		{Name: "zoom-all", Keys: []string{"0"}, Help: "show all that is kept", Short: "all", Run: do(func() {
			if k, _ := kind(h); k != nil {
				if s, ok := kept(h, k); ok {
					v.follow = false
					v.from, v.span = s.From, max(s.To-s.From, 1)
				}
			}
		})},
		{Name: "cursor-left", Keys: []string{"left"}, Help: "move the cursor a column to the left", Short: "cursor", Run: step(-1)},
		{Name: "cursor-right", Keys: []string{"right"}, Help: "move it a column to the right", Run: step(1)},
		{Name: "pan-earlier", Keys: []string{"pgup"}, Help: "half a picture earlier", Run: pan(-1)},
		{Name: "pan-later", Keys: []string{"pgdown"}, Help: "half a picture later", Run: pan(1)},
		{Name: "next-edge", Keys: []string{"n"}, Help: "go to the next edge of any line", Short: "edge", Run: do(func() { v.edge(h, false) })},
		{Name: "previous-edge", Keys: []string{"b"}, Help: "go to the edge before", Run: do(func() { v.edge(h, true) })},
		{Name: "next-record", Keys: []string{"r"}, Help: "go to the next record", Short: "record", Run: do(func() { v.record(h, false, "record", tapped(h), nil) })},
		{Name: "previous-record", Keys: []string{"R"}, Help: "go to the record before", Run: do(func() { v.record(h, true, "record", tapped(h), nil) })},
		{Name: "next-error", Keys: []string{"e"}, Help: "next record with an error, anyone's", Short: "error", Run: do(func() { v.record(h, false, "error", bad, nil) })},
		{Name: "previous-error", Keys: []string{"E"}, Help: "go to the error before", Run: do(func() { v.record(h, true, "error", bad, nil) })},
		{Name: "mark", Keys: []string{"m"}, Help: "set the second cursor here, or take it away", Short: "mark", Run: do(func() {
			v.hold(h)
			v.marked = !v.marked || v.mark != v.cursor
			v.mark, v.placed = v.cursor, true
		})},
		{Name: "swap", Keys: []string{"x"}, Help: "swap the two cursors", Run: do(func() {
			if v.marked {
				v.cursor, v.mark = v.mark, v.cursor
				v.to(h, v.cursor)
			}
		})},
		{Name: "follow-waves", Keys: []string{"end"}, Help: "follow live; the cursors go", Short: "follow", Run: do(func() { v.follow, v.placed, v.marked = true, false, false })},
		{Name: "first", Keys: []string{"home"}, Help: "go to the beginning", Run: do(func() { v.hold(h); v.from = 0 })},
	}, v.lineCommands(h)...)
}
