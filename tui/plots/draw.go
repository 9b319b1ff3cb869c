package plots

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	v.w = max(a.W-cells.NameWidth(&scene.Scene{}, a.W), 20)
	defer v.typing(a)
	x := a.Text(0, 0, cells.Head, "PLOTS")
	s := v.shown
	if s == nil {
		a.Text(1, 2, cells.Quiet, "the values of the traffic are being read")
		return
	}
	if s.behind > 0 {
		a.Right(a.W, 0, cells.Doubt, fmt.Sprintf("%d records to go", s.behind))
	}
	switch v.page {
	case listPage:
		v.list(a, x+2)
		return
	case againstPage:
		x = a.Text(x+2, 0, cells.Strong, "one against the other")
	case countPage:
		x = a.Text(x+2, 0, cells.Strong, "how often")
	}
	from, to := v.window(h.Snapshot().Now)
	where := "following"
	if v.fixed {
		where = "held"
	}
	a.Text(x+2, 0, cells.Quiet, fmt.Sprintf("%s, %s across, from %s", where, (to-from).Round(3), from.Round(6)))
	if s.empty != "" {
		a.Paragraph(1, 2, cells.Plain, s.empty, 0)
		return
	}
	if s.scene == nil {
		return
	}
	body := a.Part(0, 2, a.W, a.H-2)
	if len(s.scene.Charts) > 0 {
		notes := len(s.scene.Notes)
		sc := *s.scene
		cells.Scene(body.Part(0, 0, body.W, body.H-notes), &sc)
		y := body.H - notes
		for _, n := range s.scene.Notes {
			y = body.Paragraph(0, y, cells.Plain, n, 2)
		}
		return
	}
	v.lanesOf(body, s)
}

// least is how few rows a lane takes.
const least = 4

// lanesOf draws the values over time, with what the cursors read below.
func (v *View) lanesOf(a cells.Area, s *shown) {
	sc := *s.scene
	lanes := len(sc.Lanes) - 1
	reads := min(len(s.reads), max(a.H-least*lanes-2, 0))
	room := a.H - reads - 1
	first := 0
	if most := max(room/least, 1); lanes > most {
		first = min(max(v.lane-most/2, 0), lanes-most)
		sc.Lanes = append(slices.Clone(sc.Lanes[first:first+most]), sc.Lanes[lanes])
		lanes = most
	}
	rows := make([]int, len(sc.Lanes))
	for i := range lanes {
		rows[i] = room/lanes + map[bool]int{true: 1}[i < room%lanes]
	}
	rows[lanes] = 1
	cells.Tall(a.Part(0, 0, a.W, room+1), &sc, rows)
	if at := v.lane - first; len(s.lanes) > 1 && at >= 0 && at < lanes {
		y := 0
		for i := range at {
			y += rows[i]
		}
		a.Mark(y)
	}
	if first+lanes < len(s.scene.Lanes)-1 {
		a.Right(a.W, room, cells.Quiet, "↓ more")
	}
	for i := range reads {
		style := cells.Plain
		if i == 0 {
			style = cells.Good
		}
		a.Text(0, room+1+i, style, s.reads[i])
	}
}

// list shows what the values are now, the freshest first.
func (v *View) list(a cells.Area, x int) {
	s := v.shown
	what := "values of the selected link, the freshest first; a: all links"
	if s.all {
		what = "values of all links, the freshest first; a: the selected one"
	}
	a.Text(x, 0, cells.Quiet, what)
	if len(s.rows) == 0 {
		a.Paragraph(1, 2, cells.Plain, "No value came so far: the traffic is empty, or no device file says what it means. `layouts:` and `registers:` of a device file do.", 0)
		return
	}
	name := 10
	for _, r := range s.rows {
		name = max(name, cells.Width(r.name))
	}
	name = min(name, max(a.W/3, 20))
	columns := []int{2, name + 4, name + 26, name + 48, name + 58, name + 68}
	if a.W < 90 {
		columns = []int{2, name + 4, name + 20, a.W + 1, name + 20, name + 29}
	}
	for i, head := range []string{"value", "is", "was", "came", "changed", "age"} {
		if columns[i] < a.W && !(a.W < 90 && i == 2) {
			a.Text(columns[i], 1, cells.Quiet, head)
		}
	}
	v.row = min(v.row, len(s.rows)-1)
	rows := max(a.H-4, 1)
	v.top = min(max(v.top, v.row-rows+1), v.row)
	for i := v.top; i < min(v.top+rows, len(s.rows)); i++ {
		r := &s.rows[i]
		y := 2 + i - v.top
		add := cells.Style(0)
		if i == v.row {
			add = cells.Selected
			a.Mark(y)
		}
		if slices.ContainsFunc(v.drawn(), func(l []string) bool { return slices.Contains(l, r.name) }) {
			a.Text(0, y, cells.Good|add, "~")
		}
		style := cells.Strong
		if r.stale {
			style = cells.Doubt
		}
		put := func(column, width int, style cells.Style, text string) {
			if columns[column] < a.W && !(a.W < 90 && column == 2) {
				a.Part(columns[column], y, min(width, a.W-columns[column]), 1).Text(0, 0, style|add, text)
			}
		}
		put(0, name+1, cells.Plain, r.name)
		put(1, 21, style, r.last)
		put(2, 21, cells.Quiet, r.before)
		put(3, 9, cells.Plain, fmt.Sprint(r.seen))
		put(4, 9, cells.Plain, fmt.Sprint(r.changes))
		age := r.age.Round(2)
		if r.age < quantity.Second {
			age = "now"
		}
		if r.stale {
			age += " stale"
		}
		put(5, 20, cells.Quiet, age)
	}
	r := &s.rows[v.row]
	text := fmt.Sprintf("%s came %s", r.name, quantity.Count(r.seen, "time"))
	switch {
	case r.changes == 0 && r.seen > 1:
		text += ", each time the same"
	case r.changes > 0:
		text += fmt.Sprintf(", changed %s", quantity.Count(r.changes, "time"))
	}
	if r.wrote {
		text += ", set by the MCU"
	}
	if r.about != "" {
		text += ": " + r.about
	}
	a.Text(0, a.H-1, cells.Quiet, text)
}

// drawn are the lanes that are drawn.
func (v *View) drawn() [][]string {
	if !v.chosen && v.shown != nil {
		return v.shown.lanes
	}
	return v.lanes
}
