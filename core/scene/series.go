package scene

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/quantity"
)

// Scale is what the height of a lane of series stands for.
type Scale struct {
	Low, High float64
	Unit      string
	// Words are levels that have a name, as codes do.
	Words []Level
}

// Level is a number with a name.
type Level struct {
	At    float64
	Label string
}

// Series is a value over time, on the scale of its lane.
type Series struct {
	Name string
	Is   string // what it is at the end of the picture; "" where that is not in it
	Hue  int    // 0: that of plain text
	// Steps: each point holds until the next. Dots: points stand alone.
	Steps, Dots bool
	Points      []Point // in order of time
}

// Point is one sample, or several that lie too close to be drawn one by one.
type Point struct {
	At                       quantity.Time // of the first
	To                       quantity.Time // of the last
	First, Last, Least, Most float64
	N                        int
	Gap                      bool // what came before is not joined with it: the source was silent
}

// Text writes a number of the scale.
func (s *Scale) Text(v float64) string {
	for _, w := range s.Words {
		if w.At == v {
			return w.Label
		}
	}
	return s.withUnit(plain(v))
}

func (s *Scale) withUnit(text string) string {
	if s.Unit == "" {
		return text
	}
	return text + " " + s.Unit
}

// plain writes a number with five digits that count, and without a power of ten.
func plain(v float64) string {
	if v == 0 || math.IsInf(v, 0) || math.IsNaN(v) || math.Abs(v) >= 1e15 || math.Abs(v) < 1e-9 {
		return strconv.FormatFloat(v, 'g', 5, 64)
	}
	decimals := max(4-int(math.Floor(math.Log10(math.Abs(v)))), 0)
	text := strconv.FormatFloat(v, 'f', decimals, 64)
	if decimals > 0 {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	return text
}

// Ticks gives round numbers on the scale with the same distance, 1, 2 or 5 with zeros, so many at
// most, but for where that would be a single one: it tells no distance, and up to twice as many are
// given. Of a scale with words it gives these.
func (s *Scale) Ticks(most int) []Level {
	if s.Words != nil {
		return slices.DeleteFunc(slices.Clone(s.Words), func(l Level) bool { return l.At < s.Low || l.At > s.High })
	}
	if most < 2 || s.High <= s.Low {
		return nil
	}
	fit := func(step float64) float64 {
		return math.Floor(s.High/step+1e-9) - math.Ceil(s.Low/step-1e-9) + 1
	}
	step := Nice((s.High - s.Low) / float64(most+1))
	for fit(step) > float64(most) {
		step = Nice(step * 1.5)
	}
	// The next smaller one is at least 0.4 of it.
	for less := Nice(step * 0.4); fit(step) < 2 && fit(less) <= 2*float64(most); less = Nice(step * 0.4) {
		step = less
	}
	var out []Level
	decimals := max(-int(math.Floor(math.Log10(step)+1e-9)), 0) // the same for all
	for n := math.Ceil(s.Low/step - 1e-9); n*step <= s.High+step*1e-9; n++ {
		v := n*step + 0 // no minus before nothing
		text := strconv.FormatFloat(v, 'f', decimals, 64)
		if decimals > 9 || math.Abs(v) >= 1e15 {
			text = strconv.FormatFloat(v, 'g', 6, 64)
		}
		out = append(out, Level{v, s.withUnit(text)})
	}
	return out
}

// Nice gives the next of 1, 2 and 5 with zeros; v is above 0.
func Nice(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, k := range []float64{1, 2, 5} {
		if v <= k*power*(1+1e-9) {
			return k * power
		}
	}
	return 10 * power
}

// PointFact gives a point in words.
func (l *Lane) PointFact(s *Series, p Point) string {
	gap := ""
	if p.Gap {
		gap = ", after silence"
	}
	if p.N == 1 {
		return fmt.Sprintf("%s: %s at %s%s", s.Name, l.Scale.Text(p.First), p.At, gap)
	}
	return fmt.Sprintf("%s: %d samples from %s to %s, %s to %s%s", s.Name, p.N, p.At, p.To, l.Scale.Text(p.Least), l.Scale.Text(p.Most), gap)
}

// Chart is a picture whose axes are not time: values against each other, or a histogram.
type Chart struct {
	Title    string
	XName    string
	YName    string
	X, Y     Scale
	Points   []XY
	Bars     []Bar
	Line     *[2]XY // a straight line through the points
	LineText string
}

// XY is a point of a chart.
type XY struct{ X, Y float64 }

// Bar is a class of a histogram: from X to To, Y samples.
type Bar struct {
	X, To float64
	N     int
}

// Facts of the chart.
func (c *Chart) Facts() []string {
	var out []string
	for _, p := range c.Points {
		out = append(out, c.PointFact(p))
	}
	for _, b := range c.Bars {
		out = append(out, c.BarFact(b))
	}
	if c.Line != nil {
		out = append(out, c.LineText)
	}
	return out
}

// PointFact gives a point in words.
func (c *Chart) PointFact(p XY) string {
	return fmt.Sprintf("%s %s: %s %s", c.XName, c.X.Text(p.X), c.YName, c.Y.Text(p.Y))
}

// BarFact gives a class in words.
func (c *Chart) BarFact(b Bar) string {
	return fmt.Sprintf("%s %s to %s: %d", c.XName, c.X.Text(b.X), c.X.Text(b.To), b.N)
}
