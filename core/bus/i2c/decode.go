package i2c

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Decoder decodes a bus. Its lines are clock and data, in this order.
type Decoder struct {
	rec     record.Record
	clock   bool // level
	data    bool
	active  bool // inside a transaction
	n       int  // bits of the byte so far
	shift   uint16
	byteAt  quantity.Time
	address bool // the next byte follows a start

	set     Settings
	filters [2]wire.SpikeFilter
	started bool
	edge    quantity.Time // newest edge of the clock
	moved   quantity.Time // newest edge of data
	told    quantity.Time // the edge behind which a stuck bus has been told
}

// maxBytes is the number of bytes, and of marks, after which a transaction is
// put out although it goes on.
const maxBytes = 4096

// NewDecoder gives a decoder for the link.
func NewDecoder(set Settings, link uint16) *Decoder {
	d := &Decoder{clock: true, data: true, set: set, told: -1}
	d.filters = [2]wire.SpikeFilter{{Width: set.Filter}, {Width: set.Filter}}
	d.rec = record.Record{Kind: record.Transaction, Link: link, From: record.MCU, Seen: record.Tap, Origin: record.FromLevels}
	return d
}

// Feed implements bus.Decoder. Where both lines change at one time, data is
// taken to change while the clock is low, as it must.
func (d *Decoder) Feed(lines []wire.Window, out record.Sink) {
	if d.set.Filter == 0 {
		d.feed(&lines[0], &lines[1], out)
		return
	}
	clock, data := d.filters[0].Feed(&lines[0]), d.filters[1].Feed(&lines[1])
	d.feed(&clock, &data, out)
}

func (d *Decoder) feed(clock, data *wire.Window, out record.Sink) {
	d.clock, d.data = clock.High, data.High
	if !d.started {
		d.started = true
		d.edge, d.moved = clock.From, clock.From
	}
	pause, edge, tog := d.set.pause(), d.edge, data.Toggles
	k := 0
	for _, t := range clock.Toggles {
		if t-edge >= pause {
			k = d.pause(tog, k, edge, t, out)
		}
		edge = t
		if d.clock {
			// Up to the fall, a change of data is a start or a stop.
			for k < len(tog) && tog[k] < t {
				d.condition(tog[k], out)
				k++
			}
			d.clock = false
			continue
		}
		for k < len(tog) && tog[k] <= t {
			d.data = !d.data
			k++
		}
		d.clock = true
		if d.active {
			d.bit(t, out)
		}
	}
	if n := len(tog); n > 0 && k == n {
		d.moved = tog[n-1]
	}
	d.edge = edge
	if k < len(tog) || clock.To-edge >= pause {
		d.pause(tog, k, edge, clock.To, out)
	}
}

// pause is the shortest time between two edges of the clock that is worth a
// look.
func (s Settings) pause() quantity.Time {
	p := quantity.Forever
	if s.Stuck > 0 {
		p = s.Stuck
	}
	if s.Stretch > 0 {
		p = min(p, s.Stretch)
	}
	return p
}

// pause takes the edges of data before the time t, while the clock stands
// still since its edge, and sees what lasts too long.
func (d *Decoder) pause(tog []quantity.Time, k int, edge, t quantity.Time, out record.Sink) int {
	if k > 0 {
		d.moved = tog[k-1]
	}
	for ; k < len(tog) && tog[k] < t; k++ {
		d.still(max(edge, d.moved), tog[k], out)
		d.moved = tog[k]
		if d.clock {
			d.condition(tog[k], out)
		} else {
			d.data = !d.data
		}
	}
	d.still(max(edge, d.moved), t, out)
	if d.set.Stretch > 0 && d.active && !d.clock && t-edge >= d.set.Stretch {
		d.mark(record.Stretched)
	}
	return k
}

// still sees whether the lines stood still for too long while one was low.
func (d *Decoder) still(since, t quantity.Time, out record.Sink) {
	if d.set.Stuck == 0 || t-since < d.set.Stuck || d.clock && d.data || d.told == since {
		return
	}
	d.told = since
	what := "data"
	switch {
	case !d.clock && !d.data:
		what = "clock and data"
	case !d.clock:
		what = "clock"
	}
	r := record.Record{
		Kind: record.Transaction, Link: d.rec.Link, Seen: record.Tap, Origin: record.FromLevels,
		Start: since, End: since + d.set.Stuck, Marks: []record.Mark{{Flags: record.Stuck}},
		Text: fmt.Sprintf("%s held low for more than %s", what, d.set.Stuck.Round(3)),
	}
	out.Put(&r)
}

// mark adds a mark to the byte that is being read, once.
func (d *Decoder) mark(f record.Flags) {
	at := record.Mark{Index: len(d.rec.Data), Flags: f}
	if n := len(d.rec.Marks); n == 0 || d.rec.Marks[n-1] != at {
		d.rec.Marks = append(d.rec.Marks, at)
	}
}

