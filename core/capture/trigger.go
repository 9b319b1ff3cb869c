package capture

import (
	"bytes"

	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/records"
)

// Trigger waits for something in a capture that grows: an error mark, or bytes in
// a row in what one party sent. What is there when it is armed does not count.
type Trigger struct {
	want  []byte // nil: an error mark
	armed quantity.Time
	bad   map[Direction]uint64
	mark  records.Mark // what came after it was not looked at yet
}

// NewTrigger arms a trigger for bytes, or without any for an error mark.
func NewTrigger(s *Snapshot, want []byte) *Trigger {
	t := &Trigger{want: want, armed: s.Now, bad: map[Direction]uint64{}, mark: s.Mark()}
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
	fresh := s.Since(t.mark)
	t.mark = s.Mark()
	for _, i := range fresh {
		if r := s.At(i); r.Traffic() {
			if at, ok := t.in(r); ok {
				return r.Link, at, true
			}
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
