// Package spi encodes and decodes clocked serial transfers: a clock, one data
// line each way, and a select line.
package spi

import (
	"fmt"
	"math/bits"
	"strings"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Select says how a device is selected.
type Select uint8

// The kinds of select.
const (
	ActiveLow  Select = iota
	ActiveHigh        // the select line rests low
	NoSelect          // spans are bounded by a pause of the clock
)

// Settings are the frame settings of one device on the bus.
type Settings struct {
	ClockIdleHigh bool // CPOL
	SampleSecond  bool // CPHA: sampled at the second edge of each clock period
	LSBFirst      bool
	Word          int // bits a word, 4 to 32
	Select        Select
	// Gap is the pause of the clock that ends a span without a select line.
	Gap quantity.Time
	// Shared: one data line serves both directions. From the bit with the
	// number Turn on the device drives it; 0 means that this is not known.
	Shared bool
	Turn   int
	// TurnIf are the first bits behind which the device does so, as they are on the
	// wire: 0, 1, and . for either; empty: always.
	TurnIf string
}

// turns says whether the device drives a shared line behind first bits of a span, the
// newest of which is the last of head.
func (s Settings) turns(head uint64) bool {
	for i, c := range s.TurnIf {
		if bit := head >> (s.Turn - 1 - i) & 1; c != '.' && bit != uint64(c-'0') {
			return false
		}
	}
	return true
}

// Mode gives settings for a mode number 0 to 3, words of 8 bits, most
// significant bit first, select active low.
func Mode(n int) Settings {
	return Settings{ClockIdleHigh: n&2 != 0, SampleSecond: n&1 != 0, Word: 8}
}

// Mode is the mode number.
func (s Settings) Mode() int {
	n := 0
	if s.ClockIdleHigh {
		n = 2
	}
	if s.SampleSecond {
		n++
	}
	return n
}

// Check says what is out of range.
func (s Settings) Check() error {
	switch {
	case s.Word < 4 || s.Word > 32:
		return fmt.Errorf("words of %d bits: a word has 4 to 32", s.Word)
	case s.Select > NoSelect:
		return fmt.Errorf("unknown select %d", s.Select)
	case s.Select == NoSelect && s.Gap <= 0:
		return fmt.Errorf("without a select line a gap must say what ends a span")
	case s.Turn < 0 || s.Turn > 0 && !s.Shared:
		return fmt.Errorf("turn %d: it says from which bit on the device drives a shared data line", s.Turn)
	case len(s.TurnIf) > s.Turn:
		return fmt.Errorf("turn-if %s: it is about the bits before the turn, which are %d", s.TurnIf, s.Turn)
	case s.TurnIf != "" && s.Turn > 64:
		return fmt.Errorf("turn-if %s: the turn comes after 64 bits at most then", s.TurnIf)
	case strings.Trim(s.TurnIf, "01.") != "":
		return fmt.Errorf("turn-if %s: each bit is 0, 1, or a dot for either", s.TurnIf)
	}
	return nil
}

// Describe implements bus.Settings.
func (s Settings) Describe() string {
	order := "msb first"
	if s.LSBFirst {
		order = "lsb first"
	}
	text := fmt.Sprintf("mode %d, %d bits %s", s.Mode(), s.Word, order)
	if s.Shared {
		text += ", one data line"
	}
	if s.Turn > 0 {
		text += fmt.Sprintf(", the device's after %d bits", s.Turn)
	}
	if s.TurnIf != "" {
		text += " if they begin " + s.TurnIf
	}
	return text
}

// maxWords is the number of words after which a span is put out although the
// device is still selected.
const maxWords = 4096

// NeedsSelect says whether a decoder can't do without a select line.
func (s Settings) NeedsSelect() bool { return s.Select != NoSelect }

func (s Settings) bytes() int { return (s.Word + 7) / 8 }

// Lines are the toggles of the four lines of one span. Clock rests as the
// settings say, select too; the data lines rest low.
type Lines struct {
	Clock, Out, In, Select []quantity.Time
	// Turn is the time from which on the MCU leaves a shared data line to the device;
	// Forever where it does not.
	Turn quantity.Time
}

// Encode gives the levels of one span that begins at the time start with the
// given half period of the clock: the MCU's words out and the device's words
// back, position by position. It also gives the end of the span.
//
// Select comes one half period before the first clock edge and goes one after
// the last. The data lines change at the edges at which nobody samples. With a
// shared data line both directions are on Out: the MCU's bits up to the turn,
// the device's from there on.
func Encode(s Settings, start, half quantity.Time, out, back []uint32) (Lines, quantity.Time) {
	return EncodeTimed(s, Timing{half, half, half}, start, out, back)
}

// Timing are the times of a span: half a period of the clock, from select to the first
// edge, and from the last edge to release.
type Timing struct{ Half, Lead, Lag quantity.Time }

// EncodeTimed is Encode with times of its own around the clock.
func EncodeTimed(s Settings, times Timing, start quantity.Time, out, back []uint32) (Lines, quantity.Time) {
	half := times.Half
	l := Lines{Turn: quantity.Forever}
	t := start
	if s.Select != NoSelect {
		l.Select = append(l.Select, t)
	}
	level := [2]bool{}
	set := func(at quantity.Time, line int, high bool) {
		if level[line] == high {
			return
		}
		level[line] = high
		if line == 0 {
			l.Out = append(l.Out, at)
		} else {
			l.In = append(l.In, at)
		}
	}
	bit := func(w uint32, i int) bool { return w>>place(s, i)&1 == 1 }
	n, pos, head := max(len(out), len(back)), 0, uint64(0)
	at := func(words []uint32, k int) uint32 {
		if k < len(words) {
			return words[k]
		}
		return 0
	}
	change := t // the time at which the next bit is put out
	t += times.Lead
	for k := range n {
		for i := range s.Word {
			if s.SampleSecond {
				change = t
			}
			switch {
			case !s.Shared:
				set(change, 0, bit(at(out, k), i))
				set(change, 1, bit(at(back, k), i))
			case s.Turn > 0 && pos >= s.Turn && s.turns(head):
				l.Turn = min(l.Turn, change)
				set(change, 0, bit(at(back, k), i))
			default:
				set(change, 0, bit(at(out, k), i))
				if pos < s.Turn {
					head = head<<1 | uint64(at(out, k)>>place(s, i)&1)
				}
			}
			pos++
			l.Clock = append(l.Clock, t, t+half)
			change = t + half
			t += 2 * half
		}
	}
	// The data lines go back to rest behind the last sample.
	end := max(t-half+times.Lag, start+half)
	set(end, 0, false)
	set(end, 1, false)
	if s.Select != NoSelect {
		l.Select = append(l.Select, end)
	}
	return l, end
}

// TurnedBy says whether words that the MCU sent leave a shared line to the device behind
// the turn.
func (s Settings) TurnedBy(words []uint32) bool {
	head := uint64(0)
	for i := range min(s.Turn, len(words)*s.Word) {
		head = head<<1 | uint64(words[i/s.Word]>>place(s, i%s.Word)&1)
	}
	return s.Shared && s.Turn > 0 && s.turns(head)
}

// place gives the place of a word's bit that is the i-th on the wire.
func place(s Settings, i int) int {
	if s.LSBFirst {
		return i
	}
	return s.Word - 1 - i
}

// Duration is the time of n words with a clock of the given half period, from
// select to release.
func Duration(s Settings, half quantity.Time, n int) quantity.Time {
	return half + 2*half*quantity.Time(n*s.Word)
}

// Decoder decodes one device's spans. Its lines are clock, data out, data in,
// select, and one that is low while another device on these lines is selected;
// lines at the end may be left out where nothing needs them. A shared data line
// stands in the place of data out.
type Decoder struct {
	set  Settings
	link uint16
	rec  record.Record

	started  bool
	selected bool
	ended    bool         // the capture
	sample   bool         // the next clock toggle samples
	n        int          // bits of the word so far
	pos      int          // bits of the span so far
	head     uint64       // those before the turn of a shared line
	clash    bool         // another device was selected too
	unknown  record.Flags // of the word: a line that nobody drove, or that several did
	out, in  uint32
	open     uint32 // bits at which nobody drove data in
	wordAt   quantity.Time
	lastAt   quantity.Time // newest clock edge
	sampled  quantity.Time // newest sample
	data     [2]*wire.Window
	spans    [2]int // the first unknown stretch of each that is not over
}

// NewDecoder gives a decoder; the device is the end that the select line
// belongs to.
func NewDecoder(set Settings, link uint16, device record.End) *Decoder {
	d := &Decoder{set: set, link: link}
	d.rec = record.Record{Kind: record.Transaction, Link: link, From: device, Seen: record.Tap, Origin: record.FromLevels, Bits: uint8(set.Word)}

	return d
}

// cursor walks along the toggles of one line.
type cursor struct {
	tog  []quantity.Time
	i    int
	high bool
}

// before moves to the level just before t: what a register clocked at t takes.
func (c *cursor) before(t quantity.Time) bool {
	for c.i < len(c.tog) && c.tog[c.i] < t {
		c.high = !c.high
		c.i++
	}
	return c.high
}

func (c *cursor) next() quantity.Time {
	if c.i < len(c.tog) {
		return c.tog[c.i]
	}
	return quantity.Forever
}

// Feed implements bus.Decoder.
func (d *Decoder) Feed(lines []wire.Window, sink record.Sink) {
	// A clock or a select whose level isn't known rests.
	known := lines[0].Known(d.set.ClockIdleHigh)
	clock := cursor{tog: known.Toggles, high: known.High}
	d.data, d.spans = [2]*wire.Window{}, [2]int{}
	for i := range d.data {
		if len(lines[1+i].Unknown) > 0 {
			d.data[i] = &lines[1+i]
		}
	}
	out := cursor{tog: lines[1].Toggles, high: lines[1].High}
	in := cursor{tog: lines[2].Toggles, high: lines[2].High}
	sel := cursor{high: d.set.Select == ActiveHigh}
	if d.set.Select != NoSelect {
		w := lines[3].Known(d.set.Select == ActiveLow)
		sel = cursor{tog: w.Toggles, high: w.High}
	}
	other := cursor{high: true}
	if len(lines) > 4 {
		w := lines[4].Known(true)
		other = cursor{tog: w.Toggles, high: w.High}
	}
	if !d.started {
		d.started = true
		if d.set.Select == NoSelect || sel.high == (d.set.Select == ActiveHigh) {
			d.begin(lines[0].From, clock.high)
		}
	}
	// A select that is not known any more rests: there is no edge of that.
	if active := sel.high == (d.set.Select == ActiveHigh); d.set.Select != NoSelect && active != d.selected {
		if active {
			d.begin(lines[0].From, clock.high)
		} else {
			d.end(lines[0].From, sink)
		}
	}
	for {
		// Select first: an edge of the clock at the same time comes after it.
		until := sel.next()
		if d.selected {
			d.clash = d.clash || !other.high || other.next() < until
			d.run(&clock, &out, &in, until, sink)
		} else {
			clock.before(until)
		}
		if until < quantity.Forever {
			other.before(until + 1) // one may hand over to the other
		}
		if until == quantity.Forever {
			break
		}
		sel.high = !sel.high
		sel.i++
		if sel.high == (d.set.Select == ActiveHigh) {
			d.begin(until, clock.high)
		} else if d.selected {
			d.end(until, sink)
		}
	}
	if d.set.Select == NoSelect && d.busy() && lines[0].To >= d.lastAt+d.set.Gap {
		d.end(d.lastAt, sink)
		d.begin(lines[0].To, clock.high)
	}
}

func (d *Decoder) busy() bool { return d.n > 0 || len(d.rec.Offsets) > 0 }

// begin starts a span. Which edge samples follows from the clock's level, so
// a clock that rests at the wrong level is read as it would be by a device.
func (d *Decoder) begin(t quantity.Time, clockHigh bool) {
	d.selected = true
	d.rec.Start = t
	d.n, d.pos, d.head, d.out, d.in, d.open = 0, 0, 0, 0, 0, 0
	d.clash = false
	// The first edge after the idle level samples with CPHA 0, the second
	// with CPHA 1.
	d.sample = (clockHigh == d.set.ClockIdleHigh) != d.set.SampleSecond
}

// run takes the clock's edges before the time until.
func (d *Decoder) run(clock, out, in *cursor, until quantity.Time, sink record.Sink) {
	for clock.i < len(clock.tog) && clock.tog[clock.i] < until {
		t := clock.tog[clock.i]
		clock.i++
		clock.high = !clock.high
		if d.set.Select == NoSelect {
			if d.busy() && t >= d.lastAt+d.set.Gap {
				d.end(d.lastAt, sink)
				d.begin(t, !clock.high)
			}
			if !d.busy() {
				d.rec.Start = t
			}
			d.lastAt = t
		}
		if d.sample && d.set.Shared {
			o, i := d.direction(out.before(t))
			d.take(t, o, i, sink)
		} else if d.sample {
			d.take(t, out.before(t), in.before(t), sink)
		}
		d.sample = !d.sample
	}
}

// direction gives a bit of a shared line to the one who drives it.
func (d *Decoder) direction(bit bool) (out, in bool) {
	d.pos++
	if d.turned() {
		return false, bit
	}
	if d.pos <= d.set.Turn {
		d.head <<= 1
		if bit {
			d.head |= 1
		}
	}
	return bit, false
}

// turned says whether the newest bit of a shared line is the device's.
func (d *Decoder) turned() bool {
	return d.set.Turn > 0 && d.pos > d.set.Turn && d.set.turns(d.head)
}

func (d *Decoder) take(t quantity.Time, out, in bool, sink record.Sink) {
	if d.n == 0 {
		d.wordAt, d.unknown = t, 0
	}
	d.sampled = t
	var o, i, open uint32
	for k, w := range d.data {
		if w == nil || k == 1 && d.set.Shared {
			continue
		}
		// Samples come in the order of time.
		for d.spans[k] < len(w.Unknown) && w.Unknown[d.spans[k]].To <= t {
			d.spans[k]++
		}
		if d.spans[k] == len(w.Unknown) || w.Unknown[d.spans[k]].From > t {
			continue
		}
		switch free := w.Unknown[d.spans[k]].Open; {
		case free && (k == 1 || d.set.Shared && d.turned()):
			open = 1 // nobody answers: on a line that several parts share that is no fault
		case free:
			d.unknown |= record.Floating
		default:
			d.unknown |= record.Collision
		}
	}
	if d.set.Turn > 0 && !d.turned() {
		open = 1 // the line is the MCU's
	}
	if out {
		o = 1
	}
	if in {
		i = 1
	}
	if d.set.LSBFirst {
		d.out |= o << d.n
		d.in |= i << d.n
		d.open |= open << d.n
	} else {
		d.out = d.out<<1 | o
		d.in = d.in<<1 | i
		d.open = d.open<<1 | open
	}
	if d.n++; d.n < d.set.Word {
		return
	}
	if d.unknown != 0 {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Offsets), Flags: d.unknown})
	}
	d.rec.Facts = append(d.rec.Facts, record.Fact{What: record.LastSample, Index: len(d.rec.Offsets), Value: int64(t - d.rec.Start)})
	if d.open != 0 {
		d.rec.Facts = append(d.rec.Facts, record.Fact{What: record.Undriven, Index: len(d.rec.Offsets), Value: int64(d.open)})
	}
	d.rec.Offsets = append(d.rec.Offsets, d.wordAt-d.rec.Start)
	d.rec.Data = putWord(d.rec.Data, d.out, d.set.bytes())
	d.rec.Back = putWord(d.rec.Back, d.in, d.set.bytes())
	d.n, d.out, d.in, d.open = 0, 0, 0, 0
	if len(d.rec.Offsets) >= maxWords {
		d.rec.More = true
		d.put(t, sink)
		d.rec.More, d.rec.Start = false, t
	}
}