// condition is a change of data while the clock is high.
func (d *Decoder) condition(t quantity.Time, out record.Sink) {
	d.data = !d.data
	if d.data {
		if d.active {
			d.stop(t, out)
		}
		return
	}
	if !d.active {
		d.rec.Start = t
	} else {
		d.unfinished()
		d.rec.Facts = append(d.rec.Facts, record.Fact{What: record.StartAt, Index: len(d.rec.Data), Value: int64(t - d.rec.Start)})
	}
	d.active, d.address = true, true
	d.n, d.shift = 0, 0
	if len(d.rec.Marks) >= maxBytes || len(d.rec.Facts) >= maxBytes {
		d.part(t, out)
	}
}

// unfinished notes the bits of a byte that a start or a stop cut off. One bit
// is normal: the clock must rise before the condition.
func (d *Decoder) unfinished() {
	if d.n > 1 {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Data), Flags: record.StopInByte})
		d.rec.Text = fmt.Sprintf("%d bits cut off: %0*b", d.n-1, d.n-1, d.shift>>1)
		d.broken(d.n-1, d.shift>>1)
	}
}

// broken tells of the bits of a byte that broke off.
func (d *Decoder) broken(n int, v uint16) {
	at := len(d.rec.Data)
	d.rec.Facts = append(d.rec.Facts, record.Fact{What: record.CutBits, Index: at, Value: int64(n)}, record.Fact{What: record.CutOut, Index: at, Value: int64(v)})
}

func (d *Decoder) bit(t quantity.Time, out record.Sink) {
	if d.n == 0 {
		d.byteAt = t
	}
	v := uint16(0)
	if d.data {
		v = 1
	}
	d.shift = d.shift<<1 | v
	if d.n++; d.n < 9 {
		return
	}
	var back byte
	if v == 0 {
		back |= record.Acked
	}
	if d.address {
		back |= record.Addressing
	}
	d.rec.Data = append(d.rec.Data, byte(d.shift>>1))
	d.rec.Back = append(d.rec.Back, back)
	d.rec.Offsets = append(d.rec.Offsets, d.byteAt-d.rec.Start)
	d.address = false
	d.n, d.shift = 0, 0
	if len(d.rec.Data) >= maxBytes {
		d.part(t, out)
	}
}

// part puts out what there is of a transaction that goes on.
func (d *Decoder) part(t quantity.Time, out record.Sink) {
	n, shift, address := d.n, d.shift, d.address
	d.rec.More = true
	d.put(t, out)
	d.rec.More, d.rec.Start = false, t
	d.active, d.n, d.shift, d.address = true, n, shift, address
}

func (d *Decoder) stop(t quantity.Time, out record.Sink) {
	d.unfinished()
	d.rec.Attr = record.Stopped
	if n := len(d.rec.Data); d.set.PEC && n > 2 && PEC(d.rec.Data[:n-1]) != d.rec.Data[n-1] {
		d.rec.Marks = append(d.rec.Marks, record.Mark{Index: n - 1, Flags: record.CheckSequence})
		d.rec.Text = fmt.Sprintf("error code %02X expected", PEC(d.rec.Data[:n-1]))
	}
	d.put(t, out)
}

func (d *Decoder) put(t quantity.Time, out record.Sink) {
	d.rec.End = t
	out.Put(&d.rec)
	d.active, d.n, d.shift = false, 0, 0
	d.rec.Attr, d.rec.Text = 0, ""
	d.rec.Data, d.rec.Back, d.rec.Offsets, d.rec.Marks = d.rec.Data[:0], d.rec.Back[:0], d.rec.Offsets[:0], d.rec.Marks[:0]
	d.rec.Facts = d.rec.Facts[:0]
}

// Wake implements bus.Decoder: silence tells of a line that is held low, and
// lets an edge through that the filter holds back.
func (d *Decoder) Wake() quantity.Time {
	at := quantity.Forever
	if d.set.Filter > 0 {
		at = min(d.filters[0].Wake(), d.filters[1].Wake())
	}
	if since := max(d.edge, d.moved); d.set.Stuck > 0 && !(d.clock && d.data) && d.told != since {
		at = min(at, since+d.set.Stuck+d.set.Filter)
	}
	return at
}

// Flush implements bus.Decoder: a transaction without its stop is put out,
// marked.
func (d *Decoder) Flush(out record.Sink) {
	if d.set.Filter > 0 {
		clock, data := d.filters[0].Flush(), d.filters[1].Flush()
		d.feed(&clock, &data, out)
	}
	if !d.active {
		return
	}
	end := max(d.edge, d.moved, d.rec.Start)
	if d.n > 0 {
		d.broken(d.n, d.shift)
	}
	d.rec.Marks = append(d.rec.Marks, record.Mark{Index: len(d.rec.Data), Flags: record.CutOff})
	d.put(end, out)
}
