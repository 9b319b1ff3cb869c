// Package theme says how the styles of cells look, on dark and on light
// backgrounds, and turns a grid into the text that a terminal shows.
package theme

import (
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"

	"gavrix/draw/cells"
)

// Theme holds the escape sequences of each style.
type Theme struct {
	on [256]string
}

const off = "\x1b[m"

// New gives the theme for a dark or light background. No meaning hangs on a
// hue alone: each also has a glyph or a word.
func New(dark bool) *Theme {
	pick := func(d, l string) color.Color {
		if dark {
			return lipgloss.Color(d)
		}
		return lipgloss.Color(l)
	}
	st := lipgloss.NewStyle
	base := map[cells.Style]lipgloss.Style{
		cells.Plain:   st(),
		cells.Quiet:   st().Foreground(pick("#7f8a94", "#69737c")),
		cells.Strong:  st().Bold(true),
		cells.Head:    st().Foreground(pick("#c3b48a", "#6d5a1e")).Bold(true),
		cells.Good:    st().Foreground(pick("#7fc4b8", "#00685c")),
		cells.Doubt:   st().Foreground(pick("#e0b04a", "#8a5a00")),
		cells.Bad:     st().Foreground(pick("#ff8f7a", "#b3261e")).Bold(true),
		cells.Info:    st().Foreground(pick("#9fb4d8", "#2d4f8a")),
		cells.HueUart: st().Foreground(pick("#8fb8de", "#1d5a94")),
		cells.Ours:    st().Foreground(pick("#d9c7a0", "#6b5200")),
		cells.Theirs:  st().Foreground(pick("#a9d3e8", "#0b5370")),
		cells.Number:  st().Underline(true),
		cells.Entry:   st().Foreground(pick("#ffffff", "#000000")).Background(pick("#2a3440", "#dfe5ea")),
	}
	t := &Theme{}
	sel := pick("#26323d", "#dde6ee")
	for s := cells.Style(0); s < cells.Styles; s++ {
		t.on[s] = opening(base[s])
		t.on[s|cells.Selected] = opening(base[s].Background(sel))
	}
	return t
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
