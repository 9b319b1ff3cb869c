// Package pulse encodes and decodes lines on which a bit is the width of a
// pulse: each bit is a high time followed by a low time, long or short, and a
// pause longer than a limit latches what came before.
package pulse

import (
	"errors"
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Range is a time with its limits.
type Range struct {
	Least, Most quantity.Time
}

// Holds says whether a time lies in the range.
func (r Range) Holds(t quantity.Time) bool { return t >= r.Least && t <= r.Most }

// Middle is the time in the middle of the range.
func (r Range) Middle() quantity.Time { return (r.Least + r.Most) / 2 }

// Symbol is the pulse of one bit value.
type Symbol struct {
	High, Low Range
}

// Settings describe the coding of a line.
type Settings struct {
	Zero, One Symbol
	// Latch is the shortest low time that latches. A low time between the
	// symbols' own and this one is an error: a receiver may take it for either.
	Latch quantity.Time
	// Element is the number of bits that one element takes, most significant
	// bit first unless LSBFirst.
	Element  int
	LSBFirst bool
}

// Check says what is wrong with the settings.
func (s Settings) Check() error {
	for _, r := range []struct {
		name string
		r    Range
	}{{"zero high", s.Zero.High}, {"zero low", s.Zero.Low}, {"one high", s.One.High}, {"one low", s.One.Low}} {
		if r.r.Least <= 0 || r.r.Most < r.r.Least {
			return fmt.Errorf("%s: %s to %s is no range of times", r.name, r.r.Least, r.r.Most)
		}
	}
	if s.Zero.High.Least <= s.One.High.Most && s.One.High.Least <= s.Zero.High.Most {
		return errors.New("the high times of zero and one overlap: no receiver can tell them apart")
	}
	if s.Latch <= max(s.Zero.Low.Most, s.One.Low.Most) {
		return fmt.Errorf("latch %s: it must be longer than the low times of the bits", s.Latch)
	}
	if s.Element < 1 || s.Element > 32 {
		return fmt.Errorf("elements of %d bits: an element has 1 to 32", s.Element)
	}
	return nil
}

// Describe implements bus.Settings.
func (s Settings) Describe() string {
	return fmt.Sprintf("elements of %d bits, latch %s", s.Element, s.Latch.Round(3))
}

// Encode appends to dst the toggles of elements on a line that rests low, with
// the symbols' middle times, and gives the end of the last bit's low time. The
// latch pause is for the caller to keep.
func Encode(dst []quantity.Time, s Settings, start quantity.Time, elements ...uint32) ([]quantity.Time, quantity.Time) {
	for _, e := range elements {
		for i := range s.Element {
			sym := s.Zero
			if s.bit(e, i) {
				sym = s.One
			}
			dst = append(dst, start, start+sym.High.Middle())
			start += sym.High.Middle() + sym.Low.Middle()
		}
	}
	return dst, start
}

// bit gives the bit of an element that is sent at the place i.
func (s Settings) bit(e uint32, i int) bool {
	if s.LSBFirst {
		return e>>i&1 == 1
	}
	return e>>(s.Element-1-i)&1 == 1
}

// Patterns say which bits a clocked data line sends for one bit of the pulse
// line: each pattern begins high and ends low, most significant bit first.
type Patterns struct {
	Zero, One uint32
	Bits      int // of each pattern, 2 to 8
}

// Check says what is wrong with the patterns.
func (p Patterns) Check() error {
	if p.Bits < 2 || p.Bits > 8 {
		return fmt.Errorf("patterns of %d bits: 2 to 8", p.Bits)
	}
	for _, v := range []uint32{p.Zero, p.One} {
		if v>>p.Bits != 0 || v>>(p.Bits-1)&1 != 1 || v&1 != 0 {
			return fmt.Errorf("pattern %0*b: it must have %d bits, begin with 1 and end with 0", p.Bits, v, p.Bits)
		}
		// One pulse: ones, then zeros.
		if inv := ^v & (1<<p.Bits - 1); inv&(inv+1) != 0 {
			return fmt.Errorf("pattern %0*b has more than one pulse", p.Bits, v)
		}
	}
	if p.Zero == p.One {
		return errors.New("the patterns of zero and one are the same")
	}
	return nil
}

// ToClocked gives the bytes that a clocked data line must send, most
// significant bit first, so that its line carries the elements. The last byte
// is filled up with zeros.
func ToClocked(s Settings, p Patterns, elements ...uint32) []byte {
	var out []byte
	acc, n := uint64(0), 0
	for _, e := range elements {
		for i := range s.Element {
			v := p.Zero
			if s.bit(e, i) {
				v = p.One
			}
			acc = acc<<p.Bits | uint64(v)
			for n += p.Bits; n >= 8; n -= 8 {
				out = append(out, byte(acc>>(n-8)))
			}
		}
	}
	if n > 0 {
		out = append(out, byte(acc<<(8-n)))
	}
	return out
}

// Tolerance is what a clock makes of the patterns, against the limits.
type Tolerance struct {
	Bit                                quantity.Time // time of one bit of the pulse line
	ZeroHigh, ZeroLow, OneHigh, OneLow quantity.Time
	Fits                               bool
	Wrong                              []string      // each with the time and the range
	LargestPause                       quantity.Time // that the data line may make between bytes, beyond which a low time is too long
	Unwanted                           bool          // the pause given would latch
}

// Fit checks patterns sent at a clock against the limits. The pause is what
// the data line makes between bytes, where it rests low.
func Fit(s Settings, p Patterns, clock quantity.Period, pause quantity.Time) Tolerance {
	times := func(v uint32) (high, low quantity.Time) {
		ones := 0
		for i := range p.Bits {
			ones += int(v >> i & 1)
		}
		return clock.Times(int64(ones)), clock.Times(int64(p.Bits - ones))
	}
	t := Tolerance{Bit: clock.Times(int64(p.Bits))}
	t.ZeroHigh, t.ZeroLow = times(p.Zero)
	t.OneHigh, t.OneLow = times(p.One)
	for _, x := range t.Times(s) {
		if !x.Fits() {
			t.Wrong = append(t.Wrong, fmt.Sprintf("%s: %s is outside %s to %s", x.Name, x.Is, x.Limits.Least, x.Limits.Most))
		}
	}
	longest := max(t.ZeroLow, t.OneLow)
	t.LargestPause = max(min(s.Zero.Low.Most-t.ZeroLow, s.One.Low.Most-t.OneLow), 0)
	t.Unwanted = longest+pause >= s.Latch
	switch {
	case t.Unwanted:
		t.Wrong = append(t.Wrong, fmt.Sprintf("a pause of %s between bytes latches: the line is low for %s, the latch is %s", pause, longest+pause, s.Latch))
	case pause > t.LargestPause:
		t.Wrong = append(t.Wrong, fmt.Sprintf("a pause of %s between bytes makes a low time of up to %s: at most %s fits", pause, longest+pause, t.LargestPause))
	}
	if pause > 0 && p.splits() {
		t.Wrong = append(t.Wrong, fmt.Sprintf("a pause of %s between bytes falls into a pulse: bytes of the data line end within the high part of a pattern of %d bits", pause, p.Bits))
	}
	t.Fits = len(t.Wrong) == 0
	return t
}

// splits says whether a byte of the data line, which carries patterns one behind the
// other, can end between two high bits of one.
func (p Patterns) splits() bool {
	for end := 8; end%p.Bits != 0; end += 8 {
		at := p.Bits - end%p.Bits // bits of the pattern that are left to the next byte
		for _, v := range []uint32{p.Zero, p.One} {
			if v>>at&1 == 1 && v>>(at-1)&1 == 1 {
				return true
			}
		}
	}
	return false
}

// Decoder decodes a line. A record is what stands between two latches.
type Decoder struct {
	set     Settings
	rec     record.Record
	to      quantity.Time
	started bool
	high    bool
	rise    quantity.Time
	fall    quantity.Time
	pulse   bool // a pulse is seen, its low time is not over
	word    uint32
	n       int
	wordAt  quantity.Time
}

// maxElements is the number of elements, and of marks, after which a record is
// put out although nothing latched.
const maxElements = 4096

// NewDecoder gives a decoder for the link.
func NewDecoder(s Settings, link uint16) *Decoder {
	d := &Decoder{set: s}
	d.rec = record.Record{Kind: record.Transaction, Link: link, From: record.MCU, Seen: record.Tap, Origin: record.FromLevels, Bits: uint8(s.Element)}
	return d
}

// Feed implements bus.Decoder.
func (d *Decoder) Feed(lines []wire.Window, out record.Sink) {
	// A driver that lets the line go leaves it low: resting is no pulse.
	known := lines[0].Known(false)
	w := &known
	if !d.started {
		d.started = true
		d.high = w.High
		d.rise = w.From
	}
	for _, t := range w.Toggles {
		d.high = !d.high
		if !d.high {
			d.fall, d.pulse = t, true
			continue
		}
		if d.pulse {
			if t >= d.fall+d.set.Latch {
				d.bit(t, true)
				d.put(d.fall+d.set.Latch, out)
			} else {
				d.bit(t, false)
				if len(d.rec.Offsets) >= maxElements || len(d.rec.Marks) >= maxElements {
					d.part(t, out)
				}
			}
		}
		d.rise, d.pulse = t, false
	}
	if d.pulse && w.To >= d.fall+d.set.Latch {
		d.bit(d.fall+d.set.Latch, true)
		d.put(d.fall+d.set.Latch, out)
		d.pulse = false
	}
	d.to = w.To
}

// Rest implements bus.Rester: the line stays low until it latches.
func (d *Decoder) Rest(out record.Sink) {
	if d.pulse {
		d.Feed([]wire.Window{{From: d.to, To: d.fall + d.set.Latch}}, out)
	}
}

// bit takes the pulse whose low time ends at t. A last bit's low time is the
// latch.
func (d *Decoder) bit(t quantity.Time, latched bool) {
	if d.n == 0 && len(d.rec.Offsets) == 0 {
		d.rec.Start = d.rise
	}
	high, low := d.fall-d.rise, t-d.fall
	one := d.set.One.High.Holds(high)
	sym := d.set.Zero
	if one {
		sym = d.set.One
	}
	if !sym.High.Holds(high) || !latched && !sym.Low.Holds(low) {
		// The nearer symbol is taken, and marked.
		one = distance(high, d.set.One.High) < distance(high, d.set.Zero.High)
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Offsets), Flags: record.Glitch})
	}
	if d.n == 0 {
		d.wordAt = d.rise
	}
	if one {
		if d.set.LSBFirst {
			d.word |= 1 << d.n
		} else {
			d.word |= 1 << (d.set.Element - 1 - d.n)
		}
	}
	if d.n++; d.n < d.set.Element {
		return
	}
	d.rec.Offsets = append(d.rec.Offsets, d.wordAt-d.rec.Start)
	for k := 0; k < d.set.Element; k += 8 {
		d.rec.Data = append(d.rec.Data, byte(d.word>>k))
	}
	d.word, d.n = 0, 0
}

