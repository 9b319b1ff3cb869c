package transfers

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/transfer"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	x := a.Text(0, 0, cells.Head, "TRANSFERS")
	l, t := v.current(h)
	switch {
	case l == nil:
		a.Paragraph(1, 2, cells.Plain, "This capture carries no bench, so nothing is known of transfers. gavrix compare BENCH --link LINK --capture FILE runs those of a bench on it.", 0)
		return
	case v.page == ownersPage:
		v.owners(a, l.Setup())
		return
	case t == nil:
		a.Text(x+2, 0, cells.Strong, l.Name)
		a.Paragraph(1, 2, cells.Plain, "This link has no transfer: how its words get into memory is not described. :add readings receive begins one; what it does not say is derived.", 0)
		return
	}
	x = a.Text(x+2, 0, cells.Strong, l.Name)
	x = a.Text(x+2, 0, cells.Strong, t.Name)
	if n := len(l.Transfers); n > 1 {
		x = a.Text(x+2, 0, cells.Quiet, fmt.Sprintf("transfer %d of %d", v.at[l.Name]%n+1, n))
	}
	v.state(a, x+2, l, t)
	y := 1
	switch v.page {
	case slotsPage:
		v.slotList(a, t, faultsOf(l, t))
		return
	case methodsPage:
		v.comparison(a, l, t)
		return
	}
	y = v.sentence(a, y, t, faultsOf(l, t))
	y = v.reason(a, y, t)
	y = v.figures(a, y+1, t)
	y = v.path(a, y, t)
	y = v.footprints(a, y, t)
	v.picture(a, y+1, h, t)
}

// faultsOf gives the faults of a transfer by their slots.
func faultsOf(l *bench.Link, t *bench.Transfer) map[string]transfer.Fault {
	out := map[string]transfer.Fault{}
	for _, f := range l.Setup().Check() {
		if f.Plan == t.Plan.Name {
			if old, has := out[f.Slot]; !has || f.Severity > old.Severity {
				out[f.Slot] = f
			}
		}
	}
	return out
}

// state says how the transfer is.
func (v *View) state(a cells.Area, x int, l *bench.Link, t *bench.Transfer) {
	s := v.shown
	if s == nil || s.setup != l.Setup() || s.name != t.Name || s.link != l.Index {
		a.Right(a.W, 0, cells.Quiet, "not followed yet")
		return
	}
	text, style := string(s.run.State), cells.Good
	switch {
	case s.run.State == transfer.IsHung, s.run.State == transfer.IsEndless, s.run.State == transfer.IsBroken, s.run.State == transfer.TimedOut:
		text, style = "▲ failed: "+text, cells.Bad
	case s.run.Lost > 0 || s.lost > 0 || s.doubled > 0:
		text, style = "▲ loses words", cells.Bad
		if s.run.Lost == 0 && s.lost == 0 {
			text = "▲ doubles bytes"
		}
	case s.run.State == transfer.IsStopped:
		text, style = "▲ stopped: nothing moves", cells.Bad
		if s.run.Came == 0 {
			text, style = "○ idle: nothing came yet", cells.Quiet
		}
	case !t.Plan.Receive && s.starts == 0:
		text, style = "○ idle: not started yet", cells.Quiet
	case !t.Plan.Receive && s.run.Port != nil && s.run.Moved < s.run.Came:
		text = "● busy"
	case !t.Plan.Receive:
		text = "● done"
	case s.run.Came == 0:
		text, style = "○ idle: nothing came yet", cells.Quiet
	default:
		text = "● running"
	}
	if x+cells.Width(text) < a.W {
		a.Right(a.W, 0, style, text)
	}
}

