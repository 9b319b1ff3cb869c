package capture

import (
	"fmt"
	"slices"
	"time"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Meta describes a capture as a whole: its lines, and the links whose roles they
// play. Links may share lines.
type Meta struct {
	Lines []string
	Links []Link
	Bench string // text of the bench file
	// Files are the texts of those that the bench names, by name.
	Files   map[string]string
	Seed    uint64    // of the simulated world
	Started time.Time // wall clock at time 0; zero for a simulation
	// Part is the number of this file of a recording that was cut into several; 0 or 1 is
	// the first.
	Part int
}

// Link names one link of a capture, its ends and its lines.
type Link struct {
	Name  string
	Kind  string   // kind of bus
	Ends  []string // what the ends are called, the MCU's first
	Roles []string // the parts that lines play on it
	Lines []int    // by role: the line's place in Meta.Lines, -1 where it is absent
	// Real says that a real port is behind it, and Resolution how exact its
	// times are; 0 is exact.
	Real       bool
	Resolution quantity.Time
	// OneSided says that only the MCU's own receiver can be watched.
	OneSided bool
	// Decoded says that all of it was decoded from levels that somebody captured.
	Decoded bool
}

// Add adds a link whose lines have these names by role, "" for one that is absent.
// Lines of one name are one line.
func (m *Meta) Add(l Link, roles, lines []string) {
	l.Roles, l.Lines = roles, make([]int, len(roles))
	for i := range roles {
		l.Lines[i] = -1
		if i >= len(lines) || lines[i] == "" {
			continue
		}
		if l.Lines[i] = slices.Index(m.Lines, lines[i]); l.Lines[i] < 0 {
			l.Lines[i] = len(m.Lines)
			m.Lines = append(m.Lines, lines[i])
		}
	}
	m.Links = append(m.Links, l)
}

// Line gives the line that plays a role on a link, -1 where there is none.
func (m *Meta) Line(link uint16, role int) int {
	if int(link) >= len(m.Links) || role < 0 || role >= len(m.Links[link].Lines) {
		return -1
	}
	return m.Links[link].Lines[role]
}

// Check says what is out of range, as in a damaged file.
func (m *Meta) Check() error {
	for i, l := range m.Links {
		if len(l.Lines) != len(l.Roles) {
			return fmt.Errorf("link %d has %d lines for %d roles", i, len(l.Lines), len(l.Roles))
		}
		for _, n := range l.Lines {
			if n < -1 || n >= len(m.Lines) {
				return fmt.Errorf("link %d names line %d of %d", i, n, len(m.Lines))
			}
		}
	}
	return nil
}

// MCU is what the MCU's end is called.
func (l *Link) MCU() string { return l.end(0, "MCU") }

// Device is what the first device is called; of several, that there are others.
func (l *Link) Device() string {
	if len(l.Ends) > 2 {
		return "others"
	}
	return l.end(1, "device")
}

func (l *Link) end(i int, def string) string {
	if i < len(l.Ends) && l.Ends[i] != "" {
		return l.Ends[i]
	}
	return def
}

// EndName names an end; "" for nobody known.
func (l *Link) EndName(e record.End) string {
	switch {
	case e == record.Tap:
		return "tap"
	case e == record.MCU:
		return l.MCU()
	case e >= record.Device:
		i := int(e-record.Device) + 1
		return l.end(i, fmt.Sprintf("device %d", i))
	}
	return ""
}

// Names are the links' names.
func (m *Meta) Names() []string {
	var out []string
	for _, l := range m.Links {
		out = append(out, l.Name)
	}
	return out
}
