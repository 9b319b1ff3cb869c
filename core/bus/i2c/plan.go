package i2c

import (
	"errors"
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const planHelp = `start 3A ack 07 ack restart 3B ack .. nack stop   bytes on the wire in hex, .. for any, each with its acknowledge (ack, nack, any)`

// Freeing is the word for pulses until data is high.
const Freeing = "free"

// plan gives the levels of one transaction.
func plan(_ []bus.Settings, text string, unit quantity.Time, fill bool) ([]wire.Window, error) {
	if strings.TrimSpace(text) == Freeing {
		return nil, errors.New("how many pulses free a bus is seen only when they are sent")
	}
	bytes, stop, err := planned(text, fill)
	if err != nil {
		return nil, err
	}
	unit = max(unit, 4)
	clock, data, end := Encode(2*unit, unit, bytes, stop)
	return []wire.Window{{To: end + 4*unit, High: true, Toggles: clock}, {To: end + 4*unit, High: true, Toggles: data}}, nil
}

// ParseTransaction reads a transaction in the words of a plan, for a bus controller
// to do: what a device gives back is left open by .., and its acknowledges are for
// the device to give.
func ParseTransaction(text string) (Transaction, error) {
	if strings.TrimSpace(text) == Freeing {
		return Transaction{Free: true}, nil
	}
	low, stop, err := planned(text, false)
	if err != nil {
		return Transaction{}, err
	}
	if !stop {
		return Transaction{}, errors.New("a transaction ends with stop")
	}
	high, _, _ := planned(text, true)
	var t Transaction
	second := -1
	for i, b := range low {
		open := b.Value != high[i].Value
		switch {
		case b.Start && open:
			return t, errors.New("an address is not open")
		case b.Start && b.Value>>3 == 0x1e && b.Value&1 == 0:
			// The low byte of an address of ten bits follows.
			if i+1 >= len(low) || low[i+1].Start || low[i+1].Value != high[i+1].Value {
				return t, fmt.Errorf("%02X begins an address of ten bits: its second byte follows", b.Value)
			}
			t.Segments = append(t.Segments, Segment{Ten: true, Address: int(b.Value>>1&3)<<8 | int(low[i+1].Value)})
			second = i + 1
			continue
		case i == second:
			continue
		case b.Start && b.Value>>3 == 0x1e:
			n := len(t.Segments)
			if n == 0 || !t.Segments[n-1].Ten || t.Segments[n-1].Address>>8 != int(b.Value>>1&3) {
				return t, fmt.Errorf("%02X reads from an address of ten bits, which is written before: start %02X ack .. ack restart %02X ack", b.Value, b.Value&^1, b.Value)
			}
			if s := &t.Segments[n-1]; len(s.Data) == 0 && s.Read == 0 {
				s.Read = -1 // only the address was written
			} else {
				t.Segments = append(t.Segments, Segment{Ten: true, Address: s.Address, Read: -1})
			}
			continue
		case b.Start:
			t.Segments = append(t.Segments, Segment{Address: int(b.Value >> 1)})
			if b.Value&1 == 1 {
				t.Segments[len(t.Segments)-1].Read = -1
			}
			continue
		}
		s := &t.Segments[len(t.Segments)-1]
		switch {
		case s.Read != 0 && !open:
			return t, fmt.Errorf("%02X is for the device to give: %s leaves it open", b.Value, bus.Open)
		case s.Read < 0:
			s.Read = 1
		case s.Read > 0:
			s.Read++
		case open:
			return t, errors.New("a byte that is written is not open")
		default:
			s.Data = append(s.Data, b.Value)
		}
	}
	for _, s := range t.Segments {
		if s.Read < 0 {
			return t, errors.New("say how many bytes are read: one " + bus.Open + " for each")
		}
	}
	return t, t.Check()
}

// planned reads the bytes of a plan.
func planned(text string, fill bool) (bytes []Byte, stop bool, err error) {
	start := false
	for _, w := range strings.Fields(text) {
		last := len(bytes) - 1
		switch {
		case stop:
			return nil, false, fmt.Errorf("%q: nothing comes after the stop", w)
		case w == "start" || w == "restart":
			start = true
		case w == "stop":
			stop = true
		case w == "ack" || w == "nack" || w == "any":
			if last < 0 || start {
				return nil, false, fmt.Errorf("%q comes before any byte", w)
			}
			bytes[last].Acked = w == "ack" || w == "any" && !fill
		default:
			v, err := bus.PlannedByte(w, 8, fill)
			if err != nil {
				return nil, false, err
			}
			bytes = append(bytes, Byte{Value: byte(v), Acked: true, Start: start})
			start = false
		}
	}
	switch {
	case len(bytes) == 0:
		return nil, false, errors.New("no bytes are planned")
	case !bytes[0].Start:
		return nil, false, errors.New("a transaction begins with start and an address byte")
	case start:
		return nil, false, errors.New("an address byte comes after a start")
	}
	return bytes, stop, nil
}
