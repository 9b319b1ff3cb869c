// Package plots is the view of values: what they were over time, one against another, how often
// each was how large, and what they are now.
package plots

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/values"
	"gavrix.org/gavrix/tui/ui"
)

// page is what the view shows.
type page int

const (
	timePage page = iota
	listPage
	againstPage
	countPage
)

// mostTaken is how many records are taken in one go.
const mostTaken = 20_000

// classes is how many a histogram has.
const classes = 40

// View is the view of values.
type View struct {
	page page
	// lanes are the names of what is drawn; those of a lane share its scale. Chosen: somebody
	// chose them; else they are those of the selected link.
	lanes  [][]string
	chosen bool
	lane   int // under the cursor
	row    int // of the list
	top    int
	all    bool // the list has the values of all links

	span   quantity.Time
	from   quantity.Time
	fixed  bool // the picture stays where it is
	cursor quantity.Time
	placed bool
	mark   quantity.Time
	marked bool
	w      int

	entry *ui.Entry // the set-point that is typed
	knobs map[string]*knob
	queue []func(h ui.Host) tea.Cmd // what waits for the book

	book     *values.Book
	of       *bench.Meanings // what the book was made with
	meta     *capture.Meta
	working  bool
	more     bool
	asked    request
	shown    *shown
	complete []string // names that can be drawn
}

// request is what a picture is made of.
type request struct {
	page       page
	lanes      string
	link       int
	all        bool
	from, span quantity.Time
	fixed      bool
	now        quantity.Time
	columns    int
	cursor     quantity.Time
	placed     bool
	mark       quantity.Time
	marked     bool
}

// shown is what the view shows, made in the background.
type shown struct {
	request
	lanes  [][]string
	scene  *scene.Scene
	rows   []row
	reads  []string // what the cursors read, a line for each value
	behind int
	names  []string
	empty  string // why there is no picture
}

// row is a value of the list.
type row struct {
	name, last, before string
	age                quantity.Time
	seen, changes      int
	stale, wrote       bool
	numeric            bool
	about              string
}

// New gives a view that follows the last 20 s.
func New() *View { return &View{span: 20 * quantity.Second, w: 100, knobs: map[string]*knob{}} }

// Name implements ui.View.
func (v *View) Name() string { return "Plots" }

// Why implements ui.View.
func (v *View) Why(ui.Host) []finding.Derivation { return nil }

// Click implements ui.View.
func (v *View) Click(int, int, ui.Host) {}

// Wheel implements ui.View: the list, or the lanes.
func (v *View) Wheel(down bool, _ ui.Host) {
	by := -1
	if down {
		by = 1
	}
	v.move(by)
}

func (v *View) move(by int) {
	if v.page == listPage {
		v.row = max(v.row+by, 0)
		return
	}
	v.lane = min(max(v.lane+by, 0), max(len(v.lanes)-1, 0))
}

// Find implements ui.Finder.
func (v *View) Find(at quantity.Time, _ ui.Host) {
	v.fixed = true
	v.from = max(at-v.span/2, 0)
	v.cursor, v.placed = at, true
}

// Selected implements ui.Selector.
func (v *View) Selected() (from, to quantity.Time, ok bool) {
	return v.cursor, v.cursor, v.placed && v.fixed
}

