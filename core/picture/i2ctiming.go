package picture

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

// I2CTiming shows one period of the clock: the line as it falls and rises, what
// its class asks for, and what the counters make. Everything is true to scale.
func I2CTiming(name string, b *bench.I2C) *scene.Scene {
	t := b.Timing
	low := b.Fall
	up := low + t.LowTime
	high := up + b.Rise
	down := high + t.HighTime
	end := down + b.Fall
	s := &scene.Scene{
		Title: fmt.Sprintf("%s: one period of the clock, %s", name, t.Time.Round(4)),
		From:  -end / 20, To: end + end/20,
	}
	line := scene.Lane{Name: "clock line", Levels: &scene.Levels{High: true, Toggles: []quantity.Time{b.Fall / 2, up + b.Rise/2, down + b.Fall/2}}}
	cell := func(from, to quantity.Time, bad bool, format string, args ...any) scene.Cell {
		c := scene.Cell{From: from, To: to, Label: fmt.Sprintf(format, args...)}
		if bad {
			c.Tone = scene.Differ
		}
		return c
	}
	is := scene.Lane{Name: "is", Cells: []scene.Cell{
		cell(0, low, b.Fall > b.Class.Fall, "%s fall", b.Fall.Round(3)),
		cell(low, up, t.LowTime < b.Class.Low, "%s low", t.LowTime.Round(4)),
		cell(up, high, b.Rise > b.Class.Rise, "%s rise", b.Rise.Round(3)),
		cell(high, down, t.HighTime < b.Class.High, "%s high", t.HighTime.Round(4)),
		cell(down, end, b.Fall > b.Class.Fall, "%s fall", b.Fall.Round(3)),
	}}
	asks := scene.Lane{Name: "class asks", Detail: b.Class.Name, Cells: []scene.Cell{
		cell(low, low+b.Class.Low, t.LowTime < b.Class.Low, "at least %s", b.Class.Low),
		cell(up, up+b.Class.Rise, b.Rise > b.Class.Rise, "at most %s", b.Class.Rise),
	}}
	if from := max(high, up+b.Class.Rise); from+b.Class.High <= s.To {
		asks.Cells = append(asks.Cells, cell(from, from+b.Class.High, t.HighTime < b.Class.High, "at least %s", b.Class.High))
	}
	counts := scene.Lane{Name: "counts", Cells: []scene.Cell{
		cell(low, up, false, "low %d", t.Low), cell(high, down, false, "high %d", t.High),
	}}
	s.Lanes = []scene.Lane{line, is, asks, counts}
	return s
}
