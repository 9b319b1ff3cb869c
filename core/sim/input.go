package sim

import (
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"gavrix/core/bench"
	"gavrix/core/bus/uart"
	"gavrix/core/quantity"
)

// Ends are the settings with which a link's two ends run.
type Ends struct {
	MCU, Device uart.Settings
	ClockOff    quantity.PPM // of the device's clock
	Service     quantity.Time
	Unit        Unit
}

// EndsOf gives the settings with which a link's ends run: those that the bench
// states, the MCU's as its firmware's start-up really brings them into the
// registers.
func EndsOf(l *bench.Link) Ends {
	e := Ends{MCU: l.MCU, Device: l.DeviceEnd, ClockOff: l.ClockOff, Service: l.Service}
	if p, err := started(&l.Common); err == nil {
		e.Unit, e.MCU = p.uart(l)
	}
	return e
}

// Input is something put into the world from outside. A world changes by
// nothing else, so bench, seed and inputs give the same capture again.
type Input struct {
	At   quantity.Time
	Link string
	// What is put in: just one of these.
	Send  []byte // to be sent by the MCU
	Ends  *Ends  // with which the ends go on from their next idle
	Wire  *Wire  // a fault of a wire
	Hold  *bool  // a can line is held dominant, or let go
	Nodes *Nodes // with which a can bus goes on
	I2C   *I2C   // with which an i2c bus goes on
}

// Wire breaks or mends the wire from one end.
type Wire struct {
	FromDevice bool // else the one from the MCU
	Broken     bool
}

func (w Wire) String() string {
	state, from := "mend", "mcu"
	if w.Broken {
		state = "cut"
	}
	if w.FromDevice {
		from = "device"
	}
	return state + " " + from
}

// String gives the input as one line of text, for the capture.
func (in Input) String() string {
	switch {
	case in.Wire != nil:
		state, from, _ := strings.Cut(in.Wire.String(), " ")
		return fmt.Sprintf("at %d %s %s %s", int64(in.At), state, in.Link, from)
	case in.Hold != nil:
		return fmt.Sprintf("at %d hold %s %t", int64(in.At), in.Link, *in.Hold)
	case in.Nodes != nil:
		return fmt.Sprintf("at %d nodes %s %s", int64(in.At), in.Link, packed(in.Nodes))
	case in.I2C != nil:
		return fmt.Sprintf("at %d i2c %s %s", int64(in.At), in.Link, packed(in.I2C))
	case in.Ends == nil:
		return fmt.Sprintf("at %d send %s %s", int64(in.At), in.Link, hex.EncodeToString(in.Send))
	}
	return fmt.Sprintf("at %d ends %s mcu %s device %s off %s service %d unit %s",
		int64(in.At), in.Link, settingsText(in.Ends.MCU), settingsText(in.Ends.Device),
		strconv.FormatFloat(float64(in.Ends.ClockOff), 'g', -1, 64), int64(in.Ends.Service), in.Ends.Unit)
}

func settingsText(s uart.Settings) string {
	frame := strings.ReplaceAll(s.Frame.String(), " ", ",")
	return fmt.Sprintf("%d/%s/%d/%t/%d/%d", int64(s.Rate), frame, s.Oversampling, s.Vote, s.GapBits, int64(s.Gap))
}

// ParseInput is the inverse of String.
func ParseInput(text string) (Input, error) {
	bad := func(why string) (Input, error) { return Input{}, fmt.Errorf("%q is no input: %s", text, why) }
	f := strings.Split(text, " ")
	if len(f) < 4 || f[0] != "at" {
		return bad("it does not begin with `at TIME`")
	}
	at, err := strconv.ParseInt(f[1], 10, 64)
	if err != nil || at < 0 {
		return bad("the time is a number of picoseconds")
	}
	in := Input{At: quantity.Time(at), Link: f[3]}
	switch {
	case f[2] == "send" && len(f) == 5:
		if in.Send, err = hex.DecodeString(f[4]); err != nil || len(in.Send) == 0 {
			return bad("the bytes are not hex")
		}
		return in, nil
	case f[2] == "hold" && len(f) == 5 && (f[4] == "true" || f[4] == "false"):
		on := f[4] == "true"
		in.Hold = &on
		return in, nil
	case f[2] == "i2c" && len(f) == 5:
		if in.I2C, err = parseI2C(f[4]); err != nil {
			return bad(err.Error())
		}
		return in, nil
	case f[2] == "nodes" && len(f) == 5:
		if in.Nodes, err = parseNodes(f[4]); err != nil {
			return bad(err.Error())
		}
		return in, nil
	case (f[2] == "cut" || f[2] == "mend") && len(f) == 5 && (f[4] == "mcu" || f[4] == "device"):
		in.Wire = &Wire{FromDevice: f[4] == "device", Broken: f[2] == "cut"}
		return in, nil
	case f[2] == "ends" && len(f) == 14 && f[12] == "unit" && f[4] == "mcu" && f[6] == "device" && f[8] == "off" && f[10] == "service":
		in.Ends = &Ends{}
		if in.Ends.MCU, err = parseSettings(f[5]); err != nil {
			return bad(err.Error())
		}
		if in.Ends.Device, err = parseSettings(f[7]); err != nil {
			return bad(err.Error())
		}
		off, err := strconv.ParseFloat(f[9], 64)
		if err != nil || !(off > -500_000 && off <= 1_000_000) {
			return bad("the deviation is -500000 to 1000000 ppm")
		}
		service, err := strconv.ParseInt(f[11], 10, 64)
		if err != nil || service < 0 {
			return bad("the service time is a number of picoseconds")
		}
		if in.Ends.Unit, err = parseUnit(f[13]); err != nil {
			return bad(err.Error())
		}
		in.Ends.ClockOff, in.Ends.Service = quantity.PPM(off), quantity.Time(service)
		return in, nil
	}
	return bad("it is none of send, ends, nodes, i2c, hold, cut and mend")
}

func parseSettings(s string) (uart.Settings, error) {
	f := strings.Split(s, "/")
	if len(f) != 6 {
		return uart.Settings{}, fmt.Errorf("%q are no settings", s)
	}
	rate, err := strconv.ParseInt(f[0], 10, 64)
	if err != nil || rate < int64(quantity.Baud) || rate > int64(1000*quantity.Megabaud) {
		return uart.Settings{}, fmt.Errorf("%q is no rate", f[0])
	}
	frame, err := uart.ParseFrame(f[1])
	if err != nil {
		return uart.Settings{}, err
	}
	os, err := strconv.Atoi(f[2])
	if err != nil || os != 0 && os != 4 && os != 8 && os != 16 {
		return uart.Settings{}, fmt.Errorf("%q is no oversampling", f[2])
	}
	bits, err := strconv.ParseUint(f[4], 10, 20)
	if err != nil {
		return uart.Settings{}, fmt.Errorf("%q is no number of bits", f[4])
	}
	gap, err := strconv.ParseInt(f[5], 10, 64)
	if err != nil || gap < 0 {
		return uart.Settings{}, fmt.Errorf("%q is no time", f[5])
	}
	return uart.Settings{Rate: quantity.Rate(rate), Frame: frame, Oversampling: os, Vote: f[3] == "true", GapBits: int(bits), Gap: quantity.Time(gap)}, nil
}
