package can

import (
	"encoding/binary"

	"gavrix.org/gavrix/core/record"
)

// event is what a bit brought about.
type event uint8

const (
	nothing  event = iota
	noStart        // the start of frame was no longer dominant at its sample point
	toFast         // the rate-switch bit was recessive: the data phase begins at this sample point
	checked        // the check sequence is complete, its delimiter comes next
	toSlow         // the check delimiter was sampled: the nominal rate begins at this sample point
	answered       // the acknowledge slot was sampled
	valid          // the last but one bit of the end of frame: a receiver takes the frame
	done           // the last bit of the end of frame
	overload       // the last bit of the end of frame was dominant
	faulty         // a fault; fault and name say which
)

// stage says how the next bits are read.
type stage uint8

const (
	stuffed  stage = iota // up to the check sequence: a stuff bit follows five equal bits
	trailing              // a stuff bit is due behind the last bit of the check sequence
	fixed                 // stuff count and check sequence of the flexible data rate format
	ending                // from the check delimiter on
)

// Places of bits in a frame, stuff bits left out: the first bit of what
// follows the identifier.
const (
	baseControl     = 14 // behind the identifier extension bit
	extendedControl = 33 // behind the remote bit of an extended frame
)

// reader reads the bits of one frame, as sampled, in runs of equal bits.
type reader struct {
	f     Frame
	stage stage
	have  int // bits so far, stuff bits left out
	need  int // the number of bits at which something is to be decided

	run   int
	prev  bool
	count int // dynamic stuff bits

	classic  bool // known not to be of the flexible data rate format
	length   int  // data bytes
	dataAt   int  // place of the first data bit
	tail     int  // bits behind the check sequence
	silent   bool // the acknowledge slot itself was recessive
	position int  // bits until the next fixed stuff bit
	extra    int  // fixed stuff bits, and the second bit of an acknowledge slot
	value    uint32
	check    uint32
	sent     uint32 // the check sequence as it came
	width    int

	plain stream // the bits without stuff bits
	raw   stream // and with them, up to the check sequence

	badCheck     bool
	acknowledged bool
	late         bool // FD: the acknowledge slot came one bit late, or took two
	fault        record.Flags
	name         string // of the fault
}

// start makes the reader ready for the start of frame.
func (p *reader) start() {
	p.f, p.classic = Frame{}, false
	p.stage, p.have, p.need = stuffed, 0, 1
	p.run, p.prev, p.count = 0, true, 0
	p.length, p.dataAt, p.tail, p.position, p.extra, p.value = 0, 0, 0, 0, 0, 0
	p.check, p.width = 0, 0
	p.badCheck, p.acknowledged, p.late, p.silent = false, false, false, false
	p.fault, p.name = 0, ""
	p.plain.reset()
	p.raw.reset()
}

// bits takes up to n equal bits and gives how many it took: all of them, or
// those up to the one that brought an event.
func (p *reader) bits(r bool, n int) (used int, e event) {
	for used < n {
		switch p.stage {
		case stuffed:
			if p.run == 5 {
				used++
				p.count++
				if r == p.prev {
					return used, p.fail(record.Stuff, "stuff error")
				}
				p.prev, p.run = r, 1
				p.raw.add(r, 1)
				continue
			}
			m := min(n-used, p.need-p.have)
			if r == p.prev {
				m = min(m, 5-p.run)
				p.run += m
			} else {
				m = min(m, 5)
				p.prev, p.run = r, m
			}
			p.plain.add(r, m)
			if !p.classic {
				p.raw.add(r, m)
			}
			p.have += m
			used += m
			if p.have == p.need {
				if e := p.decide(r); e != nothing {
					return used, e
				}
			}
		case trailing:
			used++
			p.count++
			if r == p.prev {
				return used, p.fail(record.Stuff, "stuff error")
			}
			p.stage = ending
			return used, checked
		case fixed:
			used++
			if e := p.fixedBit(r); e != nothing {
				return used, e
			}
		case ending:
			used++
			p.have++
			if e := p.end(r); e != nothing {
				return used, e
			}
		}
	}
	return used, nothing
}

const badCheck = "check sequence does not fit"

func (p *reader) fail(f record.Flags, name string) event {
	p.fault, p.name = f, name
	return faulty
}

