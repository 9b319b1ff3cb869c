package spi

import (
	"slices"

	"gavrix/core/quantity"
	"gavrix/core/wire"
)

// Device is what a part behind a select does with its bits. Places count from the
// select on, in the order in which the bits are on the wire.
type Device interface {
	// Select says that the part is selected.
	Select(t quantity.Time)
	// Give gives the bit that the part puts out at a place, having taken all before
	// it; driven is false where it leaves its output alone.
	Give(at int) (high, driven bool)
	// Take takes the bit at a place.
	Take(at int, high bool)
	// Release says that it is not selected any more, after a number of bits.
	Release(t quantity.Time, bits int)
}

// Driven is what a part's output does from a time on.
type Driven struct {
	At     quantity.Time
	High   bool
	Driven bool // it drives the line at all
	Strong bool // against all others: a short
}

// Target is a part on the bus: it follows clock, data and select by levels, with its
// own settings, and says what its output does. Pulses of the clock that are much
// shorter than it stands are not seen; data that changes while it must stand still is
// read as one of the two levels.
type Target struct {
	End
	Device Device
	// Doubt decides which of two levels is read where data changes too close to the
	// sampling edge.
	Doubt func() bool

	clock, out, sel bool // levels so far
	started         bool
	selected        bool
	sample          bool // the next edge samples
	given, taken    int
	last            Driven
	edge            quantity.Time // newest edge of the clock that was seen
	shortest        quantity.Time // of the phases of its clock
	outAt           quantity.Time // newest toggle of data
}

// Feed takes what the lines did and appends what the output does about it; times of the
// output may lie behind the end of the windows.
func (d *Target) Feed(clock, out, sel *wire.Window, into []Driven) []Driven {
	if !d.started {
		d.started = true
		d.clock, d.out, d.sel = clock.High, out.High, sel.High
		d.edge, d.outAt = clock.From-quantity.Second, clock.From-quantity.Second
		// A part sees no edges that come faster than by a quarter over what its
		// sheet allows.
		d.shortest = quantity.Time(0.4e12 / d.Most.Hz())
		if d.active(d.sel) {
			into = d.begin(clock.From, into)
		}
	}
	c, o, s := clock.Toggles, out.Toggles, sel.Toggles
	for len(c)+len(s) > 0 {
		if len(s) > 0 && (len(c) == 0 || s[0] <= c[0]) {
			t := s[0]
			s = s[1:]
			o = d.upTo(t, o)
			d.sel = !d.sel
			switch now := d.active(d.sel); {
			case now && !d.selected:
				into = d.begin(t, into)
			case !now && d.selected:
				into = d.end(t, into)
			}
			continue
		}
		t := c[0]
		next := quantity.Forever
		if len(c) > 1 {
			next = c[1]
		}
		if next-t < d.shortest && (len(s) == 0 || s[0] >= next) {
			c = c[2:] // a pulse that is not seen
			continue
		}
		c = c[1:]
		d.clock = !d.clock
		o = d.upTo(t, o)
		if d.selected {
			into = d.tick(t, o, into)
		}
		d.edge = t
	}
	d.upTo(clock.To, o)
	return into
}

// upTo goes on to the toggles of data at t or later.
func (d *Target) upTo(t quantity.Time, o []quantity.Time) []quantity.Time {
	for len(o) > 0 && o[0] < t {
		d.out, d.outAt = !d.out, o[0]
		o = o[1:]
	}
	return o
}

func (d *Target) active(level bool) bool { return level == (d.Settings.Select == ActiveHigh) }

func (d *Target) begin(t quantity.Time, into []Driven) []Driven {
	d.selected = true
	d.given, d.taken = 0, 0
	d.sample = (d.clock == d.ClockIdleHigh) != d.SampleSecond
	d.Device.Select(t)
	if d.sample {
		return d.give(t, into)
	}
	return into
}

func (d *Target) end(t quantity.Time, into []Driven) []Driven {
	d.selected = false
	d.Device.Release(t, d.taken)
	return d.put(Driven{At: t + d.Valid}, into)
}

// tick is an edge of the clock while the part is selected; o are the toggles of data
// from there on.
func (d *Target) tick(t quantity.Time, o []quantity.Time, into []Driven) []Driven {
	sample := d.sample
	d.sample = !d.sample
	if !sample {
		return d.give(t, into)
	}
	bit := d.out
	if len(o) > 0 && o[0]-t < d.Hold || t-d.outAt < d.SetUp {
		bit = d.Doubt()
	}
	d.Device.Take(d.taken, bit)
	d.taken++
	return into
}

func (d *Target) give(t quantity.Time, into []Driven) []Driven {
	high, driven := d.Device.Give(d.given)
	d.given++
	return d.put(Driven{At: t + d.Valid, High: high, Driven: driven}, into)
}

func (d *Target) put(now Driven, into []Driven) []Driven {
	if now.Driven == d.last.Driven && now.High == d.last.High {
		return into
	}
	d.last = now
	return append(into, now)
}

// Join gives what a wire does that several outputs may drive: what it is while exactly
// one does or all agree, else it is unknown and reads as it was. Drivers are in order of
// their times; those behind the time to stay for the next call.
type Join struct {
	outputs []Driven // what each does now
	pending [][]Driven
	high    bool
	to      quantity.Time
}

// NewJoin gives a wire with a number of outputs, none of which drives it.
func NewJoin(outputs int, from quantity.Time) *Join {
	return &Join{outputs: make([]Driven, outputs), pending: make([][]Driven, outputs), to: from}
}

// Drive adds what an output does.
func (j *Join) Drive(output int, d []Driven) { j.pending[output] = append(j.pending[output], d...) }

// Read gives what the wire did up to a time.
func (j *Join) Read(to quantity.Time) wire.Window {
	w := wire.Window{From: j.to, To: to, High: j.high}
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
				w.Unknown = append(w.Unknown, wire.Span{From: at, To: t, Open: open})
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
		if known && level != j.high {
			j.high = level
			w.Toggles = append(w.Toggles, t)
		}
	}
	j.to = to
	if len(w.Toggles) > 0 && w.Toggles[0] == w.From {
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
	return n > 0 && !fight, n == 0, level
}
