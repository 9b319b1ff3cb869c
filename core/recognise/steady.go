package recognise

import (
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const (
	// steadyEdges is how many edges a line must have to be called steady.
	steadyEdges = 12
	// steadySpread is how far a period may be from the usual one.
	steadySpread = 0.1
	// steadyShare is the share of edges that may stand elsewhere, as where a counter was
	// stopped once. A bus's clock pauses more often than that.
	steadyShare = 0.005
	steadyOdd   = 2
)

// steadyPeriod gives the period of a line whose levels last the same over and over,
// as a clock's, a counter's bit or a pulse-width signal; 0 of any other. The same
// character again and again looks like this too, so that such a line tells nothing
// about what it is.
func steadyPeriod(w *wire.Window) quantity.Time {
	if len(w.Toggles) < steadyEdges {
		return 0
	}
	ps := periods(w.Toggles)
	for i := 3; i < len(w.Toggles); i += 2 {
		ps = append(ps, w.Toggles[i]-w.Toggles[i-2])
	}
	period := median(ps)
	odd := 0
	for _, p := range ps {
		if off := float64(p)/float64(period) - 1; off < -steadySpread || off > steadySpread {
			odd++
		}
	}
	if float64(odd) > steadyOdd+steadyShare*float64(len(ps)) || 2*odd > len(ps) {
		return 0
	}
	return period
}

// without takes from what a bundle saves what is no merit of its own: that a line does
// the same over and over takes next to nothing to tell, whatever the line is.
func (b *bundle) without(looks []look) {
	plain := 0.0
	for _, l := range b.lines {
		if looks[l].steady > 0 {
			plain += edgeBits * float64(len(looks[l].Toggles))
		}
	}
	b.gain -= plain
	for i := range b.proposals {
		b.proposals[i].Gain -= plain
	}
}