// decide gives a meaning to the bits up to a place at which the frame forks.
func (p *reader) decide(r bool) event {
	control := baseControl
	if p.f.Extended {
		control = extendedControl
	}
	switch p.have {
	case 1:
		if r {
			return noStart
		}
		p.need = baseControl
		return nothing
	case baseControl:
		p.f.ID = p.plain.last(13) >> 2
		p.f.Remote = p.plain.last(2)>>1 == 1
		p.need++
		if p.f.Extended = r; r {
			p.need = extendedControl
		}
		return nothing
	case extendedControl:
		if p.f.Extended {
			p.f.ID = p.f.ID<<18 | p.plain.last(19)>>1
			p.f.Remote = r
			p.need = extendedControl + 1
			return nothing
		}
	}
	if p.dataAt == 0 {
		return p.control(r, p.have-control)
	}
	if p.f.FD {
		// The stuff bit that may be due is the first fixed one.
		p.stage = fixed
		return nothing
	}
	if p.width == 0 {
		p.check, p.width = p.plain.over(crc15()), 15
		p.need += 15
		return nothing
	}
	p.sent = p.plain.last(15)
	p.badCheck = p.sent != p.check
	if p.run == 5 {
		p.stage = trailing
		return nothing
	}
	p.stage = ending
	return checked
}

// control reads the k-th bit of the control field, from 1, the format bit.
func (p *reader) control(r bool, k int) event {
	if k == 1 {
		if p.f.FD = r; r {
			p.f.Remote = false
			p.need++
			return nothing
		}
		p.classic = true
		p.need += 4 // the length code
		if p.f.Extended {
			p.need++ // behind a reserved bit
		}
		return nothing
	}
	if p.f.FD {
		switch k {
		case 2:
			if r {
				return p.fail(record.Form, "reserved bit recessive: a protocol of another kind")
			}
			p.need++
			return nothing
		case 3:
			p.need += 5
			if p.f.Switched = r; r {
				return toFast
			}
			return nothing
		}
		p.f.Passive = p.plain.last(5)>>4 == 1
	}
	p.f.DLC = int(p.plain.last(4))
	p.length = Length(p.f.DLC, p.f.FD)
	if p.f.Remote {
		p.length = 0
	}
	p.dataAt = p.have
	p.need += 8 * p.length
	if p.length == 0 {
		return p.decide(r)
	}
	return nothing
}

// fixedBit takes a bit of the stuff count or of the check sequence of the
// flexible data rate format, or a fixed stuff bit among them.
func (p *reader) fixedBit(r bool) event {
	if p.position == 0 {
		p.position = 4
		p.extra++
		if r == p.prev {
			return p.fail(record.Form, "form error of a fixed stuff bit")
		}
		p.prev = r
		return nothing
	}
	p.position--
	p.prev = r
	p.have++
	p.value <<= 1
	if r {
		p.value |= 1
	}
	k := p.have - p.dataAt - 8*p.length
	switch {
	case k < 4:
		p.raw.add(r, 1)
	case k == 4:
		p.raw.add(r, 1)
		code, parity := grey(p.count % 8)
		want := uint32(code) << 1
		if parity {
			want |= 1
		}
		p.badCheck = p.value != want
		c := crc17()
		if p.length > 16 {
			c = crc21()
		}
		p.check, p.width, p.value = p.raw.over(c), int(c.width), 0
	case k == 4+p.width:
		p.sent = p.value
		p.badCheck = p.badCheck || p.value != p.check
		p.stage = ending
		return checked
	}
	return nothing
}

// end takes a bit from the check delimiter on. In the flexible data rate
// format the nodes may be a bit apart here: the acknowledge slot may come one
// bit late or take two.
func (p *reader) end(r bool) event {
	p.tail++
	switch p.tail {
	case 1:
		if !r {
			p.fail(record.Form, "form error")
		}
		return toSlow
	case 2:
		p.acknowledged, p.silent = !r, r
		return answered
	case 3:
		if !r && p.f.FD && !p.late {
			p.late, p.acknowledged = true, true
			p.tail, p.have, p.extra = 2, p.have-1, p.extra+1
			return nothing
		}
		if !r && p.silent {
			return p.unanswered() // not a late slot, but the sender's error flag
		}
		if p.badCheck {
			return p.fail(record.CheckSequence, badCheck)
		}
		if !r {
			return p.fail(record.Form, "form error")
		}
	default:
		if !r {
			if p.tail == 10 {
				return overload
			}
			if p.tail == 4 && p.f.FD && p.silent && !p.acknowledged {
				return p.unanswered() // the sender waited a bit longer for the slot
			}
			return p.fail(record.Form|record.ErrorFlag, "a dominant bit")
		}
		switch p.tail {
		case 9:
			return valid
		case 10:
			return done
		}
	}
	return nothing
}

