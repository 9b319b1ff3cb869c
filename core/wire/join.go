package wire

import (
	"slices"

	"gavrix.org/gavrix/core/quantity"
)

// Driven is what an output does from a time on.
type Driven struct {
	At     quantity.Time
	High   bool
	Driven bool // it drives the line at all
	Strong bool // against all others: a short
}

// Join gives what a wire does that several outputs may drive: what it is while exactly
// one does or all agree, else it is unknown and reads as it was. Drivers are in order of
// their times; those behind the time to stay for the next call.
type Join struct {
	outputs []Driven // what each does now
	pending [][]Driven
	high    bool
	to      quantity.Time
	pulled  bool
}

// NewJoin gives a wire with a number of outputs, none of which drives it.
func NewJoin(outputs int, from quantity.Time) *Join {
	return &Join{outputs: make([]Driven, outputs), pending: make([][]Driven, outputs), to: from}
}

// NewPulledJoin is NewJoin of a wire that a resistor pulls high while no output drives it.
// Where two fight it reads low, so that what either sends is seen to begin.
func NewPulledJoin(outputs int, from quantity.Time) *Join {
	j := NewJoin(outputs, from)
	j.pulled, j.high = true, true
	return j
}

// Drive adds what an output does.
func (j *Join) Drive(output int, d []Driven) { j.pending[output] = append(j.pending[output], d...) }

// Read gives what the wire did up to a time.
func (j *Join) Read(to quantity.Time) Window {
	w := Window{From: j.to, To: to, High: j.high}
	var times []quantity.Time
	for _, p := range j.pending {
		for _, d := range p {
			if d.At < to {
				times = append(times, max(d.At, j.to))
			}
		}
	}
	slices.Sort(times)
	at := j.to
	known, open, _ := j.state()
	for _, t := range append(slices.Compact(times), to) {
		if !known && t > at {
			if n := len(w.Unknown); n > 0 && w.Unknown[n-1].To == at && w.Unknown[n-1].Open == open {
				w.Unknown[n-1].To = t
			} else {
				w.Unknown = append(w.Unknown, Span{From: at, To: t, Open: open})
			}
		}
		at = t
		if t == to {
			break
		}
		for i, p := range j.pending {
			for len(p) > 0 && p[0].At <= t {
				j.outputs[i] = p[0]
				p = p[1:]
			}
			j.pending[i] = p
		}
		var level bool
		known, open, level = j.state()
		if (known || j.pulled) && level != j.high {
			j.high = level
			w.Toggles = append(w.Toggles, t)
		}
	}
	j.to = to
	if !j.pulled && len(w.Toggles) > 0 && w.Toggles[0] == w.From {
		// A level from the very beginning of the window is not a change inside it.
		w.High, w.Toggles = !w.High, w.Toggles[1:]
	}
	return w
}

// state gives what the outputs make of the wire now.
func (j *Join) state() (known, open, level bool) {
	n, fight := 0, false
	for _, o := range j.outputs {
		if !o.Driven {
			continue
		}
		if o.Strong {
			return true, false, o.High
		}
		fight = fight || n > 0 && o.High != level
		level = o.High
		n++
	}
	if j.pulled && (n == 0 || fight) {
		return n == 0, false, !fight
	}
	return n > 0 && !fight, n == 0, level
}
