package wire

import (
	"encoding/binary"
	"sort"

	"gavrix/core/quantity"
)

// Column is what a line does in one of many equal stretches of time.
type Column struct {
	High  bool          // the level at its beginning
	Edges int           // how many; at least so many where More
	More  bool          // there are more edges than were counted
	First quantity.Time // the first edge, where there is one
}

// toggles calls each for the toggles of a block in order until it gives false.
func (b *block) toggles(each func(t quantity.Time) bool) {
	at, rest := b.first, b.diffs
	for k := 0; each(at) && k+1 < b.n; k++ {
		d, n := binary.Uvarint(rest)
		at, rest = at+quantity.Time(d), rest[n:]
	}
}

// Columns gives n equal stretches from from to to; those outside what is kept
// repeat the nearest level. The cost goes with the number of columns, not with
// that of the edges: a column that holds whole blocks is only known to be busy.
func (t *Trace) Columns(from, to quantity.Time, n int) []Column {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make([]Column, n)
	edge := func(i int) quantity.Time {
		// Without overflow for stretches of weeks.
		span := to - from
		return from + span/quantity.Time(n)*quantity.Time(i) + span%quantity.Time(n)*quantity.Time(i)/quantity.Time(n)
	}
	// The first block that reaches to the column.
	k := sort.Search(len(t.blocks), func(i int) bool { return t.blocks[i].last >= from })
	for i := range out {
		a, b := edge(i), edge(i+1)
		c := &out[i]
		for k < len(t.blocks) && t.blocks[k].last < a {
			k++
		}
		if k == len(t.blocks) {
			c.High = t.endsHigh()
			continue
		}
		c.High = t.blocks[k].high
		for j := k; j < len(t.blocks) && t.blocks[j].first < b; j++ {
			bl := &t.blocks[j]
			if bl.first >= a && bl.last < b {
				if c.Edges == 0 {
					c.First = bl.first
				}
				c.Edges += bl.n
				if j > k+1 {
					c.More = true // enough is known
					break
				}
				continue
			}
			bl.toggles(func(at quantity.Time) bool {
				switch {
				case at < a:
					c.High = !c.High
				case at < b:
					if c.Edges == 0 {
						c.First = at
					}
					c.Edges++
				default:
					return false
				}
				return true
			})
		}
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
		t.blocks[i].toggles(func(at quantity.Time) bool {
			if at > after {
				found = at
			}
			return at <= after
		})
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
	t.blocks[i].toggles(func(at quantity.Time) bool {
		if at < before {
			edge, ok = at, true
		}
		return at < before
	})
	return edge, ok
}
