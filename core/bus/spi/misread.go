package spi

import "sort"

// Reading is what one end makes of a word that the other one sends.
type Reading struct {
	Old uint32 // each bit as it was just before the sampling edge
	New uint32 // and just behind it
	// Unsafe: at some sampling edge data changes, so that Old and New are both
	// possible. Of New the last bits may then be anything in Open: nothing more
	// is sent that would tell.
	Unsafe bool
	Open   uint32
}

// ReadAs gives what an end with other settings reads of a word on the same clock.
// Both have the same word length.
func ReadAs(sent, read Settings, word uint32) Reading {
	const half = 1000
	l, _ := Encode(sent, 0, half, []uint32{word}, nil)
	rising := read.ClockIdleHigh == read.SampleSecond
	level := sent.ClockIdleHigh
	var out Reading
	last := l.Clock[len(l.Clock)-1]
	n := 0
	for _, t := range l.Clock {
		if level = !level; level != rising {
			continue
		}
		at := sort.Search(len(l.Out), func(i int) bool { return l.Out[i] > t })
		before := sort.Search(len(l.Out), func(i int) bool { return l.Out[i] >= t })
		place := n
		if !read.LSBFirst {
			place = read.Word - 1 - n
		}
		out.Old |= uint32(before%2) << place
		// Behind the last edge the next word, or nothing, follows.
		if t == last && changesAt(sent, level) {
			out.Unsafe = true
			out.Open |= 1 << place
		} else {
			out.New |= uint32(at%2) << place
			out.Unsafe = out.Unsafe || at != before
		}
		n++
	}
	return out
}

// changesAt says whether the sender changes its data at edges to a level.
func changesAt(s Settings, high bool) bool {
	samplesRising := s.ClockIdleHigh == s.SampleSecond
	return high != samplesRising
}
