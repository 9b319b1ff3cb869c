package uart

import (
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
)

// Schema lists the frame settings of an end.
var Schema = doc.Map(
	doc.Key{Name: "rate", Doc: "bit rate of this end, as 57600 or 28.8 kBd", Type: doc.RateType, Required: true},
	doc.Key{Name: "frame", Doc: "data bits, parity and stop bits, as 8N1 or 7E1; after them msb-first, inverted, address-bit (of 9)", Type: doc.Scalar("a frame, as 8N1", ParseFrame), Default: "8N1"},
	doc.Key{Name: "oversampling", Doc: "receiver samples per bit", Type: doc.OneOf(16, 8, 4), Default: "16"},
	doc.Key{Name: "vote", Doc: "majority of three samples per bit", Type: doc.YesNo, Default: "no"},
	doc.Key{Name: "idle-gap", Doc: "pause that ends a packet, as 20 bits or 2 ms", Type: doc.Scalar("a pause, as 20 bits or 2 ms", parseGap), Default: usualGap},
	doc.Key{Name: "flow", Doc: "flow control: none, a ready line of each end, or XOFF and XON", Type: doc.Enum(flowNames...), Default: "none"},
	doc.Key{Name: "stop-at", Doc: "waiting characters at which this end says stop; absent: when its queue is full, with xon-xoff half full", Type: doc.Int(1, 65536)},
	doc.Key{Name: "turn-round", Doc: "on one wire for both directions: time from the last stop bit until this end releases the line", Type: doc.TimeType, Default: "0 us"},
)

// roles are the lines, in the order in which ends are numbered.
var roles = []bus.Role{
	{Name: "mcu", Optional: true, High: true}, {Name: "device", Optional: true, High: true},
	{Name: "shared", Optional: true, High: true}, // one wire for both directions
	{Name: "mcu-ready", Optional: true, High: true}, {Name: "device-ready", Optional: true, High: true},
}

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "uart",
	Title:   "UART",
	Records: record.Chars,
	Mark:    "U",
	Hue:     1,
	Lines:   roles,

	Steps:     []string{"transmit-pin", "receive-pin", "transmit-enable", "receive-enable"},
	EndSchema: EndSchema,
	ParseEnd:  func(n *doc.Node, _ string) (any, error) { return ParseEnd(n), nil },
	Schema:    Schema,
	Parse:     func(n *doc.Node) (bus.Settings, error) { return Parse(n), nil },
	Decoder: func(link uint16, ends []bus.Settings) bus.Decoder {
		return NewTap(link, ends[0].(Settings), bus.At(ends, 1).(Settings))
	},
	Receivers: func(link uint16, ends []bus.Settings) bus.Decoder {
		return newReceivers(link, ends[0].(Settings), bus.At(ends, 1).(Settings))
	},
	Plan: plan, PlanHelp: planHelp,
	Sentence: sentence,
	Fields:   fields,
	Labels:   labels,
	LineOf:   func(r *record.Record) int { return lineOf(r.From) },
	Driver:   driver,
	Byte: func(ends []bus.Settings, from record.End, v uint16) string {
		f := bus.At(ends, driver(lineOf(from))).(Settings).Frame
		if f.Parity == None {
			return ""
		}
		return ParityNote(f, v)
	},
	Measure: measure,
	Compare: func(a, b bus.Settings, nameA, nameB string) []bus.Difference {
		x, y := a.(Settings), b.(Settings)
		out := append(Compare(x, y, nameA, nameB), compareRates(x, y, nameA, nameB)...)
		return append(out, CompareFlow(x, y, nameA, nameB)...)
	},
}

// sentence shows what was sent; addresses stand in front, in hex.
func sentence(r *record.Record) string {
	if r.Kind == record.Flow {
		return r.Text
	}
	if r.Attr&record.Addressed == 0 {
		return safe.Bytes(r.Data)
	}
	var out strings.Builder
	for i := range r.Len() {
		if c := r.Char(i); c&0x100 != 0 {
			fmt.Fprintf(&out, "to %02X: ", c&0xff)
		} else {
			out.WriteRune(safe.Byte(byte(c)))
		}
	}
	return out.String()
}

// breakJSON is the JSON form of a break.
type breakJSON struct {
	Char   int   `json:"char"`
	Length int64 `json:"length_ps"`
}

func fields(r *record.Record) map[string]any {
	if r.Kind == record.Flow {
		return map[string]any{"ready": Ready(r)}
	}
	var out map[string]any
	put := func(key string, v any) {
		if out == nil {
			out = map[string]any{}
		}
		out[key] = v
	}
	if r.Attr&record.Addressed != 0 && r.Len() > 0 && r.Char(0)&0x100 != 0 {
		put("address", r.Char(0)&0xff)
	}
	var breaks []breakJSON
	for _, f := range r.Facts {
		if f.What == record.BreakLength {
			breaks = append(breaks, breakJSON{f.Index, f.Value})
		}
	}
	if len(breaks) > 0 {
		put("breaks", breaks)
	}
	return out
}

// Parse reads the settings from a node that was validated with Schema.
func Parse(n *doc.Node) Settings {
	g := doc.Of[gapOf](n, "idle-gap")
	return Settings{
		Flow: FlowNamed(doc.Of[string](n, "flow")), Stop: doc.Of[int](n, "stop-at"), TurnRound: doc.Of[quantity.Time](n, "turn-round"),
		Rate: doc.Of[quantity.Rate](n, "rate"), Frame: doc.Of[Frame](n, "frame"), Oversampling: doc.Of[int](n, "oversampling"),
		Vote: doc.Of[bool](n, "vote"), GapBits: g.bits, Gap: g.time,
	}
}

// gapOf is a pause that ends a packet, in bits or as a time; the zero value is the
// usual one.
type gapOf struct {
	bits int
	time quantity.Time
}

const usualGap = "2 characters"

func parseGap(s string) (g gapOf, err error) {
	if s == usualGap {
		return gapOf{}, nil
	}
	if number, ok := strings.CutSuffix(s, "bits"); ok {
		if g.bits, err = strconv.Atoi(strings.TrimSpace(number)); err != nil || g.bits < 1 || g.bits > 1_000_000 {
			return gapOf{}, fmt.Errorf("%q: write 1 to 1000000 bits", s)
		}
		return g, nil
	}
	if g.time, err = quantity.ParseTime(s); err == nil && g.time <= 0 {
		err = fmt.Errorf("%q: the pause must be above 0", s)
	}
	return g, err
}

// Duration is the time of n characters back to back.
func Duration(s Settings, n int) quantity.Time {
	return quantity.PeriodOf(s.Rate).Halves(int64(n * s.Frame.HalfBits()))
}

// MinTimeout is the smallest sensible time-out for an answer of n characters
// that may begin after the delay: line time of all, plus one character.
func MinTimeout(s Settings, n int, delay quantity.Time) quantity.Time {
	return delay + Duration(s, n+1)
}

// ParityNote shows the count of ones, the rule and the resulting bit.
func ParityNote(f Frame, v uint16) string {
	ones := 0
	for i := range f.Data {
		ones += int(v >> i & 1)
	}
	return fmt.Sprintf("%d ones: even %d, odd %d, mark 1, space 0", ones, Even.Bit(v&f.Mask()), Odd.Bit(v&f.Mask()))
}
