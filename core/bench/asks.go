package bench

import (
	"fmt"
	"time"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
)

// BusAsk is something that the firmware does with a device again and again.
type BusAsk struct {
	Every quantity.Time
	// Texts are its transactions, in the words of the bus.
	Texts []string
}

func asksKey() doc.Key {
	return doc.Key{Name: "asks", Doc: "what the firmware does again and again, by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "do", Doc: "an operation, as read leaf-tilt.tilt or raw and the words of a transaction", Type: doc.AnyText, Required: true},
		doc.Key{Name: "every", Doc: "time from one to the next", Type: doc.TimeType, Required: true},
	))}
}

// Parts are the devices of the link as operations reach them.
func (l *Link) Parts() []*operation.Part {
	var out []*operation.Part
	for i, e := range l.Ends[min(1, len(l.Ends)):] {
		if e.Part != nil {
			out = append(out, &operation.Part{Name: e.Name, Index: i, Device: e.Part})
		}
	}
	return out
}

// Up is the time at which all parts of the link answer that have their supply from the
// begin on.
func (l *Link) Up() quantity.Time {
	at := quantity.Time(0)
	for _, p := range l.Parts() {
		if p.Map != nil {
			at = max(at, p.Map.PowerUp+quantity.Millisecond)
		}
	}
	return at
}

// Speaks lists the links on which the firmware sends by itself.
func (b *Bench) Speaks() []string {
	var out []string
	for _, l := range b.Links {
		if len(l.own()) > 0 {
			out = append(out, l.Name)
		}
	}
	return out
}

// Silence takes from the firmware all that it sends by itself.
func (b *Bench) Silence() error {
	var edits []finding.Edit
	for _, l := range b.Links {
		for _, key := range l.own() {
			edits = append(edits, finding.Edit{Op: finding.Delete, Path: l.path("mcu", key)})
		}
	}
	if len(edits) == 0 {
		return nil
	}
	return b.Apply(edits...)
}

// own are the keys of the MCU's end that say what it sends by itself.
func (l *Link) own() []string {
	var out []string
	for _, key := range []string{"ask", "asks", "messages", "frames"} {
		if l.node.Get("mcu", key) != nil {
			out = append(out, key)
		}
	}
	return out
}

// asks reads what the firmware does by itself, at the MCU's end; valid says what is
// wrong with a transaction in the words of the bus.
func (x *binder) asks(l *Link, m *doc.Node, valid func(text string) error) []BusAsk {
	var out []BusAsk
	for _, a := range m.Get("asks").All() {
		ask := BusAsk{Every: doc.Of[quantity.Time](a, "every")}
		if ask.Every < quantity.Millisecond {
			x.fault("ask-too-fast", a.Get("every").Place(), "write at least 1 ms", "asking every %s", ask.Every)
		}
		steps, texts, err := askTexts(a.Text("do"), l, valid)
		if err != nil {
			// A device whose file has a fault is not there; that is said already.
			if len(l.Devices()) == len(l.node.Get("devices").All()) {
				x.fault("bad-ask", a.Get("do").Place(), "write an operation, as read PART.VALUE", "%s: %v", a.Key, err)
			}
			continue
		}
		ask.Texts = texts
		out = append(out, ask)
		l.wears = append(l.wears, wearOf(steps, a.Get("do"), ask.Every)...)
		l.said = append(l.said, refusedBy(steps, a.Get("do"))...)
	}
	return out
}

// refusedBy finds registers that are written and don't take it.
func refusedBy(steps []operation.Step, at *doc.Node) []finding.Finding {
	var out []finding.Finding
	for _, s := range steps {
		for _, r := range s.Writes() {
			if !r.Writable() {
				out = append(out, finding.Finding{
					Severity: finding.Warning, Code: "read-only-written", Where: at.Place(),
					Seen: fmt.Sprintf("%s is written, and it is %s", r.Name, r.Access), Why: "the part takes nothing of it, and nothing on the bus shows that",
					Change: "write another register, or correct its access in the device file",
				})
			}
		}
	}
	return out
}

// wear is something that the firmware does again and again and that wears a part out.
type wear struct {
	what  string
	times int
	every quantity.Time
	place finding.Place
}

func wearOf(steps []operation.Step, at *doc.Node, every quantity.Time) []wear {
	var out []wear
	for _, s := range steps {
		if n := s.Endures(); n > 0 {
			out = append(out, wear{s.Plan.Pattern.Name, n, every, at.Place()})
		}
	}
	return out
}

// leastLife is what lasting writes should last.
const leastLife = 20 * 8766 * time.Hour

// lintWear finds what wears a part out before its time.
func (l *Link) lintWear() []finding.Finding {
	var out []finding.Finding
	for _, w := range l.wears {
		life := time.Duration(float64(w.times) * w.every.Seconds() * 1e9)
		if s := float64(w.times) * w.every.Seconds(); s > leastLife.Seconds() {
			continue
		}
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: "wears-out", Where: w.place,
			Seen: fmt.Sprintf("%s is done every %s and may be done %d times: that lasts %s", w.what, w.every, w.times, lasting(life)),
			Why:  "each writing wears the storage; after that many it may no longer keep what is written", Change: "write only what changed, or spread it over more places",
		})
	}
	return out
}

// lasting gives a time in hours, days or years.
func lasting(d time.Duration) string {
	switch h := d.Hours(); {
	case h < 48:
		return fmt.Sprintf("%.1f h", h)
	case h < 2*8766:
		return fmt.Sprintf("%.0f days", h/24)
	default:
		return fmt.Sprintf("%.0f years", h/8766)
	}
}

// askTexts gives the transactions of an operation that needs no answer to go on.
func askTexts(text string, l *Link, valid func(string) error) ([]operation.Step, []string, error) {
	op, err := operation.Parse(text, l.Parts())
	if err != nil {
		return nil, nil, err
	}
	if op.Verb == operation.Raw {
		return nil, []string{op.Text}, valid(op.Text)
	}
	steps, err := op.Fixed()
	if err != nil {
		return nil, nil, err
	}
	var out []string
	for _, s := range steps {
		out = append(out, s.Texts...)
	}
	return steps, out, nil
}
