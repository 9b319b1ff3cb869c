package uart

import (
	"errors"
	"fmt"
	"math"

	"gavrix.org/gavrix/core/quantity"
)

// Sync is what a sync character tells of its sender's rate.
type Sync struct {
	Start  quantity.Time
	Period quantity.Period // of a bit
	// Spread is the largest distance of an edge from where the period puts it,
	// as a share of a bit.
	Spread float64
}

// Rate is the sender's rate.
func (s Sync) Rate() quantity.Rate { return s.Period.Rate() }

// ErrNoSync says that the edges are not those of the sync character.
var ErrNoSync = errors.New("no sync character")

// MeasureSync finds the sender's rate from the edges of a known character, the
// first of which is its start bit's. All edges count: the period is the slope
// of the straight line through them that leaves the smallest squares. The
// character must have three edges at least; one with many, as 55, tells most.
func MeasureSync(f Frame, value uint16, toggles []quantity.Time) (Sync, error) {
	// The edges of the character in bits from its start.
	var at []float64
	const unit = quantity.Period(1_000_000)
	pattern, _ := Encode(nil, f, unit, 0, value)
	for _, t := range pattern {
		at = append(at, float64(t)/float64(unit.Times(1)))
	}
	n := len(at)
	if n < 3 {
		return Sync{}, fmt.Errorf("%w: %X has %d edges in %s, too few to measure; 55 has most", ErrNoSync, value, n, f)
	}
	if len(toggles) < n {
		return Sync{}, fmt.Errorf("%w: %d edges, %X has %d", ErrNoSync, len(toggles), value, n)
	}
	toggles = toggles[:n]
	var meanX, meanY float64
	for i := range at {
		meanX += at[i] / float64(n)
		meanY += float64(toggles[i]-toggles[0]) / float64(n)
	}
	var xy, xx float64
	for i := range at {
		xy += (at[i] - meanX) * (float64(toggles[i]-toggles[0]) - meanY)
		xx += (at[i] - meanX) * (at[i] - meanX)
	}
	slope := xy / xx
	s := Sync{Start: toggles[0], Period: quantity.Period(slope * 1000)}
	for i := range at {
		d := (float64(toggles[i]-toggles[0]) - meanY - slope*(at[i]-meanX)) / slope
		s.Spread = max(s.Spread, d, -d)
	}
	if slope <= 0 || s.Spread > 0.25 {
		return Sync{}, fmt.Errorf("%w: an edge is %.2f bits from where %X in %s has it", ErrNoSync, s.Spread, value, f)
	}
	return s, nil
}

// FindSync looks for the first sync character among the edges of a line that
// are given with the level before the first, behind a pause of at least ten of
// its bits or at the beginning.
func FindSync(f Frame, value uint16, high bool, toggles []quantity.Time) (Sync, error) {
	for i := range toggles {
		if high == (i%2 == 1) != f.Inverted {
			continue // not the edge of a start bit
		}
		s, err := MeasureSync(f, value, toggles[i:])
		if err == nil && (i == 0 || toggles[i]-toggles[i-1] >= s.Period.Times(10)) {
			return s, nil
		}
	}
	if len(toggles) == 0 {
		return Sync{}, fmt.Errorf("%w: the line is silent", ErrNoSync)
	}
	return Sync{}, fmt.Errorf("%w: among %d edges there is no %X in %s after a pause of ten bits", ErrNoSync, len(toggles), value, f)
}

// Slope finds a sender's bit period from the edges inside characters whose
// starts are known: the slope of the straight line from each start through the
// edges of its n bits. The guess must be within half a bit in n. Spread is the
// largest distance of an edge from that line, in bits, and edges how many there
// were; without any the period is 0.
func Slope(starts, toggles []quantity.Time, n int, guess quantity.Period) (p quantity.Period, spread float64, edges int) {
	var kd, kk float64
	g := float64(guess) / 1000
	each := func(do func(bit, d float64)) {
		i := 0
		for _, at := range starts {
			for i < len(toggles) && toggles[i] <= at {
				i++
			}
			for k := i; k < len(toggles); k++ {
				d := float64(toggles[k] - at)
				bit := math.Round(d / g)
				if bit > float64(n) {
					break
				}
				do(bit, d)
			}
		}
	}
	each(func(bit, d float64) {
		kd += bit * d
		kk += bit * bit
		edges++
	})
	if kk == 0 {
		return 0, 0, 0
	}
	each(func(bit, d float64) { spread = max(spread, math.Abs(d/(kd/kk)-bit)) })
	return quantity.Period(math.Round(1000 * kd / kk)), spread, edges
}
