package spi

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

const planHelp = `select 1 out 83 00 00 in .. 40 48   words in hex, .. for any; select says which of several devices; without in, whatever it answers; select 1 without clocks, the select alone`

// NoClocks stands in place of words for a select during which the clock rests.
const NoClocks = "without clocks"

// plan gives the levels of one select span.
func plan(ends []bus.Settings, text string, unit quantity.Time, fill bool) ([]wire.Window, error) {
	word := func(device int) int { return bus.At(ends, 1+device).(Settings).Word }
	device, sides, err := planned(text, len(ends)-1, word, fill)
	if err != nil {
		return nil, err
	}
	s := bus.At(ends, 1+device).(Settings)
	n := max(len(sides[0]), len(sides[1]))
	for i := range sides {
		if len(sides[i]) > 0 && len(sides[i]) < n {
			return nil, fmt.Errorf("%d words out and %d in: both directions have as many; write %s for any", len(sides[0]), len(sides[1]), bus.Open)
		}
		for len(sides[i]) < n {
			v, _ := bus.PlannedByte(bus.Open, s.Word, fill)
			sides[i] = append(sides[i], v)
		}
	}
	half := max(unit/2, 1)
	l, end := Encode(s, 2*half, half, sides[0], sides[1])
	to := end + 4*half + 2*s.Gap
	w := func(high bool, toggles []quantity.Time) wire.Window {
		return wire.Window{To: to, High: high, Toggles: toggles}
	}
	out := []wire.Window{w(s.ClockIdleHigh, l.Clock), w(false, l.Out), w(false, l.In)}
	if len(ends) < 3 {
		return append(out, w(s.Select == ActiveLow, l.Select), w(true, nil)), nil
	}
	for i, e := range ends[1:] {
		sel := w(e.(Settings).Select == ActiveLow, nil)
		if i == device {
			sel.Toggles = l.Select
		}
		out = append(out, sel)
	}
	return out, nil
}

// planned reads a plan: the device, from 0 on, and the words of both directions.
func planned(text string, devices int, word func(device int) int, fill bool) (device int, sides [2][]uint32, err error) {
	device, text, err = plannedDevice(text, devices)
	if err != nil {
		return 0, sides, err
	}
	if strings.TrimSpace(text) == NoClocks {
		return device, sides, nil
	}
	side := 0
	for _, w := range strings.Fields(text) {
		switch w {
		case "out":
			side = 0
			continue
		case "in":
			side = 1
			continue
		}
		v, err := bus.PlannedByte(w, word(device), fill)
		if err != nil {
			return 0, sides, err
		}
		sides[side] = append(sides[side], v)
	}
	if len(sides[0])+len(sides[1]) == 0 {
		return 0, sides, errors.New("no words are planned")
	}
	return device, sides, nil
}

// ParseWords reads what a bus controller sends to a device, in the words of a plan. What
// comes back is left out, or open.
func ParseWords(text string, devices int, word func(device int) int) (device int, words []uint32, err error) {
	device, low, err := planned(text, devices, word, false)
	if err != nil {
		return 0, nil, err
	}
	_, high, _ := planned(text, devices, word, true)
	for i := range low[0] {
		if low[0][i] != high[0][i] {
			return 0, nil, errors.New("a word that is sent is not open")
		}
	}
	for i := range low[1] {
		if low[1][i] == high[1][i] {
			return 0, nil, fmt.Errorf("%0*X is for the device to give: leave it out, or write %s", (word(device)+3)/4, low[1][i], bus.Open)
		}
	}
	switch {
	case len(low[0])+len(low[1]) == 0:
		return device, nil, nil
	case len(low[0]) == 0:
		return 0, nil, errors.New("say which words are sent: out 83 00")
	case len(low[1]) > 0 && len(low[1]) != len(low[0]):
		return 0, nil, fmt.Errorf("%d words out and %d in: both directions have as many", len(low[0]), len(low[1]))
	case len(low[0]) > maxWords:
		return 0, nil, fmt.Errorf("%d words: at most %d go in one select", len(low[0]), maxWords)
	}
	return device, low[0], nil
}

// plannedDevice takes the word for the device off a plan; without it it is the first.
func plannedDevice(text string, devices int) (int, string, error) {
	rest, given := strings.CutPrefix(strings.TrimSpace(text), "select ")
	if !given {
		return 0, text, nil
	}
	number, rest, _ := strings.Cut(strings.TrimSpace(rest), " ")
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > max(devices, 1) {
		return 0, "", fmt.Errorf("select %s: the bus has %d devices", number, max(devices, 1))
	}
	return n - 1, rest, nil
}
