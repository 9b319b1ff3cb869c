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
	armed := q.Armed
	next := 0 // the first byte that nobody has had
	var held []int
	// While nothing is armed the unit keeps what it can.
	idle := func(until quantity.Time) {
		for next < len(bytes) && bytes[next].End <= until {
			if q.Depth > len(held) {
				held = append(held, next)
			} else {
				lost = append(lost, next)
			}
			next++
		}
		if q.Depth == 0 {
			// One whose first bits are past is cut.
			for next < len(bytes) && bytes[next].Start < until {
				lost = append(lost, next)
				next++
			}
		}
	}
	idle(armed)
	for q.Most == 0 || len(out) < q.Most {
		r := Receive{Armed: armed, First: -1, Waited: len(held)}
		take := func(i int) {
			if r.First < 0 {
				r.First = i
			}
			r.Count++
		}
		ends := func(i int) Cause {
			switch {
			case q.Rule.EndMark >= 0 && int(bytes[i].Value) == q.Rule.EndMark:
				return ByEndMark
			case q.Rule.Count > 0 && r.Count >= q.Rule.Count:
				return ByCount
			}
			return NotEnded
		}
		lastEnd := armed
		for len(held) > 0 && r.Cause == NotEnded {
			i := held[0]
			held = held[1:]
			take(i)
			r.Cause, r.Ended = ends(i), armed
		}
		for r.Cause == NotEnded {
			timeout := quantity.Forever
			if q.Rule.Timeout > 0 {
				timeout = armed + q.Rule.Timeout
			}
			quiet := quantity.Forever
			if q.Rule.Idle > 0 && r.Count > 0 {
				quiet = lastEnd + q.Rule.Idle
			}
			if next < len(bytes) && bytes[next].Start < quiet {
				quiet = quantity.Forever // its first bit breaks the silence
			}
			at := quantity.Forever
			if next < len(bytes) {
				at = bytes[next].End
			}
			switch first := min(timeout, quiet, at); {
			case first == quantity.Forever:
				out = append(out, r)
				return out, lost, nil
			case first == at && at <= timeout:
				lastEnd = at
				take(next)
				r.Cause, r.Ended = ends(next), at
				next++
			case first == quiet:
				r.Cause, r.Ended = ByIdle, quiet
			default:
				r.Cause, r.Ended = ByTimeout, timeout
			}
		}
		out = append(out, r)
		if q.Most == 0 && next >= len(bytes) && len(held) == 0 || q.Most == len(out) {
			break
		}
		armed = r.Ended + q.Rearm
		idle(armed)
	}
	// What was lost behind the last end does not belong to it.
	last := out[len(out)-1].Ended
	ended := len(lost)
	for ended > 0 && bytes[lost[ended-1]].End > last {
		ended--
	}
	lost, left = lost[:ended:ended], append(held, lost[ended:]...)
	for ; next < len(bytes); next++ {
		left = append(left, next)
	}
	return out, lost, left
}

// Check says what is wrong with a rule.
func (r Rule) Check() error {
	if r.Count <= 0 && r.EndMark < 0 && r.Idle <= 0 && r.Timeout <= 0 {
		return fmt.Errorf("the receive never ends: give a count, an end mark, an idle time or a time-out")
	}
	return nil
}
