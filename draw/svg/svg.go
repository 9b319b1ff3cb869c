// Package svg writes scenes as SVG.
package svg

import (
	"encoding/xml"
	"fmt"
	"io"

	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/paper"
)

func css(c paper.Colour) string {
	r, g, b := c.RGB()
	return fmt.Sprintf("#%02x%02x%02x", r, g, b)
}

// number is a length in the units of the picture.
type number float64

// MarshalXMLAttr implements xml.MarshalerAttr.
func (n number) MarshalXMLAttr(name xml.Name) (xml.Attr, error) {
	return xml.Attr{Name: name, Value: fmt.Sprintf("%.2f", float64(n))}, nil
}

// rect, line and text are elements of SVG, with the attributes that are used; group
// is one that says in words what is drawn in it.
type (
	rect struct {
		XMLName xml.Name `xml:"rect"`
		X       number   `xml:"x,attr"`
		Y       number   `xml:"y,attr"`
		W       number   `xml:"width,attr"`
		H       number   `xml:"height,attr"`
		Style   string   `xml:"style,attr"`
	}
	line struct {
		XMLName xml.Name `xml:"line"`
		X1      number   `xml:"x1,attr"`
		Y1      number   `xml:"y1,attr"`
		X2      number   `xml:"x2,attr"`
		Y2      number   `xml:"y2,attr"`
		Style   string   `xml:"style,attr"`
	}
	text struct {
		XMLName xml.Name `xml:"text"`
		X       number   `xml:"x,attr"`
		Y       number   `xml:"y,attr"`
		Style   string   `xml:"style,attr"`
		Text    string   `xml:",chardata"`
	}
	group struct {
		XMLName xml.Name `xml:"g"`
		Title   string   `xml:"title"`
		Shape   any
	}
	picture struct {
		XMLName xml.Name `xml:"http://www.w3.org/2000/svg svg"`
		W       number   `xml:"width,attr"`
		H       number   `xml:"height,attr"`
		View    string   `xml:"viewBox,attr"`
		Title   string   `xml:"title"`
		Shapes  []any
	}
)

// Write writes a scene. Every part that says something carries it in words as
// its title, which viewers show under the pointer.
func Write(w io.Writer, s *scene.Scene) error {
	p := paper.Layout(s, 960)
	out := picture{W: number(p.W), H: number(p.H), View: fmt.Sprintf("0 0 %.2f %.2f", p.W, p.H), Title: safe.Text(p.Title)}
	add := func(fact string, shape any) {
		if fact != "" {
			shape = group{Title: safe.Text(fact), Shape: shape}
		}
		out.Shapes = append(out.Shapes, shape)
	}
	add("", rect{W: number(p.W), H: number(p.H), Style: "fill:" + css(paper.White)})
	for _, r := range p.Rects {
		add(r.Fact, rect{X: number(r.X), Y: number(r.Y), W: number(r.W), H: number(r.H), Style: "fill:" + css(r.Fill)})
	}
	for _, l := range p.Lines {
		style := fmt.Sprintf("stroke:%s;stroke-width:%.2f", css(l.Colour), l.Width)
		if l.Dashed {
			style += ";stroke-dasharray:4 3"
		}
		add(l.Fact, line{X1: number(l.X1), Y1: number(l.Y1), X2: number(l.X2), Y2: number(l.Y2), Style: style})
	}
	for _, t := range p.Texts {
		style := fmt.Sprintf("font-family:monospace;font-size:%.2fpx;fill:%s", t.Size, css(t.Colour))
		if t.Bold {
			style += ";font-weight:bold"
		}
		if t.Anchor == paper.Middle {
			style += ";text-anchor:middle"
		}
		add(t.Fact, text{X: number(t.X), Y: number(t.Y), Style: style, Text: t.Text})
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", " ")
	if err := e.Encode(out); err != nil {
		return err
	}
	return e.Close()
}
