package recognise

import (
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const (
	// clusterWidth is how far the widths of like pulses spread.
	clusterWidth = 1.2
	// spikeShare is the share of the shortest usual pulse below which a pulse
	// is a spike.
	spikeShare = 0.35
)

// lookAt measures a line and takes its spikes out.
func lookAt(w *wire.Window) (look, Seen) {
	s := Seen{Activity: wire.ActivityOf(w), Edges: len(w.Toggles)}
	l := look{Window: *w}
	if len(l.Toggles) > MostEdges {
		l.To = l.Toggles[MostEdges]
		l.Toggles = l.Toggles[:MostEdges]
	}
	l.raw = l.Window
	s.Pulse = shortest(widths(l.Toggles))
	if s.Pulse > 0 {
		before := len(l.Toggles)
		l.Toggles = unspiked(&l.Window, quantity.Time(spikeShare*float64(s.Pulse)))
		s.Spikes = (before - len(l.Toggles)) / 2
	}
	s.Steady = steadyPeriod(&l.Window)
	l.pulse, l.spikes, l.steady = s.Pulse, s.Spikes, s.Steady
	return l, s
}

func unspiked(w *wire.Window, width quantity.Time) []quantity.Time {
	f := wire.SpikeFilter{Width: width}
	out := slices.Clone(f.Feed(w).Toggles)
	return append(out, f.Flush().Toggles...)
}

func widths(toggles []quantity.Time) []quantity.Time {
	var out []quantity.Time
	for i := 1; i < len(toggles); i++ {
		out = append(out, toggles[i]-toggles[i-1])
	}
	return out
}

// shortest gives the mean of the shortest widths that are like each other and
// not rare; 0 with fewer than four edges.
func shortest(ws []quantity.Time) quantity.Time {
	if len(ws) < 3 {
		return 0
	}
	sorted := slices.Clone(ws)
	slices.Sort(sorted)
	least := max(len(sorted)/40, 2)
	for i := range sorted {
		k, sum := i, quantity.Time(0)
		for k < len(sorted) && float64(sorted[k]) <= clusterWidth*float64(sorted[i]) {
			sum += sorted[k] - sorted[i]
			k++
		}
		if k-i >= least {
			return sorted[i] + sum/quantity.Time(k-i)
		}
	}
	return 0
}

// median gives the middle of some times.
func median(ts []quantity.Time) quantity.Time {
	if len(ts) == 0 {
		return 0
	}
	sorted := slices.Clone(ts)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

// trialEdges is how many edges are read at first: what makes no sense of them is
// given up.
const trialEdges = 800

// firstEdges gives the beginning of a window up to so many edges.
func firstEdges(w wire.Window, n int) wire.Window {
	if len(w.Toggles) <= n {
		return w
	}
	return upTo(w, w.Toggles[n])
}

// upTo cuts a window off at a time.
func upTo(w wire.Window, to quantity.Time) wire.Window {
	n, _ := slices.BinarySearch(w.Toggles, to)
	w.Toggles, w.To = w.Toggles[:n], min(to, w.To)
	return w
}
