package can

import (
	"fmt"

	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/wire"
)

// phaseOf is what a decoder does with the bits that it samples.
type phaseOf uint8

const (
	integrating phaseOf = iota // waiting for eleven recessive bits
	idle                       // waiting for a start of frame
	inFrame
	between // intermission
)

// Decoder decodes a bus from the levels of one receive line. It synchronises
// as a node does: hard on a start of frame, and on later edges from recessive
// to dominant by at most the jump width.
type Decoder struct {
	rec record.Record

	started bool
	state   phaseOf
	quiet   int // recessive bits in a row while integrating

	// Bit timing, in femtoseconds behind base.
	base     quantity.Time
	bitStart int64
	phase    *ticks
	nominal  ticks
	fast     ticks
	next     quantity.Time // of the next sample
	last     bool          // value of the newest sample
	synced   bool          // an edge was used since that sample

	// The frame being read.
	f        Frame
	field    Field
	index    int
	shift    uint32
	run      int
	prev     bool
	dynamic  bool
	position int // in the stretch of fixed stuff bits
	stuffed  int
	c15      stream // of the bits without stuff bits
	cFD      stream // of the bits with stuff bits
	check    uint32
	width    int
	length   int
	bits     int // since the start of frame, stuff bits counted
	badCheck bool
	faults   record.Flags
	where    string
	marks    [1]record.Mark
	data     [64]byte
	between  int
}

// ticks are a Phase in femtoseconds.
type ticks struct {
	bit, sample, jump int64
}

func ticksOf(p Phase) ticks {
	bit := float64(p.Bit)
	return ticks{int64(p.Bit), int64(p.Sample * bit), int64(p.Jump * bit)}
}

// stream keeps bits until it is known which check sequence they are for.
type stream struct {
	word  uint64
	n     int // bits in word
	words [14]uint64
	full  int
}

func (s *stream) reset() { s.word, s.n, s.full = 0, 0, 0 }

func (s *stream) add(bit bool) {
	s.word <<= 1
	if bit {
		s.word |= 1
	}
	if s.n++; s.n == 64 {
		s.words[s.full%len(s.words)] = s.word
		s.full++
		s.word, s.n = 0, 0
	}
}

// addRun adds n equal bits, at most 8.
func (s *stream) addRun(bit bool, n int) {
	if s.n+n >= 64 {
		for range n {
			s.add(bit)
		}
		return
	}
	s.word <<= n
	if bit {
		s.word |= 1<<n - 1
	}
	s.n += n
}

// over gives the check sequence of the bits so far.
func (s *stream) over(c crc) uint32 {
	t := tableOf(&c)
	for i := range min(s.full, len(s.words)) {
		for k := 56; k >= 0; k -= 8 {
			c.byte(t, byte(s.words[i]>>k))
		}
	}
	n := s.n
	for ; n >= 8; n -= 8 {
		c.byte(t, byte(s.word>>(n-8)))
	}
	for n--; n >= 0; n-- {
		c.add(s.word>>n&1 == 1)
	}
	return c.value
}

// NewDecoder gives a decoder for the link.
func NewDecoder(t Timing, link uint16) *Decoder {
	d := &Decoder{nominal: ticksOf(t.Nominal), fast: ticksOf(t.Data)}
	d.phase = &d.nominal
	d.rec = record.Record{Kind: record.Frame, Link: link, Seen: record.Tap, Origin: record.FromLevels}
	return d
}

// at gives the time of a number of femtoseconds behind base.
func (d *Decoder) at(fs int64) quantity.Time { return d.base + quantity.Time(fs/1000) }

// plan sets the time of the next sample.
func (d *Decoder) plan() { d.next = d.at(d.bitStart + d.phase.sample) }

// Feed implements bus.Decoder; the one line is the receive line.
func (d *Decoder) Feed(lines []wire.Window, out record.Sink) {
	w := &lines[0]
	tog := w.Toggles
	level := w.High
	if !d.started {
		d.started = true
		d.base, d.bitStart = w.From, 0
		d.last = true
		d.plan()
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
		s := d.next
		if i < len(tog) && tog[i] <= s {
			level = !level
			if !level {
				d.resync(tog[i])
			}
			i++
			continue
		}
		if s >= w.To {
			break
		}
		until := w.To
		if i < len(tog) {
			until = tog[i]
		}
		if d.state == integrating && !level {
			d.skip(until)
			continue
		}
		if d.field == DataField && d.state == inFrame && d.dynamic && d.dataRun(level, until) {
			continue
		}
		d.sample(level, out)
	}
}

