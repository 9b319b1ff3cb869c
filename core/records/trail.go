package records

import (
	"cmp"
	"slices"
)

// Trail follows a growing list: it gives each record once, in the order in which they came.
// The zero value begins with the first that is kept.
type Trail struct {
	mark Mark
	// Behind is how many records wait.
	Behind int
}

// TrailFrom gives a trail of what comes after the present end.
func TrailFrom(r *Reader) Trail { return Trail{mark: r.Mark()} }

// Next gives the numbers of the next records, so many at most, and says whether more wait.
func (t *Trail) Next(r *Reader, most int) (numbers []int, more bool) {
	total := Mark(r.total)
	if total-t.mark > 1<<31 {
		t.mark = 0 // of another list, that was longer
	}
	if r.first > 0 {
		if gone := r.firstSeq(); total-gone < total-t.mark {
			t.mark = gone // those before are no longer kept
		}
	}
	n := min(uint32(total-t.mark), uint32(max(most, 0)))
	if n > 0 {
		numbers = r.came(uint32(t.mark), n)
	}
	t.mark += Mark(n)
	t.Behind = int(total - t.mark)
	return numbers, t.Behind > 0
}

// firstSeq is the least number of arrival of any record that is kept.
func (r *Reader) firstSeq() Mark {
	least := uint32(0) // how long before the end
	for _, s := range r.segments {
		least = max(least, r.total-s.About().FromSeq)
	}
	for i := range r.open {
		least = max(least, r.total-r.open[i].seq)
	}
	return Mark(r.total - least)
}

// came gives the numbers of those n records that came from one on.
func (r *Reader) came(from, n uint32) []int {
	type numbered struct {
		seq uint32
		at  int
	}
	out := make([]numbered, 0, min(n, uint32(len(r.open)+perSegment)))
	for i := range r.open {
		if d := r.open[i].seq - from; d < n {
			out = append(out, numbered{d, r.sealed + i})
		}
	}
	for k := len(r.segments) - 1; k >= 0 && len(out) < int(n); k-- {
		s := r.segments[k]
		a := s.About()
		if r.total-a.ToSeq > r.total-from || r.total-a.FromSeq <= r.total-from-n {
			continue // all of them came before, or all behind
		}
		for i := range s.Len() {
			if d := s.Head(i).seq - from; d < n {
				out = append(out, numbered{d, r.starts[k] + i})
			}
		}
	}
	slices.SortFunc(out, func(a, b numbered) int { return cmp.Compare(a.seq, b.seq) })
	numbers := make([]int, len(out))
	for i := range out {
		numbers[i] = out[i].at
	}
	return numbers
}