// sentence writes the plan with its slots, and gives the row below.
func (v *View) sentence(a cells.Area, y int, t *bench.Transfer, faults map[string]transfer.Fault) int {
	keys := v.slots(t)
	at := min(max(v.slot, 0), len(keys)-1)
	x := 1
	for i, p := range t.Plan.Phrases() {
		glued := strings.HasPrefix(p.Text, ",") || p.Text == ";" || p.Text == ":"
		style := cells.Quiet
		if p.Slot != "" {
			style = cells.Strong
			if f, bad := faults[p.Slot]; bad {
				style = cells.Doubt
				if f.Severity == finding.Error {
					style = cells.Bad
				}
			}
			if p.Slot == keys[at] {
				style |= cells.Selected
			}
		}
		w := cells.Width(p.Text)
		if i > 0 && !glued {
			x++
		}
		if x+w > a.W-1 && x > 3 {
			x, y = 3, y+1
		}
		x = a.Text(x, y, style, p.Text)
	}
	return y + 1
}

// reason says of the slot under the cursor how it came about, or takes what is typed.
func (v *View) reason(a cells.Area, y int, t *bench.Transfer) int {
	key := v.selected(t)
	s := transfer.SlotNamed(key)
	if v.entry != nil {
		x := a.Text(1, y, cells.Strong, v.key+" ")
		v.entry.Draw(a, x, y, "   Enter puts it in, Esc leaves")
		return y + 1
	}
	x := a.Text(1, y, cells.Number, key+" "+s.Get(t.Plan))
	why := t.Plan.Why[key]
	if t.Plan.Given[key] {
		why = "given in the bench; d derives it again"
	}
	x = a.Text(x+2, y, cells.Quiet, why)
	if words := s.Type.Words(); len(words) > 1 && x+3+cells.Width(strings.Join(words, " | ")) < a.W {
		a.Text(x+3, y, cells.Quiet, strings.Join(words, " | "))
	}
	return y + 1
}

// figures says what became of the words.
func (v *View) figures(a cells.Area, y int, t *bench.Transfer) int {
	s := v.shown
	if s == nil || s.name != t.Name || s.run.Plan == nil {
		a.Text(1, y, cells.Quiet, v.reading())
		return y + 1
	}
	x := 1
	put := func(label string, style cells.Style, value string) {
		if w := cells.Width(label) + cells.Width(value) + 4; x+w > a.W && x > 1 {
			x, y = 1, y+1
		}
		x = a.Text(x, y, cells.Quiet, label+" ")
		x = a.Text(x, y, style, value) + 3
	}
	bad := func(n int) cells.Style {
		if n > 0 {
			return cells.Bad
		}
		return cells.Strong
	}
	put(map[bool]string{true: "of all that is kept came", false: "of all that is kept went"}[t.Plan.Receive], cells.Strong, fmt.Sprint(s.run.Came))
	put("moved", cells.Strong, fmt.Sprint(s.run.Moved))
	put("lost by the unit", bad(s.run.Lost), fmt.Sprint(s.run.Lost))
	if t.Plan.Goal.Rings() && t.Plan.Means == transfer.DMA {
		put("lost in the ring", bad(s.lost), fmt.Sprint(s.lost))
		put("taken twice", bad(s.doubled), fmt.Sprint(s.doubled))
	}
	if t.Plan.Receive {
		v.freshness(put)
		put("most waiting", cells.Strong, fmt.Sprintf("%d of %d", s.run.High, max(t.Plan.Stream.Depth, 1)))
	} else {
		put("refused starts", bad(s.refused), fmt.Sprint(s.refused))
	}
	calls := fmt.Sprint(s.run.Calls)
	if s.run.Calls < 0 {
		calls = "endless"
	}
	if t.Plan.Path() != nil {
		put("handler calls", cells.Strong, calls)
	}
	for _, e := range []string{"half", "full", "idle"} {
		if n := s.counts[e]; n > 0 {
			put(e, cells.Strong, fmt.Sprint(n))
		}
	}
	if s.run.Latest > 0 {
		put("latency up to", cells.Strong, s.run.Latest.Round(3))
	}
	put("processor", cells.Strong, fmt.Sprintf("%.3f %%", 100*s.run.Share))
	if s.cadence != "" && a.H >= 30 {
		put("bursts", cells.Strong, s.cadence)
	}
	if s.behind > 0 {
		put("behind by", cells.Doubt, fmt.Sprintf("%d records", s.behind))
	}
	y++
	if len(s.run.Harms) > 0 {
		var harms []string
		for _, hm := range s.run.Harms {
			harms = append(harms, string(hm))
		}
		y = a.Paragraph(1, y, cells.Bad, "seen: "+strings.Join(harms, "; "), 6)
	}
	return y
}

