package samples

import (
	"math/rand/v2"
	"slices"

	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/quantity"
)

// Hardships are what captures of real lines have beside their bus, by kind of bus.
var Hardships = map[string][]string{
	"uart": {"ringing", "noise", "few", "clock elsewhere"},
	"spi":  {"ringing", "noise", "few", "clock elsewhere", "select held", "select with an edge"},
	"i2c":  {"ringing", "noise", "few", "clock elsewhere"},
	"can":  {"ringing", "noise", "few", "clock elsewhere", "fast data"},
}

// MakeHard gives the sample of a seed with one of the hardships of its bus.
func MakeHard(bus string, seed uint64) Sample {
	m := &maker{Rand: rand.New(rand.NewPCG(seed, uint64(len(bus))<<32|uint64(bus[0])|1<<16)), lines: map[string]*line{}, length: 1}
	m.s = Sample{Seed: seed, Kind: bus, truth: truth{roles: map[string]string{}}}
	m.hard = Hardships[bus][m.IntN(len(Hardships[bus]))]
	m.s.Hard = m.hard
	bit := m.bus()
	m.s.About += ", " + m.hard
	switch m.hard {
	case "ringing":
		for _, role := range slices.Sorted(m.roles()) {
			m.ring(m.lines[role], bit)
		}
	case "noise":
		for _, role := range slices.Sorted(m.roles()) {
			m.noise(m.lines[role], bit)
		}
	case "clock elsewhere":
		m.elsewhere(bit)
	}
	m.finish(bit)
	return m.s
}

// bytes is how many bytes of payload a sample has, of so many as usual.
func (m *maker) bytes(usual int) int {
	if m.hard == "few" {
		return 6 + m.IntN(6)
	}
	return usual
}

// ring makes three edges of each edge of a line, or of most: the line swings back through the
// threshold once, soon after.
func (m *maker) ring(l *line, bit quantity.Time) {
	share := 0.5 + 0.5*m.Float64()
	after := bit/60 + quantity.Time(m.Int64N(int64(bit/40)+1)) + 1
	var out []quantity.Time
	for i, t := range l.toggles {
		out = append(out, t)
		if m.Float64() < share && (i+1 == len(l.toggles) || l.toggles[i+1]-t > 4*after) {
			a := t + after + quantity.Time(m.Int64N(int64(after/4)+1))
			out = append(out, a, a+after)
		}
	}
	l.toggles = out
}

// noise puts many short pulses where a line rests.
func (m *maker) noise(l *line, bit quantity.Time) {
	var rests [][2]quantity.Time
	last := quantity.Time(0)
	for _, t := range append(slices.Clone(l.toggles), m.at) {
		if t-last > 14*bit {
			rests = append(rests, [2]quantity.Time{last + 2*bit, t - 2*bit})
		}
		last = max(last, t)
	}
	if len(rests) == 0 {
		return
	}
	for range 20 + m.IntN(60) {
		r := rests[m.IntN(len(rests))]
		l.spike(r[0]+quantity.Time(m.Int64N(int64(r[1]-r[0]))), max(bit/60+quantity.Time(m.Int64N(int64(bit/16)+1)), 1))
	}
}

// elsewhere adds lines that no bus drives: a clock, and a slow line that changes now and then.
func (m *maker) elsewhere(bit quantity.Time) {
	half := quantity.Time(float64(bit)*(0.4+4*m.Float64())) + 1
	clock := m.line("other clock", false)
	for at := quantity.Time(m.Int64N(int64(half)) + 1); at < m.at && len(clock.toggles) < 30000; at += half {
		clock.toggles = append(clock.toggles, at)
	}
	slow := m.line("slow", m.IntN(2) == 0)
	for at := quantity.Time(0); at < m.at; {
		if at += half * quantity.Time(20+m.IntN(400)); at < m.at {
			slow.toggles = append(slow.toggles, at)
		}
	}
}

// selects puts the select line where firmware and wires put it: held from the start on, or
// changing in the moment of a clock edge.
func (m *maker) selects(set spi.Settings, sel, clock *line) {
	switch m.hard {
	case "select held":
		sel.high, sel.toggles = set.Select == spi.ActiveHigh, nil
		delete(m.lines, "select") // nothing shows that it is one
		m.lines["held"] = sel
	case "select with an edge":
		for i, t := range sel.toggles {
			k, _ := slices.BinarySearch(clock.toggles, t)
			if i%2 == 1 && k > 0 && m.IntN(2) == 0 {
				sel.toggles[i] = clock.toggles[k-1] + 1
			}
		}
	}
}
