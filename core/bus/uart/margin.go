package uart

import (
	"fmt"
	"math"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Limits are the mismatches that a receiver stands. A mismatch is
// receiver bit / sender bit - 1: positive, the receiver's bits are longer and
// it samples ever later.
//
// Every start phase of the receiver's ticks is right from Early to Late. From
// Late to LateBest, and from EarlyBest to Early, it depends on the phase.
// Beyond that every phase fails.
type Limits struct {
	N            float64 // bits to the middle of the first stop bit
	Oversampling int

	Late, LateBest   float64 // positive
	Early, EarlyBest float64 // negative

	// RuleLate and RuleEarly are the limits to first order, as engineers
	// reckon them by hand: +(room - 1/OS)/N and -0.5/N.
	RuleLate, RuleEarly float64

	sends, reads    Frame
	late, early     int     // the bits that go first
	room            float64 // from the middle of that late bit to where it goes wrong
	lateAt, earlyAt float64 // bits to the middles of both
}

// LimitsOf gives the limits of a receiver that takes characters of the form reads
// with the given oversampling (0 for an ideal receiver), from a sender whose
// characters have the same number of bits, its own number of stop bits, and follow
// back to back. The formulas are derived in docs/formulas.md.
func LimitsOf(sends, reads Frame, oversampling int) Limits {
	last := reads.firstStop()
	l := Limits{N: float64(last) + 0.5, Oversampling: oversampling, sends: sends, reads: reads}
	tick := 0.0
	if oversampling > 0 {
		tick = 1 / float64(oversampling)
	}
	l.LateBest, l.EarlyBest = math.Inf(1), math.Inf(-1)
	for k := 1; k <= last; k++ {
		at := float64(k) + 0.5
		if room, wrong := l.behind(k); wrong && room/at <= l.LateBest {
			l.LateBest, l.late, l.room, l.lateAt = room/at, k, room, at
		}
		if l.before(k) && -0.5/at >= l.EarlyBest {
			l.EarlyBest, l.early, l.earlyAt = -0.5/at, k, at
		}
	}
	l.Late = (l.room - tick) / (l.lateAt + tick)
	l.Early = -0.5 / l.earlyAt
	l.EarlyBest = -(0.5 + tick) / (l.earlyAt + tick)
	l.RuleLate, l.RuleEarly = (l.room-tick)/l.lateAt, l.Early
	return l
}

// firstStop is the index of the first stop bit, the start bit's being 0.
func (f Frame) firstStop() int { return 1 + f.Data + f.parityBits() }

// can says whether a bit of a character can have a level.
func (f Frame) can(k int, high bool) bool {
	switch {
	case k == 0:
		return !high
	case k >= f.firstStop():
		return high
	case k > f.Data && f.Parity == Mark:
		return high
	case k > f.Data && f.Parity == Space:
		return !high
	}
	return true
}

// differ says whether a bit can be another than the one behind it.
func (f Frame) differ(k int) bool {
	return f.can(k, true) && f.can(k+1, false) || f.can(k, false) && f.can(k+1, true)
}

// behind gives how far behind its middle, in bits, a bit is sampled wrong at last:
// where the next one can differ, or, behind the stop bits, the next start bit is.
func (l *Limits) behind(k int) (room float64, wrong bool) {
	if k == l.reads.firstStop() {
		return l.sends.StopBits() - 0.5, true
	}
	return 0.5, l.reads.differ(k)
}

// before says whether a bit can be sampled wrong before it begins.
func (l *Limits) before(k int) bool { return l.reads.differ(k - 1) }

// Judgement is a verdict over a mismatch.
type Judgement uint8

// The judgements.
const (
	Fits Judgement = iota
	DependsOnPhase
	TooLate
	TooEarly
)

func (j Judgement) String() string {
	return [...]string{"fits", "depends on phase", "too late", "too early"}[j]
}

// Judge gives the verdict for a mismatch.
func (l Limits) Judge(e float64) Judgement {
	switch {
	case e > l.LateBest:
		return TooLate
	case e < l.EarlyBest:
		return TooEarly
	case e > l.Late || e < l.Early:
		return DependsOnPhase
	}
	return Fits
}

// Used gives the share of the limit that a mismatch uses: 1 is all of it.
func (l Limits) Used(e float64) float64 {
	if e >= 0 {
		return e / l.Late
	}
	return e / l.Early
}

// Mismatch is receiver bit / sender bit - 1 for the rates of both.
func Mismatch(receiver, sender quantity.Rate) float64 {
	if receiver <= 0 {
		return math.Inf(1)
	}
	return float64(sender)/float64(receiver) - 1
}

// Misread names the first bit of a character that a mismatch outside the limits
// makes wrong, and what happens to it. It is "" inside the limits.
func (l *Limits) Misread(e float64) string {
	cells := l.reads.Cells()
	last := l.reads.firstStop()
	switch l.Judge(e) {
	case Fits:
		return ""
	case DependsOnPhase:
		if e > 0 && l.late == last {
			return "the stop bit goes first: at an unlucky start phase its sample falls into the next character's start bit"
		}
		if e > 0 {
			return fmt.Sprintf("%s goes first: at an unlucky start phase its sample already sees %s", cells[l.late], cells[l.late+1])
		}
		return fmt.Sprintf("%s goes first: at an unlucky start phase its sample still sees %s", cells[l.early], cells[l.early-1])
	case TooLate:
		for k := 1; k <= last; k++ {
			if room, wrong := l.behind(k); wrong && (float64(k)+0.5)*(1+e) > float64(k)+0.5+room {
				return fmt.Sprintf("%s is the first bit sampled after its end", cells[k])
			}
		}
	case TooEarly:
		for k := 1; k <= last; k++ {
			if l.before(k) && (float64(k)+0.5)*(1+e) < float64(k) {
				return fmt.Sprintf("%s is the first bit sampled before its start, where %s still stands", cells[k], cells[k-1])
			}
		}
	}
	return "the stop bit goes first"
}

// Derivation explains the limits.
func (l *Limits) Derivation() finding.Derivation {
	cells := l.reads.Cells()
	d := finding.Derivation{
		Name:    "allowed mismatch",
		Formula: "late +(R - 1/OS)/N, early -0.5/M",
		Inputs: []finding.Input{
			{Symbol: "N", Name: "bits to the middle of the bit that goes first when late, " + cells[l.late], Value: fmt.Sprintf("%.1f", l.lateAt)},
			{Symbol: "R", Name: "bits from there to where it reads wrong", Value: fmt.Sprintf("%.1f", l.room)},
			{Symbol: "M", Name: "bits to the middle of the bit that goes first when early, " + cells[l.early], Value: fmt.Sprintf("%.1f", l.earlyAt)},
			{Symbol: "OS", Name: "receiver samples per bit", Value: fmt.Sprint(l.Oversampling)},
		},
		Worked: l.Rule(),
		Result: fmt.Sprintf("%+.1f / %+.1f %%", 100*l.RuleLate, 100*l.RuleEarly),
		Source: "docs/formulas.md, UART limits",
	}
	if l.Oversampling == 0 {
		d.Inputs[3].Value = "ideal: sees the edge at once"
		d.Formula = "late +R/N, early -0.5/M"
		return d
	}
	d.Inputs = append(d.Inputs, finding.Input{
		Symbol: "exact", Name: "with the tick stretched too, late +(R - 1/OS)/(N + 1/OS)",
		Value: fmt.Sprintf("%+.2f %%; depends on phase up to %+.2f and down to %+.2f %%", 100*l.Late, 100*l.LateBest, 100*l.EarlyBest),
	})
	return d
}

// Rule gives the limits as they are reckoned by hand.
func (l *Limits) Rule() string {
	if l.Oversampling == 0 {
		return fmt.Sprintf("late +%.1f/%.1f, early -0.5/%.1f", l.room, l.lateAt, l.earlyAt)
	}
	return fmt.Sprintf("late +(%.1f - 1/%d)/%.1f, early -0.5/%.1f", l.room, l.Oversampling, l.lateAt, l.earlyAt)
}

// WhenItBites says in which traffic each limit shows.
func (l *Limits) WhenItBites() string {
	cells := l.reads.Cells()
	late := "in back-to-back characters"
	if l.late != l.reads.firstStop() {
		late = "where " + cells[l.late] + " differs from the bit after it"
	}
	return fmt.Sprintf("the late limit bites %s, the early one where %s differs from the bit before it", late, cells[l.early])
}