// freshness says how many bytes in memory are of the latest transfer.
func (v *View) freshness(put func(string, cells.Style, string)) {
	s := v.shown
	switch {
	case s.fresh+s.left == 0:
	case s.since == quantity.Forever:
		put("source silent, bytes left over", cells.Doubt, fmt.Sprint(s.left))
	default:
		style := cells.Strong
		if s.fresh == 0 {
			style = cells.Doubt
		}
		put("bytes of the latest transfer", style, fmt.Sprint(s.fresh))
		put("left over", cells.Quiet, fmt.Sprint(s.left))
	}
}

// path draws the way of an event, with the link that is broken.
func (v *View) path(a cells.Area, y int, t *bench.Transfer) int {
	steps := t.Plan.Path()
	if steps == nil {
		return y
	}
	x := a.Text(1, y, cells.Quiet, "event ")
	broken := false
	for i, s := range steps {
		if i > 0 {
			line := map[bool]string{true: " ╌ ", false: " ─ "}[broken]
			if a.W < 90 {
				line = strings.TrimSpace(line)
			}
			x = a.Text(x, y, cells.Quiet, line)
		}
		glyph, style := "● ", cells.Good
		if !s.On {
			glyph, style = "▲ ", cells.Bad
			broken = true
		} else if broken {
			glyph, style = "○ ", cells.Quiet
		}
		x = a.Text(x, y, style, glyph+s.Name)
	}
	if b := t.Plan.Broken(); b != nil {
		if text := "off: " + b.Slot; x+2+cells.Width(text) > a.W {
			y++
			a.Text(7, y, cells.Bad, text)
		} else {
			a.Text(x+2, y, cells.Bad, text)
		}
	}
	return y + 1
}

// footprints draws where the first elements tread on both sides.
func (v *View) footprints(a cells.Area, y int, t *bench.Transfer) int {
	if a.H < 30 {
		return y
	}
	places := min((a.W-12)/5, 16)
	if places < 4 {
		return y
	}
	for _, f := range t.Plan.Footprints(places, places) {
		x := a.Text(1, y, cells.Quiet, fmt.Sprintf("%-7s", f.Side))
		for i, p := range f.Places {
			style := cells.Plain
			if strings.Contains(p, "-") {
				style = cells.Doubt
				if f.Side == "unit" {
					style = cells.Plain // a data register is trodden in place
				}
			}
			if p == "" {
				p, style = "·", cells.Quiet
			}
			a.Text(x+5*i, y, style, p)
		}
		y++
	}
	return y
}

// picture draws the lanes, and the buffer below them.
func (v *View) picture(a cells.Area, y int, h ui.Host, t *bench.Transfer) {
	s := v.shown
	v.columns = max(a.W-20, 20)
	if s == nil || s.name != t.Name || s.scene == nil || y >= a.H-3 {
		return
	}
	where := "following"
	if v.fixed {
		where = "held, the other views go to A = " + v.moment.Round(7)
	}
	if v.buffered {
		v.buffer(a, y, t)
		v.runs(a, y+v.bufferRows(a.W))
		return
	}
	a.Text(0, y, cells.Head, "TIME")
	a.Text(6, y, cells.Quiet, fmt.Sprintf("%s; %s across; ← → + - End", where, (s.scene.To-s.scene.From).Round(3)))
	y++
	buffer := v.bufferRows(a.W)
	room := a.H - y - buffer - 1
	if room < len(s.scene.Lanes) {
		buffer, room = 0, a.H-y
	}
	sc := *s.scene
	for len(sc.Lanes) > 2 {
		n := 0
		for _, r := range cells.Heights(&sc, room) {
			n += r
		}
		if n <= room {
			break
		}
		sc.Lanes = append(sc.Lanes[:len(sc.Lanes)-2:len(sc.Lanes)-2], sc.Lanes[len(sc.Lanes)-1])
	}
	if 2*len(sc.Lanes) <= room-len(v.shown.runs)/3 {
		var apart []scene.Lane
		for i, l := range sc.Lanes {
			if i > 0 {
				apart = append(apart, scene.Lane{})
			}
			apart = append(apart, l)
		}
		sc.Lanes = apart
	}
	heights := cells.Heights(&sc, 0)
	cells.Tall(a.Part(0, y, a.W, room), &sc, heights)
	for _, r := range heights {
		y += r
	}
	if buffer > 0 {
		v.buffer(a, y+1, t)
		v.runs(a, y+1+buffer)
	}
}