func putWord(b []byte, w uint32, n int) []byte {
	for range n {
		b = append(b, byte(w))
		w >>= 8
	}
	return b
}

// end puts the span out. Bits of an unfinished word are told in the text.
func (d *Decoder) end(t quantity.Time, sink record.Sink) {
	d.selected = false
	d.put(t, sink)
}

func (d *Decoder) put(t quantity.Time, sink record.Sink) {
	d.rec.End, d.rec.Text = t, ""
	if d.clash {
		d.rec.Marks = append([]record.Mark{{Flags: record.Clash}}, d.rec.Marks...)
	}
	if d.n > 0 {
		at := len(d.rec.Offsets)
		flag := record.Short
		if d.ended {
			flag = 0 // the capture did
		}
		flag |= d.unknown
		if flag != 0 {
			d.rec.Marks = append(d.rec.Marks, record.Mark{Index: at, Flags: flag})
		}
		out, in := d.out, d.in
		if d.set.LSBFirst {
			out, in = bits.Reverse32(out)>>(32-d.n), bits.Reverse32(in)>>(32-d.n)
		}
		d.rec.Text = fmt.Sprintf("then %d of %d bits: out %0*b, in %0*b", d.n, d.set.Word, d.n, out, d.n, in)
		d.rec.Facts = append(d.rec.Facts, record.Fact{What: record.CutBits, Index: at, Value: int64(d.n)},
			record.Fact{What: record.CutOut, Index: at, Value: int64(out)}, record.Fact{What: record.CutIn, Index: at, Value: int64(in)},
			record.Fact{What: record.LastSample, Index: at, Value: int64(d.sampled - d.rec.Start)})
	}
	if d.ended && (d.n > 0 || d.set.Select != NoSelect) {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Offsets), Flags: record.CutOff})
	}
	if d.set.Shared && d.set.Turn == 0 {
		d.rec.Back = d.rec.Back[:0] // who drove the line is not known
	}
	sink.Put(&d.rec)
	d.rec.Data, d.rec.Back, d.rec.Offsets = d.rec.Data[:0], d.rec.Back[:0], d.rec.Offsets[:0]
	d.rec.Marks, d.rec.Facts = d.rec.Marks[:0], d.rec.Facts[:0]
	d.n, d.out, d.in, d.open = 0, 0, 0, 0
}

// Wake implements bus.Decoder.
func (d *Decoder) Wake() quantity.Time {
	if d.set.Select == NoSelect && d.busy() {
		return d.lastAt + d.set.Gap
	}
	return quantity.Forever
}

// Flush implements bus.Decoder: a span that is still open is put out.
func (d *Decoder) Flush(sink record.Sink) {
	if d.selected && d.busy() {
		d.ended = true
		d.end(max(d.lastAt, d.sampled), sink)
	}
}

// Words gives the words of a record's data or of what came back.
func Words(r *record.Record, data []byte) []uint32 { return r.Words(data) }
