package traffic

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/comb"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/values"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// combs shows what comes again and again, a comb each.
type combs struct {
	comb    *comb.Comb
	of      *capture.Meta
	link    int // records.Any for all
	working bool
	seen    bool // what changed is to be marked as seen
	shown   *combPicture
	at      int // the row under the cursor
	top     int
	span    quantity.Time
	// means is for the background alone, made anew when those of the screen, meansOf, are others.
	means, meansOf *bench.Meanings
}

// combPicture is what the page shows, made in the background.
type combPicture struct {
	from, to quantity.Time
	rows     []combRow
	behind   int
}

// combRow is a row as it stood.
type combRow struct {
	comb.Row
	name, meaning string
	usual, jitter quantity.Time
	overdue       quantity.Time
	teeth         []comb.Tooth
	ticks         []comb.Tick
}

// The stretch of time that combs show at first, and its bounds.
const (
	firstSpan = 2 * quantity.Second
	leastSpan = quantity.Microsecond
	mostSpan  = 1000 * quantity.Second
)

// turnComb shows the combs, or the list again.
func (v *View) turnComb() {
	if v.combs != nil {
		v.combs = nil
		return
	}
	v.combs = &combs{span: firstSpan}
}

// tick makes the picture anew, in the background.
func (c *combs) tick(h ui.Host, all, held bool, at quantity.Time) tea.Cmd {
	snap := h.Snapshot()
	if c.working || snap == nil {
		return nil
	}
	link := int(h.LinkIndex())
	if all {
		link = -1
	}
	if c.comb == nil || c.of != snap.Meta() || c.link != link {
		c.of, c.link, c.shown, c.at = snap.Meta(), link, nil, 0
		links := snap.Meta().Links
		c.comb = comb.New(func(r *record.Record) bool {
			return (link < 0 || int(r.Link) == link) && int(r.Link) < len(links) && values.Once(&links[r.Link], r)
		})
	}
	c.working = true
	x, seen, span := c.comb, c.seen, c.span
	c.seen = false
	end := snap.Now
	if held {
		end = min(at+span/2, snap.Now)
	}
	b := h.Bench().Still()
	if of := h.Meanings(); c.means == nil || c.meansOf != of {
		c.means, c.meansOf = b.Meanings(), of
	}
	meanings := c.means.Within(&snap.Reader)
	meta := snap.Meta()
	return func() tea.Msg {
		x.Take(snap, mostLooked)
		p := &combPicture{from: max(end-span, 0), to: end, behind: x.Behind()}
		for _, r := range x.Rows() {
			if seen {
				r.Seen()
			}
			row := combRow{Row: *r, usual: r.Usual(), jitter: r.Jitter(), overdue: r.Overdue(snap.Now), teeth: r.Teeth(p.from, p.to), ticks: r.Ticks(p.from, p.to, snap.Now)}
			row.Varies, row.Fresh = slices.Clone(r.Varies), slices.Clone(r.Fresh)
			row.name, row.meaning = combName(meta, b, meanings, r)
			p.rows = append(p.rows, row)
		}
		return ui.Done(func(ui.Host) tea.Cmd {
			c.working = false
			if c.comb == x {
				c.shown = p
			}
			return nil
		})
	}
}

// combName gives what a row is called, and what its latest record means.
func combName(meta *capture.Meta, b *bench.Bench, m *bench.Meanings, r *comb.Row) (name, meaning string) {
	l := &meta.Links[r.Link]
	name = l.EndName(r.Sender)
	if r.Addressed || r.Kind == record.Transaction {
		name = l.EndName(r.Key.From)
	}
	if r.Head != "" {
		name += " " + r.Head
	}
	if b == nil {
		return name, ""
	}
	shown := &r.Latest
	if r.Count > r.Bad {
		shown = &r.Whole
	}
	all := m.Of(l.Name, shown)
	if at := b.Link(l.Name); at != nil && r.Addressed {
		for _, p := range at.Parts() {
			if _, with := p.Seen(shown); with {
				name = p.Name
			}
		}
	}
	for _, x := range all {
		if x.Laid != nil && x.Laid.Layout != nil && x.Laid.Layout.Name != "" {
			name = x.Laid.Layout.Name
			break
		}
	}
	return name, m.Brief(l.Name, all)
}