// runs lists what the consumer of a ring took in the latest runs of its handler.
func (v *View) runs(a cells.Area, y int) {
	s := v.shown
	if len(s.runs) == 0 || y+3 > a.H {
		return
	}
	a.Text(0, y, cells.Head, "TAKEN")
	a.Text(7, y, cells.Quiet, "by the latest runs of the handler")
	y++
	for i := len(s.runs) - 1; i >= 0 && y < a.H; i-- {
		t := s.runs[i]
		var pieces []string
		for _, p := range t.Pieces {
			pieces = append(pieces, fmt.Sprintf("%d to %d", p.Start, p.Start+p.Length-1))
		}
		if pieces == nil {
			pieces = []string{"nothing new"}
		}
		a.Text(1, y, cells.Quiet, t.At.Round(9))
		a.Text(18, y, cells.Plain, fmt.Sprintf("%-14s position %4d   %4d bytes   %s", t.Events, t.Pos, t.Bytes, strings.Join(pieces, ", ")))
		y++
	}
}

// perRow is how many bytes of the buffer stand in a row.
func perRow(w int) int {
	for _, n := range []int{32, 16} {
		if w >= 10+3*n {
			return n
		}
	}
	return 8
}

func (v *View) bufferRows(w int) int {
	if v.shown == nil {
		return 0
	}
	n := perRow(w)
	return min((len(v.shown.cells)+n-1)/n, 6) + 2
}

// buffer draws the bytes of the buffer with its heads.
func (v *View) buffer(a cells.Area, y int, t *bench.Transfer) {
	s := v.shown
	ring := t.Plan.Goal.Rings() && t.Plan.Means == transfer.DMA
	x := a.Text(0, y, cells.Head, "BUFFER")
	about := fmt.Sprintf("%d bytes at 0x%X in %s", t.Plan.Bytes, t.Plan.Address, t.Plan.Memory)
	x = a.Text(x+1, y, cells.Quiet, about)
	if ring {
		x = a.Text(x+3, y, cells.Info, fmt.Sprintf("▸ written next %d", s.write))
		x = a.Text(x+3, y, cells.Good, fmt.Sprintf("◂ read next %d", s.read))
	}
	if x+46 < a.W {
		x = a.Text(x+3, y, cells.Strong, "unread")
		x = a.Text(x+2, y, cells.Quiet, "read")
		if ring {
			x = a.Text(x+2, y, cells.Doubt, "taken twice")
		}
		if !ring || s.since == quantity.Forever {
			x = a.Text(x+2, y, cells.Doubt, "'left over")
		}
		a.Text(x+2, y, cells.Bad, "overwritten unread")
	}
	y++
	n := perRow(a.W)
	first := 0
	if rows := max(a.H-y, 1); len(s.cells) > rows*n {
		// The rows around the head that writes.
		first = min(max(s.write/n-rows/2, 0), max((len(s.cells)+n-1)/n-rows, 0)) * n
	}
	for i := first; i < len(s.cells) && y < a.H; i += n {
		a.Text(0, y, cells.Quiet, fmt.Sprintf("%5d", i))
		var text []byte
		for k := i; k < min(i+n, len(s.cells)); k++ {
			c := s.cells[k]
			style, value := cells.Quiet, fmt.Sprintf("%02X", c.value)
			switch {
			case c.never:
				value = "··"
			case c.lost:
				style = cells.Bad
			case c.twice:
				style = cells.Doubt
			case c.left && (!ring || s.since == quantity.Forever):
				style, value = cells.Doubt, value+"'"
			case c.unread:
				style = cells.Strong
			}
			col := 7 + 3*(k-i)
			a.Text(col, y, style, value)
			if ring && k == s.write%max(s.size, 1) {
				a.Text(col-1, y, cells.Info, "▸")
			} else if ring && k == s.read%max(s.size, 1) {
				a.Text(col-1, y, cells.Good, "◂")
			}
			if c.never {
				text = append(text, ' ')
			} else {
				text = append(text, c.value)
			}
		}
		if x := 8 + 3*n; x+n <= a.W {
			for k, b := range text {
				a.Put(x+k, y, cells.Quiet, safe.Byte(b))
			}
		}
		y++
	}
}