// Scene implements ui.Pictured.
func (v *View) Scene(ui.Host) *scene.Scene {
	if v.shown == nil {
		return nil
	}
	return v.shown.scene
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	do := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd { f(); return nil }
	}
	turn := func(p page) func(string) tea.Cmd {
		return do(func() {
			if v.page == p {
				p = timePage
			}
			v.page, v.top = p, 0
		})
	}
	offers := func(string) []string { return v.complete }
	return append([]ui.Command{
		{Name: "value-above", Keys: []string{"up", "k"}, Help: "the value above", Run: do(func() { v.move(-1) })},
		{Name: "value-below", Keys: []string{"down", "j"}, Help: "the value below", Short: "value", Run: do(func() { v.move(1) })},
		{Name: "list", Keys: []string{"l"}, Help: "the list of all values, the freshest first; l again goes back", Short: "list", Run: turn(listPage)},
		{Name: "pick", Keys: []string{"enter"}, Help: "in the list: draw the value, or draw it no more", Short: "draw", Run: func(string) tea.Cmd { v.pick(h); return nil }},
		{Name: "plot", Args: "VALUE[+VALUE]", Help: "draw a value in a lane of its own, or several that share one", Complete: offers, Run: func(arg string) tea.Cmd {
			return v.when(h, func(h ui.Host) tea.Cmd { v.add(h, arg); return nil })
		}},
		{Name: "drop", Keys: []string{"d"}, Help: "draw the value under the cursor no more", Run: do(func() { v.drop(v.lane) })},
		{Name: "join", Keys: []string{"s"}, Help: "draw it on one scale with the one above: what is set as a staircase, answers as dots, and the lag", Run: func(string) tea.Cmd { v.join(h); return nil }},
		{Name: "usual", Keys: []string{"0"}, Help: "draw what changes most on the selected link", Run: do(func() { v.lanes, v.chosen, v.lane = nil, false, 0 })},
		{Name: "all-links", Keys: []string{"a"}, Help: "in the list: the values of all links, or of the selected one", Run: do(func() { v.all = !v.all })},
		{Name: "against", Keys: []string{"x"}, Help: "the second value against the first, in the lane under the cursor if it has two, with the line that fits best; x again goes back", Short: "against", Run: turn(againstPage)},
		{Name: "how-often", Keys: []string{"g"}, Help: "how often the value under the cursor was how large; g again goes back", Short: "histogram", Run: turn(countPage)},
		{Name: "picture-earlier", Keys: []string{"left", "h"}, Help: "the picture earlier", Run: do(func() { v.pan(h, -1) })},
		{Name: "picture-later", Keys: []string{"right"}, Help: "the picture later", Run: do(func() { v.pan(h, 1) })},
		{Name: "less-time", Keys: []string{"+", "="}, Help: "less time across, more detail", Short: "zoom", Run: do(func() { v.zoom(h, 1, 2) })},
		{Name: "more-time", Keys: []string{"-"}, Help: "more time across", Run: do(func() { v.zoom(h, 2, 1) })},
		{Name: "whole", Keys: []string{"z"}, Help: "all that is kept", Run: do(func() { v.fixed, v.from, v.span = true, 0, max(h.Snapshot().Now, quantity.Millisecond) })},
		{Name: "newest", Keys: []string{"end", "G"}, Help: "the picture follows the present", Run: do(func() { v.fixed = false })},
		{Name: "next-sample", Keys: []string{"n"}, Help: "the cursor to the next sample of the value under the cursor", Short: "cursor", Run: func(string) tea.Cmd { return v.sample(h, 1) }},
		{Name: "sample-before", Keys: []string{"b"}, Help: "the cursor to the sample before", Run: func(string) tea.Cmd { return v.sample(h, -1) }},
		{Name: "mark-sample", Keys: []string{"m"}, Help: "a second cursor at the first one", Run: do(func() { v.mark, v.marked = v.cursor, v.placed })},
	}, v.setCommands(h)...)
}

// window is the stretch of time that is shown.
func (v *View) window(now quantity.Time) (from, to quantity.Time) {
	if v.fixed {
		return v.from, v.from + v.span
	}
	// At the beginning of a capture what there is takes the whole width.
	span := min(v.span, max(now, 2*quantity.Second))
	from = max(now-span, 0)
	return from, from + span
}

func (v *View) pan(h ui.Host, by int) {
	from, _ := v.window(h.Snapshot().Now)
	v.fixed = true
	v.from = max(from+quantity.Time(by)*v.span/4, 0)
}

func (v *View) zoom(h ui.Host, times, over quantity.Time) {
	from, to := v.window(h.Snapshot().Now)
	about := from + (to-from)/2
	if v.placed && v.cursor >= from && v.cursor <= to {
		about = v.cursor
	}
	v.span = min(max(v.span*times/over, quantity.Microsecond), 1_000_000*quantity.Second)
	if v.fixed {
		v.from = max(about-v.span/2, 0)
	}
}

// add draws one more value, or several that share a lane.
func (v *View) add(h ui.Host, text string) {
	var lane []string
	for _, w := range strings.Split(text, "+") {
		n, err := v.book.Find(strings.TrimSpace(w))
		if err != nil {
			h.Warn("%v", err)
			return
		}
		if s := v.book.Of(n); s != nil && s.Len() == 0 {
			h.Warn("%s is text, no number: it can't be drawn", n)
			return
		}
		lane = append(lane, v.book.Catalog().Short(n))
	}
	v.own()
	if i := slices.IndexFunc(v.lanes, func(l []string) bool { return slices.Equal(l, lane) }); i >= 0 {
		v.lane, v.page = i, timePage
		h.Say("%s is drawn already", text)
		return
	}
	v.lanes, v.chosen = append(v.lanes, lane), true
	v.lane, v.page = len(v.lanes)-1, timePage
}

