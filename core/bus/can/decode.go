package can

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// phaseOf is what a decoder does with the bits that it samples.
type phaseOf uint8

const (
	integrating phaseOf = iota // waiting for eleven recessive bits
	idle                       // waiting for a start of frame
	inFrame
	between     // intermission
	inFlag      // dominant bits of an error or overload flag
	inDelimiter // recessive bits behind an overload flag
)

// Decoder decodes a bus from the levels of one receive line. It synchronises
// as a node does: hard on a start of frame, and on later edges from recessive
// to dominant by at most the jump width.
type Decoder struct {
	rec record.Record

	started bool
	state   phaseOf
	quiet   int // recessive bits in a row while integrating
	gap     int // bits of the intermission so far
	clock   bitClock
	last    bool // value of the newest sample
	synced  bool // an edge was used since that sample

	frame reader
	marks [1]record.Mark
	facts [4]record.Fact
	data  [64]byte

	overload bool // of the flag
	flag     int  // its dominant bits
	to       quantity.Time
	high     bool // the line at to
	// resting: what is fed is not in the capture any more. unseen: its acknowledge
	// slot neither.
	resting, unseen bool

	// onBit, if set, is told of each bit of a frame, for labels.
	onBit func(Sampled)
}

// Sampled is a bit of a frame with its place in time, as a decoder took it.
type Sampled struct {
	Start, Sample, End quantity.Time
	Bit
}

// NewDecoder gives a decoder for the link.
func NewDecoder(t Timing, link uint16) *Decoder {
	d := &Decoder{clock: newBitClock(t)}
	d.rec = record.Record{Kind: record.Frame, Link: link, Seen: record.Tap, Origin: record.FromLevels}
	return d
}

// Feed implements bus.Decoder; the one line is the receive line.
func (d *Decoder) Feed(lines []wire.Window, out record.Sink) {
	w := &lines[0]
	tog := w.Toggles
	level := w.High
	c := &d.clock
	if !d.started {
		d.started = true
		c.restart(w.From)
		d.last = true
	}
	i := 0
	for {
		if d.state == idle {
			// Hard synchronisation on the next dominant edge.
			for level && i < len(tog) {
				level = !level
				i++
			}
			if level {
				break
			}
			t := w.From
			if i > 0 {
				t = tog[i-1]
			}
			d.begin(t)
		}
		until := w.To
		if i < len(tog) {
			until = tog[i]
		}
		if d.state == inFrame && d.onBit == nil && i < len(tog) {
			i, level = d.edges(tog, i, level, out)
			continue
		}
		if n := c.samplesBefore(until); n > 0 {
			d.samples(level, n, out)
			continue
		}
		if i == len(tog) {
			break
		}
		level = !level
		if !level && d.last && !d.synced {
			// At most one edge between two samples, and only from recessive.
			d.synced = true
			if d.state == inFrame && d.frame.formatEdge() {
				c.at += c.seen(tog[i])
			} else {
				c.resync(tog[i])
			}
		}
		i++
	}
	d.to, d.high = w.To, w.EndsHigh()
}

// edges takes the bits before the next edges, up to the first event inside the
// frame. It does what Feed does edge by edge, with the clock at hand: nearly
// all of the decoder's time is spent here.
func (d *Decoder) edges(tog []quantity.Time, i int, level bool, out record.Sink) (int, bool) {
	c, p := &d.clock, &d.frame
	base, at, last, synced := c.base, c.at, d.last, d.synced
	t := c.phase
	bit, sample, jump, perHalf, quantum := t.bit, t.sample, t.jump, t.perHalf, t.quantum
	five := 5 * bit
	for ; i < len(tog); i++ {
		e := int64(min(tog[i]-base, far))*1000 - at // of the edge, behind the bit's start
		if span := e - sample; span > 0 {
			n := 0
			if span <= five {
				// As samples, and sooner: the next edge waits for the result.
				n = 1 - int((bit-span)>>63+(2*bit-span)>>63+(3*bit-span)>>63+(4*bit-span)>>63)
			} else {
				n = samples(span, perHalf)
			}
			last, synced = level, false
			if p.classic && level != p.prev && p.stage == stuffed && p.run < 5 && n <= 5 && p.have+n < p.need {
				// The usual case of what bits does: no stuff bit, nothing to decide.
				p.prev, p.run = level, n
				p.have += n
				p.plain.add(level, n)
			} else if used, ev := p.bits(level, n); ev != nothing {
				c.at, d.last, d.synced = at, last, synced
				d.event(used, ev, out)
				return i, level
			}
			at += int64(n) * bit
			e -= int64(n) * bit
		}
		level = !level
		if !level && last && !synced {
			synced = true
			if quantum > 0 {
				e = nextQuantum(e, quantum)
			}
			j := jump
			if !p.classic && p.formatEdge() {
				j = bit
			}
			at += min(max(e, -j), j)
		}
	}
	c.at, d.last, d.synced = at, last, synced
	return i, level
}