func distance(t quantity.Time, r Range) quantity.Time {
	return max(r.Least-t, t-r.Most, 0)
}

// part puts out what there is, up to the time t, and goes on.
func (d *Decoder) part(t quantity.Time, out record.Sink) {
	d.rec.Text, d.rec.End, d.rec.More = "", t, true
	out.Put(&d.rec)
	d.rec.More, d.rec.Start = false, t
	if d.n > 0 {
		d.rec.Start = d.wordAt
	}
	d.clear()
}

func (d *Decoder) clear() {
	d.rec.Data, d.rec.Offsets, d.rec.Marks = d.rec.Data[:0], d.rec.Offsets[:0], d.rec.Marks[:0]
}

func (d *Decoder) put(end quantity.Time, out record.Sink) {
	d.rec.Text = ""
	if d.n > 0 {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Offsets), Flags: record.Short})
		d.rec.Text = fmt.Sprintf("latched after %d of %d bits of an element", d.n, d.set.Element)
	}
	d.rec.End = end
	out.Put(&d.rec)
	d.word, d.n = 0, 0
	d.clear()
}

// Wake implements bus.Decoder: the latch comes in silence.
func (d *Decoder) Wake() quantity.Time {
	if d.pulse {
		return d.fall + d.set.Latch
	}
	return quantity.Forever
}

