package wire

import "gavrix.org/gavrix/core/quantity"

// SpikeFilter takes pulses out of a line that are shorter than its width, as
// the input filters of a bus do. An edge is known to be one only when the line
// has stood still for the width after it; so what the filter gives lags behind
// what it gets. The times of the edges stay what they were.
type SpikeFilter struct {
	Width quantity.Time

	started bool
	high    bool // level behind the edges given out so far
	raw     bool // level of the line itself
	to      quantity.Time
	pending bool          // an edge is not known yet
	edge    quantity.Time // the newest such edge
	out     []quantity.Time
}

// Feed takes the next window and gives the filtered one, which ends a width
// earlier. Its slices are valid until the next call.
func (f *SpikeFilter) Feed(w *Window) Window {
	if !f.started {
		f.started = true
		f.high, f.raw, f.to = w.High, w.High, w.From
	}
	f.out = f.out[:0]
	from, high := f.to, f.high
	for _, t := range w.Toggles {
		f.settle(t)
		f.pending, f.edge = true, t
		f.raw = !f.raw
	}
	f.settle(w.To)
	f.to = max(w.To-f.Width, f.to)
	return Window{From: from, To: f.to, High: high, Toggles: f.out, Unknown: w.Unknown}
}

// settle decides about the newest edge, the line having stood still since
// then up to the time t. Of edges in quick succession the last one stands, if
// they change anything.
func (f *SpikeFilter) settle(t quantity.Time) {
	if !f.pending || t-f.edge <= f.Width {
		return
	}
	f.pending = false
	if f.raw != f.high {
		f.out = append(f.out, f.edge)
		f.high = f.raw
	}
}

// Flush gives what is held back, as if the line stood still from now on.
func (f *SpikeFilter) Flush() Window {
	return f.Feed(&Window{From: f.to + f.Width, To: f.to + 2*f.Width + 1, High: f.raw})
}

// Wake gives the time up to which the filter must be fed to give out an edge
// that it holds back; quantity.Forever when there is none.
func (f *SpikeFilter) Wake() quantity.Time {
	if f.pending && f.raw != f.high {
		return f.edge + f.Width + 1
	}
	return quantity.Forever
}
