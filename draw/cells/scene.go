package cells

import (
	"math"
	"strings"

	"github.com/mattn/go-runewidth"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
)

// leastNames is the least column in which lanes begin.
const leastNames = 18

// NameWidth is the column in which the lanes of a scene begin in a width: their names have
// room, up to a third of it.
func NameWidth(s *scene.Scene, width int) int {
	n := leastNames
	for i := range s.Lanes {
		l := &s.Lanes[i]
		if l.Scale != nil { // its name stands above it
			n = max(n, Width(l.Scale.Text(l.Scale.Low))+2, Width(l.Scale.Text(l.Scale.High))+2)
			continue
		}
		w := 1
		for _, text := range []string{l.Letter, l.Name, l.Detail} {
			if text != "" {
				w += Width(text) + 1
			}
		}
		n = max(n, w)
	}
	return min(n, max(width/3, leastNames))
}

// SceneHeight is the number of rows that a scene takes in a width, without its
// notes.
func SceneHeight(s *scene.Scene, width int) int {
	h := ChartHeight * len(s.Charts)
	for _, rows := range Heights(s, 0) {
		h += rows
	}
	for i := range s.Hops {
		h += hopHeight(&s.Hops[i], ColumnsOf(s.Hops, width), width)
	}
	return h + 1
}

// mostRows is how many rows a lane takes where there is room.
const mostRows = 3

// seriesRows is how many rows a lane of values takes.
const seriesRows = 6

// Heights shares rows among the lanes of a scene: one for each, more for values over time, and where there is room
// more for those on which something happens, edges first, the upper ones before the lower.
// They may take less than there is.
func Heights(s *scene.Scene, rows int) []int {
	out := make([]int, len(s.Lanes))
	left := rows
	for i := range out {
		out[i] = 1
		if s.Lanes[i].Scale != nil {
			out[i] = seriesRows
		}
		left -= out[i]
	}
	for _, round := range []struct {
		to    int
		wants func(l *scene.Lane) bool
	}{{2, alive}, {2, labelled}, {mostRows, alive}} {
		for i := range s.Lanes {
			if left > 0 && round.wants(&s.Lanes[i]) && out[i] < round.to {
				out[i]++
				left--
			}
		}
	}
	return out
}

func alive(l *scene.Lane) bool {
	return l.Levels != nil && len(l.Levels.Toggles)+len(l.Levels.Busy) > 0
}

func labelled(l *scene.Lane) bool { return l.Levels == nil && len(l.Cells) > 0 }

// Scene draws the lanes of a scene, one row each, and gives the facts that it
// drew. Columns are true to scale: a time t stands in the column
// NameWidth + (t - From) / (To - From) · width, rounded down.
func Scene(a Area, s *scene.Scene) []string { return Tall(a, s, Heights(s, 0)) }

// Tall is Scene with a number of rows for each lane, as Heights gives them.
func Tall(a Area, s *scene.Scene, rows []int) []string {
	names := NameWidth(s, a.W)
	p := plot{a: a, s: s, names: names, w: a.W - names - 1, rows: rows}
	if p.w < 1 || s.To <= s.From && len(s.Lanes) > 0 {
		return nil
	}
	y := 0
	for i := range s.Lanes {
		p.lane(y, rows[i], &s.Lanes[i])
		y += rows[i]
	}
	for _, m := range s.Cursors {
		p.cursor(m, y)
	}
	for i := range s.Charts {
		n := min(ChartHeight, a.H-y)
		if len(s.Lanes) == 0 && len(s.Charts) == 1 {
			n = a.H - y
		}
		p.facts = append(p.facts, chart(a.Part(0, y, a.W, n), &s.Charts[i])...)
		y += n
	}
	for i := range s.Hops {
		y = Hop(a, y, &s.Hops[i], ColumnsOf(s.Hops, a.W))
		p.facts = append(p.facts, s.Hops[i].Fact())
	}
	return p.facts
}

