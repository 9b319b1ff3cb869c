package can

import (
	"fmt"
	"math"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

var shareType = doc.Scalar("a share of the bit in %", quantity.ParsePercent)

// Schema lists the bit timing of a node.
var Schema = doc.Map(
	doc.Key{Name: "rate", Doc: "nominal bit rate", Type: doc.RateType, Required: true},
	doc.Key{Name: "data-rate", Doc: "bit rate of the data phase of frames with a rate switch", Type: doc.RateType},
	doc.Key{Name: "sample", Doc: "sample point, as 87.5 %; of both phases, if data-sample does not say otherwise", Type: shareType, Default: "80 %"},
	doc.Key{Name: "jump", Doc: "synchronisation jump width, as a share of the bit", Type: shareType, Default: "10 %"},
	doc.Key{Name: "quanta", Doc: "time quanta a bit; absent: edges are seen when they happen", Type: doc.Int(4, 385)},
	doc.Key{Name: "data-sample", Doc: "sample point of the data phase", Type: shareType},
	doc.Key{Name: "data-jump", Doc: "synchronisation jump width of the data phase", Type: shareType},
	doc.Key{Name: "data-quanta", Doc: "time quanta a bit of the data phase", Type: doc.Int(4, 385)},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "can",
	Title:   "CAN",
	Records: record.Frame,
	Mark:    "C",
	Hue:     4,
	Lines:   []bus.Role{{Name: "line"}},

	Steps:     []string{"transmit-pin", "receive-pin", "configuration", "filters", "join"},
	EndSchema: EndSchema,
	ParseEnd:  func(n *doc.Node, name string) (any, error) { return ParseEnd(n, name) },
	Packet:    packet,
	Schema:    Schema,
	Parse:     parse,
	Decoder:   func(link uint16, ends []bus.Settings) bus.Decoder { return NewDecoder(ends[0].(Timing), link) },
	Plan:      plan, PlanHelp: planHelp,
	Sends: func(text string) error {
		_, err := ParseFrame(text)
		return err
	},
	Follows:  []string{CheckField.String(), StuffCount.String()},
	Sentence: sentence,
	EndNotes: counters,
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
		// Of the slower rate, so that the order of the ends does not matter.
		off := float64(max(x.Bit, y.Bit))/float64(min(x.Bit, y.Bit)) - 1
		// Over ten bits, the longest stretch without an edge, a node must not
		// lose more than it can make up for.
		most := min(x.Jump, y.Jump) / 10
		if off > 1e-6 {
			d := bus.Difference{
				Code: code + "-rate-differs", What: fmt.Sprintf("%s rate: %s %s, %s %s, %.2f %% apart", what, nameA, x.Bit.Rate().Round(5), nameB, y.Bit.Rate().Round(5), 100*off),
				Effects: []string{fmt.Sprintf("the jump width makes up for %.2f %%: stuff errors, and error flags from whoever is active", 100*most)},
			}
			if off <= most {
				d.Harmless, d.Effects = true, []string{fmt.Sprintf("frames still get through with exact clocks: the jump width makes up for %.2f %%, of which this takes %.0f %%", 100*most, 100*off/most)}
			}
			out = append(out, d)
		}
		if d := math.Abs(x.Sample - y.Sample); d > farSamples+1e-9 {
			out = append(out, bus.Difference{
				Code: code + "-sample-points-far", What: fmt.Sprintf("%s sample point: %s %.1f %%, %s %.1f %%", what, nameA, 100*x.Sample, nameB, 100*y.Sample), Harmless: true,
				Effects: []string{"both read the same bits on a short bus with exact clocks; length and clock error leave less room than either end calculates with"},
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
	read := func(p *Phase, prefix string) {
		if q := n.Get(prefix + "quanta"); q != nil || prefix == "" {
			p.Quanta = doc.Of[int](n, prefix+"quanta")
		}
		if n.Get(prefix+"sample") != nil || prefix == "" {
			p.Sample = doc.Of[float64](n, prefix+"sample")
		}
		if n.Get(prefix+"jump") != nil || prefix == "" {
			p.Jump = doc.Of[float64](n, prefix+"jump")
		}
		if n.Get(prefix+"jump") == nil {
			p.Jump = min(p.Jump, 1-p.Sample) // the default gives way
		}
	}
	read(&t.Nominal, "")
	read(&t.Data, "")
	read(&t.Data, "data-")
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
	s := identifier(r)
	switch {
	case r.Attr&record.Incomplete != 0:
		return r.Text
	case r.Bits == record.NoLength:
	case r.Attr&record.Remote != 0:
		s += "  asks for " + bytesText(Length(int(r.Bits), false))
	default:
		s += fmt.Sprintf("  %s  % X", bytesText(len(r.Data)), r.Data)
	}
	if a := attributes(r.Attr &^ record.Remote); len(a) > 0 {
		s += "  " + strings.Join(a, ", ")
	}
	for _, f := range r.Facts {
		switch f.What {
		case record.WonOver:
			s += fmt.Sprintf("  won over %s at bit %d of the frame", loser(f.Value), f.Index)
		case record.HeldBack:
			s += "  held back " + quantity.Time(f.Value).Round(3)
		}
	}
	if r.Text != "" {
		s += "  " + r.Text
	}
	return s
}

// loser gives the identifier of a WonOver in hex.
func loser(v int64) string {
	r := record.Record{ID: uint32(v) & (1<<29 - 1)}
	if v>>29 != 0 {
		r.Attr = record.Extended
	}
	return identifier(&r)
}

// StateOf gives the error state that counters mean.
func StateOf(transmit, receive int) ErrorState {
	switch {
	case transmit > 255:
		return BusOff
	case transmit > 127 || receive > 127:
		return ErrorPassive
	}
	return ErrorActive
}

// counters gives the error counters that a record tells of.
func counters(r *record.Record) []bus.EndNote {
	var out []bus.EndNote
	for _, f := range r.Facts {
		if f.What != record.ErrorCounts {
			continue
		}
		transmit, receive := int(f.Value>>16), int(f.Value&0xffff)
		n := bus.EndNote{End: f.Index, Text: fmt.Sprintf("%s, transmit errors %d, receive errors %d", StateOf(transmit, receive), transmit, receive)}
		n.Bad = StateOf(transmit, receive) != ErrorActive || max(transmit, receive) >= WarningLimit
		out = append(out, n)
	}
	return out
}

// identifier is that of a frame in hex, as many digits as it has.
func identifier(r *record.Record) string {
	if r.Attr&record.Extended != 0 {
		return fmt.Sprintf("%08X", r.ID)
	}
	return fmt.Sprintf("%03X", r.ID)
}

func fields(r *record.Record) map[string]any {
	out := map[string]any{"note": r.Text}
	flags := r.AllFlags()
	if flags&record.Overload != 0 {
		return out
	}
	out["format"] = attributes(r.Attr)
	if r.Attr&record.Incomplete == 0 {
		out["identifier"] = r.ID
	}
	if r.Bits != record.NoLength {
		out["length_code"] = r.Bits
	}
	if flags&(record.Stuff|record.Form|record.CheckSequence|record.ErrorFlag|record.CutOff) == 0 {
		out["acknowledged"] = flags&record.NotAcknowledged == 0
	}
	var won, counts []map[string]any
	for _, f := range r.Facts {
		switch f.What {
		case record.WonOver:
			won = append(won, map[string]any{"identifier": f.Value & (1<<29 - 1), "extended": f.Value>>29 != 0, "bit": f.Index})
		case record.HeldBack:
			out["held_back_ps"] = f.Value
		case record.ErrorCounts:
			counts = append(counts, map[string]any{"end": f.Index, "transmit": f.Value >> 16, "receive": f.Value & 0xffff})
		case record.Answer:
			out["acknowledged"] = f.Value != 0
		case record.CheckValue:
			out["check_sequence"] = f.Value
		case record.StuffBits:
			out["stuff_bits"] = f.Value
		case record.FlagAt:
			out["error_flag_ps"] = f.Value
		}
	}
	if won != nil {
		out["won_over"] = won
	}
	if counts != nil {
		out["error_counters"] = counts
	}
	return out
}

func bytesText(n int) string {
	if n == 1 {
		return "1 byte"
	}
	return quantity.Count(n, "byte")
}
