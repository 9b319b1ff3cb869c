// Package pdf writes scenes as PDF.
package pdf

import (
	"io"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"

	"gavrix/core/scene"
	"gavrix/draw/paper"
)

// controlNames are the names of the control characters, whose pictures the
// embedded font does not have.
var controlNames = strings.Fields("NUL SOH STX ETX EOT ENQ ACK BEL BS HT LF VT FF CR SO SI DLE DC1 DC2 DC3 DC4 NAK SYN ETB CAN EM SUB ESC FS GS RS US")

func printable(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r >= 0x2400 && r < 0x2420:
			b.WriteString("‹" + controlNames[r-0x2400] + "›")
		case r == '␡':
			b.WriteString("‹DEL›")
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

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
