// Package svg writes scenes as SVG.
package svg

import (
	"fmt"
	"io"

	svgo "github.com/ajstarks/svgo/float"

	"gavrix/core/safe"
	"gavrix/core/scene"
	"gavrix/draw/paper"
)

func css(c paper.Colour) string {
	r, g, b := c.RGB()
	return fmt.Sprintf("#%02x%02x%02x", r, g, b)
}

// Write writes a scene. Every part that says something carries it in words as
// its title, which viewers show under the pointer.
func Write(w io.Writer, s *scene.Scene) error {
	p := paper.Layout(s, 960)
	out := &keeper{w: w}
	c := svgo.New(out)
	c.Startview(p.W, p.H, 0, 0, p.W, p.H)
	c.Title(p.Title)
	c.Rect(0, 0, p.W, p.H, "fill:"+css(paper.White))
	titled := func(fact string, draw func()) {
		if fact == "" {
			draw()
			return
		}
		c.Group()
		c.Title(safe.Text(fact))
		draw()
		c.Gend()
	}
	for _, r := range p.Rects {
		titled(r.Fact, func() { c.Rect(r.X, r.Y, r.W, r.H, "fill:"+css(r.Fill)) })
	}
	for _, l := range p.Lines {
		style := fmt.Sprintf("stroke:%s;stroke-width:%.2f", css(l.Colour), l.Width)
		if l.Dashed {
			style += ";stroke-dasharray:4 3"
		}
		titled(l.Fact, func() { c.Line(l.X1, l.Y1, l.X2, l.Y2, style) })
	}
	for _, t := range p.Texts {
		style := fmt.Sprintf("font-family:monospace;font-size:%.2fpx;fill:%s", t.Size, css(t.Colour))
		if t.Bold {
			style += ";font-weight:bold"
		}
		if t.Anchor == paper.Middle {
			style += ";text-anchor:middle"
		}
		titled(t.Fact, func() { c.Text(t.X, t.Y, t.Text, style) })
	}
	c.End()
	return out.err
}

// keeper keeps the first error, which the canvas does not pass on.
type keeper struct {
	w   io.Writer
	err error
}

func (c *keeper) Write(b []byte) (int, error) {
	if c.err == nil {
		_, c.err = c.w.Write(b)
	}
	return len(b), nil
}