// own takes over what was drawn by itself, before it is changed.
func (v *View) own() {
	if !v.chosen && v.shown != nil {
		v.lanes = slices.Clone(v.shown.lanes)
	}
	v.chosen = true
}

// pick draws the value of the list under the cursor, or takes it out.
func (v *View) pick(h ui.Host) {
	if v.page != listPage || v.shown == nil || v.row >= len(v.shown.rows) {
		h.Say("l shows the list of values: Enter draws the one under the cursor")
		return
	}
	r := v.shown.rows[v.row]
	v.own()
	for i, l := range v.lanes {
		if slices.Contains(l, r.name) {
			v.drop(i)
			return
		}
	}
	if !r.numeric {
		h.Warn("%s is text, no number: it can't be drawn", r.name)
		return
	}
	v.lanes = append(v.lanes, []string{r.name})
}

func (v *View) drop(i int) {
	v.own()
	if i < len(v.lanes) {
		v.lanes = slices.Delete(slices.Clone(v.lanes), i, i+1)
	}
	v.lane = min(v.lane, max(len(v.lanes)-1, 0))
}

// join puts a lane's values to those of the one above.
func (v *View) join(h ui.Host) {
	v.own()
	if v.lane < 1 || v.lane >= len(v.lanes) {
		h.Say("go to a value below another one first")
		return
	}
	lanes := slices.Clone(v.lanes)
	lanes[v.lane-1] = append(slices.Clone(lanes[v.lane-1]), lanes[v.lane]...)
	v.lanes = slices.Delete(lanes, v.lane, v.lane+1)
	v.lane--
}

// sample moves the cursor to another sample of the value under the cursor.
func (v *View) sample(h ui.Host, by int) tea.Cmd {
	return v.when(h, func(h ui.Host) tea.Cmd { v.toSample(h, by); return nil })
}

func (v *View) toSample(h ui.Host, by int) {
	if v.shown == nil || v.lane >= len(v.shown.lanes) {
		return
	}
	n, err := v.book.Find(v.shown.lanes[v.lane][0])
	if err != nil {
		return
	}
	s := v.book.Of(n)
	from, to := v.window(h.Snapshot().Now)
	at := v.cursor
	if !v.placed || at < from || at > to {
		at = from + (to-from)/2
	}
	i, j := s.Between(at, at+1)
	if by > 0 {
		i = j
	} else {
		i--
	}
	if i < 0 || i >= s.Len() {
		h.Say("there is no further sample")
		return
	}
	v.cursor, _ = s.At(i)
	v.placed = true
	if v.cursor < from || v.cursor > to {
		v.from = max(v.cursor-v.span/2, 0)
	} else {
		v.from = from
	}
	v.fixed = true
}

// Tick implements ui.Ticker: it takes what came, and makes the picture, in the background.
func (v *View) Tick(h ui.Host) tea.Cmd {
	snap := h.Snapshot()
	if v.working || snap == nil {
		return nil
	}
	if cmd := v.flush(h); cmd != nil {
		return cmd
	}
	if v.book == nil || v.of != h.Meanings() || v.meta != snap.Meta() {
		v.book, v.of, v.meta, v.shown = values.NewBook(h.Bench(), snap.Meta(), snap.ValuesMemory()), h.Meanings(), snap.Meta(), nil
	}
	from, to := v.window(snap.Now)
	r := request{page: v.page, link: int(h.LinkIndex()), all: v.all, from: from, span: to - from, fixed: v.fixed, now: snap.Now, columns: v.w, cursor: v.cursor, placed: v.placed, mark: v.mark, marked: v.marked}
	for _, l := range v.lanes {
		r.lanes += strings.Join(l, "+") + " "
	}
	if v.chosen {
		r.lanes += "!"
	}
	if r == v.asked && !v.more && v.shown != nil {
		return nil
	}
	v.asked, v.working = r, true
	book, lanes, chosen, lane := v.book, v.lanes, v.chosen, v.lane
	return func() tea.Msg {
		more := book.Take(snap, mostTaken)
		s := show(book, r, lanes, chosen, lane)
		return ui.Done(func(h ui.Host) tea.Cmd {
			v.working = false
			if v.book == book {
				v.shown, v.more, v.complete = s, more, s.names
			}
			var cmds []tea.Cmd
			for _, f := range v.queue {
				cmds = append(cmds, f(h))
			}
			v.queue = nil
			return tea.Batch(cmds...)
		})
	}
}

