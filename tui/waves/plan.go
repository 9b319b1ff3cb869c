package waves

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// mostCompared is the number of records, the newest, that are held against a
// plan.
const mostCompared = 5000

// found is a place where a record is not as planned.
type found struct {
	at   quantity.Time
	text string
}

// planned sets what should be on the selected link.
func (v *View) planned(h ui.Host, k *bus.Kind, text string) {
	a := v.of(h)
	a.plan, a.found, a.agree, a.mark = nil, nil, 0, 0
	if text == "" {
		v.alone = false
		h.Say("nothing is planned for this link any more")
		return
	}
	p, err := intent.New(k, h.Settings(int(h.LinkIndex())), text, quantity.Microsecond)
	if err != nil {
		h.Warn("%v", err)
		return
	}
	a.plan = p
	v.compare(h)
	switch {
	case a.agree+len(a.found) == 0:
		h.Say("planned; no transaction like it is in the capture. o draws it alone")
	case len(a.found) == 0:
		h.Say("%d transactions are as planned", a.agree)
	default:
		h.Say("%d as planned; d goes to the first of %d differences", a.agree, len(a.found))
	}
}

// nextVariant draws the plan in the next of the settings that its bus suggests, and
// says what that is against the link's.
func (v *View) nextVariant(h ui.Host) {
	a := v.of(h)
	if a.plan == nil {
		h.Say("nothing is planned: :plan says how")
		return
	}
	k := a.plan.Kind
	if k.Variant == nil {
		h.Say("%s has no modes to try: Timing changes the settings of both ends", k.Title)
		return
	}
	set, name := k.Variant(bus.At(a.plan.Ends, 1))
	p, err := intent.New(k, []bus.Settings{set}, a.plan.Text, quantity.Microsecond)
	if err != nil {
		h.Warn("%v", err)
		return
	}
	a.plan, v.alone = p, true
	text := name
	if own := bus.At(h.Settings(int(h.LinkIndex())), 1); own != nil {
		if ds := k.Compare(set, own, "plan", "link"); len(ds) > 0 {
			text += ", unlike the link: " + ds[0].Effects[0]
		} else {
			text += ", as the link"
		}
	}
	h.Say("%s", text)
}

// compare holds the link's new records against the plan.
func (v *View) compare(h ui.Host) {
	a, snap := v.of(h), h.Snapshot()
	if a.of != snap.Meta() {
		// The file was read again, with other links.
		a.of, a.found, a.agree, a.mark = snap.Meta(), nil, 0, 0
	}
	if a.plan == nil || a.mark == snap.Mark() {
		return
	}
	fresh := snap.Since(a.mark)
	a.mark = snap.Mark()
	q := tapped(h)
	for _, i := range fresh[max(len(fresh)-mostCompared, 0):] {
		if !q.Wants(snap.Head(i)) {
			continue
		}
		_, ds, meant := a.plan.Against(snap, snap.At(i), h.Settings(int(h.LinkIndex())))
		switch {
		case meant && len(ds) == 0:
			a.agree++
		case meant:
			for k := range ds {
				a.found = append(a.found, found{ds[k].From, ds[k].String()})
			}
		}
	}
}

// compared says below the picture how the records compare with the plan, and
// gives the row behind that.
func (v *View) compared(a cells.Area, h ui.Host) int {
	arr := v.of(h)
	if arr.plan == nil {
		return 0
	}
	v.compare(h)
	x := a.Text(0, 0, cells.Head, "PLANNED ")
	x = a.Text(x+1, 0, cells.Strong, arr.plan.Text)
	a.Text(x+3, 0, cells.Quiet, fmt.Sprintf("%d as planned", arr.agree))
	y := 1
	for _, f := range arr.found {
		if y >= min(a.H-3, 7) {
			a.Text(2, y, cells.Quiet, fmt.Sprintf("and %d more; d and D step through all", len(arr.found)-y+1))
			y++
			break
		}
		x := a.Text(0, y, cells.Bad, "≠ ")
		x = a.Text(x, y, cells.Plain, picture.TimeLabel(f.at, quantity.Microsecond))
		a.Text(x+2, y, cells.Plain, f.text)
		y++
	}
	return y + 1
}

// difference goes to the next place that is not as planned, or where a receiver
// read something else than was sent.
func (v *View) difference(h ui.Host, back bool) {
	a := v.of(h)
	if a.plan == nil {
		q := records.Query{Link: int(h.LinkIndex()), Kinds: []record.Kind{record.Chars}}
		v.record(h, back, "difference between sent and read", q, func(r *record.Record) bool {
			return r.Seen != record.Tap && picture.Misread(h.Snapshot(), r)
		})
		return
	}
	v.compare(h)
	here := v.start(h, back)
	best := found{at: -1}
	for _, f := range a.found {
		if back && f.at < here && f.at > best.at || !back && f.at > here && (best.at < 0 || f.at < best.at) {
			best = f
		}
	}
	if best.at < 0 {
		h.Say("there is no difference %s", side(back))
		return
	}
	v.to(h, best.at)
	h.Say("%s", best.text)
}
