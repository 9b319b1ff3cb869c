package capture

import (
	"bytes"

	"gavrix/core/quantity"
	"gavrix/core/record"
)

// Trigger waits for something in a capture that grows: an error mark, or bytes in
// a row in what one party sent. What is there when it is armed does not count.
type Trigger struct {
	want  []byte // nil: an error mark
	armed quantity.Time
	bad   map[Direction]uint64
	next  int // the first record that was not looked at
}

// NewTrigger arms a trigger for bytes, or without any for an error mark.
func NewTrigger(s *Snapshot, want []byte) *Trigger {
	t := &Trigger{want: want, armed: s.Now, bad: map[Direction]uint64{}, next: s.Len()}
	for d, c := range s.counters {
		t.bad[d] = c.Bad
	}
	return t
}

// Fired says whether what is waited for is in the capture, on which link and at
// what time it was complete.
func (t *Trigger) Fired(s *Snapshot) (link uint16, at quantity.Time, ok bool) {
	if len(t.want) == 0 {
		for d, c := range s.counters {
			if c.Bad > t.bad[d] && (!ok || c.LastBad < at) {
				link, at, ok = d.Link, c.LastBad, true
			}
		}
		return link, at, ok
	}
	for ; t.next < s.Len(); t.next++ {
		if at, ok := t.in(s.At(t.next)); ok {
			return s.At(t.next).Link, at, true
		}
	}
	for i := range s.Running {
		if at, ok := t.in(&s.Running[i]); ok {
			return s.Running[i].Link, at, true
		}
	}
	return 0, 0, false
}

// in looks for the bytes in a record, beyond the time of arming.
func (t *Trigger) in(r *record.Record) (quantity.Time, bool) {
	if !r.Traffic() || r.Wide {
		return 0, false
	}
	for from := 0; from+len(t.want) <= len(r.Data); from++ {
		i := bytes.Index(r.Data[from:], t.want)
		if i < 0 {
			return 0, false
		}
		from += i
		at := r.End
		if last := from + len(t.want) - 1; last < len(r.Offsets) {
			at = r.Start + r.Offsets[last] + r.Each
		}
		if at > t.armed {
			return at, true
		}
	}
	return 0, false
}
