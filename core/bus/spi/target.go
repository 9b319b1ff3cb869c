package spi

import (
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
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
	head            uint64 // the bits that were taken before the turn of a shared line
	last            wire.Driven
	edge            quantity.Time // newest edge of the clock that was seen
	shortest        quantity.Time // of the phases of its clock
	outAt           quantity.Time // newest toggle of data
}

// Feed takes what the lines did and appends what the output does about it; times of the
// output may lie behind the end of the windows.
func (d *Target) Feed(clock, out, sel *wire.Window, into []wire.Driven) []wire.Driven {
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

func (d *Target) begin(t quantity.Time, into []wire.Driven) []wire.Driven {
	d.selected = true
	d.given, d.taken, d.head = 0, 0, 0
	d.sample = (d.clock == d.ClockIdleHigh) != d.SampleSecond
	d.Device.Select(t)
	if d.sample {
		return d.give(t, into)
	}
	return into
}

func (d *Target) end(t quantity.Time, into []wire.Driven) []wire.Driven {
	d.selected = false
	d.Device.Release(t, d.taken)
	return d.put(wire.Driven{At: t + d.Valid}, into)
}

// tick is an edge of the clock while the part is selected; o are the toggles of data
// from there on.
func (d *Target) tick(t quantity.Time, o []quantity.Time, into []wire.Driven) []wire.Driven {
	sample := d.sample
	d.sample = !d.sample
	if !sample {
		return d.give(t, into)
	}
	bit := d.out
	if len(o) > 0 && o[0]-t < d.Hold || t-d.outAt < d.SetUp {
		bit = d.Doubt()
	}
	if d.taken < d.Turn {
		d.head <<= 1
		if bit {
			d.head |= 1
		}
	}
	d.Device.Take(d.taken, bit)
	d.taken++
	return into
}

func (d *Target) give(t quantity.Time, into []wire.Driven) []wire.Driven {
	high, driven := d.Device.Give(d.given)
	if d.Shared && (d.given < d.Turn || !d.turns(d.head)) {
		driven = false // the line is the MCU's
	}
	d.given++
	return d.put(wire.Driven{At: t + d.Valid, High: high, Driven: driven}, into)
}

func (d *Target) put(now wire.Driven, into []wire.Driven) []wire.Driven {
	if now.Driven == d.last.Driven && now.High == d.last.High {
		return into
	}
	d.last = now
	return append(into, now)
}
