package picture

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/values"
)

// Plot describes a picture of values over time.
type Plot struct {
	// Lanes are the values, those of a lane on one scale.
	Lanes [][]*values.Series
	// Name gives the words for a value.
	Name     func(n *values.Name) string
	From, To quantity.Time
	Now      quantity.Time // up to where values are known
	Columns  int           // that the picture has
	Cursors  []scene.Mark
}

// Scene gives the picture.
func (p *Plot) Scene() *scene.Scene {
	s := &scene.Scene{Title: "values", From: p.From, To: p.To, Cursors: p.Cursors}
	for _, list := range p.Lanes {
		s.Lanes = append(s.Lanes, p.lane(list))
	}
	s.Lanes = append(s.Lanes, scene.Lane{Name: "time", Ticks: ticks(p.From, p.To, min(p.Columns, mostTickColumns))})
	return s
}

func (p *Plot) lane(list []*values.Series) scene.Lane {
	var names []string
	scale := ScaleOf(list, p.From, p.To)
	lane := scene.Lane{Scale: &scale}
	for i, x := range list {
		names = append(names, p.Name(x.Name))
		lane.Series = append(lane.Series, p.series(i, x, len(list) > 1 && list[0].Wrote && !x.Wrote))
	}
	lane.Name = strings.Join(names, ", ")
	if len(list) > 1 && list[0].Wrote {
		step, _ := list[1].Step()
		l := values.LagsOf(list[0], list[1], p.From, p.To, step)
		lane.Detail = l.String()
	} else {
		lane.Detail = Figures(list[0], &scale, p.From, p.To)
	}
	return lane
}

// Figures says in short what a value was in a stretch.
func Figures(x *values.Series, scale *scene.Scale, from, to quantity.Time) string {
	f := x.Figures(from, to)
	switch {
	case f.N == 0:
		return "no samples here"
	case coded(x):
		return quantity.Count(f.N, "sample")
	}
	bare := scene.Scale{Unit: scale.Unit}
	text := fmt.Sprintf("%.5g to %s  mean %.5g  deviation %.3g", f.Least, bare.Text(f.Most), f.Mean, f.Deviation)
	if !math.IsNaN(f.EffectiveBits) {
		text += fmt.Sprintf("  %.1f effective bits", f.EffectiveBits)
	}
	return text
}

// series gives the points of a value: those that lie in one column of the picture as one.
// What the MCU puts there holds until the next; beside it answers are dots.
func (p *Plot) series(i int, x *values.Series, dots bool) scene.Series {
	out := scene.Series{Name: p.Name(x.Name), Hue: i, Steps: x.Wrote || coded(x), Dots: dots}
	if x.LastAt < p.To {
		out.Is = x.Last
	}
	usual := x.Usual()
	silent := func(a, b quantity.Time) bool { return usual > 0 && b-a > values.StaleAfter*usual }
	from, to := x.Between(p.From, p.To)
	from, to = max(from-1, 0), min(to+1, x.Len())
	each := max((p.To-p.From)/quantity.Time(max(2*p.Columns, 1)), 1)
	before := quantity.Time(-1)
	for k := from; k < to; k++ {
		at, v := x.At(k)
		gap := before >= 0 && silent(before, at)
		last := len(out.Points) - 1
		if last >= 0 && !gap && !dots && at/each == out.Points[last].At/each {
			q := &out.Points[last]
			q.To, q.Last, q.N = at, v, q.N+1
			q.Least, q.Most = min(q.Least, v), max(q.Most, v)
		} else {
			out.Points = append(out.Points, scene.Point{At: at, To: at, First: v, Last: v, Least: v, Most: v, N: 1, Gap: gap})
		}
		before = at
	}
	// What holds goes on to the present, unless it should have come again.
	if end := min(p.Now, p.To); len(out.Points) > 0 && out.Steps && !dots && to == x.Len() && end > before && !silent(before, end) {
		q := &out.Points[len(out.Points)-1]
		q.To = end
	}
	return out
}

func coded(x *values.Series) bool { return x.Format != nil && len(x.Format.Codes) > 0 }

