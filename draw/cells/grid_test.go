package cells

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNothingIsDrawnOutsideOfAnArea(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g := New(rapid.IntRange(0, 30).Draw(rt, "w"), rapid.IntRange(0, 10).Draw(rt, "h"))
		x, y := rapid.IntRange(-5, 35).Draw(rt, "x"), rapid.IntRange(-5, 15).Draw(rt, "y")
		w, h := rapid.IntRange(-3, 35).Draw(rt, "pw"), rapid.IntRange(-3, 15).Draw(rt, "ph")
		p := g.All().Part(x, y, w, h)
		text := rapid.StringOfN(rapid.RuneFrom([]rune("ab 日µ\n\x1b")), 0, 40, -1).Draw(rt, "text")
		for row := -2; row < 14; row++ {
			p.Text(rapid.IntRange(-3, 30).Draw(rt, "tx"), row, Strong, text)
			p.Right(rapid.IntRange(-3, 40).Draw(rt, "rx"), row, Bad, text)
			p.Mark(row)
		}
		p.Paragraph(0, 0, Good, text, 2)
		for gy := range g.H {
			for gx := range g.W {
				inside := gx >= x && gx < x+w && gy >= y && gy < y+h
				if !inside {
					require.Equal(rt, Cell{' ', Plain}, g.At(gx, gy))
				}
			}
		}
	})
}

func TestCutTextEndsWithAnEllipsis(t *testing.T) {
	g := New(6, 1)
	assert.Equal(t, 6, g.All().Text(0, 0, Plain, "too long"))
	assert.Equal(t, "too l…\n", g.String())
	g = New(6, 1)
	g.All().Right(6, 0, Plain, "end")
	assert.Equal(t, "   end\n", g.String())
}
