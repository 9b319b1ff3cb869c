package operation

import (
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/record"
)

// wire is how the operations of a kind of bus stand in its words and records: a file and
// a row in wires.
type wire struct {
	// texts gives the transactions of a plan in the words in which the kind plans one.
	texts func(p *Part, plan *access.Plan) []string
	// seen gives the spans of a transaction with the part; false where it is with
	// another one.
	seen func(p *Part, r *record.Record) ([]access.Seen, bool)
	// probe gives the questions of a scan; nil where parts have no addresses.
	probe func(parts []*Part, reading bool) []Probe
	// doubts says what is probably meant by words in place of what they say; "" or nil:
	// nothing.
	doubts func(parts []*Part, text string) string
	// frees is the word that frees a bus which a part holds; "" where none can.
	frees string
	// acknowledges: every part gives a sign of itself, whatever is asked.
	acknowledges bool
	// silent says whether nobody was there at all in a transaction; nil where that can't be
	// told.
	silent func(r *record.Record) bool
	// answers says whether the part gave a sign of itself in it.
	answers func(r *record.Record, spans []access.Seen) bool
	// positions takes a transaction apart, with what rows of its plan say; nil: byte by byte.
	positions func(r *record.Record, rows []Row) []Position
	// Of parts that are asked and answer, in place of seen and answers: asks begins a
	// request, talk follows what others ask.
	asks func(p *Part, plan *access.Plan) Asking
	talk func(p *Part) *Talk
	// characters reads what is to be sent where that is no transaction; nil where it is.
	characters func(text string) ([]byte, error)
}

var wires = map[string]wire{"spi": spiWire, "i2c": i2cWire, "uart": uartWire, "can": canWire}

// Characters says whether what is sent on a kind of bus is characters, not transactions.
func Characters(kind string) bool { return wires[kind].characters != nil }

// Sent gives the characters that words stand for, on a link of a kind that sends them.
func Sent(kind, text string) ([]byte, error) { return wires[kind].characters(text) }

// Known says whether parts on a kind of bus can have registers.
func Known(kind string) bool {
	_, has := wires[kind]
	return has
}

// Drives reports whether the part drove any bit of what was seen.
func (p *Part) Drives(spans []access.Seen) bool {
	return slices.ContainsFunc(spans, func(s access.Seen) bool {
		return slices.ContainsFunc(s.In, func(b access.Bit) bool { return b != access.Unknown })
	})
}

// Seen gives the spans of a transaction as it was on the bus; false where it was with
// another part.
func (p *Part) Seen(r *record.Record) ([]access.Seen, bool) {
	return wires[p.Kind.Name].seen(p, r)
}

// Silent says whether nobody was there at all in a transaction on a kind of bus, as far as
// that can be told.
func Silent(kind string, r *record.Record) bool {
	silent := wires[kind].silent
	return silent != nil && r != nil && silent(r)
}

// Answers says whether the part gave a sign of itself in a transaction whose spans these
// are.
func (p *Part) Answers(r *record.Record, spans []access.Seen) bool {
	return wires[p.Kind.Name].answers(r, spans)
}

// Mute says whether the part never gives a sign of itself.
func (p *Part) Mute() bool {
	if wires[p.Kind.Name].acknowledges {
		return false
	}
	for _, pat := range p.Map.Patterns {
		for _, s := range pat.Spans {
			if slices.ContainsFunc(s.Lines[access.In], func(c access.Cell) bool { return c.What != access.Skip }) {
				return false
			}
		}
	}
	return true
}

// In gives the part's line of spans.
func In(spans []access.Seen) [][]access.Bit {
	var out [][]access.Bit
	for _, s := range spans {
		out = append(out, s.In)
	}
	return out
}

// exchanges gives, by kind of bus, what takes the messages of a part out of records.
var exchanges = map[string]func(p *Part) func(r *record.Record) []exchange{
	"uart":  laidCharacters,
	"spi":   laidSPI,
	"i2c":   laidI2C,
	"can":   laidFrames,
	"pulse": laidElements,
}
