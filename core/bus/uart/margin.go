package uart

import (
	"fmt"
	"math"

	"gavrix/core/finding"
	"gavrix/core/quantity"
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
	// reckon them by hand: +(0.5 - 1/OS)/N and -0.5/N.
	RuleLate, RuleEarly float64
}

// LimitsOf gives the limits of a receiver that takes characters of the form f
// with the given oversampling (0 for an ideal receiver), from a sender whose
// characters have the same number of bits and follow back to back. The
// formulas are derived in docs/formulas.md.
func LimitsOf(f Frame, oversampling int) Limits {
	n := float64(1+f.Data+f.parityBits()) + 0.5
	l := Limits{N: n, Oversampling: oversampling}
	tick := 0.0
	if oversampling > 0 {
		tick = 1 / float64(oversampling)
	}
	l.LateBest = 0.5 / n
	l.Late = (0.5 - tick) / (n + tick)
	l.Early = -0.5 / n
	l.EarlyBest = -(0.5 + tick) / (n + tick)
	l.RuleLate, l.RuleEarly = (0.5-tick)/n, -0.5/n
	return l
}

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

// Misread names the first bit of a frame that a mismatch outside the limits
// makes wrong, and what happens to it. It is "" inside the limits.
func (l Limits) Misread(f Frame, e float64) string {
	cells := f.Cells()
	last := 1 + f.Data + f.parityBits() // index of the first stop bit
	switch l.Judge(e) {
	case Fits:
		return ""
	case DependsOnPhase:
		if e > 0 {
			return "the stop bit goes first: at an unlucky start phase its sample falls into the next character's start bit"
		}
		return fmt.Sprintf("the stop bit goes first: at an unlucky start phase its sample still sees %s", cells[last-1])
	case TooLate:
		for k := 1; k <= last; k++ {
			if (float64(k)+0.5)*(1+e) > float64(k+1) {
				return fmt.Sprintf("%s is the first bit sampled after its end", cells[k])
			}
		}
	case TooEarly:
		for k := 1; k <= last; k++ {
			if (float64(k)+0.5)*(1+e) < float64(k) {
				return fmt.Sprintf("%s is the first bit sampled before its start, where %s still stands", cells[k], cells[k-1])
			}
		}
	}
	return "the stop bit goes first"
}

// Derivation explains the limits.
func (l Limits) Derivation() finding.Derivation {
	d := finding.Derivation{
		Name:    "allowed mismatch",
		Formula: "late +(0.5 - 1/OS)/N, early -0.5/N",
		Inputs: []finding.Input{
			{Symbol: "N", Name: "bits to the middle of the first stop bit", Value: fmt.Sprintf("%.1f", l.N)},
			{Symbol: "OS", Name: "receiver samples a bit", Value: fmt.Sprint(l.Oversampling)},
		},
		Worked: fmt.Sprintf("+(0.5 - 1/%d)/%.1f, -0.5/%.1f", l.Oversampling, l.N, l.N),
		Result: fmt.Sprintf("%+.1f / %+.1f %%", 100*l.RuleLate, 100*l.RuleEarly),
		Source: "docs/formulas.md, uart limits",
	}
	if l.Oversampling == 0 {
		d.Inputs[1].Value = "ideal: sees the edge at once"
		d.Formula = "±0.5/N"
		d.Worked = fmt.Sprintf("±0.5/%.1f", l.N)
		return d
	}
	d.Inputs = append(d.Inputs, finding.Input{
		Symbol: "exact", Name: "with the tick stretched too, late +(0.5 - 1/OS)/(N + 1/OS)",
		Value: fmt.Sprintf("%+.2f %%; depends on phase up to %+.2f and down to %+.2f %%", 100*l.Late, 100*l.LateBest, 100*l.EarlyBest),
	})
	return d
}

// WhenItBites says in which traffic each limit shows.
const WhenItBites = "the late limit bites in back-to-back characters, the early one where the last data or parity bit is 0"
