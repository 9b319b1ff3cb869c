package can

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// sink drops records.
type sink struct{}

func (sink) Put(*record.Record)  {}
func (sink) Open(*record.Record) {}

// Bits reads the frame that begins at the start of a record once more and
// gives its bits, as a decoder with this timing samples them.
func Bits(t Timing, r *record.Record, line wire.Window) []Sampled {
	d := NewDecoder(t, 0)
	d.started, d.last, d.state = true, true, idle
	d.clock.restart(r.Start)
	var out []Sampled
	d.onBit = func(s Sampled) { out = append(out, s) }
	w := wire.Window{From: r.Start, To: min(line.To, r.End), High: true}
	high := line.High
	for _, x := range line.Toggles {
		high = !high
		if x >= r.Start && x < w.To {
			if len(w.Toggles) == 0 && high {
				continue // the frame begins with a fall
			}
			w.Toggles = append(w.Toggles, x)
		}
	}
	d.Feed([]wire.Window{w}, sink{})
	return out
}

// labels names the fields and the bits of a frame.
func labels(ends []bus.Settings, r *record.Record, lines []wire.Window) []bus.Label {
	if r.AllFlags()&record.Overload != 0 {
		return []bus.Label{{Kind: bus.EventLabel, From: r.Start, To: r.End, Text: "overload flag"}}
	}
	var out []bus.Label
	field := -1 // index into out of the field that is open
	open := Field(0)
	value, bits := uint64(0), 0
	close := func() {
		if field < 0 {
			return
		}
		if bits > 1 && bits <= 32 && open != EndOfFrame {
			out[field].Text += fmt.Sprintf(" %0*X", (bits+3)/4, value)
		}
	}
	for _, s := range Bits(ends[0].(Timing), r, lines[0]) {
		// Data is labelled byte by byte.
		fresh := field < 0 || s.Field != open || !s.Stuff && s.Field == DataField && s.Index%8 == 0
		if fresh && !(s.Stuff && s.Field == open) {
			close()
			field, open, value, bits = len(out), s.Field, 0, 0
			out = append(out, bus.Label{Kind: bus.FieldLabel, From: s.Start, Text: s.Field.String()})
			if s.Field == DataField {
				out[field].Text = fmt.Sprintf("byte %d", s.Index/8+1)
			}
		}
		out[field].To = s.End
		bit := uint64(0)
		if s.Recessive {
			bit = 1
		}
		l := bus.Label{Kind: bus.BitLabel, From: s.Start, To: s.End, Text: fmt.Sprint(bit), High: s.Recessive}
		if s.Stuff {
			l.Kind, l.Text = bus.StuffLabel, "stuff "+l.Text
		} else {
			value = value<<1 | bit
			bits++
		}
		out = append(out, l, bus.Label{Kind: bus.SampleLabel, From: s.Sample, To: s.Sample, Text: s.Field.String()})
	}
	close()
	return out
}