// usual chooses what changes most on a link, at most three values.
func usual(book *values.Book, link int) [][]string {
	var list []*values.Series
	for _, s := range book.All() {
		if int(s.Link) == link && s.Len() > 0 && s.Changes > 0 && !s.Does {
			list = append(list, s)
		}
	}
	// Quantities before registers that only hold pieces of one.
	slices.SortStableFunc(list, func(a, b *values.Series) int {
		if a.Scaled() != b.Scaled() {
			return map[bool]int{true: -1, false: 1}[a.Scaled()]
		}
		return b.Changes - a.Changes
	})
	if len(list) == 0 { // what the link itself does
		for _, s := range book.All() {
			if int(s.Link) == link && s.Len() > 0 && (s.Value == "rate" || s.Value == "gap") {
				list = append(list, s)
			}
		}
	}
	var out [][]string
	for _, s := range list[:min(3, len(list))] {
		out = append(out, []string{book.Catalog().Short(s.Name)})
	}
	return out
}

// show makes what the view shows.
func show(book *values.Book, r request, lanes [][]string, chosen bool, lane int) *shown {
	s := &shown{request: r, lanes: lanes, behind: book.Behind()}
	if !chosen {
		s.lanes = usual(book, r.link)
	}
	for _, n := range book.Catalog().All {
		s.names = append(s.names, book.Catalog().Short(n))
	}
	for _, x := range book.Fresh() {
		if r.all || int(x.Link) == r.link {
			s.rows = append(s.rows, row{
				name: book.Catalog().Short(x.Name), last: x.Last, before: x.Before, age: r.now - x.LastAt, seen: x.Seen, changes: x.Changes,
				stale: x.Stale(r.now), wrote: x.Wrote, numeric: x.Len() > 0, about: x.About,
			})
		}
	}
	from, to := r.from, r.from+r.span
	var drawn [][]*values.Series
	for _, l := range s.lanes {
		var list []*values.Series
		for _, name := range l {
			if n, err := book.Find(name); err == nil && book.Of(n) != nil {
				list = append(list, book.Of(n))
			}
		}
		if list != nil {
			drawn = append(drawn, list)
		}
	}
	name := book.Catalog().Short
	switch {
	case len(drawn) == 0:
		s.empty = "No value of this link came so far. l lists all values; :plot NAME draws one."
	case r.page == againstPage && len(drawn) < 2 && len(drawn[0]) < 2:
		s.empty = "Draw two values first (l, Enter): the second is then shown against the first."
	case r.page == againstPage:
		x, y := drawn[0][0], drawn[0][len(drawn[0])-1]
		if here := drawn[min(lane, len(drawn)-1)]; len(here) > 1 {
			x, y = here[0], here[1]
		} else if len(drawn) > 1 {
			y = drawn[1][0]
		}
		s.scene = picture.Against(x, y, name, from, to)
	case r.page == countPage:
		s.scene = picture.Histogram(drawn[min(lane, len(drawn)-1)][0], name, from, to, classes)
	default:
		p := picture.Plot{Lanes: drawn, Name: name, From: from, To: to, Now: r.now, Columns: r.columns}
		if r.placed {
			p.Cursors = append(p.Cursors, scene.Mark{At: r.cursor, Label: "A"})
		}
		if r.marked {
			p.Cursors = append(p.Cursors, scene.Mark{At: r.mark, Label: "B"})
		}
		s.scene = p.Scene()
		s.read(book, drawn)
	}
	return s
}

// read says what the cursors read.
func (s *shown) read(book *values.Book, drawn [][]*values.Series) {
	if !s.placed {
		return
	}
	at := func(x *values.Series, t quantity.Time) (float64, bool) {
		i, _ := x.Between(t+1, t+1)
		if i == 0 {
			return 0, false
		}
		_, v := x.At(i - 1)
		return v, true
	}
	if s.marked {
		d := s.cursor - s.mark
		s.reads = append(s.reads, fmt.Sprintf("A %s   B %s   A - B %s", s.cursor.Round(9), s.mark.Round(9), d.Round(6)))
	} else {
		s.reads = append(s.reads, fmt.Sprintf("A %s   m sets a second cursor there", s.cursor.Round(9)))
	}
	for _, l := range drawn {
		for _, x := range l {
			scale := picture.ScaleOf([]*values.Series{x}, s.from, s.from+s.span)
			a, has := at(x, s.cursor)
			if !has {
				continue
			}
			text := fmt.Sprintf("%s: A %s", book.Catalog().Short(x.Name), scale.Text(a))
			if b, has := at(x, s.mark); s.marked && has {
				bare := scene.Scale{Unit: scale.Unit}
				text += fmt.Sprintf("   B %s   A - B %s", scale.Text(b), bare.Text(a-b))
			}
			s.reads = append(s.reads, text)
		}
	}
}
