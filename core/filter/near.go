package filter

import (
	"context"
	"slices"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/records"
)

// mostNear bounds the records that are looked at for what is near a place.
const mostNear = 400_000

// Near looks for records that fit beside the one with the number at, for a first page while the
// search through all of them still runs: so many on both sides, where they are found soon. What
// a clause asks of records long before is not known to it; Look finds that.
func (f *Found) Near(ctx context.Context, s *capture.Snapshot, at, wanted int) {
	looked := 0
	f.trail.Behind = s.Len() - s.First()
	before := f.beside(ctx, s, at-1, -1, wanted, &looked)
	slices.Reverse(before)
	f.near = append(before, f.beside(ctx, s, at, 1, wanted, &looked)...)
	slices.SortStableFunc(f.near, func(a, b records.ID) int { return int(min(max(a.End-b.End, -1), 1)) })
}

// beside goes on from a record in one direction, stretch by stretch.
func (f *Found) beside(ctx context.Context, s *capture.Snapshot, at, by, wanted int, looked *int) []records.ID {
	var out []records.ID
	for at >= s.First() && at < s.Len() && len(out) < wanted && *looked < mostNear && ctx.Err() == nil {
		from, to, about := s.Stretch(at)
		last := f.f.steps[len(f.f.steps)-1].of
		if !last.may(f.f.Clauses, about) {
			*looked += (to - from) / 1000
			if at = to; by < 0 {
				at = from - 1
			}
			continue
		}
		// What the clauses say of records before is to be known.
		m := f.f.Matcher(f.bench, f.meta)
		lead := max(s.First(), from-remembered/20)
		var hits []records.ID
		first, end := from, to
		if by < 0 {
			end = min(to, at+1)
		} else {
			first = max(from, at)
		}
		for i := lead; i < end; i++ {
			*looked++
			if r := s.At(i); m.Take(r) && i >= first {
				hits = append(hits, records.IDOf(r))
			}
		}
		if by < 0 {
			slices.Reverse(hits)
			at = from - 1
		} else {
			at = to
		}
		out = append(out, hits...)
	}
	return out
}
