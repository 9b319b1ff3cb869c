package recognise

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/quantity"
)

const (
	// pulseSpread is how far the widths of one symbol's pulses may part.
	pulseSpread = 1.4
	// latchTimes is how many bits a pause lasts at least that latches.
	latchTimes = 5
	// leastPulses is the number of pulses from which on two widths mean a code.
	leastPulses = 24
)

// findPulse reads a line as bits that differ in the width of their high pulses.
func findPulse(l *look, index int) []Proposal {
	var high []quantity.Time
	var rises []quantity.Time
	level := l.High
	for i, t := range l.Toggles {
		if level = !level; level {
			rises = append(rises, t)
		} else if i > 0 {
			high = append(high, t-l.Toggles[i-1])
		}
	}
	if len(high) < leastPulses || l.High {
		return nil
	}
	short, long, ok := twoWidths(high)
	if !ok {
		return nil
	}
	var steps []quantity.Time
	for i := 1; i < len(rises); i++ {
		steps = append(steps, rises[i]-rises[i-1])
	}
	bit := median(steps)
	// Bits come evenly but for the pauses.
	bursts, uneven, n := 1, 0, 1
	counts := map[int]int{}
	latch := quantity.Time(0)
	for _, s := range steps {
		switch {
		case s > latchTimes*bit:
			counts[n]++
			n = 0
			bursts++
			if latch == 0 || s < latch {
				latch = s
			}
		case float64(s) > pulseSpread*float64(bit) || float64(s)*pulseSpread < float64(bit):
			uneven++
		}
		n++
	}
	counts[n]++
	if uneven > len(steps)/20 || short[1] >= bit {
		return nil
	}
	element := 0
	for n := range counts {
		element = gcd(element, n)
	}
	element, class := elements(element)
	if latch == 0 {
		latch = 10 * bit
	}
	middle := (short[1] + long[0]) / 2
	micro := func(t quantity.Time) string { return fmt.Sprintf("%.3g", t.Seconds()*1e6) }
	span := func(from, to quantity.Time) string { return fmt.Sprintf(`"%s to %s us"`, micro(from), micro(to)) }
	p := Proposal{
		Kind: pulse.Kind, Lines: []int{index}, Unit: "bits", Units: len(high), Bad: uneven,
		Settings: fmt.Sprintf("zero=%s one=%s low=%s latch=%sus element=%d", span(short[0]/2, middle-middle/50), span(middle, long[1]*5/4),
			span((bit-long[1])/2, 2*bit), micro(max(3*bit, min(latch/2, 50*quantity.Microsecond))), element),
		Class: class,
		Gain:  float64(len(l.Toggles)*edgeBits) - float64(len(high)) - float64(bursts)*startBits - float64(uneven)*errorBits,
		Reasons: []string{
			fmt.Sprintf("a bit every %s, high for %s or %s", bit.Round(3), strings.TrimSpace(((short[0] + short[1]) / 2).Round(3)), ((long[0] + long[1]) / 2).Round(3)),
			fmt.Sprintf("%d stretches of bits with pauses between", bursts),
		},
		Raise: []string{"the shortest pause that latches, and which width is the 1, no wire tells: see the part's sheet"},
	}
	p.unusual = float64(long[0]) < leastRatio*float64(short[1]) || turns(high, middle) < len(high)/20
	if len(class) > 0 {
		p.Apart = "which elements there are no wire tells"
	}
	return []Proposal{p}
}

// leastRatio is how much longer the pulses of a 1 are in usual codes. Those of a clock that is
// sampled too slowly part as much as one sample makes, or keep one width for long.
const leastRatio = 1.6

// turns is how often a pulse is of the other width than the one before.
func turns(ws []quantity.Time, middle quantity.Time) (n int) {
	for i := 1; i < len(ws); i++ {
		if (ws[i] > middle) != (ws[i-1] > middle) {
			n++
		}
	}
	return n
}

// twoWidths says whether widths fall into two groups, and gives their limits.
func twoWidths(ws []quantity.Time) (short, long [2]quantity.Time, ok bool) {
	sorted := slices.Clone(ws)
	slices.Sort(sorted)
	at, best := 0, 0.0
	for i := 1; i < len(sorted); i++ {
		if r := float64(sorted[i]) / float64(sorted[i-1]); r > best {
			best, at = r, i
		}
	}
	last := len(sorted) - 1
	short, long = [2]quantity.Time{sorted[0], sorted[at-1]}, [2]quantity.Time{sorted[at], sorted[last]}
	tight := func(x [2]quantity.Time) bool { return float64(x[1]) < pulseSpread*float64(x[0]) }
	return short, long, best > pulseSpread && at >= 3 && last-at >= 2 && tight(short) && tight(long)
}

// elements guesses the bits of an element from what all stretches have in
// common: the usual sizes that fit.
func elements(common int) (int, []string) {
	var class []string
	size := 0
	for _, n := range []int{8, 24, 12, 16, 32, 10} {
		if common%n == 0 {
			if size == 0 {
				size = n
			}
			class = append(class, fmt.Sprintf("elements of %d", n))
		}
	}
	if size == 0 {
		return 1, nil
	}
	if len(class) == 1 {
		class = nil
	}
	return size, class
}
