package traffic

import (
	"cmp"
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/tui/ui"
)

// Scene implements ui.Pictured: the lines as they are shown, one below the other.
func (v *View) Scene(h ui.Host) *scene.Scene {
	if len(v.lines) == 0 {
		return nil
	}
	f := v.filter(h)
	f.Say(v.lines)
	links := h.Snapshot().Meta().Links
	first, last := &v.lines[0], &v.lines[len(v.lines)-1]
	title := "traffic"
	if int(h.LinkIndex()) < len(links) && !v.all {
		title += " of " + links[h.LinkIndex()].Name
	}
	s := &scene.Scene{Title: fmt.Sprintf("%s from %s s to %s s", title, stamp(first.At), stamp(last.End)), From: first.At, To: last.End}
	for i := range v.lines {
		l := &v.lines[i]
		if int(l.Link) >= len(links) {
			continue
		}
		link := &links[l.Link]
		glyph, _ := direction(l)
		hop := scene.Hop{Mark: stamp(l.At), Name: string(glyph)}
		if v.all {
			hop.Name = kindOf(link).Mark + " " + link.Name + " " + hop.Name
		}
		if l.Kind == record.Chars {
			hop.Value = string(safe.Bytes(l.Data))
			hop.Detail = strings.TrimSpace(cmp.Or(l.Meaning, "") + "  " + hexOf(l, 60))
		} else {
			hop.Value, _ = happened(l)
			if l.Meaning != "" {
				hop.Detail = l.Text
			}
		}
		if f := l.Flags(); f != 0 {
			hop.Tone = scene.Differ
			hop.Detail = strings.TrimSpace(hop.Detail + "  ▲ " + f.String())
		}
		s.Hops = append(s.Hops, hop)
	}
	return s
}
