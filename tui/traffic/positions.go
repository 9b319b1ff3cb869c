package traffic

import (
	"fmt"

	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/draw/cells"
)

// mostPositions is how many words of a transaction are listed.
const mostPositions = 32

// positions lists the words of a transaction or frame, one below the other, in all forms.
func positions(kind string, r *record.Record, all []*operation.Meaning) []string {
	var m *operation.Meaning
	if len(all) > 0 {
		m = all[0]
	}
	ps := operation.Positions(kind, r, m)
	outW, inW, markW, formW := 3, 0, 0, 0
	for _, p := range ps {
		outW, inW = max(outW, cells.Width(p.Out)), max(inW, cells.Width(p.In))
		markW, formW = max(markW, cells.Width(p.Mark)), max(formW, cells.Width(p.Forms()))
	}
	var out []string
	for i, p := range ps {
		if i == mostPositions {
			out = append(out, fmt.Sprintf("%d more", len(ps)-i))
			break
		}
		s := fmt.Sprintf("%3d  %-*s", p.Index, outW, p.Out)
		if inW > 0 {
			s += fmt.Sprintf("  %-*s", inW, p.In)
		}
		if markW > 0 {
			s += fmt.Sprintf(" %-*s", markW, p.Mark)
		}
		out = append(out, fmt.Sprintf("%s  %*s  %s", s, formW, p.Forms(), p.Meaning))
	}
	return out
}
