// Package pdf writes scenes as PDF.
package pdf

import (
	"io"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"

	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/paper"
)

// printable names the symbols that the embedded font does not have.
var printable = strings.NewReplacer("∅", "‹NUL›", "⇥", "‹TAB›", "↵", "‹LF›", "⇤", "‹CR›", "⌫", "‹DEL›").Replace

// Write writes a scene on one page of its own size.
func Write(w io.Writer, s *scene.Scene) error {
	p := paper.Layout(s, 760)
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: p.W, Ht: p.H}})
	fixed := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	doc.SetCreationDate(fixed)
	doc.SetModificationDate(fixed)
	doc.SetCatalogSort(true)
	doc.SetTitle(printable(p.Title), true)
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	doc.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	doc.AddUTF8FontFromBytes("mono", "B", gomonobold.TTF)
	doc.AddPage()
	for _, r := range p.Rects {
		doc.SetFillColor(r.Fill.RGB())
		doc.Rect(r.X, r.Y, r.W, r.H, "F")
	}
	for _, l := range p.Lines {
		doc.SetDrawColor(l.Colour.RGB())
		doc.SetLineWidth(l.Width)
		if l.Dashed {
			doc.SetDashPattern([]float64{4, 3}, 0)
		} else {
			doc.SetDashPattern(nil, 0)
		}
		doc.Line(l.X1, l.Y1, l.X2, l.Y2)
	}
	for _, t := range p.Texts {
		style := ""
		if t.Bold {
			style = "B"
		}
		doc.SetFont("mono", style, t.Size)
		doc.SetTextColor(t.Colour.RGB())
		text := printable(t.Text)
		x := t.X
		if t.Anchor == paper.Middle {
			x -= doc.GetStringWidth(text) / 2
		}
		doc.Text(x, t.Y, text)
	}
	return doc.Output(w)
}
