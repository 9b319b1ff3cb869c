package spi

import (
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// shared are the lines that all devices on a bus have in common.
var shared = []bus.Role{{Name: "clock"}, {Name: "out", Optional: true}, {Name: "in", Optional: true}}

// lines are those of a single device. The last is low while another device on the
// same lines is selected.
var lines = append(slices.Clone(shared), bus.Role{Name: "select", Optional: true, High: true}, bus.Role{Name: "other", Optional: true, High: true})

// rolesFor gives the lines of a bus with several devices: each has a select of its
// own.
func rolesFor(devices []string) []bus.Role {
	if len(devices) < 2 {
		return lines
	}
	out := slices.Clone(shared)
	for _, d := range devices {
		out = append(out, bus.Role{Name: "select-" + d, Optional: true, High: true})
	}
	return out
}

// tap reads what the MCU and several devices say to each other, each with its own
// settings and select, on one clock.
type tap struct {
	devices []*Decoder
	ends    []Settings
	lines   []wire.Window // for one decoder
	scratch []quantity.Time
}

// newTap gives the decoder of a bus: the ends are the MCU's and the devices'.
func newTap(link uint16, ends []bus.Settings) bus.Decoder {
	if len(ends) < 3 {
		return NewDecoder(bus.At(ends, 1).(Settings), link, record.Device)
	}
	t := &tap{lines: make([]wire.Window, len(lines))}
	for i, e := range ends[1:] {
		s := e.(Settings)
		t.ends = append(t.ends, s)
		t.devices = append(t.devices, NewDecoder(s, link, record.Device+record.End(i)))
	}
	return t
}

// Feed implements bus.Decoder.
func (t *tap) Feed(lines []wire.Window, out record.Sink) {
	n := len(shared)
	copy(t.lines, lines[:n])
	for i, d := range t.devices {
		t.lines[n] = lines[n+i]
		t.lines[n+1] = t.others(lines[n:], i)
		d.Feed(t.lines, out)
	}
}

// others gives a line that is low while any other device is selected.
func (t *tap) others(selects []wire.Window, own int) wire.Window {
	w := wire.Window{From: selects[own].From, To: selects[own].To, High: true}
	t.scratch = t.scratch[:0]
	count := 0
	for i := range selects {
		if i != own {
			t.scratch = append(t.scratch, selects[i].Toggles...)
			if t.selected(i, selects[i].High) {
				count++
			}
		}
	}
	w.High = count == 0
	if len(t.scratch) == 0 {
		return w
	}
	slices.Sort(t.scratch)
	high := w.High
	for _, at := range slices.Compact(t.scratch) {
		now := true
		for i := range selects {
			if i != own && t.selected(i, selects[i].Level(at)) {
				now = false
			}
		}
		if now != high {
			high = now
			w.Toggles = append(w.Toggles, at)
		}
	}
	return w
}

func (t *tap) selected(i int, high bool) bool {
	return high == (t.ends[i].Select == ActiveHigh) && t.ends[i].Select != NoSelect
}

// Wake implements bus.Decoder.
func (t *tap) Wake() quantity.Time {
	at := quantity.Time(quantity.Forever)
	for _, d := range t.devices {
		at = min(at, d.Wake())
	}
	return at
}

// Flush implements bus.Decoder.
func (t *tap) Flush(out record.Sink) {
	for _, d := range t.devices {
		d.Flush(out)
	}
}

// labels names the words and bits of a transaction with one of the devices.
func labels(ends []bus.Settings, r *record.Record, lines []wire.Window) []bus.Label {
	i := max(int(r.From)-int(record.Device), 0)
	return labelsOf(bus.At(ends, 1+i).(Settings), r, lines)
}

// measure says for how long data stands still around the edges that sample it.
func measure(ends []bus.Settings, role int, _ []*record.Record, lines []wire.Window) string {
	if role != 1 && role != 2 {
		return ""
	}
	s := bus.At(ends, 1).(Settings)
	setUp, hold := wire.SetUpHold(&lines[0], s.ClockIdleHigh == s.SampleSecond, &lines[role])
	if setUp.N == 0 || hold.N == 0 {
		return ""
	}
	return fmt.Sprintf("stands still at least %s before and %s after the sampling edges", setUp.Least.Round(4), hold.Least.Round(4))
}
