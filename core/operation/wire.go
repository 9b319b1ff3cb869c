package operation

import (
	"gavrix/core/access"
	"gavrix/core/record"
)

// wire is how the operations of a kind of bus stand in its words and records: a file and
// a row in wires.
type wire struct {
	// texts gives the transactions of a plan in the words in which the kind plans one.
	texts func(p *Part, plan *access.Plan) []string
	// seen gives the spans of a transaction with the part; false where it is with
	// another one.
	seen func(p *Part, r *record.Record) ([]access.Seen, bool)
}

var wires = map[string]wire{"spi": spiWire, "i2c": i2cWire}

// Known says whether parts on a kind of bus can have registers.
func Known(kind string) bool {
	_, has := wires[kind]
	return has
}

// Seen gives the spans of a transaction as it was on the bus; false where it was with
// another part.
func (p *Part) Seen(r *record.Record) ([]access.Seen, bool) {
	return wires[p.Kind.Name].seen(p, r)
}

// In gives the part's line of spans.
func In(spans []access.Seen) [][]access.Bit {
	var out [][]access.Bit
	for _, s := range spans {
		out = append(out, s.In)
	}
	return out
}
