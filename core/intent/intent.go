// Package intent compares what should be on the wire with what is: a transaction
// is planned in words, its levels are made, and bit by bit they are held against
// the records of a capture.
package intent

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Bit is a bit of a planned or of a seen transaction.
type Bit struct {
	Line     int // index into the kind's roles
	Name     string
	Field    string // what it is a part of: a byte, an identifier
	From, To quantity.Time
	High     bool
	Open     bool // planned as anything
}

// Plan is a transaction as it should be.
type Plan struct {
	Text   string
	Kind   *bus.Kind
	Ends   []bus.Settings // the settings of the ends, the MCU's first
	Record record.Record  // as an ideal tap reads the planned levels
	filled record.Record  // the same with all open places high
	Lines  []wire.Window  // open bits are low
	Bits   []Bit
}

// New plans a transaction in the words of the kind's PlanHelp. Unit is the bit
// time of a bus that a clock drives.
func New(k *bus.Kind, ends []bus.Settings, text string, unit quantity.Time) (*Plan, error) {
	if k.Plan == nil || len(ends) == 0 || ends[0] == nil {
		return nil, errors.New("nothing can be planned on lines that nobody has described")
	}
	p := &Plan{Text: text, Kind: k, Ends: ends}
	var other []Bit
	for _, fill := range []bool{true, false} {
		lines, err := k.Plan(ends, text, unit, fill)
		if err != nil {
			return nil, fmt.Errorf("%w\nas in: %s", err, k.PlanHelp)
		}
		r, err := p.read(lines)
		if err != nil {
			return nil, err
		}
		other, p.Bits = p.Bits, BitsOf(k, ends, &r, lines)
		if fill {
			p.filled = r
		}
		p.Lines, p.Record = lines, r
	}
	if len(other) != len(p.Bits) {
		return nil, errors.New("with these open places the plan has no fixed length")
	}
	open := !bytes.Equal(p.Record.Data, p.filled.Data)
	for i := range p.Bits {
		p.Bits[i].Open = p.Bits[i].High != other[i].High || open && follows(k, p.Bits[i].Field)
	}
	return p, nil
}

// follows reports whether the bits of a field follow from all others; its content may stand
// behind its name.
func follows(k *bus.Kind, field string) bool {
	return slices.ContainsFunc(k.Follows, func(name string) bool { return strings.HasPrefix(field, name) })
}

// read decodes planned levels, which must give one record.
func (p *Plan) read(lines []wire.Window) (record.Record, error) {
	d := p.Kind.Decoder(0, p.Ends)
	var out record.List
	d.Feed(lines, &out)
	d.Flush(&out)
	for _, r := range out.Done {
		if r.Traffic() && r.Seen == record.Tap {
			if len(out.Done) > 1 {
				return r, fmt.Errorf("the plan makes %d transactions; plan them one by one", len(out.Done))
			}
			return r, nil
		}
	}
	return record.Record{}, errors.New("the plan gives nothing that the bus would read")
}

// BitsOf gives the bits of a record without stuff bits, in order. The windows
// are those of the kind's roles and reach over the record.
func BitsOf(k *bus.Kind, ends []bus.Settings, r *record.Record, lines []wire.Window) []Bit {
	var out []Bit
	field := make([]string, len(lines))
	until := make([]quantity.Time, len(lines))
	labels := k.Labels(ends, r, lines)
	for _, l := range labels {
		if l.Kind == bus.BitLabel {
			out = append(out, Bit{Line: l.Line, Name: l.Text, From: l.From, To: l.To, High: l.High})
		}
	}
	// Fields may stand before or behind their bits.
	for i := range out {
		b := &out[i]
		if b.From >= until[b.Line] {
			field[b.Line] = ""
			for _, l := range labels {
				if l.Kind == bus.FieldLabel && l.Line == b.Line && l.From <= b.From && b.From < l.To {
					field[b.Line], until[b.Line] = l.Text, l.To
					break
				}
			}
		}
		b.Field = field[b.Line]
	}
	return out
}

// Difference is a bit that is not as planned.
type Difference struct {
	Bit
	Index int // among the planned bits of its line, from 0
	Want  Bit
	// Missing: the transaction ended before this bit. More: it went on behind
	// the plan's end.
	Missing, More bool
}

// level names a level.
func level(high bool) string {
	if high {
		return "1"
	}
	return "0"
}

// String gives the difference in words.
func (d *Difference) String() string {
	where := d.Want.Name
	if d.Want.Field != "" {
		where += " of " + d.Want.Field
	}
	switch {
	case d.More:
		return fmt.Sprintf("goes on after the plan, with bit %d", d.Index+1)
	case d.Missing:
		return fmt.Sprintf("bit %d, %s, is missing", d.Index+1, where)
	}
	return fmt.Sprintf("bit %d, %s, is %s instead of %s", d.Index+1, where, level(d.High), level(d.Want.High))
}

