// Package theme says how the styles of cells look, on dark and on light
// backgrounds, and turns a grid into the text that a terminal shows.
package theme

import (
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"

	"gavrix.org/gavrix/draw/cells"
)

// Colours is how many colours a terminal shows.
type Colours uint8

// The numbers of colours.
const (
	Full    Colours = iota // 256 or more
	Sixteen                // those that the user's terminal gives its sixteen
	None                   // none is wanted, or there are none
)

// Look is what a theme is made for.
type Look struct {
	Dark    bool
	Colours Colours
	// ASCII: only letters, digits and signs of ASCII are drawn.
	ASCII bool
}

// Theme holds the escape sequences of each style.
type Theme struct {
	on    [256]string
	ascii bool
}

const off = "\x1b[m"

// New gives the theme for a terminal. No meaning hangs on a hue alone: each also has a glyph
// or a word. With many colours all are among the usual 256. With fewer the row under the
// cursor and text being typed are shown in reverse, headings are underlined, and what is
// wrong is bold.
func New(l Look) *Theme {
	t := &Theme{ascii: l.ASCII}
	for s := cells.Style(0); s < cells.Styles; s++ {
		t.on[s], t.on[s|cells.Selected] = opening(l.style(s, false)), opening(l.style(s, true))
	}
	return t
}

// style gives how a style looks, on the row under the cursor or elsewhere.
func (l Look) style(s cells.Style, selected bool) lipgloss.Style {
	k := looks[s]
	st := lipgloss.NewStyle().Bold(k.bold).Underline(k.underline)
	pick := func(p Pair) color.Color {
		if l.Dark {
			return lipgloss.Color(p.Dark)
		}
		return lipgloss.Color(p.Light)
	}
	switch l.Colours {
	case Full:
		if k.Dark != "" {
			st = st.Foreground(pick(k.Pair))
		}
		if selected || s == cells.Entry {
			st = st.Background(pick(Selected))
		}
		return st
	case Sixteen:
		if k.few.Dark != "" {
			st = st.Foreground(pick(k.few))
		}
	}
	if s == cells.Head {
		st = st.Underline(true)
	}
	return st.Reverse(selected || s == cells.Entry)
}

// Pair is a colour on a dark and on a light background.
type Pair struct{ Dark, Light string }

// Selected is the background of the row under the cursor.
var Selected = Pair{"#303030", "#e4e4e4"}

// look is how a style looks; without a colour it is the terminal's own. few are the numbers
// of colours among sixteen.
type look struct {
	Pair
	few             Pair
	bold, underline bool
}

var looks = [cells.Styles]look{
	cells.Quiet:  {Pair: Pair{"#a8a8a8", "#585858"}},
	cells.Strong: {bold: true},
	cells.Head:   {Pair: Pair{"#d7af5f", "#5f5f00"}, few: Pair{"3", "3"}, bold: true},
	cells.Good:   {Pair: Pair{"#5fd7af", "#005f5f"}, few: Pair{"10", "2"}},
	cells.Doubt:  {Pair: Pair{"#d7af00", "#875f00"}, few: Pair{"11", "5"}},
	cells.Bad:    {Pair: Pair{"#ff875f", "#af0000"}, few: Pair{"9", "1"}, bold: true},
	cells.Info:   {Pair: Pair{"#afafd7", "#005f87"}, few: Pair{"12", "4"}},
	cells.Hue1:   {Pair: Pair{"#87afd7", "#005faf"}, few: Pair{"12", "4"}},
	cells.Hue2:   {Pair: Pair{"#d7afd7", "#87005f"}, few: Pair{"13", "5"}},
	cells.Hue3:   {Pair: Pair{"#afd787", "#005f00"}, few: Pair{"10", "2"}},
	cells.Hue4:   {Pair: Pair{"#d7af87", "#5f00af"}, few: Pair{"11", "1"}},
	cells.Hue5:   {Pair: Pair{"#87d7d7", "#005f87"}, few: Pair{"14", "6"}},
	cells.Ours:   {Pair: Pair{"#d7d7af", "#5f5f00"}, few: Pair{"11", "5"}},
	cells.Theirs: {Pair: Pair{"#afd7d7", "#005f87"}, few: Pair{"14", "6"}},
	cells.Number: {underline: true},
	cells.Entry:  {Pair: Pair{"#ffffff", "#000000"}},
}

// ColoursOf gives the colours of a style; ok is false where it has the terminal's own.
func ColoursOf(s cells.Style) (p Pair, ok bool) {
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
			b.WriteRune(t.shown(c.Rune))
		}
		if current != "" {
			b.WriteString(off)
		}
	}
}
