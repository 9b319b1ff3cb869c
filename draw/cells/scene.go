package cells

import (
	"math"

	"gavrix/core/quantity"
	"gavrix/core/scene"
)

// nameWidth is the column in which lanes begin.
const nameWidth = 18

// SceneHeight is the number of rows that a scene takes, without its notes.
func SceneHeight(s *scene.Scene) int { return len(s.Lanes) + 1 }

// Scene draws the lanes of a scene, one row each, and gives the facts that it
// drew. Columns are true to scale: a time t stands in the column
// nameWidth + (t - From) / (To - From) · width, rounded down.
func Scene(a Area, s *scene.Scene) []string {
	p := plot{a: a, s: s, w: a.W - nameWidth - 1}
	if p.w < 1 || s.To <= s.From {
		return nil
	}
	for i := range s.Lanes {
		p.lane(i, &s.Lanes[i])
	}
	return p.facts
}

type plot struct {
	a     Area
	s     *scene.Scene
	w     int
	facts []string
}

// x gives the column of a time.
func (p *plot) x(t quantity.Time) int {
	share := float64(t-p.s.From) / float64(p.s.To-p.s.From)
	return nameWidth + int(math.Floor(share*float64(p.w)))
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

func (p *plot) lane(y int, l *scene.Lane) {
	room := p.a.Part(0, y, nameWidth-1, 1)
	at := room.Text(0, 0, Strong, l.Name)
	if l.Detail != "" {
		room.Text(at+1, 0, Quiet, l.Detail)
	}
	if l.Levels != nil {
		p.levels(y, l)
	}
	for _, c := range l.Cells {
		p.cell(y, c)
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

func (p *plot) levels(y int, l *scene.Lane) {
	high, k := l.Levels.High, 0
	for x := nameWidth; x < nameWidth+p.w; x++ {
		for k < len(l.Levels.Toggles) && p.x(l.Levels.Toggles[k]) <= x {
			high = !high
			p.facts = append(p.facts, l.EdgeFact(k))
			k++
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

func (p *plot) cell(y int, c scene.Cell) {
	from, to := p.x(c.From), p.x(c.To)
	style := toneStyle(c.Tone)
	p.a.Put(from, y, Quiet, '╎')
	p.a.Put(to, y, Quiet, '╎')
	label := c.Label
	if c.Tone == scene.Differ {
		label = "≠" + label
	}
	for _, short := range []string{label, shorten(label)} {
		if w := Width(short); w <= to-from-1 {
			p.a.Text(from+1+(to-from-1-w)/2, y, style, short)
			return
		}
	}
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