// begin starts a frame whose start bit begins at the time t.
func (d *Decoder) begin(t quantity.Time) {
	d.state = inFrame
	d.clock.hardSync(t)
	d.last, d.synced = true, true
	d.frame.start()
	d.rec.Start = t
}

// samples takes some of n equal bits that lie before the next edge. It takes
// all of them unless they bring something about.
func (d *Decoder) samples(r bool, n int, out record.Sink) {
	c := &d.clock
	d.last, d.synced = r, false
	switch d.state {
	case integrating:
		if !r {
			d.quiet = 0
			c.advance(n)
			return
		}
		n = min(n, 11-d.quiet)
		c.advance(n)
		if d.quiet += n; d.quiet >= 11 {
			d.state = idle
		}
	case between:
		if r {
			n = min(n, 3-d.gap)
			c.advance(n)
			if d.gap += n; d.gap == 3 {
				d.state = idle
			}
			return
		}
		if d.gap == 2 {
			// The third bit is already the next frame's start.
			d.begin(c.start())
			d.take(false, 1, out)
			return
		}
		d.beginFlag()
		c.advance(1)
	case inFlag:
		if !r {
			c.advance(n)
			d.flag += n
			return
		}
		d.endFlag(out)
	case inDelimiter:
		if !r || d.quiet == 7 {
			if r {
				c.advance(1)
			}
			d.rec.End = c.start()
			out.Put(&d.rec)
			if d.state, d.gap = between, 0; !r {
				d.giveUp()
			}
			return
		}
		n = min(n, 7-d.quiet)
		c.advance(n)
		d.quiet += n
	case inFrame:
		d.take(r, n, out)
	}
}

// take gives bits to the frame being read.
func (d *Decoder) take(r bool, n int, out record.Sink) {
	c, p := &d.clock, &d.frame
	if d.onBit != nil {
		n = 1
	}
	before, stage := p.have, p.stage
	used, e := p.bits(r, n)
	if d.onBit != nil {
		field, i := p.place()
		d.onBit(Sampled{
			Start: c.start(), Sample: c.next(), End: c.end(),
			Bit: Bit{Recessive: r, Field: field, Index: i, Stuff: p.have == before && stage < ending, Fast: c.phase == &c.fast},
		})
	}
	d.event(used, e, out)
}

// event goes on by the bits that the reader took, the last of which brought
// the event about.
func (d *Decoder) event(used int, e event, out record.Sink) {
	c, p := &d.clock, &d.frame
	c.advance(used - 1)
	switch e {
	case toFast:
		c.cross(&c.fast)
		return
	case toSlow:
		start, end := c.start(), c.end()
		c.cross(&c.nominal)
		if p.fault != 0 {
			d.fail(start, end, out)
		}
		return
	}
	start, end := c.start(), c.end()
	c.advance(1)
	switch e {
	case noStart:
		// A short dominant pulse was no start of frame.
		d.giveUp()
	case done:
		d.put(end, out)
		d.state, d.gap = between, 0
	case overload:
		// The frame itself is good.
		d.put(start, out)
		c.advance(-1)
		d.beginFlag()
		c.advance(1)
	case faulty:
		d.fail(start, end, out)
	}
}

// beginFlag begins an overload flag with the present bit.
func (d *Decoder) beginFlag() {
	r := &d.rec
	r.Start = d.clock.start()
	r.ID, r.Attr, r.Bits, r.Data, r.Facts = 0, 0, 0, nil, nil
	r.Text = "overload flag"
	d.mark(record.Overload)
	d.state, d.flag, d.overload = inFlag, 1, true
}

// endFlag says what the dominant bits were that end before the present bit: behind an
// overload flag follows its delimiter; a dominant bit in the end of a frame was the
// first of an error flag, or stands alone.
func (d *Decoder) endFlag(out record.Sink) {
	if d.overload {
		d.state, d.quiet = inDelimiter, 0
		return
	}
	flags, name := record.Form, "form error"
	if d.flag >= 6 {
		flags, name = record.ErrorFlag, "error flag"
	}
	d.rec.Text = name + " in " + d.rec.Text
	d.rec.End = d.clock.start()
	d.mark(flags)
	out.Put(&d.rec)
	d.giveUp()
}

// giveUp waits for the bus to be idle again. A flag may stand on the line
// already: eleven recessive bits count from the newest sample.
func (d *Decoder) giveUp() {
	d.state, d.quiet = integrating, 0
	if d.last {
		d.quiet = 1
	}
	d.clock.phase = &d.clock.nominal
}

