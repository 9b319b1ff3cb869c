// Package clock follows clocks from their source to a peripheral and finds
// the rate-generator settings for a wanted rate, or the meaning of a given
// one.
package clock

import (
	"fmt"
	"math"
	"strings"

	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// Op is what one hop does to the frequency.
type Op uint8

// The operations.
const (
	Source Op = iota
	Times
	Divide
)

// Hop is one stage of a clock path.
type Hop struct {
	Name   string
	Op     Op
	Factor int // of Times and Divide, at least 1

	Freq quantity.Freq // behind the hop
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
	}
	return ""
}

// Path is a source followed by the hops behind it.
type Path []Hop

// Solve fills in the frequencies behind the source's own. Each hop carries
// the mark of those before it.
func (p Path) Solve() {
	for i := 1; i < len(p); i++ {
		in := p[i-1]
		switch p[i].Op {
		case Times:
			p[i].Freq = in.Freq * quantity.Freq(p[i].Factor)
		case Divide:
			p[i].Freq = quantity.Freq(math.Round(float64(in.Freq) / float64(p[i].Factor)))
		default:
			p[i].Freq = in.Freq
		}
		p[i].Unproven = p[i].Unproven || in.Unproven
	}
}

// Freq is the frequency at the end of the path; 0 for an empty one.
func (p Path) Freq() quantity.Freq {
	if len(p) == 0 {
		return 0
	}
	return p[len(p)-1].Freq
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
		in := finding.Input{Symbol: h.Name, Name: "behind this hop", Value: h.Freq.String()}
		if h.Unproven {
			in.Source = "unproven"
		}
		d.Inputs = append(d.Inputs, in)
	}
	d.Worked = strings.Join(worked, " ")
	return d
}