// ScaleOf gives a scale on which all values of a stretch find place, with round ends.
func ScaleOf(list []*values.Series, from, to quantity.Time) scene.Scale {
	s := scene.Scale{Low: math.Inf(1), High: math.Inf(-1)}
	for _, x := range list {
		f := x.Figures(from, to)
		if f.N == 0 { // what it was before
			if i, _ := x.Between(from, to); i > 0 {
				_, v := x.At(i - 1)
				f.Least, f.Most, f.N = v, v, 1
			}
		}
		if f.N > 0 {
			s.Low, s.High = min(s.Low, f.Least), max(s.High, f.Most)
		}
		if s.Unit == "" {
			s.Unit = x.UnitText()
		}
		if coded(x) {
			for raw, word := range x.Format.Codes {
				s.Words = append(s.Words, scene.Level{At: float64(raw), Label: word})
			}
		}
	}
	slices.SortFunc(s.Words, func(a, b scene.Level) int { return int(a.At - b.At) })
	switch {
	case s.Low > s.High:
		s.Low, s.High = 0, 1
	case s.Words != nil:
		s.High = max(s.High, s.Low+1)
	default:
		s.Low, s.High = round(s.Low, s.High)
	}
	return s
}

// round gives round numbers around two.
func round(low, high float64) (float64, float64) {
	span := high - low
	if span == 0 {
		span = max(math.Abs(low)*0.02, 1e-9)
		if low == math.Trunc(low) {
			span = 1
		}
		low, high = low-span/2, high+span/2
	}
	step := scene.Nice(span / 8)
	low, high = math.Floor(low/step)*step, math.Ceil(high/step)*step
	return tidy(low, step), tidy(high, step)
}

// tidy takes away what a sum of steps misses by.
func tidy(v, step float64) float64 {
	n := math.Round(v / step)
	text := fmt.Sprintf("%.12g", n*step)
	var out float64
	fmt.Sscan(text, &out)
	return out
}

// Against gives the picture of one value against another.
func Against(x, y *values.Series, name func(*values.Name) string, from, to quantity.Time) *scene.Scene {
	pairs := values.Pairs(x, y, from, to)
	fit := values.FitOf(pairs)
	c := scene.Chart{
		Title: fmt.Sprintf("%s against %s", name(y.Name), name(x.Name)), XName: name(x.Name), YName: name(y.Name),
		X: ScaleOf([]*values.Series{x}, from, to), Y: ScaleOf([]*values.Series{y}, from, to), LineText: fit.String(),
	}
	seen := map[scene.XY]bool{}
	for _, p := range pairs {
		q := scene.XY{X: p.X, Y: p.Y}
		if !seen[q] {
			seen[q] = true
			c.Points = append(c.Points, q)
		}
	}
	if fit.N > 0 && !fit.Flat {
		c.Line = &[2]scene.XY{{X: c.X.Low, Y: fit.Offset + fit.Slope*c.X.Low}, {X: c.X.High, Y: fit.Offset + fit.Slope*c.X.High}}
	}
	s := &scene.Scene{Title: c.Title, Charts: []scene.Chart{c}}
	if fit.N > 0 && x.UnitText() == y.UnitText() {
		s.Notes = append(s.Notes, fmt.Sprintf("greatest difference %s at %s", c.Y.Text(fit.Error), c.X.Text(fit.ErrorAt)))
	}
	return s
}

// Histogram gives the picture of how often a value was how large.
func Histogram(x *values.Series, name func(*values.Name) string, from, to quantity.Time, classes int) *scene.Scene {
	counts, least, most := x.Histogram(from, to, classes)
	scale := ScaleOf([]*values.Series{x}, from, to)
	c := scene.Chart{Title: "how often " + name(x.Name) + " was how large", XName: name(x.Name), YName: "samples", X: scale, Y: scene.Scale{High: 1, Unit: "samples"}}
	each := (most - least) / float64(max(len(counts), 1))
	for i, n := range counts {
		c.Y.High = max(c.Y.High, float64(n))
		c.Bars = append(c.Bars, scene.Bar{X: least + each*float64(i), To: least + each*float64(i+1), N: n})
	}
	return &scene.Scene{Title: c.Title, Charts: []scene.Chart{c}}
}