// unanswered ends a frame whose sender begins an error flag where it saw no
// acknowledgement.
func (p *reader) unanswered() event {
	p.acknowledged = false
	if p.badCheck {
		return p.fail(record.CheckSequence|record.NotAcknowledged, badCheck)
	}
	return p.fail(record.NotAcknowledged, "nobody acknowledged")
}

// named says whether the identifier was read whole.
func (p *reader) named() bool {
	return p.have >= extendedControl || p.have >= baseControl+1 && !p.f.Extended
}

// stuffing is the number of bits that stuffing put in.
func (p *reader) stuffing() int {
	if p.late {
		return p.count + p.extra - 1
	}
	return p.count + p.extra
}

// total is the number of bits so far, stuff bits counted.
func (p *reader) total() int { return p.have + p.count + p.extra }

// part is a field with its length.
type part struct {
	field Field
	bits  int
}

// parts gives the fields of the frame, as far as it is known by now.
func (p *reader) parts() []part {
	out := []part{{SOF, 1}, {Identifier, 11}, {RemoteBit, 1}, {IDE, 1}}
	if p.f.Extended {
		out = append(out, part{ExtendedID, 18}, part{RemoteBit, 1})
	}
	out = append(out, part{FDBit, 1})
	if p.f.FD || p.f.Extended {
		out = append(out, part{Reserved, 1})
	}
	if p.f.FD {
		out = append(out, part{RateSwitch, 1}, part{StateIndicator, 1})
	}
	out = append(out, part{LengthCode, 4}, part{DataField, 8 * p.length})
	if p.f.FD {
		out = append(out, part{StuffCount, 4}, part{CheckField, max(p.width, 17)})
	} else {
		out = append(out, part{CheckField, 15})
	}
	return append(out, part{CheckDelimiter, 1}, part{AckSlot, 1}, part{AckDelimiter, 1}, part{EndOfFrame, 7})
}

// place gives the field of the newest bit and its index within; a stuff bit
// belongs to the bit before it.
func (p *reader) place() (Field, int) {
	k := max(p.have-1, 0)
	for _, x := range p.parts() {
		if k < x.bits {
			return x.field, k
		}
		k -= x.bits
	}
	return Intermission, k
}

// data puts the whole data bytes read so far into dst.
func (p *reader) data(dst []byte) []byte {
	dst = dst[:0]
	if p.dataAt == 0 {
		return dst
	}
	n := min((p.have-p.dataAt)/8, p.length)
	for i := 0; i < n; i += 8 {
		dst = binary.BigEndian.AppendUint64(dst, p.plain.from(p.dataAt+8*i))
	}
	return dst[:n]
}

// stream keeps the bits of a frame from its start on.
type stream struct {
	word  uint64 // the newest n bits
	n     int
	full  int
	words [10]uint64 // more than the longest frame up to its check sequence
}

func (s *stream) reset() { s.word, s.n, s.full = 0, 0, 0 }

// add appends n equal bits, at most 63.
func (s *stream) add(bit bool, n int) {
	ones := uint64(0)
	if bit {
		ones = 1<<n - 1
	}
	if s.n+n < 64 {
		s.word = s.word<<n | ones
		s.n += n
		return
	}
	rest := s.n + n - 64
	s.words[min(s.full, len(s.words)-1)] = s.word<<(n-rest) | ones>>rest
	s.full++
	s.word, s.n = ones&(1<<rest-1), rest
}

// last gives the newest k bits, at most 32.
func (s *stream) last(k int) uint32 {
	v := s.word
	if s.n < k {
		v |= s.words[max(min(s.full, len(s.words))-1, 0)] << s.n
	}
	return uint32(v & (1<<k - 1))
}

// from gives the 64 bits from the place i on; what is not read yet is 0.
func (s *stream) from(i int) uint64 {
	at := func(w int) uint64 {
		if w < s.full {
			return s.words[w]
		}
		return s.word << (64 - s.n)
	}
	w, k := i/64, i%64
	v := at(w) << k
	if k > 0 && w < s.full {
		v |= at(w+1) >> (64 - k)
	}
	return v
}

// over gives the check sequence of the bits so far.
func (s *stream) over(c crc) uint32 {
	for i := range min(s.full, len(s.words)) {
		c.bytes(s.words[i], 8)
	}
	c.bytes(s.word<<(64-s.n), s.n/8)
	for n := s.n%8 - 1; n >= 0; n-- {
		c.add(s.word>>n&1 == 1)
	}
	return c.value
}

// formatEdge says whether the next bit is the one behind a recessive format
// bit: receivers synchronise hard on its edge.
func (p *reader) formatEdge() bool {
	return p.f.FD && p.dataAt == 0 && (p.have == baseControl+1 && !p.f.Extended || p.have == extendedControl+1)
}
