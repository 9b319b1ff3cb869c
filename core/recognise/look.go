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
	l.untouched = l.Window
	if noise := disturbance(l.Toggles); noise > 0 && steadyPeriod(&l.Window) == 0 {
		before := len(l.Toggles)
		l.Toggles = calmed(l.Toggles, noise)
		s.Spikes, s.Filter = (before-len(l.Toggles))/2, noise
	}
	l.raw = l.Window
	s.Pulse = shortest(widths(l.Toggles))
	if s.Pulse > 0 {
		before := len(l.Toggles)
		l.Toggles = unspiked(&l.Window, quantity.Time(spikeShare*float64(s.Pulse)))
		s.Spikes += (before - len(l.Toggles)) / 2
	}
	s.Steady = steadyPeriod(&l.Window)
	l.pulse, l.spikes, l.steady = s.Pulse, s.Spikes, s.Steady
	return l, s
}

// disturbance gives the width below which the pulses of a line are none of a bus: where short ones,
// of ringing or of noise, stand apart from all others, alone or in twos, and are too many for the
// shortest usual pulse to be found beside them. 0: there are none such.
func disturbance(toggles []quantity.Time) quantity.Time {
	ws := widths(toggles)
	if len(ws) < leastDisturbed {
		return 0
	}
	sorted := slices.Clone(ws)
	slices.Sort(sorted)
	for i := max(len(sorted)/25, 5); i+leastDisturbed/4 < len(sorted); i++ {
		if float64(sorted[i+1]) < apart*float64(sorted[i]) {
			continue
		}
		if width := sorted[i]*3/2 + 1; inPairs(ws, width) {
			return width
		}
		break
	}
	// Noise has all widths, and so have the pauses within it: what is short beside many like ones.
	width := quantity.Time(spikeShare * float64(clustered(sorted, len(sorted)/10)))
	if short, _ := slices.BinarySearch(sorted, width); short > len(sorted)/20 && short < len(sorted)/2 && inPairs(ws, width) {
		return width
	}
	return 0
}

const (
	// leastDisturbed is how many pulses a line has of which some may be disturbances.
	leastDisturbed = 40
	// apart is how much longer the shortest pulse of a bus is than the longest disturbance.
	apart = 3
	// inOrder is the share of disturbances that may stand otherwise than alone or in twos.
	inOrder = 0.4
)

// inPairs reports whether pulses below a width stand alone, as a spike does, or in twos, as those of
// an edge that rings: those of a clock or of data stand in long rows.
func inPairs(ws []quantity.Time, width quantity.Time) bool {
	short, odd := 0, 0
	for i := 0; i < len(ws); {
		if ws[i] >= width {
			i++
			continue
		}
		k := i
		for k < len(ws) && ws[k] < width {
			k++
		}
		short += k - i
		if k-i > 2 {
			odd += k - i
		}
		i = k
	}
	return float64(odd) <= inOrder*float64(short)
}

// calmed takes disturbances out: of edges in quick succession the first one stands, where they
// change anything, since an edge that rings is where it began.
func calmed(toggles []quantity.Time, width quantity.Time) []quantity.Time {
	out := make([]quantity.Time, 0, len(toggles))
	for i := 0; i < len(toggles); {
		k := i + 1
		for k < len(toggles) && toggles[k]-toggles[k-1] < width {
			k++
		}
		if (k-i)%2 == 1 {
			out = append(out, toggles[i])
		}
		i = k
	}
	return out
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
	return clustered(sorted, max(len(sorted)/40, 2))
}

// clustered gives the mean of the shortest widths of which so many are like each other; 0 where no
// such are.
func clustered(sorted []quantity.Time, least int) quantity.Time {
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
