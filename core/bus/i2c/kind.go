package i2c

import (
	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/record"
)

// Settings are empty: the clock line says all that a decoder needs.
type Settings struct{}

// Describe implements bus.Settings.
func (Settings) Describe() string { return "i2c" }

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:  "i2c",
	Mark:  "I",
	Lines: []bus.Role{{Name: "clock"}, {Name: "data"}},

	Schema:  doc.Map(),
	Parse:   func(*doc.Node) (bus.Settings, error) { return Settings{}, nil },
	Decoder: func(link uint16, _ bus.Settings) bus.Decoder { return NewDecoder(link) },
	Sentence: func(r *record.Record) string {
		s := Describe(r)
		if r.Text != "" {
			s += "  " + r.Text
		}
		return s
	},
	Fields: fields,
}

// partJSON is the JSON form of a Part.
type partJSON struct {
	Address      int    `json:"address"`
	TenBit       bool   `json:"ten_bit,omitempty"`
	Read         bool   `json:"read"`
	Acknowledged bool   `json:"acknowledged"`
	Reserved     string `json:"reserved_for,omitempty"`
	Data         []int  `json:"data"`
	Acks         []bool `json:"acks"`
}

func fields(r *record.Record) map[string]any {
	parts := []partJSON{}
	for _, p := range Parts(r) {
		j := partJSON{Address: p.Address, TenBit: p.Ten, Read: p.Read, Acknowledged: p.Acked, Data: []int{}, Acks: []bool{}}
		if !p.Ten {
			j.Reserved = Reserved(p.Address)
		}
		for i, b := range p.Data {
			j.Data, j.Acks = append(j.Data, int(b)), append(j.Acks, p.Acks[i])
		}
		parts = append(parts, j)
	}
	return map[string]any{"parts": parts, "stopped": r.Attr&record.Stopped != 0}
}