type plot struct {
	a     Area
	s     *scene.Scene
	names int // column in which lanes begin
	w     int
	rows  []int
	facts []string
}

// x gives the column of a time.
func (p *plot) x(t quantity.Time) int {
	share := float64(t-p.s.From) / float64(p.s.To-p.s.From)
	return p.names + int(math.Floor(share*float64(p.w)))
}

func toneStyle(t scene.Tone) Style {
	switch t {
	case scene.Differ:
		return Bad
	case scene.Doubt:
		return Doubt
	case scene.Quiet:
		return Quiet
	}
	return Plain
}

// lane draws a lane in rows from y on.
func (p *plot) lane(y, rows int, l *scene.Lane) {
	if l.Scale != nil {
		p.series(y, rows, l)
		return
	}
	room := p.a.Part(0, y, p.names-1, 1)
	at := 0
	if l.Letter != "" {
		style := Quiet
		if l.Hue > 0 {
			style = Hue1 + Style(l.Hue-1)
		}
		at = room.Text(0, 0, style, l.Letter) + 1
	}
	at = room.Text(at, 0, Strong, l.Name)
	if l.Detail != "" {
		room.Text(at+1, 0, Quiet, l.Detail)
	}
	if l.Levels != nil {
		p.levels(y, rows, l)
	}
	p.ticks(y, l)
	for _, c := range l.Cells {
		p.cell(y, c)
		if rows > 1 {
			p.extent(y+1, c)
		}
		p.facts = append(p.facts, l.CellFact(c))
	}
	for _, m := range l.Marks {
		r := '╵'
		switch m.Tone {
		case scene.Differ:
			r = '✗'
		case scene.Doubt:
			r = '?'
		}
		p.a.Put(p.x(m.At), y, toneStyle(m.Tone), r)
		p.facts = append(p.facts, l.MarkFact(m))
	}
}

// extent draws the stretch of a cell in a row of its own.
func (p *plot) extent(y int, c scene.Cell) {
	from, to := p.x(c.From), p.x(c.To)
	style := toneStyle(c.Tone)
	if style == Plain {
		style = Quiet
	}
	if to-from < 2 {
		return
	}
	for x := max(from, p.names); x <= min(to, p.names+p.w-1); x++ {
		r := '─'
		switch x {
		case from:
			r = '╰'
			if p.a.g.At(p.a.X+x, p.a.Y+y).Rune == '╯' {
				r = '┴'
			}
		case to:
			r = '╯'
		}
		p.a.Put(x, y, style, r)
	}
}

// over are levels with a cursor through them.
var over = map[rune]rune{'▁': '┴', '▔': '┬', '─': '┼', '║': '╫'}

// cursor draws a moment down through all lanes, over levels and behind labels, and its name
// above.
func (p *plot) cursor(m scene.Mark, rows int) {
	if !p.s.Holds(m.At) {
		return
	}
	x := p.x(m.At)
	p.facts = append(p.facts, p.s.CursorFact(m))
	for y := range rows {
		r := p.a.g.At(p.a.X+x, p.a.Y+y).Rune
		switch with, level := over[r]; {
		case level:
			p.a.Put(x, y, Good, with)
		case r == ' ' || r == '╎':
			p.a.Put(x, y, Good, '┊')
		case strings.ContainsRune("┌┐└┘│╰╯┴", r):
			p.a.Put(x, y, Good, r)
		}
	}
	p.a.Text(x, 0, Good, m.Label)
}

// crossed says whether the name of a cursor stands from x to the column to.
func (p *plot) crossed(x, to int) bool {
	for _, c := range p.s.Cursors {
		if at := p.x(c.At); at >= x-1 && at <= to {
			return true
		}
	}
	return false
}

