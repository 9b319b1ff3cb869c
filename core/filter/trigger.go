package filter

import (
	"math"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/records"
)

// remembered is how many records before it are looked at when a trigger is armed, for what
// changes, gaps and answers refer to.
const remembered = 20_000

// Trigger waits for a record that fits a filter, in a capture that grows. What is there when it is
// armed does not count.
type Trigger struct {
	m     *Matcher
	armed quantity.Time
	trail records.Trail
}

// NewTrigger arms a trigger; the bench says what records mean and may be nil.
func NewTrigger(b *bench.Bench, s *capture.Snapshot, f *Filter) *Trigger {
	t := &Trigger{m: f.Matcher(b, s.Meta()), armed: s.Now, trail: records.TrailFrom(&s.Reader)}
	for i := max(s.First(), s.Len()-remembered); i < s.Len(); i++ {
		t.m.Take(s.At(i))
	}
	return t
}

// Fired says whether a record fits, on which link, and when it ended. Later calls go on behind it.
func (t *Trigger) Fired(s *capture.Snapshot) (link uint16, at quantity.Time, ok bool) {
	fresh, _ := t.trail.Next(&s.Reader, math.MaxInt32)
	for _, i := range fresh {
		r, before := s.At(i), t.m.Matches
		if t.m.Take(r); t.m.Matches > before && r.End > t.armed && !ok {
			link, at, ok = r.Link, r.End, true
		}
	}
	return link, at, ok
}
