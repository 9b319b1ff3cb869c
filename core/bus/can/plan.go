package can

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const planHelp = `2A0 10 00 7F   identifier (3 digits, or 8 for 29 bits) and bytes in hex, .. for any; words: fd, switch, passive; remote 4 asks for 4 bytes`

// plan gives the levels of one frame. Whether it is acknowledged is open.
func plan(ends []bus.Settings, text string, _ quantity.Time, fill bool) ([]wire.Window, error) {
	t := ends[0].(Timing)
	f, _, err := parseFrame(text, fill)
	if err != nil {
		return nil, err
	}
	start := t.Nominal.Bit.Times(12) // the bus is idle after eleven
	tog, end := Encode(nil, Build(f, fill), t, start)
	return []wire.Window{{To: end + t.Nominal.Bit.Times(14), High: true, Toggles: tog}}, nil
}

// ParseFrame reads a frame that is to be sent, in the words of a plan.
func ParseFrame(text string) (Frame, error) {
	f, open, err := parseFrame(text, false)
	if err == nil && open {
		err = errors.New("what is sent has no open byte: write each in hex")
	}
	return f, err
}

// parseFrame reads a frame in the words of a plan; open bytes are filled.
func parseFrame(text string, fill bool) (f Frame, open bool, err error) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return Frame{}, false, errors.New("no frame is planned")
	}
	id, err := strconv.ParseUint(words[0], 16, 32)
	if err != nil || len(words[0]) != 3 && len(words[0]) != 8 {
		return Frame{}, false, fmt.Errorf("%q is no identifier: write 3 digits in hex, or 8 for 29 bits", words[0])
	}
	f = Frame{ID: uint32(id), Extended: len(words[0]) == 8}
	for i := 1; i < len(words); i++ {
		switch w := words[i]; w {
		case "fd":
			f.FD = true
		case "switch":
			f.FD, f.Switched = true, true
		case "passive":
			f.Passive = true
		case "remote":
			f.Remote = true
			if i++; i == len(words) {
				return Frame{}, false, errors.New("remote: how many bytes are asked for?")
			}
			n, err := strconv.Atoi(words[i])
			if err != nil {
				return Frame{}, false, fmt.Errorf("%q is no number of bytes", words[i])
			}
			f.DLC = n
		default:
			open = open || w == bus.Open
			v, err := bus.PlannedByte(w, 8, fill)
			if err != nil {
				return Frame{}, false, err
			}
			f.Data = append(f.Data, byte(v))
		}
	}
	return f, open, f.Check()
}
