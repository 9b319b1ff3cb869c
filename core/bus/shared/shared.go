// Package shared joins nodes to a bus whose lines they all share. It works out
// what each of them sees when: who pulls a line low is heard everywhere after
// the propagation delay, and a line that all have let go rises after a time
// that the resistor and the capacitance set.
package shared

import (
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// change is a level at a time.
type change struct {
	at   quantity.Time
	high bool
}

// member is a node with its place on the bus.
type member struct {
	node    bus.Node
	delay   quantity.Time
	wake    quantity.Time
	next    quantity.Time // of the next thing that happens at it
	seen    []bool        // levels at its place
	release []bool        // what it lets the lines be
	before  []bool        // and let them be before the present step
	coming  [][]change    // levels on their way to it, by line
	going   [][]change    // what it does, on the way to the middle of the bus
	there   []bool        // what of it has reached the middle
}

// Bus is a set of nodes on shared lines. The lines meet in the middle; each
// node is a propagation delay away from there, its transceiver's share
// counted, and hears itself after twice that.
type Bus struct {
	// Rise is the time from the last release of a line until it reads high:
	// 0 for a driven bus, quantity.Forever where nothing pulls the line up.
	Rise []quantity.Time

	now     quantity.Time
	meets   quantity.Time // when something reaches the middle next, or a line there rises
	members []*member
	high    []bool // levels in the middle
	rises   []quantity.Time
	from    []bool // levels at the start of the window that is being collected
	start   quantity.Time
	toggles [][]quantity.Time
}

// New gives a bus with the given number of lines, all high.
func New(lines int) *Bus {
	b := &Bus{Rise: make([]quantity.Time, lines), toggles: make([][]quantity.Time, lines)}
	for range lines {
		b.high, b.from = append(b.high, true), append(b.from, true)
		b.rises = append(b.rises, quantity.Forever)
	}
	return b
}

// Join puts a node on the bus, the given delay away from its middle.
func (b *Bus) Join(n bus.Node, delay quantity.Time) {
	lines := len(b.high)
	m := &member{node: n, delay: delay, wake: b.now, coming: make([][]change, lines), going: make([][]change, lines)}
	for range lines {
		m.seen, m.release, m.there = append(m.seen, true), append(m.release, true), append(m.there, true)
	}
	copy(m.seen, b.high)
	m.plan()
	b.members = append(b.members, m)
}

// Wake has every node called again at the present time: something was asked
// of one of them.
func (b *Bus) Wake() {
	b.meets = b.now
	for _, m := range b.members {
		m.wake = b.now
		m.plan()
	}
}

// Now is the time up to which the bus has run.
func (b *Bus) Now() quantity.Time { return b.now }

// Levels gives the levels in the middle of the bus.
func (b *Bus) Levels() []bool { return append([]bool(nil), b.high...) }

// behind takes the first change off a queue, which keeps its room.
func behind(q []change) []change { return q[:copy(q, q[1:])] }

// plan works out when the next thing happens at a member.
func (m *member) plan() {
	m.next = m.wake
	for l := range m.coming {
		if q := m.coming[l]; len(q) > 0 && q[0].at < m.next {
			m.next = q[0].at
		}
		if q := m.going[l]; len(q) > 0 && q[0].at < m.next {
			m.next = q[0].at
		}
	}
}

// next is the time of the next thing that happens.
func (b *Bus) next() quantity.Time {
	t := quantity.Forever
	for _, r := range b.rises {
		t = min(t, r)
	}
	for _, m := range b.members {
		t = min(t, m.next)
	}
	return t
}

// Run lets the bus go on to the time to.
func (b *Bus) Run(to quantity.Time) {
	for {
		t := b.next()
		if t >= to {
			break
		}
		b.now = max(t, b.now)
		if b.meets <= b.now {
			b.middle()
		}
		for _, m := range b.members {
			if m.next <= b.now {
				b.step(m)
				m.plan()
			}
		}
	}
	b.now = max(b.now, to)
}

// middle takes what reaches the middle of the bus by now.
func (b *Bus) middle() {
	b.meets = quantity.Forever
	for l := range b.high {
		low := false
		for _, m := range b.members {
			for len(m.going[l]) > 0 && m.going[l][0].at <= b.now {
				m.there[l] = m.going[l][0].high
				m.going[l] = behind(m.going[l])
			}
			low = low || !m.there[l]
			if len(m.going[l]) > 0 {
				b.meets = min(b.meets, m.going[l][0].at)
			}
		}
		switch {
		case low:
			b.rises[l] = quantity.Forever
			b.set(l, false)
		case !b.high[l] && b.rises[l] == quantity.Forever && b.Rise[l] < quantity.Forever:
			b.rises[l] = b.now + b.Rise[l]
		}
		if b.rises[l] <= b.now {
			b.rises[l] = quantity.Forever
			b.set(l, true)
		}
		b.meets = min(b.meets, b.rises[l])
	}
}

func (b *Bus) set(l int, high bool) {
	if b.high[l] == high {
		return
	}
	b.high[l] = high
	if n := len(b.toggles[l]); n > 0 && b.toggles[l][n-1] == b.now {
		b.toggles[l] = b.toggles[l][:n-1] // there and back at one time is no change
	} else {
		b.toggles[l] = append(b.toggles[l], b.now)
	}
	for _, m := range b.members {
		m.coming[l] = append(m.coming[l], change{b.now + m.delay, high})
		m.next = min(m.next, b.now+m.delay)
	}
}

// step calls a node if something reaches it now, or it is due.
func (b *Bus) step(m *member) {
	due := m.wake <= b.now
	for l := range b.high {
		for len(m.coming[l]) > 0 && m.coming[l][0].at <= b.now {
			m.seen[l] = m.coming[l][0].high
			m.coming[l] = behind(m.coming[l])
			due = true
		}
	}
	if !due {
		return
	}
	m.before = append(m.before[:0], m.release...)
	m.wake = m.node.Step(b.now, m.seen, m.release)
	for l := range b.high {
		if m.release[l] != m.before[l] {
			m.going[l] = append(m.going[l], change{b.now + m.delay, m.release[l]})
			b.meets = min(b.meets, b.now+m.delay)
		}
	}
}

// Take gives what a tap in the middle of the bus saw since the last call.
func (b *Bus) Take() []wire.Window {
	var out []wire.Window
	for l := range b.high {
		w := wire.Window{From: b.start, To: b.now, High: b.from[l], Toggles: b.toggles[l]}
		out = append(out, w)
		b.from[l], b.toggles[l] = b.high[l], nil
	}
	b.start = b.now
	return out
}
