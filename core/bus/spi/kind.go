package spi

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// Schema lists the frame settings of a device.
var Schema = doc.Map(
	doc.Key{Name: "mode", Doc: "clock idle level and sampling edge, 0 to 3", Type: doc.Enum("0", "1", "2", "3"), Default: "0"},
	doc.Key{Name: "word", Doc: "bits a word, 4 to 32", Type: doc.Int(4, 32), Default: "8"},
	doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb"), Default: "msb"},
	doc.Key{Name: "active", Doc: "level of the select line while selected; none: there is no select line", Type: doc.Enum("low", "high", "none"), Default: "low"},
	doc.Key{Name: "gap", Doc: "pause of the clock that ends a transfer without a select line", Type: doc.TimeType},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:  "spi",
	Mark:  "S",
	Lines: []bus.Role{{Name: "clock"}, {Name: "out", Optional: true}, {Name: "in", Optional: true}, {Name: "select", Optional: true}},

	Schema:   Schema,
	Parse:    parse,
	Decoder:  func(link uint16, s bus.Settings) bus.Decoder { return NewDecoder(s.(Settings), link, record.Device) },
	Sentence: sentence,
	Fields: func(r *record.Record) map[string]any {
		return map[string]any{"word_bits": r.Bits, "out": Words(r, r.Data), "in": Words(r, r.Back)}
	},
}

func parse(n *doc.Node) (bus.Settings, error) {
	mode, _ := strconv.Atoi(n.Text("mode"))
	s := Mode(mode)
	if w, err := strconv.Atoi(n.Text("word")); err == nil {
		s.Word = w
	}
	s.LSBFirst = n.Text("order") == "lsb"
	switch n.Text("active") {
	case "high":
		s.Select = ActiveHigh
	case "none":
		s.Select = NoSelect
	}
	if t := n.Text("gap"); t != "" {
		s.Gap, _ = quantity.ParseTime(t)
	}
	return s, s.Check()
}

func sentence(r *record.Record) string {
	digits := (int(r.Bits) + 3) / 4
	hex := func(words []uint32) string {
		var out []string
		for _, w := range words {
			out = append(out, fmt.Sprintf("%0*X", digits, w))
		}
		return strings.Join(out, " ")
	}
	s := "out " + hex(Words(r, r.Data)) + "  in " + hex(Words(r, r.Back))
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}