// skip passes over the samples of a dominant line before the time until, a
// second of them at most, while waiting for the bus to be idle: however long a
// line is held, it costs next to nothing.
func (d *Decoder) skip(until quantity.Time) {
	span := int64(min(until, d.next+quantity.Second)-d.base)*1000 - d.bitStart - d.phase.sample
	d.bitStart += ((max(span, 1)-1)/d.phase.bit + 1) * d.phase.bit
	d.quiet, d.last, d.synced = 0, false, false
	d.rebase()
	d.plan()
}

// rebase keeps the numbers small where the bus is quiet for long.
func (d *Decoder) rebase() {
	if d.bitStart > 1e15 {
		d.base += quantity.Time(d.bitStart / 1000)
		d.bitStart %= 1000
	}
}

// dataRun takes the samples of one level before the time until at once, inside
// the data field, as far as they hold no fault and do not end the field. It
// does what sample does for each of them, and gives false where there are none.
func (d *Decoder) dataRun(r bool, until quantity.Time) bool {
	first := d.bitStart + d.phase.sample
	span := int64(until-d.base)*1000 - first
	if span <= 0 {
		return false
	}
	n := int((span-1)/d.phase.bit) + 1
	used := 0
	if d.run == 5 {
		if r == d.prev {
			return false
		}
		d.prev, d.run = r, 1
		d.stuffed++
		d.cFD.add(r)
		used = 1
	}
	run := 0
	if r == d.prev {
		run = d.run
	}
	m := min(n-used, 5-run, 8*d.length-d.index-1)
	if m > 0 {
		d.prev, d.run = r, run+m
		d.c15.addRun(r, m)
		d.cFD.addRun(r, m)
		used += m
		ones := uint32(0)
		if r {
			ones = ^ones
		}
		for m > 0 {
			k := min(m, 8-d.index%8)
			d.shift = d.shift<<k | ones&(1<<k-1)
			d.index += k
			m -= k
			if d.index%8 == 0 {
				d.data[d.index/8-1] = byte(d.shift)
				d.shift = 0
			}
		}
	}
	if used == 0 {
		return false
	}
	d.bits += used
	d.bitStart += int64(used) * d.phase.bit
	d.last, d.synced = r, false
	d.plan()
	return true
}

// begin starts a frame whose start bit begins at the time t.
func (d *Decoder) begin(t quantity.Time) {
	d.state = inFrame
	d.base, d.bitStart = t, 0
	d.phase = &d.nominal
	d.last, d.synced = true, true
	d.field, d.index, d.shift, d.bits = SOF, 0, 0, 0
	d.run, d.dynamic, d.prev = 0, true, true
	d.stuffed, d.position, d.badCheck = 0, 0, false
	d.c15.reset()
	d.cFD.reset()
	d.f = Frame{}
	d.length, d.faults, d.where = 0, 0, ""
	d.rec.Start = t
	d.plan()
}

// resync uses an edge from recessive to dominant, at most one between two
// samples, and only when the newest sample was recessive.
func (d *Decoder) resync(t quantity.Time) {
	if d.synced || !d.last {
		return
	}
	d.synced = true
	e := int64(t-d.base)*1000 - d.bitStart
	d.bitStart += min(max(e, -d.phase.jump), d.phase.jump)
	d.plan()
}

// sample takes the level at a sample point and goes on to the next bit.
func (d *Decoder) sample(recessive bool, out record.Sink) {
	p := d.phase
	d.last, d.synced = recessive, false
	switch d.state {
	case integrating:
		if recessive {
			if d.quiet++; d.quiet >= 11 {
				d.state = idle
			}
		} else {
			d.quiet = 0
		}
	case between:
		d.intermission(recessive, out)
	case inFrame:
		d.bits++
		d.bit(recessive, out)
	}
	if d.state == inFrame && d.phase != p {
		// The rate changes at this very sample point.
		d.bitStart += p.sample + d.phase.bit - d.phase.sample
	} else {
		d.bitStart += p.bit
	}
	d.rebase()
	d.plan()
}

