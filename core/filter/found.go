package filter

import (
	"slices"
	"sort"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/records"
)

// Found follows a capture and keeps which records fit a filter. It is not safe for use by several
// goroutines; what Picks gives never changes.
type Found struct {
	*Matcher
	bench *bench.Bench
	hits  []records.ID  // in order of their ends
	near  []records.ID  // likewise, of those that Near found
	upTo  quantity.Time // the greatest end of those that were looked at
	trail records.Trail
	// Gone is how many hits are no longer kept, Skipped how many records were passed over.
	Gone, Skipped int
}

// mostHits is how many hits are kept; the older half goes then.
const mostHits = 1 << 20

// Find begins with the first record that a capture keeps.
func (f *Filter) Find(b *bench.Bench, m *capture.Meta) *Found {
	return &Found{Matcher: f.Matcher(b, m), bench: b}
}

// Look looks at what came since the last time, so many records at most, and says whether more
// wait.
func (f *Found) Look(s *capture.Snapshot, most int) (more bool) {
	fresh, more := f.trail.Next(&s.Reader, most)
	if !more {
		f.near = nil // all of them are found again
	}
	for _, i := range fresh {
		r := s.At(i)
		if f.Take(r) {
			f.put(records.IDOf(r))
		}
		f.upTo = max(f.upTo, r.End)
	}
	return more
}

// Skip passes over what waits to be looked at.
func (f *Found) Skip(s *capture.Snapshot) {
	f.Skipped += f.trail.Behind
	for _, id := range f.near {
		if id.End > f.upTo || f.Seen == 0 {
			f.put(id)
		}
	}
	f.near = nil
	f.trail = records.TrailFrom(&s.Reader)
}

func (f *Found) put(id records.ID) {
	n := len(f.hits)
	if n == 0 || f.hits[n-1].End <= id.End {
		f.hits = append(f.hits, id)
	} else {
		// Somebody may look at the present ones.
		at := sort.Search(n, func(i int) bool { return f.hits[i].End > id.End })
		f.hits = slices.Insert(slices.Clone(f.hits), at, id)
	}
	if len(f.hits) > mostHits {
		f.Gone += mostHits / 2
		f.hits = slices.Clone(f.hits[mostHits/2:])
	}
}

// Picks are the records that fit, in order of their ends.
type Picks struct {
	IDs []records.ID
	// Clauses are the parts of the filter, Hits for how many records each held; Matches how many
	// fit the whole, of Seen.
	Clauses       []Clause
	Hits          []int
	Matches, Seen int
	Behind        int // that wait
	Skipped       int // that were passed over
}

// Picks gives what was found so far.
func (f *Found) Picks() *Picks {
	ids := slices.Clip(f.hits)
	for _, id := range f.near {
		if id.End > f.upTo || f.Seen == 0 {
			ids = append(ids, id)
		}
	}
	if ids == nil {
		ids = []records.ID{} // none, not all
	}
	return &Picks{IDs: ids, Clauses: f.f.Clauses, Hits: slices.Clone(f.Hits), Matches: f.Matches, Seen: f.Seen, Behind: f.trail.Behind, Skipped: f.Skipped}
}

// Next gives the first record that fits behind a time, or with by below 0 the last one that
// began before it, on a link or, with records.Any, on all.
func (p *Picks) Next(at quantity.Time, by, link int) (records.ID, bool) {
	fits := func(id records.ID) bool { return link == records.Any || int(id.Link) == link }
	if by > 0 {
		for i := sort.Search(len(p.IDs), func(i int) bool { return p.IDs[i].End > at }); i < len(p.IDs); i++ {
			if p.IDs[i].Start > at && fits(p.IDs[i]) {
				return p.IDs[i], true
			}
		}
		return records.ID{}, false
	}
	for i := sort.Search(len(p.IDs), func(i int) bool { return p.IDs[i].End >= at }) - 1; i >= 0; i-- {
		if p.IDs[i].Start < at && fits(p.IDs[i]) {
			return p.IDs[i], true
		}
	}
	return records.ID{}, false
}
