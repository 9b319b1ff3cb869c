// Package theme says how the styles of cells look, on dark and on light
// backgrounds, and turns a grid into the text that a terminal shows.
package theme

import (
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"

	"gavrix.org/gavrix/draw/cells"
)

// Theme holds the escape sequences of each style.
type Theme struct {
	on [256]string
}

const off = "\x1b[m"

// New gives the theme for a dark or light background. No meaning hangs on a
// hue alone: each also has a glyph or a word. All colours are among the usual
// 256, so that they look the same on a terminal with fewer than 2^24.
func New(dark bool) *Theme {
	pick := func(d, l string) color.Color {
		if dark {
			return lipgloss.Color(d)
		}
		return lipgloss.Color(l)
	}
	t := &Theme{}
	sel := pick(Selected.Dark, Selected.Light)
	for s := cells.Style(0); s < cells.Styles; s++ {
		l := looks[s]
		st := lipgloss.NewStyle().Bold(l.bold).Underline(l.underline)
		if l.Dark != "" {
			st = st.Foreground(pick(l.Dark, l.Light))
		}
		on := st.Background(sel)
		if s == cells.Entry {
			st = on
		}
		t.on[s], t.on[s|cells.Selected] = opening(st), opening(on)
	}
	return t
}

// Pair is a colour on a dark and on a light background.
type Pair struct{ Dark, Light string }

// Selected is the background of the row under the cursor.
var Selected = Pair{"#303030", "#e4e4e4"}

// look is how a style looks; without a colour it is the terminal's own.
type look struct {
	Pair
	bold, underline bool
}

var looks = [cells.Styles]look{
	cells.Quiet:  {Pair: Pair{"#a8a8a8", "#585858"}},
	cells.Strong: {bold: true},
	cells.Head:   {Pair: Pair{"#d7af5f", "#5f5f00"}, bold: true},
	cells.Good:   {Pair: Pair{"#5fd7af", "#005f5f"}},
	cells.Doubt:  {Pair: Pair{"#d7af00", "#875f00"}},
	cells.Bad:    {Pair: Pair{"#ff875f", "#af0000"}, bold: true},
	cells.Info:   {Pair: Pair{"#afafd7", "#005f87"}},
	cells.Hue1:   {Pair: Pair{"#87afd7", "#005faf"}},
	cells.Hue2:   {Pair: Pair{"#d7afd7", "#87005f"}},
	cells.Hue3:   {Pair: Pair{"#afd787", "#005f00"}},
	cells.Hue4:   {Pair: Pair{"#d7af87", "#5f00af"}},
	cells.Hue5:   {Pair: Pair{"#87d7d7", "#005f87"}},
	cells.Ours:   {Pair: Pair{"#d7d7af", "#5f5f00"}},
	cells.Theirs: {Pair: Pair{"#afd7d7", "#005f87"}},
	cells.Number: {underline: true},
	cells.Entry:  {Pair: Pair{"#ffffff", "#000000"}},
}

// Colours gives the colours of a style; ok is false where it has the terminal's own.
func Colours(s cells.Style) (p Pair, ok bool) {
	p = looks[s].Pair
	return p, p.Dark != ""
}

// opening gives the sequence that switches a style on.
func opening(s lipgloss.Style) string {
	const mark = "\x01"
	before, _, _ := strings.Cut(s.Render(mark), mark)
	return before
}

// Render gives the grid as text, with sequences only where the style changes.
func (t *Theme) Render(b *strings.Builder, g *cells.Grid) {
	for y := range g.H {
		if y > 0 {
			b.WriteByte('\n')
		}
		current := ""
		for x := range g.W {
			c := g.At(x, y)
			if c.Rune == 0 {
				continue // the right half of a wide rune
			}
			if on := t.on[c.Style]; on != current {
				if current != "" {
					b.WriteString(off)
				}
				b.WriteString(on)
				current = on
			}
			b.WriteRune(c.Rune)
		}
		if current != "" {
			b.WriteString(off)
		}
	}
}