// draw shows the combs, two rows each.
func (c *combs) draw(a cells.Area, h ui.Host, all, held bool) {
	if c.shown == nil {
		a.Text(2, 1, cells.Quiet, "Looking through the traffic.")
		return
	}
	p := c.shown
	const labels = 42
	wide := max(a.W-labels, 10)
	x := a.Text(0, 0, cells.Head, "WHAT COMES AGAIN")
	text := fmt.Sprintf("from %s to %s; + - another stretch", p.from.Round(6), p.to.Round(6))
	if p.behind > 0 {
		text = fmt.Sprintf("%d records to go; ", p.behind) + text
	}
	x = a.Text(x+2, 0, cells.Quiet, text)
	const legend = "× missing  · late  ▲ bad  [ ] changed"
	beside := x+3+cells.Width(legend) <= a.W
	if beside {
		a.Right(a.W, 0, cells.Quiet, legend)
	}
	if len(p.rows) == 0 {
		a.Paragraph(2, 2, cells.Plain, "Nothing was seen on this link yet that could come again.", 0)
		return
	}
	rows := max((a.H-2)/2, 1)
	c.at = min(max(c.at, 0), len(p.rows)-1)
	c.top = min(max(c.top, c.at-rows+1, 0), c.at)
	y := 2
	for i := c.top; i < len(p.rows) && y+1 < a.H; i++ {
		c.row(a, y, &p.rows[i], i == c.at, wide, labels, all, h)
		y += 2
	}
	if !beside && y < a.H {
		a.Text(2, a.H-1, cells.Quiet, legend)
	}
	if rest := len(p.rows) - c.top - rows; rest > 0 {
		a.Right(a.W, a.H-1, cells.Quiet, fmt.Sprintf("↓ %d more", rest))
	}
}

func (c *combs) row(a cells.Area, y int, r *combRow, selected bool, wide, labels int, all bool, h ui.Host) {
	x := 2
	if all {
		x = a.Part(0, y, 14, 1).Text(2, 0, cells.Quiet, h.Snapshot().Meta().Links[r.Link].Name) + 1
	}
	if key := r.Key.Text(); key != "" {
		x = a.Text(x, y, cells.Strong, key) + 2
	}
	a.Part(x, y, max(23-x, 8), 1).Text(0, 0, cells.Plain, r.name)
	period := "no steady period"
	switch {
	case r.usual > 0 && r.jitter > 0:
		period = fmt.Sprintf("%s ±%s", r.usual.Round(3), r.jitter.Round(2))
	case r.usual > 0:
		period = r.usual.Round(3) + ", exact"
	case r.Count < 3:
		period = "too few yet"
	}
	a.Part(24, y, labels-25, 1).Text(0, 0, cells.Plain, period)
	c.teeth(a.Part(labels, y, wide, 1), r)
	// Below it what it carries.
	text := fmt.Sprintf("%d seen", r.Count)
	x = a.Text(2, y+1, cells.Quiet, text)
	if r.Bad > 0 {
		x = a.Text(x+2, y+1, cells.Bad, fmt.Sprintf("▲ %d bad", r.Bad))
	}
	if r.Senders {
		x = a.Text(x+2, y+1, cells.Doubt, "several senders")
	}
	if r.overdue > 0 {
		x = a.Text(x+2, y+1, cells.Bad, fmt.Sprintf("▲ missing for %s", r.overdue.Round(3)))
	}
	x = c.bytes(a, max(x+2, 24), y+1, r)
	if r.meaning != "" && x+10 < a.W {
		a.Part(x+2, y+1, a.W-x-2, 1).Text(0, 0, cells.Plain, fitted(r.meaning, a.W-x-3))
	}
	if selected {
		a.Mark(y)
	}
}

