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
// hue alone: each also has a glyph or a word. All colours are among the usual
// 256, so that they look the same on a terminal with fewer than 2^24.
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
		cells.Quiet:   st().Foreground(pick("#808080", "#767676")),
		cells.Strong:  st().Bold(true),
		cells.Head:    st().Foreground(pick("#d7af5f", "#875f00")).Bold(true),
		cells.Good:    st().Foreground(pick("#5fd7af", "#005f5f")),
		cells.Doubt:   st().Foreground(pick("#d7af00", "#af5f00")),
		cells.Bad:     st().Foreground(pick("#ff875f", "#af0000")).Bold(true),
		cells.Info:    st().Foreground(pick("#afafd7", "#005f87")),
		cells.HueUart: st().Foreground(pick("#87afd7", "#005faf")),
		cells.Ours:    st().Foreground(pick("#d7d7af", "#5f5f00")),
		cells.Theirs:  st().Foreground(pick("#afd7d7", "#005f87")),
		cells.Number:  st().Underline(true),
		cells.Entry:   st().Foreground(pick("#ffffff", "#000000")).Background(pick("#303030", "#dadada")),
	}
	t := &Theme{}
	sel := pick("#303030", "#e4e4e4")
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
