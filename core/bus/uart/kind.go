package uart

import (
	"fmt"
	"strconv"

	"gavrix/core/bus"
	"gavrix/core/doc"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/safe"
	"gavrix/core/wire"
)

// Schema lists the frame settings of an end.
var Schema = doc.Map(
	doc.Key{Name: "rate", Doc: "bit rate of this end, as 57600 or 28.8 kBd", Type: doc.RateType, Required: true},
	doc.Key{Name: "frame", Doc: "data bits, parity and stop bits, as 8N1 or 7E1", Type: doc.Scalar("a frame, as 8N1", func(s string) error {
		_, err := ParseFrame(s)
		return err
	}), Default: "8N1"},
	doc.Key{Name: "oversampling", Doc: "receiver samples a bit", Type: doc.Enum("16", "8", "4"), Default: "16"},
	doc.Key{Name: "vote", Doc: "majority of three samples a bit", Type: doc.Enum("yes", "no"), Default: "no"},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:  "uart",
	Mark:  "U",
	Lines: []bus.Role{{Name: "mcu", Optional: true, High: true}, {Name: "device", Optional: true, High: true}},

	Schema: Schema,
	Parse:  func(n *doc.Node) (bus.Settings, error) { return Parse(n), nil },
	Decoder: func(link uint16, s bus.Settings) bus.Decoder {
		return NewTap(link, s.(Settings), s.(Settings))
	},
	Sentence: func(r *record.Record) string { return safe.Bytes(r.Data) },
	Fields:   func(*record.Record) map[string]any { return nil },
}

// Parse reads the settings from a node that satisfies Schema; what is absent
// takes its default.
func Parse(n *doc.Node) Settings {
	s := Settings{Frame: Frame{8, None, 1}, Oversampling: 16}
	if r, err := quantity.ParseRate(n.Text("rate")); err == nil {
		s.Rate = r
	}
	if t := n.Text("frame"); t != "" {
		if f, err := ParseFrame(t); err == nil {
			s.Frame = f
		}
	}
	if v, err := strconv.Atoi(n.Text("oversampling")); err == nil {
		s.Oversampling = v
	}
	s.Vote = n.Text("vote") == "yes"
	return s
}

// Duration is the time of n characters back to back.
func Duration(s Settings, n int) quantity.Time {
	return quantity.PeriodOf(s.Rate).Times(int64(n * s.Frame.Bits()))
}

// MinTimeout is the smallest sensible time-out for an answer of n characters
// that may begin after the delay: line time of all, plus one character.
func MinTimeout(s Settings, n int, delay quantity.Time) quantity.Time {
	return delay + Duration(s, n+1)
}

// Tap decodes both directions of a link as an ideal observer would, each with
// the settings of the end that drives it.
type Tap struct {
	lines [2]*Receiver
}

// NewTap gives the decoder for the lines from and to the MCU.
func NewTap(link uint16, mcu, device Settings) *Tap {
	side := func(s Settings, from record.End) *Receiver {
		return NewReceiver(Config{
			Frame: s.Frame, Period: quantity.PeriodOf(s.Rate),
			Link: link, Seen: record.Tap, From: from, Origin: record.FromLevels,
		})
	}
	return &Tap{[2]*Receiver{side(mcu, record.MCU), side(device, record.Device)}}
}

// Feed implements bus.Decoder.
func (t *Tap) Feed(lines []wire.Window, out record.Sink) {
	for i := range lines {
		t.lines[i].Feed(&lines[i], out)
	}
}

// Wake implements bus.Decoder.
func (t *Tap) Wake() quantity.Time { return min(t.lines[0].Wake(), t.lines[1].Wake()) }

// Flush implements bus.Decoder.
func (t *Tap) Flush(out record.Sink) {
	for _, r := range t.lines {
		r.Flush(out)
	}
}

// ParityNote shows the count of ones, the rule and the resulting bit.
func ParityNote(f Frame, v uint16) string {
	ones := 0
	for i := range f.Data {
		ones += int(v >> i & 1)
	}
	return fmt.Sprintf("%d ones: even %d, odd %d, mark 1, space 0", ones, Even.Bit(v&f.Mask()), Odd.Bit(v&f.Mask()))
}
