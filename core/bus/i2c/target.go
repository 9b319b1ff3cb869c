package i2c

import "gavrix.org/gavrix/core/quantity"

// Device is what a target does with its bytes.
type Device interface {
	// Begin says that a transaction addresses the device; read: it is to send.
	Begin(read bool)
	// Take takes a byte and says whether to acknowledge it.
	Take(b byte) (ack bool)
	// Give gives the next byte to send.
	Give() byte
	// End says that a stop came.
	End()
}

// Target is a device on the bus that answers at an address. It implements
// bus.Node for the lines clock and data.
type Target struct {
	Device  Device
	Address int
	Ten     bool // 10-bit address
	// GeneralCall: it takes bytes for the address 0 too.
	GeneralCall bool
	// Hold is the time from the clock's fall to a change of data.
	Hold quantity.Time
	// Ready, if set, says whether it acknowledges its address.
	Ready func() bool
	// Stretch, if set, gives the time for which the clock is held low behind
	// the acknowledge of the byte with the given number, the address being 0.
	Stretch func(n int) quantity.Time

	started  bool
	scl, sda bool
	clock    bool
	data     bool

	state   targetState
	bit     int
	shift   byte
	n       int  // bytes since the start
	reading bool // it sends
	match10 bool // its 10-bit address was written in this transaction
	half    bool // the first byte of its 10-bit address fitted
	ack     bool
	out     byte

	setAt  quantity.Time // when data is to change
	next   bool          // to what
	freeAt quantity.Time // until when it holds the clock low
}

type targetState uint8

const (
	asleep targetState = iota // until a start
	addressed
	taking
	giving
)

// Step implements bus.Node.
func (d *Target) Step(t quantity.Time, levels, release []bool) quantity.Time {
	scl, sda := levels[0], levels[1]
	if !d.started {
		d.started = true
		d.scl, d.sda, d.clock, d.data = scl, sda, true, true
		d.setAt, d.freeAt = quantity.Forever, quantity.Forever
	}
	switch {
	case scl && d.scl && sda != d.sda:
		if sda {
			d.stop()
		} else {
			d.start()
		}
	case scl && !d.scl:
		d.rise(sda)
	case !scl && d.scl:
		d.fall(t)
	}
	d.scl, d.sda = scl, sda
	if t >= d.setAt {
		d.data, d.setAt = d.next, quantity.Forever
	}
	if t >= d.freeAt {
		d.clock, d.freeAt = true, quantity.Forever
	}
	release[0], release[1] = d.clock, d.data
	return min(d.setAt, d.freeAt)
}

func (d *Target) start() {
	d.state, d.bit, d.shift, d.n = addressed, -1, 0, 0
	d.data, d.half = true, false
	d.setAt = quantity.Forever
}

func (d *Target) stop() {
	if d.state == taking || d.state == giving {
		d.Device.End()
	}
	d.state, d.data, d.match10 = asleep, true, false
	d.setAt = quantity.Forever
}

// rise takes a bit: the newest is d.bit, from 0, 8 being the acknowledge.
func (d *Target) rise(sda bool) {
	if d.state == asleep || d.bit < 0 {
		return
	}
	one := byte(0)
	if sda {
		one = 1
	}
	switch {
	case d.bit < 8 && d.state != giving:
		d.shift = d.shift<<1 | one
	case d.bit == 8 && d.state == giving:
		d.ack = !sda
	}
}

// fall goes on to the next bit.
func (d *Target) fall(t quantity.Time) {
	if d.state == asleep {
		return
	}
	d.bit++
	release := true
	switch {
	case d.bit == 8 && d.state != giving:
		release = !d.takes()
	case d.bit == 9:
		d.byteDone(t)
		d.bit = 0
		if d.state == giving {
			release = d.out&0x80 != 0
		}
	case d.state == giving && d.bit < 8:
		release = d.out>>(7-d.bit)&1 == 1
	}
	d.next, d.setAt = release, t+d.Hold
}

// takes decides about the acknowledge of the byte in d.shift.
func (d *Target) takes() bool {
	if d.state == taking {
		d.ack = d.Device.Take(d.shift)
		return d.ack
	}
	d.ack = false
	b := d.shift
	switch {
	case d.half:
		d.ack = b == byte(d.Address)
		d.match10 = d.ack
	case d.GeneralCall && b == 0:
		d.ack = true
	case d.Ten:
		d.ack = b>>3 == 0b11110 && int(b>>1&3) == d.Address>>8 && (b&1 == 0 || d.match10)
	default:
		d.ack = int(b>>1) == d.Address
	}
	d.ack = d.ack && (d.Ready == nil || d.Ready())
	return d.ack
}

// byteDone goes on behind the acknowledge of a byte.
func (d *Target) byteDone(t quantity.Time) {
	switch d.state {
	case addressed:
		switch {
		case !d.ack:
			d.state = asleep
			return
		case d.Ten && !d.half && d.shift&1 == 0 && d.shift != 0:
			d.half = true
			d.shift = 0
		default:
			d.reading = d.shift&1 == 1 && !d.half
			d.half = false
			d.Device.Begin(d.reading)
			d.state = taking
			if d.reading {
				d.state, d.out = giving, d.Device.Give()
			}
		}
	case taking:
		if !d.ack {
			d.state = asleep
			d.Device.End()
			return
		}
	case giving:
		if !d.ack {
			d.state = asleep
			d.Device.End()
			return
		}
		d.out = d.Device.Give()
	}
	d.shift = 0
	if d.Stretch != nil {
		if s := d.Stretch(d.n); s > 0 {
			d.clock, d.freeAt = false, t+s
		}
	}
	d.n++
}
