package can

import (
	"fmt"
	"math/bits"
	"slices"
)

// Filter is an acceptance filter element: an identifier passes that agrees with
// ID in the bits that are set in Mask.
type Filter struct {
	ID, Mask uint32
	Wanted   []uint32 // the wanted identifiers that it is for
}

// Passes says whether an identifier passes.
func (f Filter) Passes(id uint32) bool { return (id^f.ID)&f.Mask == 0 }

// Width is the number of identifier bits: 11, or 29 of extended frames.
func Width(extended bool) int {
	if extended {
		return 29
	}
	return 11
}

// mostExact is the number of wanted identifiers up to which all partitions are
// weighed.
const mostExact = 11

// Filters finds at most n filter elements that let all wanted identifiers pass
// and as few others as it can: the best for up to 11 identifiers, for more by
// joining the two groups that let least through, again and again.
func Filters(wanted []uint32, extended bool, n int) ([]Filter, error) {
	width := Width(extended)
	w := slices.Clone(wanted)
	slices.Sort(w)
	w = slices.Compact(w)
	switch {
	case len(w) == 0:
		return nil, fmt.Errorf("no identifiers are wanted")
	case n < 1:
		return nil, fmt.Errorf("%d filter elements: at least one is needed", n)
	case w[len(w)-1]>>width != 0:
		return nil, fmt.Errorf("identifier %X has more than %d bits", w[len(w)-1], width)
	}
	if len(w) <= n {
		var out []Filter
		for _, id := range w {
			out = append(out, group([]uint32{id}, width))
		}
		return out, nil
	}
	if len(w) <= mostExact {
		return partition(w, width, n), nil
	}
	return joined(w, width, n), nil
}

// group gives the tightest mask for identifiers.
func group(ids []uint32, width int) Filter {
	differ := uint32(0)
	for _, id := range ids {
		differ |= id ^ ids[0]
	}
	mask := (uint32(1)<<width - 1) &^ differ
	return Filter{ID: ids[0] & mask, Mask: mask, Wanted: slices.Clone(ids)}
}

// through is the number of identifiers that a filter lets through.
func (f Filter) through(width int) uint64 { return 1 << (width - bits.OnesCount32(f.Mask)) }

// partition weighs all ways to put the identifiers into at most n groups.
func partition(w []uint32, width, n int) []Filter {
	full := 1<<len(w) - 1
	filters := make([]Filter, full+1)
	for set := 1; set <= full; set++ {
		var ids []uint32
		for i, id := range w {
			if set>>i&1 == 1 {
				ids = append(ids, id)
			}
		}
		filters[set] = group(ids, width)
	}
	const none = ^uint64(0)
	cost := make([]uint64, full+1)
	for i := 1; i <= full; i++ {
		cost[i] = none
	}
	var choices [][]int
	for range n {
		next, choice := slices.Clone(cost), make([]int, full+1)
		for set := 1; set <= full; set++ {
			// The group that holds the set's lowest identifier.
			low := set & -set
			for sub := set; sub > 0; sub = (sub - 1) & set {
				if sub&low == 0 || cost[set^sub] == none {
					continue
				}
				if c := cost[set^sub] + filters[sub].through(width); c < next[set] {
					next[set], choice[set] = c, sub
				}
			}
		}
		cost = next
		choices = append(choices, choice)
	}
	var out []Filter
	for set, k := full, n-1; set > 0; k-- {
		// A round that brought nothing better keeps the one before.
		if choices[k][set] == 0 {
			continue
		}
		out = append(out, filters[choices[k][set]])
		set ^= choices[k][set]
	}
	return out
}

// joined joins groups until no more than n are left.
func joined(w []uint32, width, n int) []Filter {
	var out []Filter
	for _, id := range w {
		out = append(out, group([]uint32{id}, width))
	}
	for len(out) > n {
		bi, bk, best := 0, 1, ^uint64(0)
		for i := range out {
			for k := i + 1; k < len(out); k++ {
				mask := out[i].Mask & out[k].Mask &^ (out[i].ID ^ out[k].ID)
				c := Filter{Mask: mask}.through(width) - out[i].through(width) - out[k].through(width)
				if int64(c) < int64(best) || best == ^uint64(0) {
					bi, bk, best = i, k, c
				}
			}
		}
		ids := append(slices.Clone(out[bi].Wanted), out[bk].Wanted...)
		out[bi] = group(ids, width)
		out = slices.Delete(out, bk, bk+1)
	}
	return out
}

// Missed gives the wanted identifiers that no element lets through.
func Missed(fs []Filter, wanted []uint32) []uint32 {
	var out []uint32
	for _, id := range wanted {
		if !slices.ContainsFunc(fs, func(f Filter) bool { return f.Passes(id) }) {
			out = append(out, id)
		}
	}
	return out
}

// Unwanted gives identifiers that pass though nobody wants them, in order, at
// most the number given, and how many there are.
func Unwanted(fs []Filter, wanted []uint32, extended bool, most int) (some []uint32, n uint64) {
	width := Width(extended)
	want := map[uint32]bool{}
	for _, id := range wanted {
		want[id] = true
	}
	seen := map[uint32]bool{}
	if !extended {
		for id := range uint32(1) << width {
			if !want[id] && slices.ContainsFunc(fs, func(f Filter) bool { return f.Passes(id) }) {
				n++
				if len(some) < most {
					some = append(some, id)
				}
			}
		}
		return some, n
	}
	// Of 29 bits each filter's free bits are counted through, as far as they are
	// few; overlaps of wide filters are counted twice.
	for _, f := range fs {
		free := ^f.Mask & (1<<width - 1)
		if bits.OnesCount32(free) > 16 {
			n += f.through(width) - uint64(len(f.Wanted))
			continue
		}
		for sub := free; ; sub = (sub - 1) & free {
			if id := f.ID | sub; !want[id] && !seen[id] {
				seen[id] = true
				n++
			}
			if sub == 0 {
				break
			}
		}
	}
	for id := range seen {
		some = append(some, id)
	}
	slices.Sort(some)
	return some[:min(len(some), most)], n
}
