// Command makecapture writes demo/lock7.vcd: 60 ms of Lock 7's five buses, as an
// instrument without names for its inputs would have taken them. The encoder
// draws its clock from a resonator that is 0.8 % fast.
package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/vcd"
)

const (
	length = 60 * quantity.Millisecond
	grain  = 10 * quantity.Nanosecond // of the instrument
)

type lines [10]struct {
	high bool
	at   []quantity.Time
}

func (l *lines) add(i int, at ...quantity.Time) { l[i].at = append(l[i].at, at...) }

func main() {
	var l lines
	rng := rand.New(rand.NewPCG(7, 40))
	gauges(&l)
	l.encoder(rng)
	l.tilt(rng)
	l.pump(rng)
	l.strip(rng)
	names := make([]string, len(l))
	windows := make([]wire.Window, len(l))
	for i := range l {
		names[i] = fmt.Sprintf("in%d", i)
		windows[i] = wire.Window{To: length, High: l[i].high}
		for _, t := range l[i].at {
			t = (t + grain - 1) / grain * grain
			if t < length {
				windows[i].Toggles = append(windows[i].Toggles, t)
			}
		}
	}
	w, err := vcd.NewWriter(os.Stdout, names)
	if err == nil {
		err = w.Write(windows)
	}
	if err == nil {
		err = w.Close(length - 1)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// gauges: the upper one streams readings with seven bits and even parity on in4.
func gauges(l *lines) {
	l[4].high = true
	f := uart.Frame{Data: 7, Parity: uart.Even, Stop: 1}
	p := quantity.PeriodOf(28_800 * quantity.Baud)
	for i, at := 0, 3*quantity.Millisecond; at < length-8*quantity.Millisecond; i++ {
		var chars []uint16
		for _, c := range fmt.Sprintf("L=%.3f m\r\n", 4.82+0.013*math.Sin(float64(i))) {
			chars = append(chars, uint16(c))
		}
		var tog []quantity.Time
		tog, at = uart.Encode(nil, f, p, at, chars...)
		l.add(4, tog...)
		at += 9 * quantity.Millisecond
	}
}

// encoder: leaf-angle is read every 2 ms over spi, mode 1, select in8, clock in1,
// out in6, in in3; the answer comes 80 ns behind the clock.
func (l *lines) encoder(rng *rand.Rand) {
	l[8].high = true
	set := spi.Mode(1)
	half := 496 * quantity.Nanosecond
	for i := range 29 {
		angle := uint32(0x12340 + 37*i + rng.IntN(4))
		words := []uint32{0x40, angle >> 10 & 0xff, angle >> 2 & 0xff, angle << 6 & 0xff}
		x, _ := spi.Encode(set, quantity.Millisecond+quantity.Time(i)*2*quantity.Millisecond, half, []uint32{0x83, 0, 0, 0}, words)
		l.add(8, x.Select...)
		l.add(1, x.Clock...)
		l.add(6, x.Out...)
		for _, t := range x.In {
			l.add(3, t+80*quantity.Nanosecond)
		}
	}
}

// tilt: leaf-tilt is started and read over i2c, clock in9, data in0.
func (l *lines) tilt(rng *rand.Rand) {
	l[9].high, l[0].high = true, true
	bit := 2500 * quantity.Nanosecond
	for i := range 9 {
		at := quantity.Time(2+6*i) * quantity.Millisecond
		write := []i2c.Byte{{Value: 0x3A, Acked: true, Start: true}, {Value: 0x07, Acked: true}, {Value: 0x01, Acked: true}}
		read := []i2c.Byte{{Value: 0x3A, Acked: true, Start: true}, {Value: 0x08, Acked: true}, {Value: 0x3B, Acked: true, Start: true}}
		for k := range 3 {
			read = append(read, i2c.Byte{Value: byte(rng.Uint32()), Acked: k < 2})
		}
		for _, t := range [][]i2c.Byte{write, read} {
			c, d, end := i2c.Encode(at, bit, t, true)
			l.add(9, c...)
			l.add(0, d...)
			at = end + 400*quantity.Microsecond
		}
	}
}

// pump: status, command and heartbeat at 250 kbit/s on in2.
func (l *lines) pump(rng *rand.Rand) {
	l[2].high = true
	t := can.UsualTiming(250*quantity.Kilobaud, 0)
	for i, at := 0, 500*quantity.Microsecond; at < length-2*quantity.Millisecond; i++ {
		f := can.Frame{ID: 0x2A0, Data: []byte{0x10, byte(i), byte(rng.Uint32()), 0x03, 0, 0, 0x7F, 0x20}}
		switch i % 5 {
		case 2:
			f = can.Frame{ID: 0x1B4, Data: []byte{0x01, 0x64}}
		case 4:
			f = can.Frame{ID: 0x712, Data: []byte{0x05}}
		}
		var tog []quantity.Time
		tog, at = can.Encode(nil, can.Build(f, true), t, at)
		l.add(2, tog...)
		at += 1300*quantity.Microsecond + quantity.Time(rng.Int64N(int64(400*quantity.Microsecond)))
	}
}

// strip: 36 elements of 12 bits on in7, latched by a pause; in5 rests.
func (l *lines) strip(rng *rand.Rand) {
	symbol := func(high, low quantity.Time) pulse.Symbol {
		return pulse.Symbol{High: around(high), Low: around(low)}
	}
	set := pulse.Settings{Zero: symbol(400, 800), One: symbol(800, 400), Element: 12, Latch: 50 * quantity.Microsecond}
	for i := range 3 {
		var elements []uint32
		for k := range 36 {
			v := uint32(0x010)
			if k < 12+i {
				v = 0x3C0 | uint32(rng.IntN(16))
			}
			elements = append(elements, v)
		}
		tog, _ := pulse.Encode(nil, set, quantity.Time(5+20*i)*quantity.Millisecond, elements...)
		l.add(7, tog...)
	}
}

func around(ns quantity.Time) pulse.Range {
	return pulse.Range{Least: (ns - 150) * quantity.Nanosecond, Most: (ns + 150) * quantity.Nanosecond}
}
