package values

import (
	"fmt"
	"strconv"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/follow"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Sample is what a message says of a value.
type Sample struct {
	*Name
	At quantity.Time // the end of the message
	// Number is the value where it is one: a quantity, or the number of a code.
	Number  float64
	Numeric bool
	Text    string // in words, with its unit
	Raw     uint64
	Wrote   bool // the MCU put it there
}

// Reader gives what records say of values. Records come in order, each once. It is not safe for
// use by several goroutines.
type Reader struct {
	*Catalog
	meta     *capture.Meta
	meanings *bench.Meanings
	figures  map[uint16]*figure
	fills    *follow.Fills
	out      []Sample
}

// NewReader gives a reader for the records of a capture.
func NewReader(b *bench.Bench, m *capture.Meta) *Reader {
	return &Reader{Catalog: Of(b, m), meta: m, meanings: b.Meanings(), figures: map[uint16]*figure{}, fills: follow.NewFills(b, m)}
}

// Take gives what a record says; valid until the next call.
func (x *Reader) Take(r *record.Record) []Sample {
	x.out = x.out[:0]
	if !r.Traffic() || int(r.Link) >= len(x.meta.Links) {
		return x.out
	}
	l := &x.meta.Links[r.Link]
	for _, m := range x.meanings.Of(l.Name, r) {
		x.meaning(r, l, m)
	}
	x.figure(r, l)
	return x.out
}

// alternate says whether a record is another reading of what an ideal tap's record shows too.
func alternate(l *capture.Link, r *record.Record) bool {
	return r.Kind == record.Transaction && r.Seen == record.MCU && !l.OneSided
}

func (x *Reader) meaning(r *record.Record, l *capture.Link, m *operation.Meaning) {
	if alternate(l, r) {
		return
	}
	if laid := m.Laid; laid != nil {
		if laid.Again || laid.Layout == nil {
			return
		}
		for i := range laid.Values {
			v := &laid.Values[i]
			n := x.name(r.Link, m.Part.Name, laid.Layout.Name, v.Field.Name)
			if n == nil || v.Missing {
				continue
			}
			x.put(n, laid.End, v.Value, v.Format.Codes, r.From == record.MCU || laid.Layout.FromMCU)
		}
		return
	}
	if m.Message != nil && m.Message.Again {
		return
	}
	at := r.End
	if m.Message != nil {
		at = m.Message.End
	}
	content := func(reg *device.Register) uint64 { return m.Contents[reg] }
	one := func(v *device.Value) {
		if n := x.register(r.Link, m.Part.Name, v); n != nil {
			x.put(n, at, v.Decode(content), v.Codes, m.Wrote)
		}
	}
	done := map[*device.Register]bool{}
	for _, v := range m.Values() {
		one(v)
		if v.Whole() && !v.Own {
			done[v.Pieces[0].Register] = true
		}
	}
	for _, reg := range m.Registers() {
		if v := m.Part.Map.Value(reg.Name); v != nil && !done[reg] {
			one(v)
		}
		for i := range reg.Fields {
			if v := m.Part.Map.Value(reg.Name + "." + reg.Fields[i].Name); v != nil {
				one(v)
			}
		}
	}
}

func (x *Reader) put(n *Name, at quantity.Time, v coding.Value, codes map[uint64]string, wrote bool) {
	s := Sample{Name: n, At: at, Text: v.Meaning(), Raw: v.Raw, Wrote: wrote}
	switch {
	case v.Number != nil:
		s.Number, _ = v.Number.Float64()
		s.Numeric = true
	case v.Code != "" && len(codes) > 0:
		s.Number, s.Numeric = float64(v.Raw), true
	}
	x.out = append(x.out, s)
}

// figureName is something that a link does itself.
type figureName struct{ name, unit, about string }

// figures are what links do themselves.
var figures = []figureName{
	{"gap", "s", "silence before a record"},
	{"delay", "s", "from the end of what the MCU sent to the begin of the answer"},
	{"rate", "1/s", "records a second, over the latest second"},
	{"errors", "", "records with error marks so far"},
	{"period", "s", "from the begin of a record to that of the next of its kind: the same identifier, sender or part"},
}

// fillName is the value of a receiving transfer that says how much waits.
const fillName = "fill"

// figure is what a link did so far.
type figure struct {
	end    quantity.Time
	begun  bool
	asked  quantity.Time
	asking bool
	errors int
	recent []quantity.Time
	last   map[uint64]quantity.Time
}

func (x *Reader) figure(r *record.Record, l *capture.Link) {
	if r.Kind == record.Flow || !Once(l, r) {
		return
	}
	f := x.figures[r.Link]
	if f == nil {
		f = &figure{last: map[uint64]quantity.Time{}}
		x.figures[r.Link] = f
	}
	put := func(name string, v float64) {
		n := x.name(r.Link, l.Name, "", name)
		d := *n.Format
		text := quantity.Time(v * 1e12).Round(4)
		if d.Unit != "s" {
			text = strconv.FormatFloat(v, 'g', 6, 64)
			if d.Unit != "" {
				text += " " + d.Unit
			}
		}
		x.out = append(x.out, Sample{Name: n, At: r.End, Number: v, Numeric: true, Text: text})
	}
	if f.begun && r.Start >= f.end {
		put("gap", (r.Start - f.end).Seconds())
	}
	switch {
	case r.From == record.MCU:
		f.asked, f.asking = r.End, true
	case f.asking && r.Start >= f.asked && r.Kind == record.Chars:
		put("delay", (r.Start - f.asked).Seconds())
		f.asking = false
	}
	same := uint64(r.ID) | uint64(r.From)<<32 | uint64(r.Attr&record.Extended)<<40
	if before, has := f.last[same]; has {
		put("period", (r.Start - before).Seconds())
	}
	f.last[same] = r.Start
	f.recent = append(f.recent, r.End)
	for f.recent[0] < r.End-quantity.Second {
		f.recent = f.recent[1:]
	}
	put("rate", float64(len(f.recent)))
	if r.AllFlags() != 0 {
		f.errors++
	}
	put("errors", float64(f.errors))
	for _, w := range x.fills.Take(r) {
		if n := x.name(r.Link, l.Name, w.Name, fillName); n != nil {
			x.out = append(x.out, Sample{Name: n, At: r.End, Number: float64(w.Bytes), Numeric: true, Text: fmt.Sprintf("%d %s", w.Bytes, n.Unit)})
		}
	}
	f.begun, f.end = true, max(f.end, r.End)
}

// Once says whether a record is the one of several readings of the same that is counted.
func Once(l *capture.Link, r *record.Record) bool {
	return !alternate(l, r) && (r.Kind != record.Chars || r.Seen == record.Tap || r.Seen == record.Nobody || l.Real)
}
