package values

import (
	"fmt"
	"math"

	"gavrix.org/gavrix/core/quantity"
)

// Pair is a sample of one value with what another was then.
type Pair struct{ X, Y float64 }

// Pairs gives, for each sample of y in a stretch, what x was at that time: its newest sample
// before.
func Pairs(x, y *Series, from, to quantity.Time) []Pair {
	var out []Pair
	i, j := y.Between(from, to)
	for ; i < j; i++ {
		at, v := y.At(i)
		k := x.index(at + 1)
		if k == 0 {
			continue
		}
		out = append(out, Pair{x.numbers[k-1], v})
	}
	return out
}

// Fit is the straight line that fits pairs best (least squares), and how far they are from it.
type Fit struct {
	N             int
	Slope, Offset float64
	// Worst is the greatest distance of a pair from the line, in y, and WorstAt its x.
	Worst, WorstAt float64
	// Error is the greatest difference of y and x themselves, ErrorAt its x.
	Error, ErrorAt float64
	// Flat: x is the same in all pairs, so that nothing can be said of a slope.
	Flat bool
}

// FitOf gives the line of pairs.
func FitOf(ps []Pair) Fit {
	f := Fit{N: len(ps)}
	if f.N == 0 {
		return f
	}
	var mx, my float64
	for _, p := range ps {
		mx += p.X / float64(f.N)
		my += p.Y / float64(f.N)
	}
	var xx, xy float64
	for _, p := range ps {
		xx += (p.X - mx) * (p.X - mx)
		xy += (p.X - mx) * (p.Y - my)
		if d := p.Y - p.X; math.Abs(d) > math.Abs(f.Error) {
			f.Error, f.ErrorAt = d, p.X
		}
	}
	if f.Flat = xx == 0; !f.Flat {
		f.Slope = xy / xx
	}
	f.Offset = my - f.Slope*mx
	for _, p := range ps {
		if d := p.Y - (f.Offset + f.Slope*p.X); math.Abs(d) > math.Abs(f.Worst) {
			f.Worst, f.WorstAt = d, p.X
		}
	}
	return f
}

// String says it in words.
func (f *Fit) String() string {
	switch {
	case f.N == 0:
		return "no pairs"
	case f.Flat:
		return fmt.Sprintf("%s, all with the same first value: move it", quantity.Count(f.N, "pair"))
	}
	text := fmt.Sprintf("y = %.5g x %+.5g, off by %.4g at most (at %.5g)", f.Slope, f.Offset, math.Abs(f.Worst), f.WorstAt)
	if f.Slope < 0 {
		text += "; the line falls: it works the wrong way round"
	}
	return text
}

// Lags are the times from changes of a set-point until what answers shows the same.
type Lags struct {
	Changes              int // of the set-point
	Followed             int // that were answered before the next
	Least, Mean, Longest quantity.Time
}

// LagsOf gives those of a stretch. Near is how far a reply may be from the set-point.
func LagsOf(set, reply *Series, from, to quantity.Time, near float64) Lags {
	var l Lags
	i, j := set.Between(from, to)
	var sum quantity.Time
	for k := i; k < j; k++ {
		at, v := set.At(k)
		if k == 0 || set.numbers[k-1] == v {
			continue
		}
		l.Changes++
		until := to
		for n := k + 1; n < j; n++ {
			if t, w := set.At(n); w != v {
				until = t
				break
			}
		}
		for n := reply.index(at); n < reply.Len(); n++ {
			t, w := reply.At(n)
			if t >= until {
				break
			}
			if math.Abs(w-v) <= near {
				lag := t - at
				if l.Followed == 0 || lag < l.Least {
					l.Least = lag
				}
				l.Longest = max(l.Longest, lag)
				sum += lag
				l.Followed++
				break
			}
		}
	}
	if l.Followed > 0 {
		l.Mean = sum / quantity.Time(l.Followed)
	}
	return l
}

// String says it in words.
func (l *Lags) String() string {
	if l.Changes == 0 {
		return "no change of the set-point"
	}
	if l.Followed == 0 {
		return fmt.Sprintf("%s of the set-point, none followed", quantity.Count(l.Changes, "change"))
	}
	text := fmt.Sprintf("%d of %d followed, lag %s", l.Followed, l.Changes, l.Mean.Round(3))
	if l.Least != l.Longest {
		text += fmt.Sprintf(" (%s to %s)", l.Least.Round(3), l.Longest.Round(3))
	}
	return text
}
