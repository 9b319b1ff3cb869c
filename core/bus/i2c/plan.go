package i2c

import (
	"errors"
	"fmt"
	"strings"

	"gavrix/core/bus"
	"gavrix/core/quantity"
	"gavrix/core/wire"
)

const planHelp = `start 3A ack 07 ack restart 3B ack .. nack stop   bytes on the wire in hex, .. for any, each with its acknowledge (ack, nack, any)`

// plan gives the levels of one transaction.
func plan(_ bus.Settings, text string, unit quantity.Time, fill bool) ([]wire.Window, error) {
	var bytes []Byte
	start, stop := false, false
	for _, w := range strings.Fields(text) {
		last := len(bytes) - 1
		switch {
		case stop:
			return nil, fmt.Errorf("%q: nothing comes behind the stop", w)
		case w == "start" || w == "restart":
			start = true
		case w == "stop":
			stop = true
		case w == "ack" || w == "nack" || w == "any":
			if last < 0 || start {
				return nil, fmt.Errorf("%q stands before any byte", w)
			}
			bytes[last].Acked = w == "ack" || w == "any" && !fill
		default:
			v, err := bus.PlannedByte(w, 8, fill)
			if err != nil {
				return nil, err
			}
			bytes = append(bytes, Byte{Value: byte(v), Acked: true, Start: start})
			start = false
		}
	}
	switch {
	case len(bytes) == 0:
		return nil, errors.New("no bytes are planned")
	case !bytes[0].Start:
		return nil, errors.New("a transaction begins with start and an address byte")
	case start:
		return nil, errors.New("an address byte comes behind a start")
	}
	unit = max(unit, 4)
	clock, data, end := Encode(2*unit, unit, bytes, stop)
	return []wire.Window{{To: end + 4*unit, High: true, Toggles: clock}, {To: end + 4*unit, High: true, Toggles: data}}, nil
}