func (p *plot) ticks(y int, l *scene.Lane) {
	end := 0
	for _, m := range l.Ticks {
		p.facts = append(p.facts, l.TickFact(m))
		x := p.x(m.At)
		to := x + 1 + Width(m.Label)
		if x < max(end, p.names) || to > p.names+p.w || p.crossed(x, to) {
			continue
		}
		p.a.Put(x, y, Quiet, '╷')
		end = p.a.Text(x+1, y, Quiet, m.Label) + 1
	}
}

func (p *plot) levels(y, rows int, l *scene.Lane) {
	high, k, b := l.Levels.High, 0, 0
	busy := l.Levels.Busy
	for _, x := range busy {
		p.facts = append(p.facts, l.BusyFact(x))
	}
	for k := range l.Levels.Toggles {
		p.facts = append(p.facts, l.EdgeFact(k))
	}
	for x := p.names; x < p.names+p.w; x++ {
		before := high
		for {
			edge := k < len(l.Levels.Toggles) && p.x(l.Levels.Toggles[k]) <= x
			full := b < len(busy) && p.x(busy[b].To) <= x
			switch {
			case edge && (!full || l.Levels.Toggles[k] < busy[b].From):
				high = !high
				k++
				continue
			case full:
				high = busy[b].High
				b++
				continue
			}
			break
		}
		if b < len(busy) && p.x(busy[b].From) <= x {
			for i := range rows {
				p.a.Put(x, y+i, Plain, '║')
			}
			continue
		}
		if rows > 1 {
			if !l.Levels.Reconstructed || x%2 == 0 || before != high {
				p.tall(x, y, rows, before, high)
			}
			continue
		}
		r := '▁'
		if high {
			r = '▔'
		}
		if l.Levels.Reconstructed && x%2 == 1 {
			r = ' '
		}
		p.a.Put(x, y, Plain, r)
	}
}

// tall draws the level of a column in several rows, with an edge where it changed.
func (p *plot) tall(x, y, rows int, before, high bool) {
	bottom := y + rows - 1
	if before == high {
		if !high {
			y = bottom
		}
		p.a.Put(x, y, Plain, '─')
		return
	}
	top, low := '┐', '└'
	if high {
		top, low = '┌', '┘'
	}
	p.a.Put(x, y, Plain, top)
	for at := y + 1; at < bottom; at++ {
		p.a.Put(x, at, Plain, '│')
	}
	p.a.Put(x, bottom, Plain, low)
}

func (p *plot) cell(y int, c scene.Cell) {
	from, to := p.x(c.From), p.x(c.To)
	style := toneStyle(c.Tone)
	if from >= p.names && from < p.names+p.w {
		p.a.Put(from, y, Quiet, '╎')
	}
	if to >= p.names && to <= p.names+p.w {
		p.a.Put(to, y, Quiet, '╎')
	}
	// What reaches beyond the picture is named in the part that is seen.
	from, to = max(from, p.names-1), min(to, p.names+p.w)
	label := c.Label
	if c.Tone == scene.Differ {
		label = "≠" + label
	}
	room := to - from - 1
	for _, short := range []string{label, shorten(label), clip(label, room)} {
		if w := Width(short); w > 0 && w <= room {
			p.a.Text(from+1+(room-w)/2, y, style, short)
			return
		}
	}
	switch c.Tone {
	case scene.Doubt:
		for x := from + 1; x < to; x++ {
			p.a.Put(x, y, style, '░')
		}
	case scene.Differ:
		if room > 0 {
			p.a.Put(from+1+(room-1)/2, y, style, '≠')
		}
	}
}

// clip cuts a label to the room, if that is enough to tell anything.
func clip(label string, room int) string {
	if room < 6 {
		return ""
	}
	return runewidth.Truncate(safe.Text(label), room, "…")
}

// shorten gives the label that still fits into three cells.
func shorten(label string) string {
	switch label {
	case "start":
		return "st"
	case "stop":
		return "sp"
	case "≠stop":
		return "≠sp"
	case "parity":
		return "par"
	case "≠parity":
		return "≠pa"
	}
	return label
}
