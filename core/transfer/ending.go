package transfer

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
)

// Rule says when a receive ends: whichever comes first. Zero values say that a reason does
// not count, -1 for the end mark.
type Rule struct {
	Count   int
	EndMark int           // a byte's value; -1: none
	Idle    quantity.Time // silence since the end of the last byte, or since the start
	Timeout quantity.Time // since the start
}

// Cause is why a receive ended.
type Cause uint8

// The causes.
const (
	NotEnded Cause = iota
	ByCount
	ByEndMark
	ByIdle
	ByTimeout
)

// Causes are the words for the causes, in their order.
var Causes = []string{"not ended", "count", "end mark", "idle", "time-out"}

func (c Cause) String() string { return Causes[c] }

// Came is one byte as it comes.
type Came struct {
	Start quantity.Time // its first bit
	End   quantity.Time // its last
	Value byte
}

// Receives are receives that follow each other.
type Receives struct {
	Rule  Rule
	Armed quantity.Time // when the first is
	Rearm quantity.Time // from the end of one to the start of the next
	Most  int           // how many there are; 0: as many as the bytes give
	// Between says what becomes of bytes that come while none is armed: Depth of them are
	// kept by the unit, the rest is lost; 0: the receiver is off, and needs a start bit.
	Depth int
}

// Receive is one of them.
type Receive struct {
	Armed, Ended quantity.Time
	Cause        Cause
	First, Count int // the place of its first byte in the stream, and how many there are
	Waited       int // of them waited in the unit when it was armed
}

// ReceivesOf follows receives over the bytes of a line, in the order of their ends. Lost
// are the places of bytes that were lost before the last receive ended, left those that no
// receive takes after it: the unit keeps the first Depth of them, the rest is lost.
func ReceivesOf(bytes []Came, q Receives) (out []Receive, lost, left []int) {
	x := &receiving{bytes: bytes, q: q}
	x.unarmed(q.Armed)
	for armed := q.Armed; q.Most == 0 || len(out) < q.Most; {
		r := x.receive(armed)
		if out = append(out, r); r.Cause == NotEnded {
			return out, x.lost, nil
		}
		if q.Most == 0 && x.next >= len(bytes) && len(x.held) == 0 || q.Most == len(out) {
			break
		}
		armed = r.Ended + q.Rearm
		x.unarmed(armed)
	}
	// What was lost behind the last end does not belong to it.
	last := out[len(out)-1].Ended
	ended := len(x.lost)
	for ended > 0 && bytes[x.lost[ended-1]].End > last {
		ended--
	}
	lost, left = x.lost[:ended:ended], append(x.held, x.lost[ended:]...)
	for ; x.next < len(bytes); x.next++ {
		left = append(left, x.next)
	}
	return out, lost, left
}

// receiving is where a line and its receives are.
type receiving struct {
	bytes []Came
	q     Receives
	next  int   // the first byte that nobody has had
	held  []int // by the unit
	lost  []int
}

// unarmed lets bytes come while nothing is armed: the unit keeps what it can.
func (x *receiving) unarmed(until quantity.Time) {
	for x.next < len(x.bytes) && x.bytes[x.next].End <= until {
		if x.q.Depth > len(x.held) {
			x.held = append(x.held, x.next)
		} else {
			x.lost = append(x.lost, x.next)
		}
		x.next++
	}
	if x.q.Depth == 0 {
		// One whose first bits are past is cut.
		for x.next < len(x.bytes) && x.bytes[x.next].Start < until {
			x.lost = append(x.lost, x.next)
			x.next++
		}
	}
}

// receive follows one receive to its end.
func (x *receiving) receive(armed quantity.Time) Receive {
	rule := x.q.Rule
	r := Receive{Armed: armed, First: -1, Waited: len(x.held)}
	take := func(i int, at quantity.Time) {
		if r.First < 0 {
			r.First = i
		}
		r.Count++
		switch {
		case rule.EndMark >= 0 && int(x.bytes[i].Value) == rule.EndMark:
			r.Cause, r.Ended = ByEndMark, at
		case rule.Count > 0 && r.Count >= rule.Count:
			r.Cause, r.Ended = ByCount, at
		}
	}
	for len(x.held) > 0 && r.Cause == NotEnded {
		take(x.held[0], armed)
		x.held = x.held[1:]
	}
	timeout := quantity.Forever
	if rule.Timeout > 0 {
		timeout = armed + rule.Timeout
	}
	for lastEnd := armed; r.Cause == NotEnded; {
		quiet, at := quantity.Forever, quantity.Forever
		if rule.Idle > 0 && r.Count > 0 {
			quiet = lastEnd + rule.Idle
		}
		if x.next < len(x.bytes) {
			if at = x.bytes[x.next].End; x.bytes[x.next].Start < quiet {
				quiet = quantity.Forever // its first bit breaks the silence
			}
		}
		switch first := min(timeout, quiet, at); {
		case first == quantity.Forever:
			return r
		case first == at && at <= timeout:
			lastEnd = at
			take(x.next, at)
			x.next++
		case first == quiet:
			r.Cause, r.Ended = ByIdle, quiet
		default:
			r.Cause, r.Ended = ByTimeout, timeout
		}
	}
	return r
}

// Check says what is wrong with a rule.
func (r Rule) Check() error {
	if r.Count <= 0 && r.EndMark < 0 && r.Idle <= 0 && r.Timeout <= 0 {
		return fmt.Errorf("the receive never ends: give a count, an end mark, an idle time or a time-out")
	}
	return nil
}