// fail puts out a frame with the fault that the reader found in the bit that
// stands from start to end.
func (d *Decoder) fail(start, end quantity.Time, out record.Sink) {
	p := &d.frame
	if p.fault == record.NotAcknowledged {
		d.put(start, out)
		d.giveUp()
		return
	}
	if d.resting {
		d.cut(out)
		return
	}
	d.rec.End = end
	field, i := p.place()
	where := field.String()
	flags, name := p.fault, p.name
	d.fill()
	switch {
	case flags == record.Form|record.ErrorFlag:
		d.rec.Text = fmt.Sprintf("the end of frame, bit %d of the frame", p.total())
		d.mark(record.Form) // what it is shows when the dominant bits end
		d.state, d.flag, d.overload = inFlag, 1, false
		return
	case flags == record.Stuff && p.have <= 5 && !d.last:
		d.rec.Text = "error flag while the bus was idle"
		d.mark(record.ErrorFlag)
		out.Put(&d.rec)
		d.giveUp()
		return
	case flags&record.CheckSequence != 0:
		where = CheckField.String()
	case field == DataField:
		where = fmt.Sprintf("data byte %d", i/8+1)
	}
	if flags == record.Stuff && !d.last {
		flags, name = flags|record.ErrorFlag, "stuff error or error flag"
	}
	d.rec.Text = fmt.Sprintf("%s in the %s, bit %d of the frame", name, where, p.total())
	if p.tail > 2 && !p.acknowledged {
		flags |= record.NotAcknowledged
		d.rec.Text += "; nobody acknowledged"
	}
	d.mark(flags)
	out.Put(&d.rec)
	d.giveUp()
}

// put puts out a frame that was read to its end, or up to where its sender
// missed the acknowledgement.
func (d *Decoder) put(end quantity.Time, out record.Sink) {
	if d.resting && d.unseen {
		d.cut(out)
		return
	}
	d.rec.End = end
	d.fill()
	d.rec.Text, d.rec.Marks = "", nil
	if !d.frame.acknowledged {
		d.rec.Text = "nobody acknowledged"
		d.mark(record.NotAcknowledged)
	}
	out.Put(&d.rec)
}

// cut puts out what there is of a frame in which the capture ends.
func (d *Decoder) cut(out record.Sink) {
	field, _ := d.frame.place()
	d.rec.End = d.to
	d.fill()
	d.rec.Text = "the capture ends in the " + field.String()
	d.mark(record.CutOff)
	out.Put(&d.rec)
	d.giveUp()
}

func (d *Decoder) mark(f record.Flags) {
	d.marks[0] = record.Mark{Index: len(d.rec.Data), Flags: f}
	d.rec.Marks = d.marks[:]
}

// fill gives the record what is known of the frame, and nothing that was not sent.
func (d *Decoder) fill() {
	r, p := &d.rec, &d.frame
	f := &p.f
	r.ID, r.Bits, r.Attr = f.ID, uint8(f.DLC), 0
	if p.dataAt == 0 {
		r.Bits = record.NoLength
	}
	remote := f.Remote
	if !p.named() {
		r.ID, r.Attr, remote = 0, record.Incomplete, false
	}
	for _, a := range [...]struct {
		on  bool
		bit record.Attr
	}{{f.Extended, record.Extended}, {remote, record.Remote}, {f.FD, record.FD}, {f.Switched, record.Switched}, {f.Passive, record.Passive}} {
		if a.on {
			r.Attr |= a.bit
		}
	}
	r.Data = p.data(d.data[:])
	r.Facts = append(d.facts[:0], record.Fact{What: record.StuffBits, Value: int64(p.stuffing())})
	if p.stage == ending {
		r.Facts = append(r.Facts, record.Fact{What: record.CheckValue, Value: int64(p.sent)})
	}
	if p.fault == record.NotAcknowledged {
		r.Facts = append(r.Facts, record.Fact{What: record.FlagAt, Value: int64(r.End - r.Start)})
	} else if p.fault != 0 && p.tail > 2 {
		answer := record.Fact{What: record.Answer}
		if p.acknowledged {
			answer.Value = 1
		}
		r.Facts = append(r.Facts, answer)
	}
}

// Wake implements bus.Decoder.
func (d *Decoder) Wake() quantity.Time {
	if d.state == idle {
		return quantity.Forever
	}
	return d.clock.next() + 1
}

// Rest implements bus.Rester.
func (d *Decoder) Rest(out record.Sink) {
	if !d.high || d.state == idle || d.state == integrating {
		return
	}
	d.resting, d.unseen = true, d.state == inFrame && d.frame.tail < 2
	// No frame can have so many recessive bits before it.
	end := d.to + quantity.Time(40*d.clock.nominal.bit/1000)
	d.Feed([]wire.Window{{From: d.to, To: end, High: true}}, out)
	d.resting = false
}

// Flush implements bus.Decoder.
func (d *Decoder) Flush(out record.Sink) {
	switch d.state {
	case inFrame:
		d.cut(out)
	case inFlag, inDelimiter:
		d.rec.End = d.to
		d.mark(d.marks[0].Flags | record.CutOff)
		out.Put(&d.rec)
	}
	d.giveUp()
}
