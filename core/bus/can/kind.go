package can

import (
	"fmt"
	"math"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

var shareType = doc.Scalar("a share of the bit in %", func(s string) (float64, error) {
	p, err := quantity.ParsePPM(s)
	return float64(p) / 1e6, err
})

// Schema lists the bit timing of a node.
var Schema = doc.Map(
	doc.Key{Name: "rate", Doc: "nominal bit rate", Type: doc.RateType, Required: true},
	doc.Key{Name: "data-rate", Doc: "bit rate of the data phase of frames with a rate switch", Type: doc.RateType},
	doc.Key{Name: "sample", Doc: "sample point in both phases, as 87.5 %", Type: shareType, Default: "80 %"},
	doc.Key{Name: "jump", Doc: "synchronisation jump width, as a share of the bit", Type: shareType, Default: "10 %"},
	doc.Key{Name: "quanta", Doc: "time quanta a bit; absent: edges are seen when they happen", Type: doc.Int(4, 385)},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "can",
	Records: record.Frame,
	Mark:    "C",
	Lines:   []bus.Role{{Name: "line"}},

	Steps:     []string{"transmit-pin", "receive-pin", "configuration", "filters", "join"},
	EndSchema: EndSchema,
	ParseEnd:  func(n *doc.Node, name string) (any, error) { return ParseEnd(n, name) },
	Packet:    packet,
	Schema:    Schema,
	Parse:     parse,
	Decoder:   func(link uint16, ends []bus.Settings) bus.Decoder { return NewDecoder(ends[0].(Timing), link) },
	Plan:      plan, PlanHelp: planHelp,
	Sentence: sentence,
	Fields:   fields,
	Labels:   labels,
	Compare: func(a, b bus.Settings, nameA, nameB string) []bus.Difference {
		return Compare(a.(Timing), b.(Timing), nameA, nameB)
	},
}

// farSamples is the distance of two sample points, as a share of the bit, from
// which on the ends leave each other little room.
const farSamples = 0.05

// Compare lists in what two nodes differ.
func Compare(a, b Timing, nameA, nameB string) []bus.Difference {
	var out []bus.Difference
	phase := func(code, what string, x, y Phase) {
		off := float64(x.Bit)/float64(y.Bit) - 1
		// Over ten bits, the longest stretch without an edge, a node must not
		// lose more than it can make up for.
		if most := min(x.Jump, y.Jump) / 10; math.Abs(off) > most {
			out = append(out, bus.Difference{
				Code: code + "-rate-differs", What: fmt.Sprintf("%s rate: %s %s, %s %s, %+.2f %%", what, nameA, x.Bit.Rate().Round(5), nameB, y.Bit.Rate().Round(5), -100*off),
				Effects: []string{fmt.Sprintf("the jump width makes up for %.2f %%: stuff errors, and error flags from whoever is active", 100*most)},
			})
		}
		if d := math.Abs(x.Sample - y.Sample); d > farSamples+1e-9 {
			out = append(out, bus.Difference{
				Code: code + "-sample-points-far", What: fmt.Sprintf("%s sample point: %s %.1f %%, %s %.1f %%", what, nameA, 100*x.Sample, nameB, 100*y.Sample), Harmless: true,
				Effects: []string{"both read the same bits on a short bus with exact clocks; length and clock error leave less room than either end reckons with"},
			})
		}
	}
	phase("bit", "bit", a.Nominal, b.Nominal)
	if a.Data != a.Nominal || b.Data != b.Nominal {
		phase("data", "data", a.Data, b.Data)
	}
	return out
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
	t := UsualTiming(doc.Of[quantity.Rate](n, "rate"), doc.Of[quantity.Rate](n, "data-rate"))
	for _, p := range []*Phase{&t.Nominal, &t.Data} {
		p.Quanta = doc.Of[int](n, "quanta")
		p.Sample = doc.Of[float64](n, "sample")
		p.Jump = doc.Of[float64](n, "jump")
		if n.Get("jump") == nil {
			p.Jump = min(p.Jump, 1-p.Sample) // the default gives way
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
