// Package sim is the simulated bench: MCU units, wires and devices in virtual
// time. All traffic is line levels; each receiving end decodes them with its
// own settings and clock, by the same code that reads captures.
package sim

import (
	"fmt"
	"math/rand/v2"

	"gavrix/core/bench"
	"gavrix/core/capture"
	"gavrix/core/quantity"
	"gavrix/core/record"
)

// World is a simulated bench. It is not safe for use by several goroutines;
// Runner makes it so.
type World struct {
	store *capture.Store
	queue queue
	now   quantity.Time
	rng   *rand.Rand
	links []*simLink // nil where a real port stands in
	buses []running  // behind the links in the capture
	names []string   // of links and buses, as in the capture
	// Inputs are all that was put in so far, in order.
	Inputs []Input
}

// MetaOf describes the capture of a bench.
func MetaOf(b *bench.Bench) capture.Meta {
	m := capture.Meta{Bench: string(b.Text()), Seed: b.Seed}
	for _, l := range b.Links {
		m.Links = append(m.Links, capture.Link{
			Name: l.Name, Kind: l.Kind.Name, MCU: "MCU", Device: l.Device.Name, Lines: []string{"from the MCU", "to the MCU"},
			Real: l.Port != nil, OneSided: l.Port != nil,
		})
	}
	for _, l := range b.Buses {
		if l.Index == bench.NotSimulated {
			continue
		}
		lines := []string{}
		for _, r := range l.Kind.Lines {
			lines = append(lines, r.Name)
		}
		m.Links = append(m.Links, capture.Link{Name: l.Name, Kind: l.Kind.Name, MCU: "MCU", Device: "others", Lines: lines})
	}
	return m
}

// New gives the bench's world at the time 0; all traffic goes to the store.
// Links with a real port are left out.
func New(b *bench.Bench, store *capture.Store) *World {
	w := &World{store: store, rng: rand.New(rand.NewPCG(b.Seed, 0x6c6f636b))}
	for _, l := range b.Links {
		w.names = append(w.names, l.Name)
		if l.Port != nil {
			w.links = append(w.links, nil)
			continue
		}
		w.links = append(w.links, newLink(w, l))
		store.Put(&record.Record{Kind: record.Opened, Link: l.Index, Origin: record.FromGavrix, Text: "simulated"})
	}
	for _, l := range b.Buses {
		switch {
		case l.Index == bench.NotSimulated:
			continue
		case l.CAN != nil:
			w.buses = append(w.buses, newCANBus(w, l))
		case l.I2C != nil:
			w.buses = append(w.buses, newI2CBus(w, l))
		}
		w.names = append(w.names, l.Name)
		store.Put(&record.Record{Kind: record.Opened, Link: l.Index, Origin: record.FromGavrix, Text: "simulated"})
	}
	return w
}

// Now is the virtual time.
func (w *World) Now() quantity.Time { return w.now }

// NextEvent is the time of the next thing that happens by itself.
func (w *World) NextEvent() quantity.Time { return w.queue.next() }

func (w *World) at(t quantity.Time, kind eventKind, link uint16, side uint8) {
	w.queue.push(event{at: max(t, w.now), kind: kind, link: link, side: side})
}

// RunTo lets the world go on to the time t.
func (w *World) RunTo(t quantity.Time) {
	for w.queue.next() <= t {
		w.step()
	}
	if t > w.now {
		w.now = t
	}
	for _, l := range w.links {
		if l != nil {
			l.feed(0)
			l.feed(1)
		}
	}
	w.store.Advance(w.now)
}

func (w *World) step() {
	e := w.queue.pop()
	w.now = e.at
	if e.kind == busRuns {
		w.buses[int(e.link)-len(w.links)].runs()
		return
	}
	l := w.links[e.link]
	switch e.kind {
	case sent:
		l.charSent(e.side)
	case look:
		l.look(e.side)
	case again:
		l.feed(int(e.side))
	case acts:
		l.deviceActs()
	case asks:
		l.ask()
	case service:
		l.registerFull = false
	case turn:
		l.nextExchange()
	}
}

// Put puts an input in at the present time.
func (w *World) Put(in Input) error {
	for i, l := range w.links {
		if w.names[i] != in.Link {
			continue
		}
		if l == nil {
			return fmt.Errorf("link %s has a real port; the simulation does not drive it", in.Link)
		}
		in.At = w.now
		w.Inputs = append(w.Inputs, in)
		w.store.Put(&record.Record{
			Kind: record.Input, Link: l.index, Origin: record.FromGavrix, Start: w.now, End: w.now, Text: in.String(),
		})
		switch {
		case in.Wire != nil:
			l.wire(*in.Wire)
		case in.Ends != nil:
			l.change(*in.Ends)
		default:
			l.send(in.Send)
		}
		return nil
	}
	for i, b := range w.buses {
		if b.name() != in.Link {
			continue
		}
		in.At = w.now
		if err := b.put(in); err != nil {
			return err
		}
		w.Inputs = append(w.Inputs, in)
		w.store.Put(&record.Record{Kind: record.Input, Link: uint16(len(w.links) + i), Origin: record.FromGavrix, Start: w.now, End: w.now, Text: in.String()})
		return nil
	}
	return fmt.Errorf("the bench has no link %q", in.Link)
}

// Apply brings a changed bench into the world: every link whose ends differ
// from how they run gets an input.
func (w *World) Apply(b *bench.Bench) error {
	for i, l := range b.Links {
		if i >= len(w.links) || w.names[i] != l.Name {
			return fmt.Errorf("the links of the bench are no longer those of the simulation; start it again")
		}
		if w.links[i] == nil {
			continue
		}
		if e := EndsOf(l); e != w.links[i].wanted {
			if err := w.Put(Input{Link: l.Name, Ends: &e}); err != nil {
				return err
			}
		}
	}
	n := 0
	for _, l := range b.Buses {
		if l.Index == bench.NotSimulated {
			continue
		}
		if n >= len(w.buses) || w.buses[n].name() != l.Name {
			return fmt.Errorf("the links of the bench are no longer those of the simulation; start it again")
		}
		if in := w.buses[n].changed(l); in != nil {
			if err := w.Put(*in); err != nil {
				return err
			}
		}
		n++
	}
	return nil
}

// StepChar runs to the end of the next character on any link, at most for
// the given time.
func (w *World) StepChar(most quantity.Time) {
	limit := w.now + most
	start := w.store.Version()
	for w.queue.next() <= limit && w.store.Version() == start {
		w.step()
	}
	if w.store.Version() == start {
		w.now = limit
	}
	w.RunTo(w.now)
}

// Bit gives the bit time of a link's MCU end.
func (w *World) Bit(link uint16) quantity.Time {
	if int(link) < len(w.links) && w.links[link] != nil {
		return quantity.PeriodOf(w.links[link].ends.MCU.Rate).Times(1)
	}
	if i := int(link) - len(w.links); i >= 0 && i < len(w.buses) {
		return w.buses[i].bit()
	}
	return quantity.Microsecond
}
