package packet

import (
	"bytes"
	"slices"
)

// Why says why bytes are no packet.
type Why uint8

// The reasons.
const (
	Good       Why = iota
	Noise          // bytes outside of packets
	Cut            // the next one began inside of it
	BadEscape      // the escape byte stands in front of a byte that is never hidden
	BadLength      // the length is outside of its range
	BadCheck       // the check does not fit
	BadEnd         // the bytes that end it are not there
	TooLong        // it has no end
	Unfinished     // the stream ended inside of it
	Damaged        // a character of it had an error mark
)

func (w Why) String() string {
	return [...]string{"good", "noise", "cut by the next one", "wrong escape", "length out of range", "check does not fit", "end is missing", "too long", "unfinished", "damaged characters"}[w]
}

// Event is a packet, or bytes that were dropped.
type Event struct {
	Why Why
	// From is the index of its first byte in the stream, To that behind its last one.
	From, To int
	Content  []byte // of a good one
}

// Reader takes packets out of a stream.
type Reader struct {
	f *Format
	// at is the index of the byte that comes next; raw are those since from, of a packet
	// or of noise.
	at, from int
	raw      []byte
	inside   bool
	hurt     bool // a byte of raw had an error mark
	body     []byte
	escaped  bool
	tell     func(Event)
}

// NewReader gives a reader that tells of each packet, and of what is dropped, in the
// order of the stream.
func NewReader(f *Format, tell func(Event)) *Reader { return &Reader{f: f, tell: tell} }

// At is the index of the byte that comes next.
func (r *Reader) At() int { return r.at }

// Inside says whether a packet has begun and is not over.
func (r *Reader) Inside() bool { return r.inside && len(r.raw) > 0 }

// Take takes a byte; damaged says that it had an error mark.
func (r *Reader) Take(b byte, damaged bool) {
	if len(r.raw) == 0 {
		r.from = r.at
	}
	r.at++
	r.take(b, damaged)
}

func (r *Reader) take(b byte, damaged bool) {
	// Where the first byte of a packet is hidden inside of others, it always begins one.
	if r.f.sure() && b == r.f.Begin[0] && len(r.raw) > 0 {
		why := Noise
		if r.inside {
			why = Cut
		}
		r.drop(why)
		r.from = r.at - 1
	}
	r.raw = append(r.raw, b)
	r.hurt = r.hurt || damaged
	if !r.inside {
		r.begin()
		return
	}
	r.more(b)
}

// sure says whether the byte that begins a packet never stands inside of one.
func (f *Format) sure() bool {
	return f.Escape != nil && len(f.Begin) == 1 && slices.Contains(f.Escape.Of, f.Begin[0]) && !bytes.Contains(f.End, f.Begin)
}

// begin looks whether what came begins a packet.
func (r *Reader) begin() {
	if len(r.f.Begin) == 0 {
		r.inside = true
		r.more(r.raw[len(r.raw)-1])
		return
	}
	if n := len(r.raw) - len(r.f.Begin); n >= 0 && bytes.Equal(r.raw[n:], r.f.Begin) {
		hurt := r.hurt
		if n > 0 {
			r.tell(Event{Why: Noise, From: r.from, To: r.from + n})
			hurt = false
		}
		r.from, r.raw, r.hurt = r.from+n, append(r.raw[:0], r.f.Begin...), hurt
		r.inside, r.body, r.escaped = true, r.body[:0], false
		return
	}
	if len(r.raw) > mostContent {
		r.drop(Noise)
	}
}

// more takes a byte of a packet.
func (r *Reader) more(b byte) {
	if len(r.raw) == 1 && len(r.f.Begin) == 0 {
		r.body, r.escaped = r.body[:0], false
	}
	f := r.f
	if e := f.Escape; e != nil {
		switch {
		case r.escaped:
			r.escaped = false
			if b ^= e.Xor; !slices.Contains(e.Of, b) {
				r.fail(BadEscape)
				return
			}
		case b == e.Byte:
			r.escaped = true
			return
		}
	}
	r.body = append(r.body, b)
	if f.Length == nil {
		r.ended()
		return
	}
	l := f.Length
	if len(r.body) < l.Bytes {
		return
	}
	n := int(number(r.body[:l.Bytes], l.LowFirst)) - l.Adds
	if n < l.Least || n > l.Most {
		r.fail(BadLength)
		return
	}
	size := l.Bytes + n
	if f.Check != nil {
		size += f.Check.Size()
	}
	if end := size + len(f.End); len(r.body) < end {
		return
	}
	if !bytes.HasSuffix(r.raw, f.End) {
		r.fail(BadEnd)
		return
	}
	r.over(r.body[:size], l.Bytes)
}

// ended looks whether the bytes that end a packet came.
func (r *Reader) ended() {
	if !bytes.HasSuffix(r.raw, r.f.End) || len(r.body) < len(r.f.End) {
		if len(r.body) > r.f.Most+len(r.f.End)+8 {
			r.fail(TooLong)
		}
		return
	}
	r.over(r.body[:len(r.body)-len(r.f.End)], 0)
}

// over ends a packet, of which content and check stand behind a number of bytes.
func (r *Reader) over(body []byte, skip int) {
	if c := r.f.Check; c != nil {
		n := len(body) - c.Size()
		if n < skip || !c.fits(r.f.checked(body[:n]), body[n:]) {
			r.fail(BadCheck)
			return
		}
		body = body[:n]
	}
	if r.hurt {
		r.drop(Damaged)
		return
	}
	if r.f.Length == nil && len(body) > r.f.Most {
		r.drop(TooLong)
		return
	}
	ev := Event{From: r.from, To: r.at, Content: slices.Clone(body[skip:])}
	r.clear()
	r.tell(ev)
}

func (r *Reader) clear() {
	r.raw, r.body, r.inside, r.escaped, r.hurt = r.raw[:0], r.body[:0], false, false, false
}

// drop tells of what came since the last event as dropped.
func (r *Reader) drop(why Why) {
	if len(r.raw) > 0 {
		r.tell(Event{Why: why, From: r.from, To: r.from + len(r.raw)})
	}
	r.from += len(r.raw)
	r.clear()
}

// fail drops a packet. Where its first byte may stand inside of packets, the next one
// may have begun inside of it: what came is read again from there.
func (r *Reader) fail(why Why) {
	if len(r.f.Begin) == 0 || r.f.sure() {
		r.drop(why)
		return
	}
	raw, hurt, from := slices.Clone(r.raw), r.hurt, r.from
	next := bytes.Index(raw[1:], r.f.Begin[:1])
	if next < 0 {
		r.drop(why)
		return
	}
	next++
	r.clear()
	r.tell(Event{Why: why, From: from, To: from + next})
	at := r.at
	r.from = from + next
	for i, b := range raw[next:] {
		if r.at = from + next + i + 1; len(r.raw) == 0 {
			r.from = r.at - 1
		}
		r.take(b, hurt)
	}
	r.at = at
}

// Flush tells of what came last as dropped, at the end of a stream.
func (r *Reader) Flush() {
	why := Noise
	if r.inside {
		why = Unfinished
	}
	r.drop(why)
}

// Taken are the bytes since the last packet: those of one that has begun, or noise.
func (r *Reader) Taken() int { return len(r.raw) }