// slotList shows every slot with its value and its reason.
func (v *View) slotList(a cells.Area, t *bench.Transfer, faults map[string]transfer.Fault) {
	keys := v.slots(t)
	at := min(max(v.slot, 0), len(keys)-1)
	rows := max(a.H-4, 1)
	values := 8
	for _, key := range keys {
		values = max(values, cells.Width(transfer.SlotNamed(key).Get(t.Plan)))
	}
	reasons := 24 + min(values, 20) + 2
	why := func(i int) []string {
		text := t.Plan.Why[keys[i]]
		if t.Plan.Given[keys[i]] {
			text = "given"
		}
		if f, bad := faults[keys[i]]; bad {
			text = f.Seen
		}
		return safe.Wrap(text, max(a.W-reasons, 12))
	}
	// The row under the cursor is among those that are shown.
	v.top = min(v.top, at)
	for n := 0; v.top < at; v.top++ {
		n = 0
		for i := v.top; i <= at; i++ {
			n += max(len(why(i)), 1)
		}
		if n <= rows {
			break
		}
	}
	y, i := 2, v.top
	for ; i < len(keys) && y+len(why(i)) <= 2+rows; i++ {
		key := keys[i]
		style, mark := cells.Plain, " "
		if t.Plan.Given[key] {
			style = cells.Strong
		}
		if _, bad := faults[key]; bad {
			style, mark = cells.Bad, "▲"
		}
		add := cells.Style(0)
		if i == at {
			add = cells.Selected
			a.Mark(y)
		}
		a.Text(0, y, style|add, mark)
		a.Text(2, y, cells.Plain|add, key)
		a.Text(24, y, style|add, transfer.SlotNamed(key).Get(t.Plan))
		lines := why(i)
		for k, line := range lines {
			if k > 0 {
				add = 0
			}
			a.Text(reasons, y+k, cells.Quiet|add, line)
		}
		y += max(len(lines), 1)
	}
	if i < len(keys) {
		a.Text(0, 2+rows, cells.Quiet, fmt.Sprintf("↓ %d more", len(keys)-i))
	}
	y = a.H - 1
	if v.entry != nil {
		x := a.Text(1, y, cells.Strong, v.key+" ")
		v.entry.Draw(a, x, y, "   Enter puts it in, Esc leaves")
		return
	}
	a.Text(1, y, cells.Quiet, transfer.SlotNamed(keys[at]).Doc)
}

