// Package clock follows clocks from their source to a peripheral and finds
// the rate-generator settings for a wanted rate, or the meaning of a given
// one.
package clock

import (
	"fmt"
	"math"
	"strings"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// Op is what one hop does to the frequency.
type Op uint8

// The operations.
const (
	Source Op = iota
	Times
	Divide
	Select // one of several clocks
)

// Hop is one stage of a clock path.
type Hop struct {
	Name   string
	Op     Op
	Factor int // of Times and Divide, at least 1
	// Wanted is the factor that a lasting option should give, where it gives
	// another one now; else 0. Option names it.
	Wanted int
	Option string
	// Of are the clocks that a Select chooses from, Field the register field that
	// takes the choice.
	Of    []string
	Field string

	Freq quantity.Freq // behind the hop
	// Expected is Freq as the hops before it would have it; it differs behind a
	// hop that was measured.
	Expected quantity.Freq
	// Measured is what was measured behind the hop; 0: nothing was. PlusMinus is
	// its uncertainty as a share, which all hops behind carry on.
	Measured  quantity.Freq
	PlusMinus float64
	Most      quantity.Freq // limit; 0: none is stated
	// Unproven says that this hop, or one before it, is assumed only.
	Unproven bool
}

// Sum gives the hop as one line of a written sum: operator and operand.
func (h Hop) Sum() string {
	switch h.Op {
	case Times:
		return fmt.Sprintf("× %d", h.Factor)
	case Divide:
		return fmt.Sprintf("÷ %d", h.Factor)
	case Select:
		return "⇠"
	}
	return ""
}

// Path is a source followed by the hops behind it.
type Path []Hop

// Solve fills in the frequencies behind the source's own: as the factors have
// them, and as they are, which follows from the last measurement. Each hop
// carries the mark of those before it; a measured one is proven.
func (p Path) Solve() {
	for i := range p {
		h := &p[i]
		if i == 0 {
			h.Expected = h.Freq
		} else {
			in := p[i-1]
			wanted := *h
			if h.Wanted > 0 {
				wanted.Factor = h.Wanted
			}
			h.Expected, h.Freq = wanted.behind(in.Expected), h.behind(in.Freq)
			h.Unproven = h.Unproven || in.Unproven
			if h.Measured == 0 {
				h.PlusMinus = in.PlusMinus
			}
		}
		if h.Measured > 0 {
			h.Freq, h.Unproven = h.Measured, false
		}
	}
}

// behind gives what the hop makes of a frequency.
func (h *Hop) behind(in quantity.Freq) quantity.Freq {
	switch h.Op {
	case Times:
		return in * quantity.Freq(h.Factor)
	case Divide:
		return quantity.Freq(math.Round(float64(in) / float64(h.Factor)))
	}
	return in
}

// Parts says behind which hop the measured frequency first parts from the
// expected one by more than its uncertainty, at least 0.5 %; -1 where none does.
func (p Path) Parts() int {
	for i := range p {
		if p[i].Measured > 0 && p[i].Expected > 0 {
			if off := math.Abs(float64(p[i].Measured)/float64(p[i].Expected) - 1); off > max(p[i].PlusMinus, 0.005) {
				return i
			}
		}
	}
	return -1
}

// PlusMinus is the uncertainty at the end of the path, a share.
func (p Path) PlusMinus() float64 {
	if len(p) == 0 {
		return 0
	}
	return p[len(p)-1].PlusMinus
}

// Freq is the frequency at the end of the path; 0 for an empty one.
func (p Path) Freq() quantity.Freq {
	if len(p) == 0 {
		return 0
	}
	return p[len(p)-1].Freq
}

// Meant is Freq as it is with all lasting options programmed as wanted: what firmware
// that was made for them calculates with.
func (p Path) Meant() quantity.Freq {
	hz := p.Freq().Hz()
	for _, h := range p {
		if h.Wanted > 0 {
			hz *= float64(h.Factor) / float64(h.Wanted)
		}
	}
	return quantity.FromHz(hz)
}

// Unproven says whether any hop is assumed only.
func (p Path) Unproven() bool { return len(p) > 0 && p[len(p)-1].Unproven }

// Derivation explains the frequency at the end of the path.
func (p Path) Derivation() finding.Derivation {
	d := finding.Derivation{Name: "clock", Formula: "source, hop by hop", Result: p.Freq().String(), Source: "the bench's clocks"}
	var worked []string
	for i, h := range p {
		if i == 0 {
			worked = append(worked, h.Freq.String())
		} else {
			worked = append(worked, h.Sum())
		}
		in := finding.Input{Symbol: h.Name, Name: "after this hop", Value: h.Freq.String()}
		switch {
		case h.Measured > 0:
			in.Source = fmt.Sprintf("measured, ± %.2f %%; expected %s", 100*h.PlusMinus, h.Expected)
		case h.Unproven:
			in.Source = "assumed"
		}
		d.Inputs = append(d.Inputs, in)
	}
	d.Worked = strings.Join(worked, " ")
	return d
}