// Flush implements bus.Decoder: what was not latched is put out with a mark.
func (d *Decoder) Flush(out record.Sink) {
	if d.n > 0 || len(d.rec.Offsets) > 0 {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Offsets), Flags: record.CutOff})
		d.put(d.to, out)
		d.pulse = false
	}
}

// Elements gives the elements of a record.
func Elements(r *record.Record) []uint32 { return r.Words(r.Data) }

var rangeType = doc.Scalar("a range of times, as 0.2 to 0.5 us", ParseRange)

// Schema lists the coding of a line.
var Schema = doc.Map(
	doc.Key{Name: "zero", Doc: "high time of a 0 with its limits, as 0.2 to 0.5 us", Type: rangeType, Required: true},
	doc.Key{Name: "one", Doc: "high time of a 1 with its limits", Type: rangeType, Required: true},
	doc.Key{Name: "low", Doc: "low time of both with its limits", Type: rangeType, Required: true},
	doc.Key{Name: "latch", Doc: "shortest low time that latches", Type: doc.TimeType, Required: true},
	doc.Key{Name: "element", Doc: "bits an element", Type: doc.Int(1, 32), Default: "8"},
	doc.Key{Name: "order", Doc: "which bit comes first", Type: doc.Enum("msb", "lsb"), Default: "msb"},
)

// Kind describes the bus.
var Kind = &bus.Kind{
	Name:    "pulse",
	Title:   "pulse-coded",
	Records: record.Transaction,
	Mark:    "P",
	Hue:     5,
	Lines:   []bus.Role{{Name: "line"}},

	Plan: plan, PlanHelp: planHelp,
	Steps:     []string{"out-pin"},
	Schema:    Schema,
	Parse:     parse,
	EndSchema: Schema,
	ParseEnd: func(n *doc.Node, name string) (any, error) {
		s, err := parse(n)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return s, nil
	},
	Driver: func(int) int { return 0 },
	Decoder: func(link uint16, ends []bus.Settings) bus.Decoder {
		return NewDecoder(bus.At(ends, 1).(Settings), link)
	},
	Sentence: sentence,
	Labels:   labels,
	Compare: func(a, b bus.Settings, nameA, nameB string) []bus.Difference {
		return Compare(a.(Settings), b.(Settings), nameA, nameB)
	},
	Fields: func(r *record.Record) map[string]any {
		return map[string]any{"element_bits": r.Bits, "elements": Elements(r)}
	},
}
