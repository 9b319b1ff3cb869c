package can

import (
	"fmt"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

var shareType = doc.Scalar("a share of the bit in %", func(s string) error { _, err := quantity.ParsePPM(s); return err })

// Schema lists the bit timing of a node.
var Schema = doc.Map(
	doc.Key{Name: "rate", Doc: "nominal bit rate", Type: doc.RateType, Required: true},
	doc.Key{Name: "data-rate", Doc: "bit rate of the data phase of frames with a rate switch", Type: doc.RateType},
	doc.Key{Name: "sample", Doc: "sample point in both phases, as 87.5 %", Type: shareType, Default: "80 %"},
	doc.Key{Name: "jump", Doc: "synchronisation jump width, as a share of the bit", Type: shareType, Default: "10 %"},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:  "can",
	Mark:  "C",
	Lines: []bus.Role{{Name: "line"}},

	Schema:   Schema,
	Parse:    parse,
	Decoder:  func(link uint16, s bus.Settings) bus.Decoder { return NewDecoder(s.(Timing), link) },
	Sentence: sentence,
	Fields:   fields,
}

// Describe implements bus.Settings.
func (t Timing) Describe() string {
	s := t.Nominal.Bit.Rate().Round(4)
	if t.Data.Bit != t.Nominal.Bit {
		s += " / " + t.Data.Bit.Rate().Round(4)
	}
	return s
}

func parse(n *doc.Node) (bus.Settings, error) {
	rate, _ := quantity.ParseRate(n.Text("rate"))
	data := quantity.Rate(0)
	if d := n.Text("data-rate"); d != "" {
		data, _ = quantity.ParseRate(d)
	}
	t := UsualTiming(rate, data)
	for _, p := range []*Phase{&t.Nominal, &t.Data} {
		if s := n.Text("sample"); s != "" {
			v, _ := quantity.ParsePPM(s)
			p.Sample = float64(v) / 1e6
			p.Jump = min(p.Jump, 1-p.Sample)
		}
		if j := n.Text("jump"); j != "" {
			v, _ := quantity.ParsePPM(j)
			p.Jump = float64(v) / 1e6
		}
	}
	return t, t.Check()
}

var attrNames = []string{"extended", "remote", "fd", "rate switch", "error passive"}

func attributes(a record.Attr) []string {
	out := []string{}
	for i, n := range attrNames {
		if a&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

func sentence(r *record.Record) string {
	if r.AllFlags()&record.Overload != 0 {
		return r.Text
	}
	digits := 3
	if r.Attr&record.Extended != 0 {
		digits = 8
	}
	s := fmt.Sprintf("%0*X", digits, r.ID)
	if r.Attr&record.Remote != 0 {
		s += fmt.Sprintf("  asks for %d bytes", Length(int(r.Bits), false))
	} else {
		s += fmt.Sprintf("  %d bytes  % X", len(r.Data), r.Data)
	}
	if a := attributes(r.Attr &^ record.Remote); len(a) > 0 {
		s += "  " + strings.Join(a, ", ")
	}
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}

func fields(r *record.Record) map[string]any {
	return map[string]any{
		"identifier": r.ID, "format": attributes(r.Attr), "length_code": r.Bits,
		"acknowledged": r.AllFlags()&record.NotAcknowledged == 0, "note": r.Text,
	}
}