// teeth draws a comb: a tooth for what came, a cross where one is missing, and a dot where it
// is late.
func (c *combs) teeth(a cells.Area, r *combRow) {
	p := c.shown
	if a.W < 1 {
		return // no room is left beside the labels
	}
	each := max((p.to-p.from)/quantity.Time(a.W), 1)
	column := func(t quantity.Time) int { return min(int((t-p.from)/each), a.W-1) }
	for x := range a.W {
		a.Put(x, 0, cells.Quiet, '─')
	}
	for _, t := range r.ticks {
		if x := column(t.At); t.Missing {
			a.Put(x, 0, cells.Bad, '×')
		} else {
			a.Put(x, 0, cells.Doubt, '·')
		}
	}
	n := map[int]int{}
	for _, t := range r.teeth {
		x := column(max(t.Start, p.from))
		n[x]++
		switch {
		case t.Bad:
			a.Put(x, 0, cells.Bad, '▲')
		case n[x] > 1:
			a.Put(x, 0, cells.Plain, '╨')
		default:
			a.Put(x, 0, cells.Plain, '┴')
		}
	}
}

// mostCombBytes bounds the bytes that a row shows.
const mostCombBytes = 12

// bytes shows those that change; those that never did are folded, and what changed since
// somebody has seen it is in brackets.
func (c *combs) bytes(a cells.Area, x, y int, r *combRow) int {
	same, shown := 0, 0
	fold := func() {
		if same > 0 {
			x = a.Text(x, y, cells.Quiet, fmt.Sprintf("%d same", same)) + 1
			same = 0
		}
	}
	for i, b := range r.Latest.Data {
		if x+14 > a.W || shown == mostCombBytes {
			return a.Text(x, y, cells.Quiet, "…")
		}
		switch {
		case i < len(r.Fresh) && r.Fresh[i]:
			fold()
			x = a.Text(x, y, cells.Strong, fmt.Sprintf("[%02X]", b)) + 1
			shown++
		case i < len(r.Varies) && r.Varies[i]:
			fold()
			x = a.Text(x, y, cells.Plain, fmt.Sprintf("%02X", b)) + 1
			shown++
		default:
			same++
		}
	}
	fold()
	return x
}

// combCommands are those of the combs.
func (v *View) combCommands(h ui.Host) []ui.Command {
	c := v.combs
	do := func(f func()) func(string) tea.Cmd {
		return func(string) tea.Cmd { f(); return nil }
	}
	return []ui.Command{
		{Name: "comb-up", Keys: []string{"up", "k"}, Help: "the comb above", Run: do(func() { c.at = max(c.at-1, 0) })},
		{Name: "comb-down", Keys: []string{"down", "j"}, Help: "the comb below", Run: do(func() { c.at++ })},
		{Name: "wider", Keys: []string{"-"}, Help: "a longer stretch of time", Short: "time", Run: do(func() { c.span = min(c.span*2, mostSpan) })},
		{Name: "narrower", Keys: []string{"+", "="}, Help: "a shorter one", Run: do(func() { c.span = max(c.span/2, leastSpan) })},
		{Name: "seen", Keys: []string{"c"}, Help: "take the brackets off what has changed", Short: "seen", Run: do(func() { c.seen = true })},
		{Name: "records-of", Keys: []string{"enter"}, Help: "list the records of the comb under the cursor", Short: "its records", Run: do(func() { v.recordsOf(h) })},
	}
}

// recordsOf lists the records of a row: by a filter, as one would write it.
func (v *View) recordsOf(h ui.Host) {
	c := v.combs
	if c.shown == nil || len(c.shown.rows) == 0 {
		h.Say("nothing was seen yet")
		return
	}
	r := &c.shown.rows[min(max(c.at, 0), len(c.shown.rows)-1)]
	quoted := func(s string) string {
		if strings.ContainsAny(s, " \t") {
			return `"` + s + `"`
		}
		return s
	}
	l := &h.Snapshot().Meta().Links[r.Link]
	text := quoted(l.Name)
	switch {
	case r.Frame:
		text += " identifier " + r.Key.Text()
	case r.Kind == record.Transaction && r.Key.From >= record.Device:
		text = quoted(l.EndName(r.Key.From))
	case r.Key.From != record.Nobody:
		text += " from " + quoted(l.EndName(r.Key.From))
		if r.Head != "" {
			text += fmt.Sprintf(" text %q", r.Head)
		}
	}
	if v.find.set(h, text) {
		v.combs, v.paused, v.open = nil, false, false
	}
}