func (d *Decoder) intermission(recessive bool, out record.Sink) {
	d.between++
	switch {
	case recessive && d.between == 3:
		d.state = idle
	case !recessive && d.between == 3:
		// The third bit is already the next frame's start.
		d.begin(d.at(d.bitStart))
		d.bits++
		d.bit(false, out)
	case !recessive:
		d.rec.Start = d.at(d.bitStart)
		d.rec.End = d.at(d.bitStart + d.phase.bit)
		d.faults, d.where = record.Overload, "overload flag in the "+Intermission.String()
		d.f = Frame{}
		d.put(out)
		d.giveUp()
	}
}

// giveUp waits for the bus to be idle again.
func (d *Decoder) giveUp() {
	d.state, d.quiet = integrating, 0
	d.phase = &d.nominal
}

// fault ends a frame at the present bit.
func (d *Decoder) fault(f record.Flags, name string, out record.Sink) {
	d.faults |= f
	where := d.field.String()
	if d.field == DataField {
		where = fmt.Sprintf("data byte %d", d.index/8+1)
	}
	if d.where != "" {
		d.where += "; "
	}
	d.where += fmt.Sprintf("%s in the %s, bit %d of the frame", name, where, d.bits)
	d.rec.End = d.at(d.bitStart + d.phase.bit)
	d.put(out)
	d.giveUp()
	// A dominant flag may stand on the line already: count from here.
	if d.last {
		d.quiet = 1
	}
}

// bit takes one bit of a frame.
func (d *Decoder) bit(r bool, out record.Sink) {
	if d.dynamic {
		if d.run == 5 {
			if r == d.prev {
				if r {
					d.fault(record.Stuff, "stuff error", out)
				} else {
					d.fault(record.Stuff|record.ErrorFlag, "stuff error or error flag", out)
				}
				return
			}
			d.prev, d.run = r, 1
			d.stuffed++
			d.cFD.add(r)
			if d.field == CheckDelimiter {
				d.dynamic = false
			}
			return
		}
		if d.run > 0 && r == d.prev {
			d.run++
		} else {
			d.run = 1
		}
		d.prev = r
	}
	if !d.dynamic && (d.field == StuffCount || d.field == CheckField) {
		if d.position == 0 {
			d.position = 4
			if r == d.prev {
				d.fault(record.Form, "form error of a fixed stuff bit", out)
				return
			}
			d.prev = r
			return
		}
		d.position--
		d.prev = r
	}
	if d.field <= DataField {
		d.c15.add(r)
		d.cFD.add(r)
	}
	d.take(r, out)
}

func (d *Decoder) enter(f Field) { d.field, d.index, d.shift = f, 0, 0 }

