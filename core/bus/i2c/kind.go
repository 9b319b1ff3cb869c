package i2c

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Settings say what a decoder looks for beyond what the clock line says.
type Settings struct {
	// Filter takes out pulses up to this width, as the inputs of devices do.
	Filter quantity.Time
	// Stretch is the longest time that the clock may be low; 0: any time.
	Stretch quantity.Time
	// Stuck is how long the lines must stand still, one of them low, to be
	// reported; 0: never.
	Stuck quantity.Time
	// PEC says that transactions end with the packet error code of SMBus.
	PEC bool
}

// Describe implements bus.Settings.
func (s Settings) Describe() string {
	out := "i2c"
	if s.Filter > 0 {
		out += ", spikes to " + s.Filter.Round(3)
	}
	if s.PEC {
		out += ", with error code"
	}
	return out
}

// Schema lists the settings of a bus.
var Schema = doc.Map(
	doc.Key{Name: "filter", Doc: "width of the spikes that are left out, as 50 ns", Type: doc.TimeType, Default: "0 ns"},
	doc.Key{Name: "stretch", Doc: "longest time that the clock may be held low, as 25 ms", Type: doc.TimeType},
	doc.Key{Name: "stuck", Doc: "time after which a line held low is reported", Type: doc.TimeType, Default: "25 ms"},
	doc.Key{Name: "error-code", Doc: "transactions end with the packet error code of SMBus", Type: doc.YesNo, Default: "no"},
)

func parse(n *doc.Node) (bus.Settings, error) {
	return Settings{
		Filter: doc.Of[quantity.Time](n, "filter"), Stretch: doc.Of[quantity.Time](n, "stretch"), Stuck: doc.Of[quantity.Time](n, "stuck"),
		PEC: doc.Of[bool](n, "error-code"),
	}, nil
}

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "i2c",
	Title:   "I2C",
	Records: record.Transaction,
	Mark:    "I",
	Hue:     3,
	Lines:   []bus.Role{{Name: "clock"}, {Name: "data"}},

	Steps:     []string{"clock-pin", "data-pin"},
	EndSchema: EndSchema,
	ParseEnd:  func(n *doc.Node, name string) (any, error) { return ParseEnd(n, name) },
	Packet:    packet,
	Schema:    Schema,
	Parse:     parse,
	Decoder:   func(link uint16, ends []bus.Settings) bus.Decoder { return NewDecoder(ends[0].(Settings), link) },
	Plan:      plan, PlanHelp: planHelp,
	Sentence: func(r *record.Record) string {
		s := Describe(r)
		if r.Text != "" {
			s += "  " + r.Text
		}
		return s
	},
	Fields: fields,
	Labels: labels,
	Compare: func(a, b bus.Settings, nameA, nameB string) []bus.Difference {
		return Compare(a.(Settings), b.(Settings), nameA, nameB)
	},
}

// Compare lists in what two parties on the bus differ; the clock line carries
// all that they must agree on but the error code.
func Compare(a, b Settings, nameA, nameB string) []bus.Difference {
	if a.PEC == b.PEC {
		return nil
	}
	with, without := nameA, nameB
	if b.PEC {
		with, without = nameB, nameA
	}
	return []bus.Difference{{
		Code: "error-code-differs", What: fmt.Sprintf("packet error code: %s yes, %s no", with, without),
		Effects: []string{
			without + " takes the code for one more byte of data",
			with + " takes the last byte of data for the code, and finds it wrong",
		},
	}}
}

// partJSON is the JSON form of a Part.
type partJSON struct {
	Address      int    `json:"address"`
	TenBit       bool   `json:"ten_bit,omitempty"`
	Read         bool   `json:"read"`
	Acknowledged bool   `json:"acknowledged"`
	HighSpeed    bool   `json:"high_speed,omitempty"`
	Reserved     string `json:"reserved_for,omitempty"`
	Data         []int  `json:"data"`
	Acks         []bool `json:"acks"`
	Start        int64  `json:"start_ps"` // relative to the record's
}

func fields(r *record.Record) map[string]any {
	parts := []partJSON{}
	for _, p := range Parts(r) {
		j := partJSON{Address: p.Address, TenBit: p.Ten, Read: p.Read, Acknowledged: p.Acked, HighSpeed: p.Fast, Data: []int{}, Acks: []bool{}}
		j.Start, _ = r.Fact(record.StartAt, p.First)
		if !p.Ten {
			j.Reserved = Reserved(p.Address, p.Read)
		}
		for i, b := range p.Data {
			j.Data, j.Acks = append(j.Data, int(b)), append(j.Acks, p.Acks[i])
		}
		parts = append(parts, j)
	}
	out := map[string]any{"parts": parts, "stopped": r.Attr&record.Stopped != 0}
	if n, has := r.Fact(record.CutBits, len(r.Data)); has {
		v, _ := r.Fact(record.CutOut, len(r.Data))
		out["cut_bits"] = fmt.Sprintf("%0*b", n, v)
	}
	return out
}