// Compare holds seen bits against the plan, line by line. Lines that have no
// levels are left out; present says which have. It gives all differences in
// order of time, at most one for a whole missing or surplus end of a line.
func (p *Plan) Compare(seen []Bit, present func(line int) bool) []Difference {
	var out []Difference
	for line := range p.Lines {
		if present != nil && !present(line) {
			continue
		}
		want, have := ofLine(p.Bits, line), ofLine(seen, line)
		if allOpen(want) {
			continue
		}
		for i := range want {
			if i >= len(have) {
				d := Difference{Index: i, Want: want[i], Missing: true}
				d.Line = line
				if i > 0 {
					d.From, d.To = have[i-1].To, have[i-1].To
				}
				out = append(out, d)
				break
			}
			if !want[i].Open && want[i].High != have[i].High {
				out = append(out, Difference{Bit: have[i], Index: i, Want: want[i]})
			}
		}
		if len(have) > len(want) {
			out = append(out, Difference{Bit: have[len(want)], Index: len(want), More: true})
		}
	}
	sortByTime(out)
	return out
}

func allOpen(bits []Bit) bool {
	for _, b := range bits {
		if !b.Open {
			return false
		}
	}
	return true
}

func ofLine(bits []Bit, line int) []Bit {
	var out []Bit
	for _, b := range bits {
		if b.Line == line {
			out = append(out, b)
		}
	}
	return out
}

func sortByTime(ds []Difference) {
	for i := 1; i < len(ds); i++ {
		for k := i; k > 0 && ds[k].From < ds[k-1].From; k-- {
			ds[k], ds[k-1] = ds[k-1], ds[k]
		}
	}
}

// Meant says whether a transaction with these differences is the planned one
// with faults, rather than another one: at most an eighth of its bits differ,
// four in a short one, and its length is near the plan's.
func (p *Plan) Meant(seen []Bit, ds []Difference) bool {
	n := len(p.Bits)
	short, long := n-n/4-1, n+n/4+1
	return len(seen) >= short && len(seen) <= long && len(ds) <= max(n/8, 4)
}

// Read holds a record against the plan by what it says, without levels: it lists
// where it differs. Meant is false where it is another transaction: another
// identifier or first byte, or of another length.
func (p *Plan) Read(r *record.Record) (differs []string, meant bool) {
	want, other := &p.Record, &p.filled
	if r.Kind != want.Kind || r.ID != want.ID || r.Attr&record.Extended != want.Attr&record.Extended || len(r.Data) != len(want.Data) {
		return nil, false
	}
	if r.Kind == record.Transaction && p.Kind.LineOf == nil && len(r.Data) > 0 && want.Data[0] == other.Data[0] && r.Data[0] != want.Data[0] {
		return nil, false
	}
	bytes := func(what string, have, a, b []byte) {
		for i := range have {
			if i < len(a) && i < len(b) && a[i] == b[i] && have[i] != a[i] {
				differs = append(differs, fmt.Sprintf("%s %d is %02X instead of %02X", what, i+1, have[i], a[i]))
			}
		}
	}
	bytes("byte", r.Data, want.Data, other.Data)
	switch {
	case len(r.Back) != len(want.Back):
	case r.Bits == 0:
		bytes("acknowledge of byte", r.Back, want.Back, other.Back)
	default:
		bytes("answered byte", r.Back, want.Back, other.Back)
	}
	if f := r.AllFlags() &^ (want.AllFlags() | other.AllFlags()); f != 0 {
		differs = append(differs, f.String())
	}
	return differs, true
}

// Duration is the time that a planned transaction takes on the wire.
func Duration(k *bus.Kind, ends []bus.Settings, text string, unit quantity.Time) (quantity.Time, error) {
	p, err := New(k, ends, text, unit)
	if err != nil {
		return 0, err
	}
	return p.Record.End - p.Record.Start, nil
}

// Levels gives the levels of a capture: capture.Snapshot does.
type Levels interface {
	Window(link uint16, line int, from, to quantity.Time) (wire.Window, bool)
}

// Against holds a record of a capture against the plan. The settings are those of the
// ends there. Meant is false where the record is another transaction.
func (p *Plan) Against(levels Levels, r *record.Record, ends []bus.Settings) (seen []Bit, ds []Difference, meant bool) {
	if !r.Traffic() || r.Kind != p.Record.Kind || r.Kind == record.Chars && r.From != p.Record.From || len(ends) == 0 || ends[0] == nil {
		return nil, nil, false
	}
	lines := make([]wire.Window, len(p.Lines))
	have := make([]bool, len(lines))
	for i, role := range p.Kind.RolesOf(p.Ends)[:len(lines)] {
		lines[i] = wire.Window{From: r.Start, To: r.End, High: role.High}
		if w, ok := levels.Window(r.Link, i, r.Start-quantity.Nanosecond, r.End+1); ok {
			lines[i], have[i] = w, true
		}
	}
	seen = BitsOf(p.Kind, ends, r, lines)
	ds = p.Compare(seen, func(line int) bool { return have[line] })
	return seen, ds, p.Meant(seen, ds)
}