// comparison shows the methods on the same traffic.
func (v *View) comparison(a cells.Area, l *bench.Link, t *bench.Transfer) {
	m := v.methods
	if m == nil || m.busy || m.setup != l.Setup() || m.name != t.Name {
		a.Text(1, 2, cells.Quiet, "running each method on the traffic that is kept: it takes a moment")
		return
	}
	a.Paragraph(1, 2, cells.Quiet, fmt.Sprintf("each on the same traffic, up to %s; what a method needs is derived", m.at.Round(4)), 0)
	labels := []string{"words moved", "lost by the unit", "lost in the ring", "processor", "interrupts a second", "latency up to", "greatest rate", "limited by", "against the line"}
	for i, label := range labels {
		a.Text(1, 5+i, cells.Quiet, label)
	}
	w := max((a.W-24)/len(m.rows), 14)
	for i := range m.rows {
		r := &m.rows[i]
		x := 24 + i*w
		style := cells.Head
		name := r.Means.String()
		if r.Means == t.Plan.Means {
			name += " (now)"
		}
		a.Text(x, 4, style, name)
		if r.Refused != "" {
			a.Part(x, 5, min(w-2, a.W-x), 8).Paragraph(0, 0, cells.Doubt, r.Refused, 0)
			continue
		}
		lost, doubled := 0, 0
		if r.Run.Ring != nil {
			lost, doubled = r.Run.Ring.Sums()
		}
		bad := func(n int) cells.Style {
			if n > 0 {
				return cells.Bad
			}
			return cells.Good
		}
		a.Text(x, 5, cells.Strong, fmt.Sprint(r.Run.Moved))
		a.Text(x, 6, bad(r.Run.Lost), fmt.Sprint(r.Run.Lost))
		a.Text(x, 7, bad(lost+doubled), fmt.Sprint(lost))
		a.Text(x, 8, cells.Plain, fmt.Sprintf("%.4f %%", 100*r.Run.Share))
		a.Text(x, 9, cells.Plain, fmt.Sprintf("%.1f", r.Interrupts))
		a.Text(x, 10, cells.Plain, r.LatencyText())
		a.Text(x, 11, cells.Plain, l.RateText(quantity.FromBd(r.Greatest), 4))
		a.Text(x, 12, cells.Quiet, r.Limit)
		style = cells.Good
		if r.Content != "equal" {
			style = cells.Bad
		}
		a.Part(x, 13, min(w-2, a.W-x), 4).Paragraph(0, 0, style, r.Content, 0)
	}
	a.Paragraph(1, 18, cells.Quiet, "m goes back; the slot method chooses one. The greatest rate is calculated, all else is what the run showed.", 0)
}

// owners shows who has what.
func (v *View) owners(a cells.Area, s *transfer.Setup) {
	a.Text(11, 0, cells.Strong, "who has what")
	if s == nil || s.Part.Channels == 0 && len(s.Plans) == 0 {
		a.Paragraph(1, 2, cells.Plain, "The bench describes no DMA engine and no transfers: add `dma:` below `mcu:`, and `transfers:` below a link.", 0)
		return
	}
	channels, requests, levels := s.Owners()
	var lines []func(y int)
	row := func(o transfer.Owner, detail string) {
		text, style := strings.Join(o.Owners, ", "), cells.Plain
		switch {
		case o.Free:
			text, style = "free", cells.Quiet
		case len(o.Owners) > 1 && detail != "":
			text, style = "▲ "+text, cells.Bad
		}
		at, rest := 20, max(a.W*5/8, 44)
		w := a.W - at
		if detail != "" {
			w = rest - at - 2
		}
		names, more := safe.Wrap(text, max(w, 10)), safe.Wrap(detail, max(a.W-rest, 10))
		for i := range max(len(names), len(more)) {
			lines = append(lines, func(y int) {
				if i == 0 {
					a.Text(2, y, cells.Strong, o.What)
				}
				if i < len(names) {
					a.Text(at, y, style, names[i])
				}
				if i < len(more) {
					a.Text(rest, y, cells.Quiet, more[i])
				}
			})
		}
	}
	head := func(text string) {
		lines = append(lines, func(y int) { a.Text(0, y, cells.Head, text) })
	}
	head("CHANNELS")
	for _, o := range channels {
		var carries []string
		for _, q := range requests {
			for _, n := range s.Part.Requests[q.What] {
				if fmt.Sprint(n) == o.What {
					carries = append(carries, q.What)
				}
			}
		}
		row(o, "for "+strings.Join(carries, ", "))
	}
	head("REQUESTS")
	for _, o := range requests {
		row(o, fmt.Sprintf("channels %s", strings.Trim(fmt.Sprint(s.Part.Requests[o.What]), "[]")))
	}
	head("LEVELS OF THE INTERRUPT CONTROLLER, 0 MOST URGENT")
	for _, o := range levels {
		row(o, "")
	}
	rows := a.H - 3
	v.top = max(min(v.top, len(lines)-rows), 0)
	for i := v.top; i < min(v.top+rows, len(lines)); i++ {
		lines[i](2 + i - v.top)
	}
	if v.top+rows < len(lines) {
		a.Text(0, a.H-1, cells.Quiet, fmt.Sprintf("↓ %d more", len(lines)-v.top-rows))
	}
}