// take gives a bit its meaning.
func (d *Decoder) take(r bool, out record.Sink) {
	v := uint32(0)
	if r {
		v = 1
	}
	d.shift = d.shift<<1 | v
	d.index++
	switch d.field {
	case SOF:
		if r {
			// A short dominant pulse was no start of frame.
			d.giveUp()
			d.quiet = 1
			return
		}
		d.enter(Identifier)
	case Identifier:
		if d.index == 11 {
			d.f.ID = d.shift
			d.enter(RemoteBit)
		}
	case RemoteBit:
		d.f.Remote = r
		if d.f.Extended {
			d.enter(FDBit)
		} else {
			d.enter(IDE)
		}
	case IDE:
		if r {
			d.f.Extended = true
			d.enter(ExtendedID)
		} else {
			d.enter(FDBit)
		}
	case ExtendedID:
		if d.index == 18 {
			d.f.ID = d.f.ID<<18 | d.shift
			d.enter(RemoteBit)
		}
	case FDBit:
		d.f.FD = r
		switch {
		case r:
			d.f.Remote = false
			d.enter(Reserved)
		case d.f.Extended:
			d.enter(Reserved)
		default:
			d.enter(LengthCode)
		}
	case Reserved:
		if d.f.FD {
			if r {
				d.fault(record.Form, "reserved bit recessive: a protocol of another kind", out)
				return
			}
			d.enter(RateSwitch)
		} else {
			d.enter(LengthCode)
		}
	case RateSwitch:
		d.f.Switched = r
		if r {
			d.phase = &d.fast
		}
		d.enter(StateIndicator)
	case StateIndicator:
		d.f.Passive = r
		d.enter(LengthCode)
	case LengthCode:
		if d.index == 4 {
			d.f.DLC = int(d.shift)
			d.length = Length(d.f.DLC, d.f.FD)
			if d.f.Remote {
				d.length = 0
			}
			if d.length > 0 {
				d.enter(DataField)
			} else {
				d.dataEnds()
			}
		}
	case DataField:
		if d.index%8 == 0 {
			d.data[d.index/8-1] = byte(d.shift)
			d.shift = 0
		}
		if d.index == 8*d.length {
			d.dataEnds()
		}
	case StuffCount:
		d.cFD.add(r)
		if d.index == 4 {
			code, parity := grey(d.stuffed % 8)
			want := uint32(code) << 1
			if parity {
				want |= 1
			}
			d.badCheck = d.shift != want
			c := crc17()
			if d.length > 16 {
				c = crc21()
			}
			d.check, d.width = d.cFD.over(c), int(c.width)
			d.enter(CheckField)
		}
	case CheckField:
		if d.index == d.width {
			d.badCheck = d.badCheck || d.shift != d.check
			d.enter(CheckDelimiter)
			if !d.f.FD && d.run < 5 {
				d.dynamic = false
			}
		}
	case CheckDelimiter:
		d.phase = &d.nominal
		if !r {
			d.fault(record.Form, "form error", out)
			return
		}
		d.enter(AckSlot)
	case AckSlot:
		if r {
			d.faults |= record.NotAcknowledged
			d.where = "nobody acknowledged"
		}
		d.enter(AckDelimiter)
	case AckDelimiter:
		if d.badCheck {
			d.field = CheckField
			d.fault(record.CheckSequence, "check sequence does not fit", out)
			return
		}
		if !r {
			if d.faults&record.NotAcknowledged != 0 {
				d.rec.End = d.at(d.bitStart)
				d.put(out)
				d.giveUp()
				return
			}
			d.fault(record.Form, "form error", out)
			return
		}
		d.enter(EndOfFrame)
	case EndOfFrame:
		if !r {
			if d.index == 7 {
				// The last bit dominant is an overload condition for receivers:
				// the frame itself is good.
				d.rec.End = d.at(d.bitStart + d.phase.bit)
				d.put(out)
				d.giveUp()
				return
			}
			d.fault(record.Form|record.ErrorFlag, "error flag, or form error", out)
			return
		}
		if d.index == 7 {
			d.rec.End = d.at(d.bitStart + d.phase.bit)
			d.put(out)
			d.state, d.between = between, 0
		}
	}
}

// dataEnds goes on to the check sequence.
func (d *Decoder) dataEnds() {
	if d.f.FD {
		d.dynamic = false
		d.position = 0
		d.enter(StuffCount)
		return
	}
	d.check, d.width = d.c15.over(crc15()), 15
	d.enter(CheckField)
}

func (d *Decoder) put(out record.Sink) {
	r := &d.rec
	r.ID, r.Attr, r.Bits = d.f.ID, 0, uint8(d.f.DLC)
	for _, a := range []struct {
		on  bool
		bit record.Attr
	}{{d.f.Extended, record.Extended}, {d.f.Remote, record.Remote}, {d.f.FD, record.FD}, {d.f.Switched, record.Switched}, {d.f.Passive, record.Passive}} {
		if a.on {
			r.Attr |= a.bit
		}
	}
	n := d.length
	if d.state == between {
		n = 0 // an overload flag carries nothing
	}
	if d.field == DataField {
		n = d.index / 8
	}
	if d.field < DataField {
		n = 0
	}
	r.Data = d.data[:min(n, 64)]
	r.Marks, r.Text = nil, d.where
	if d.faults != 0 {
		d.marks[0] = record.Mark{Index: len(r.Data), Flags: d.faults}
		r.Marks = d.marks[:]
	}
	out.Put(r)
}

// Wake implements bus.Decoder.
func (d *Decoder) Wake() quantity.Time {
	if d.state == idle {
		return quantity.Forever
	}
	return d.next + 1
}

// Flush implements bus.Decoder: a frame that is cut off is dropped.
func (d *Decoder) Flush(record.Sink) {}
