package wire

import (
	"sort"

	"gavrix.org/gavrix/core/quantity"
)

// Column is what a line does in one of many equal stretches of time.
type Column struct {
	High  bool          // the level at its beginning
	Edges int           // how many
	First quantity.Time // the first edge, where there is one
}

// Columns gives n equal stretches from from to to; those outside what is kept
// repeat the nearest level. The cost goes with the number of columns, not with
// that of the edges.
func (t *Trace) Columns(from, to quantity.Time, n int) []Column {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make([]Column, n)
	edge := func(i int) quantity.Time {
		// Without overflow for stretches of weeks.
		span := to - from
		return from + span/quantity.Time(n)*quantity.Time(i) + span%quantity.Time(n)*quantity.Time(i)/quantity.Time(n)
	}
	// All blocks but the last are full: the place of a toggle among all kept ones is
	// known from its block. Each column begins where the one before it ends.
	k := sort.Search(len(t.blocks), func(i int) bool { return t.blocks[i].last >= from })
	place := func(at quantity.Time) (count int, c cursor) {
		k += sort.Search(len(t.blocks)-k, func(i int) bool { return t.blocks[k+i].last >= at })
		if k == len(t.blocks) {
			if k == 0 {
				return 0, cursor{}
			}
			return (k-1)*blockToggles + t.blocks[k-1].n, cursor{}
		}
		c = t.blocks[k].seek(at)
		return k*blockToggles + c.k, c
	}
	begin, c := place(from)
	for i := range out {
		next, after := place(edge(i + 1))
		out[i] = Column{High: t.high != (begin%2 == 1), Edges: next - begin}
		if next > begin {
			out[i].First = c.at
		}
		begin, c = next, after
	}
	return out
}

// Next gives the first edge after the time t, or quantity.Forever.
func (t *Trace) Next(after quantity.Time) quantity.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	found := quantity.Forever
	i := sort.Search(len(t.blocks), func(i int) bool { return t.blocks[i].last > after })
	if i < len(t.blocks) {
		found = t.blocks[i].seek(after + 1).at
	}
	return found
}

// Previous gives the last edge before the time t; ok is false where there is
// none.
func (t *Trace) Previous(before quantity.Time) (edge quantity.Time, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	i := sort.Search(len(t.blocks), func(i int) bool { return t.blocks[i].first >= before }) - 1
	if i < 0 {
		return 0, false
	}
	b := &t.blocks[i]
	c := b.seek(min(before, b.last))
	if c.at < before {
		return c.at, true // the last of its block
	}
	// The one before it: from the mark behind which it lies.
	back := cursor{0, b.first, b.diffs}
	if m := (c.k - 1) / markToggles; m > 0 {
		back = cursor{m * markToggles, b.marks[m-1].at, b.diffs[b.marks[m-1].behind:]}
	}
	for back.k < c.k-1 {
		back.step()
	}
	edge, ok = back.at, true
	return edge, ok
}
