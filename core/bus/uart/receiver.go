package uart

import (
	"math/bits"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// maxRun is the number of characters after which a run is put out although
// no gap ended it.
const maxRun = 4096

// Char is one received character at the moment at which a peripheral would
// raise its flag: when the stop bit has been sampled.
type Char struct {
	Value        uint16
	Flags        record.Flags
	Start, Ready quantity.Time
	End          quantity.Time // of the last stop bit, as the receiver counts
}

// Config describes a receiver.
type Config struct {
	Frame  Frame
	Period quantity.Period // the receiver's own idea of a bit
	// Oversampling is the number of ticks a bit: 16, 8 or 4, or 0 for an
	// ideal receiver, which sees the start edge when it happens.
	Oversampling int
	// Phase shifts the free-running ticks, in femtoseconds, 0 to one tick.
	Phase quantity.Period
	// Vote takes the majority of three samples, one tick apart, for all bits
	// but the stop bit, and marks the characters in which they differed. It
	// needs 8 samples a bit: with 4 the third would fall into the next bit.
	Vote bool
	// GapBits is the idle time, in bits, that ends a run, Gap the same as a
	// time. With neither it is two characters.
	GapBits int
	Gap     quantity.Time

	Link       uint16
	Seen, From record.End
	Origin     record.Origin
}

type state uint8

const (
	hunting state = iota // high, waiting for a falling edge
	edge                 // a falling edge was seen; the next tick decides
	framing              // inside a character
	low                  // a stop bit was low: waiting for the line to rise
)

// Receiver decodes one line. The same code is the tap of a capture and the
// receiver of a simulated peripheral; they differ only in their Config.
type Receiver struct {
	// Set once.
	cfg      Config
	tick     quantity.Period // 0 for an ideal receiver
	beside   quantity.Period // from one sample of a vote to the next
	period   quantity.Period
	nData    int
	nBits    int // sampled bits: start, data, parity, first stop bit
	charTime quantity.Time
	// perPeriod is 1/period.
	perPeriod float64
	gap       quantity.Time
	// OnChar, if set, is called for each character when it is ready. What it
	// returns is added to the character's marks.
	OnChar func(Char) record.Flags

	// Decoding.
	state   state
	high    bool
	started bool
	fallAt  quantity.Time   // the falling edge that may be a start bit
	base    quantity.Time   // where the receiver's bit times count from
	rem     quantity.Period // femtoseconds to add to base
	bit     int             // next bit to sample
	sub     int             // next sample of that bit, when voting
	ones    int
	shift   uint32
	flags   record.Flags
	// lastSample is the stop bit's sample relative to base.
	lastSample quantity.Time
	to         quantity.Time // the line is known up to here
	resting    bool          // what is fed is not in the capture any more: the line rests

	// The run being collected.
	run    record.Record
	lastAt quantity.Time // end of the last character
	shown  int           // characters shown by Open so far, and marks
	marks  int
}

// NewReceiver gives a receiver.
func NewReceiver(cfg Config) *Receiver {
	cfg.Vote = cfg.Vote && (cfg.Oversampling >= 8 || cfg.Oversampling == 0)
	r := &Receiver{cfg: cfg, high: true}
	r.period = max(cfg.Period, 1)
	if cfg.Oversampling > 0 {
		r.tick = max(cfg.Period/quantity.Period(cfg.Oversampling), 1)
		r.period = r.tick * quantity.Period(cfg.Oversampling)
	}
	r.beside = r.tick
	if cfg.Vote && r.tick == 0 {
		r.beside = max(r.period/16, 1)
	}
	r.perPeriod = 1 / float64(r.period)
	r.nData = cfg.Frame.Data
	r.nBits = 1 + cfg.Frame.Data + cfg.Frame.parityBits() + 1
	r.charTime = cfg.Frame.Time(cfg.Period)
	switch {
	case cfg.Gap > 0:
		r.gap = cfg.Gap
	case cfg.GapBits > 0:
		r.gap = cfg.Period.Times(int64(cfg.GapBits))
	default:
		r.gap = 2 * r.charTime
	}
	r.run = record.Record{
		Kind: record.Chars, Link: cfg.Link, Seen: cfg.Seen, From: cfg.From, Origin: cfg.Origin,
		Wide: cfg.Frame.Data > 8, Each: r.charTime,
	}
	if cfg.Frame.Address {
		r.run.Attr = record.Addressed
	}
	return r
}

// Feed decodes the next window of the line.
func (r *Receiver) Feed(w *wire.Window, out record.Sink) {
	if r.cfg.Frame.Inverted {
		turned := *w
		turned.High = !w.High
		w = &turned
	}
	tog := w.Toggles
	i, n := 0, len(tog)
	high := w.High
	if !r.started {
		r.started = true
		if !high {
			r.state = low
		}
	} else if high != r.high && r.state == hunting && !high {
		// The line was found low where it had been high: a fall at the seam.
		r.fall(w.From)
	}
loop:
	for {
		switch r.state {
		case hunting:
			if i == n {
				break loop
			}
			t := tog[i]
			i++
			high = !high
			if !high {
				r.settle(t, out)
				r.fall(t)
			}
		case edge:
			if r.base >= w.To {
				break loop
			}
			for i < n && tog[i] <= r.base {
				high = !high
				i++
			}
			if high {
				r.state = hunting
			} else {
				r.begin()
			}
		case framing:
			if r.cfg.Vote || len(w.Unknown) != 0 {
				if i, high = r.slow(w, i, high, out); r.state == framing {
					break loop
				}
				continue
			}
			if r.bit == 0 {
				if next, ok := r.whole(tog, i, high, w.To); ok {
					i = next
					r.finish(r.base+r.lastSample, r.shift>>(r.nBits-1)&1 == 1, out)
					high = r.state == hunting
					continue
				}
			}
			// One sample a bit, in a window that may end at any of them.
			acc := int64(r.rem) + int64(r.period)*int64(2*r.bit+1)/2
			for r.bit < r.nBits {
				s := r.base + quantity.Time(acc/1000)
				if s >= w.To {
					break loop
				}
				for i < n && tog[i] <= s {
					high = !high
					i++
				}
				if high {
					r.shift |= 1 << r.bit
				}
				if r.bit == 0 && high {
					r.glitch(out)
					continue loop
				}
				r.bit++
				acc += int64(r.period)
			}
			r.finish(r.base+quantity.Time((acc-int64(r.period))/1000), high, out)
		case low:
			if i == n {
				break loop
			}
			high = !high
			i++
			if high {
				r.state = hunting
				r.broke(tog[i-1])
			}
		}
	}
	for ; i < n; i++ {
		high = !high
	}
	r.high, r.to = high, w.To
	r.show(w.To, out)
}

// broke tells how long a break lasted that ended at the time t.
func (r *Receiver) broke(t quantity.Time) {
	if n := len(r.run.Marks); n > 0 && r.run.Marks[n-1].Flags&record.Break != 0 && r.run.Marks[n-1].Index == r.run.Len()-1 {
		r.run.Facts = append(r.run.Facts, record.Fact{What: record.BreakLength, Index: r.run.Len() - 1, Value: int64(t - r.fallAt)})
	}
}

// whole takes a character whose samples all lie in the window, edge by edge
// instead of sample by sample: a toggle flips all bits sampled after it. It
// gives false, with nothing changed, for a glitch or at the window's end.
func (r *Receiver) whole(tog []quantity.Time, i int, high bool, to quantity.Time) (int, bool) {
	first := int64(r.rem) + int64(r.period)/2 // femtoseconds from base to the first sample
	r.lastSample = quantity.Time((first + int64(r.period)*int64(r.nBits-1)) / 1000)
	last := r.base + r.lastSample
	if last >= to {
		return i, false
	}
	shift := uint32(0)
	if high {
		shift = ^shift
	}
	for i < len(tog) && tog[i] <= last {
		d := int64(tog[i]-r.base)*1000 - first
		// k is the first sample at or after the toggle: d/period rounded up.
		// The product may miss by one next to a whole number.
		k := int64(float64(d) * r.perPeriod)
		if rest := d - k*int64(r.period); rest > 0 {
			k++
		} else if rest <= -int64(r.period) {
			k--
		}
		if d <= 0 {
			k = 0
		}
		shift ^= ^uint32(0) << k
		i++
	}
	if shift&1 != 0 {
		return i, false
	}
	r.shift = shift & (1<<r.nBits - 1)
	return i, true
}

// fall notes a falling edge. An oversampling receiver sees it at its next
// tick.
func (r *Receiver) fall(t quantity.Time) {
	r.fallAt = t
	if r.tick == 0 {
		r.base, r.rem = t, 0
		r.begin()
		return
	}
	// Ticks are at phase + k·tick femtoseconds. The product of a time with
	// 1000 needs 128 bits.
	hi, lo := bits.Mul64(uint64(t), 1000)
	phase := uint64(r.cfg.Phase)
	if hi == 0 && lo <= phase {
		r.base, r.rem = quantity.Time(phase/1000), quantity.Period(phase%1000)
	} else {
		lo2, borrow := bits.Sub64(lo, phase, 0)
		k, rest := bits.Div64(hi-borrow, lo2, uint64(r.tick))
		if rest != 0 {
			k++
		}
		hi, lo = bits.Mul64(k, uint64(r.tick))
		lo, carry := bits.Add64(lo, phase, 0)
		ps, fs := bits.Div64(hi+carry, lo, 1000)
		r.base, r.rem = quantity.Time(ps), quantity.Period(fs)
	}
	r.state = edge
}

func (r *Receiver) begin() {
	r.state = framing
	r.bit, r.sub, r.ones, r.shift, r.flags = 0, 0, 0, 0, 0
}

// slow samples with a vote of three, or over stretches without a driver.
func (r *Receiver) slow(w *wire.Window, i int, high bool, out record.Sink) (int, bool) {
	tog, n := w.Toggles, len(w.Toggles)
	var s quantity.Time
	for r.bit < r.nBits {
		votes := 1
		if r.cfg.Vote && r.bit < r.nBits-1 {
			votes = 3
		}
		at := int64(r.rem) + int64(r.period)*int64(2*r.bit+1)/2 + int64(r.beside)*int64(r.sub-votes/2)
		s = r.base + quantity.Time(at/1000)
		if s >= w.To {
			return i, high
		}
		for i < n && tog[i] <= s {
			high = !high
			i++
		}
		switch w.Symbol(s) {
		case 'x':
			r.flags |= record.Collision
		case 'z':
			r.flags |= record.Floating
		}
		if high {
			r.ones++
		}
		if r.sub++; r.sub < votes {
			continue
		}
		if r.ones != 0 && r.ones != votes {
			r.flags |= record.Noise
		}
		one := 2*r.ones > votes
		if r.bit == 0 && one {
			r.glitch(out)
			if !high {
				r.state = low
			}
			return i, high
		}
		if one {
			r.shift |= 1 << r.bit
		}
		r.bit++
		r.sub, r.ones = 0, 0
	}
	r.finish(s, high, out)
	return i, high
}

// glitch drops a start bit that was gone at its middle.
func (r *Receiver) glitch(out record.Sink) {
	r.state = hunting
	if !r.pendingRun() {
		r.run.Start = r.fallAt
		r.lastAt = r.fallAt
	}
	r.run.Marks = append(r.run.Marks, record.Mark{Index: r.run.Len(), Flags: record.Glitch})
	r.lastAt = max(r.lastAt, r.fallAt+r.period.Times(1))
	if len(r.run.Marks) >= maxRun {
		r.put(out, true)
	}
}

// finish takes the character whose stop bit was sampled at the time s.
func (r *Receiver) finish(s quantity.Time, stopHigh bool, out record.Sink) {
	v := uint16(r.shift >> 1)
	f := r.cfg.Frame
	flags := r.flags
	if f.Parity != None {
		if uint16(r.shift>>(1+r.nData))&1 != f.ParityBit(v&f.Mask()) {
			flags |= record.Parity
		}
	}
	v &= f.Mask()
	if f.MSBFirst {
		v = f.Turned(v)
	}
	if r.resting && flags&record.Parity != 0 {
		// The bits that the capture does not have were others.
		r.cut()
		return
	}
	r.state = hunting
	if !stopHigh {
		flags |= record.Framing
		if r.shift == 0 {
			flags |= record.Break
			flags &^= record.Parity
		}
		r.state = low
	}
	if r.OnChar != nil {
		flags |= r.OnChar(Char{Value: v, Flags: flags, Start: r.fallAt, Ready: s, End: r.fallAt + r.cfg.Period.Halves(int64(f.HalfBits()))})
	}
	if f.Address && v&0x100 != 0 && r.pendingRun() {
		r.put(out, false) // an address begins a packet
	}
	if !r.pendingRun() {
		r.run.Start = r.fallAt
	}
	if flags != 0 {
		r.run.Marks = append(r.run.Marks, record.Mark{Index: r.run.Len(), Flags: flags})
	}
	r.run.Data = append(r.run.Data, byte(v))
	if r.run.Wide {
		r.run.Data = append(r.run.Data, byte(v>>8))
	}
	r.run.Offsets = append(r.run.Offsets, r.fallAt-r.run.Start)
	r.lastAt = r.fallAt + r.charTime
	if len(r.run.Offsets) >= maxRun {
		r.put(out, true)
	}
}

// settle ends the run if the line was idle long enough before the time t.
func (r *Receiver) settle(t quantity.Time, out record.Sink) {
	if r.pendingRun() && t >= r.lastAt+r.gap {
		r.put(out, false)
	}
}

func (r *Receiver) pendingRun() bool { return len(r.run.Offsets) != 0 || len(r.run.Marks) != 0 }

func (r *Receiver) put(out record.Sink, more bool) {
	r.run.End, r.run.More = r.lastAt, more
	out.Put(&r.run)
	r.run.Data, r.run.Offsets, r.run.Marks, r.run.Facts = r.run.Data[:0], r.run.Offsets[:0], r.run.Marks[:0], r.run.Facts[:0]
	r.shown, r.marks = 0, 0
}

// show publishes what is complete by the time to.
func (r *Receiver) show(to quantity.Time, out record.Sink) {
	if !r.pendingRun() {
		return
	}
	if r.state == hunting && to >= r.lastAt+r.gap {
		r.put(out, false)
		return
	}
	if to >= r.lastAt && (r.shown != len(r.run.Offsets) || r.marks != len(r.run.Marks)) {
		r.shown, r.marks = len(r.run.Offsets), len(r.run.Marks)
		r.run.End = r.lastAt
		out.Open(&r.run)
	}
}

// Wake gives the time up to which the receiver must be fed so that silence
// alone yields a sample that decides something, a finished character or the
// end of a run; quantity.Forever when silence will not.
func (r *Receiver) Wake() quantity.Time {
	at := quantity.Forever
	switch r.state {
	case edge:
		at = r.base + 1
	case framing:
		// Only the last sample decides anything that silence can show.
		last := int64(r.rem) + int64(r.period)*int64(2*r.nBits-1)/2
		at = r.base + quantity.Time(last/1000) + 1
	}
	if !r.pendingRun() {
		return at
	}
	switch {
	case r.shown != len(r.run.Offsets) || r.marks != len(r.run.Marks):
		at = min(at, r.lastAt)
	case r.state == hunting:
		at = min(at, r.lastAt+r.gap)
	}
	return at
}

// Busy says whether the receiver is inside a character or looks at an edge.
func (r *Receiver) Busy() bool { return r.state == edge || r.state == framing }

// Flush puts out the unfinished run. A character that is still being sampled
// is dropped: its stop bit was never seen.
func (r *Receiver) Flush(out record.Sink) {
	if r.pendingRun() {
		r.put(out, false)
	}
	r.state = hunting
}

// Rest says that the capture ended with a change of the line, as captures do that keep
// only changes: if the line rests where it is, it rests on.
func (r *Receiver) Rest(out record.Sink) {
	if !r.high || r.state != framing {
		return
	}
	// High as the wire is, not as the receiver takes it.
	r.resting = true
	r.Feed(&wire.Window{From: r.to, To: r.to + r.charTime + r.gap + 1, High: !r.cfg.Frame.Inverted}, out)
	r.resting = false
}

// End puts out what is unfinished at the end of a capture; a character of which a part
// is missing is marked.
func (r *Receiver) End(out record.Sink) {
	switch {
	case r.state == framing && r.bit > 0:
		r.cut()
	case r.state == low && r.pendingRun():
		r.broke(r.to)
	}
	r.Flush(out)
}

// cut marks that a character is cut off.
func (r *Receiver) cut() {
	if !r.pendingRun() {
		r.run.Start = r.fallAt
	}
	r.run.Marks = append(r.run.Marks, record.Mark{Index: r.run.Len(), Flags: record.CutOff})
	r.lastAt = max(r.fallAt+1, min(r.to, r.fallAt+r.charTime))
	r.state = hunting
}
