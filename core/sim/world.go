// Package sim is the simulated bench: MCU units, wires and devices in virtual
// time. All traffic is line levels; each receiving end decodes them with its
// own settings and clock, by the same code that reads captures.
package sim

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"

	"gavrix.org/gavrix/core/agenda"
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// World is a simulated bench: actors that are called at times. It is not safe for
// use by several goroutines; Runner makes it so.
type World struct {
	store  *capture.Store
	queue  agenda.Agenda[event]
	plans  agenda.Agenda[planned]
	now    quantity.Time
	rng    *rand.Rand
	actors []actor
	links  []simulated // by the link's place in the bench; nil where a real port is behind it
	names  []string    // of the links
	// What an input brings about stands behind it in the capture: meanwhile it is
	// held back.
	holding bool
	held    []*record.Record
}

// actor is whatever acts at times that it asked for: a link with its wires, units
// and devices.
type actor interface {
	// act is called at a time that was asked for with World.at.
	act(what eventKind, arg uint8)
}

// simulated is a link in the world.
type simulated interface {
	actor
	// do does what is asked, and calls done when it is over; an error says why
	// nothing was done.
	do(i link.Intent, done func(link.Outcome)) error
	// takes says which intents it takes, and why it does not take the others.
	takes() map[string]string
	// state is the text of the state in which it runs, or will from its next idle on.
	state() string
	// feed brings its receivers up to the present.
	feed()
	// bit is a bit of the MCU's unit.
	bit() quantity.Time
}

// kind is how links of one kind run: a file and a row in kinds.
type kind struct {
	// new gives a link at the present time of the world.
	new func(p place, l *bench.Link) simulated
	// state gives the text of the state in which the bench says that it runs.
	state func(l *bench.Link) string
}

// kinds are the kinds of links that run in the world, by the name of their bus.
var kinds = map[string]kind{
	"uart":  {newUART, func(l *bench.Link) string { return packed(EndsOf(l)) }},
	"i2c":   {newI2CBus, func(l *bench.Link) string { return packed(I2COf(l)) }},
	"pulse": {newPulseLine, func(l *bench.Link) string { return packed(StripOf(l)) }},
	"spi":   {newSPIBus, func(l *bench.Link) string { return packed(SPIOf(l)) }},
	"can":   {newCANBus, func(l *bench.Link) string { return packed(NodesOf(l)) }},
}

// place is where a link is in the world and in the capture.
type place struct {
	w     *World
	index uint16 // of the link
	id    uint16 // of the actor
	line0 int    // the first of its lines
}

// at asks for a call of the actor.
func (p place) at(t quantity.Time, what eventKind, arg uint8) {
	p.w.queue.Push(max(t, p.w.now), event{what, arg, p.id})
}

// preset puts bits into a value of a part; nil has no registers.
func (p place) preset(part *device.Part, i link.Preset, done func(link.Outcome)) error {
	if part == nil {
		return fmt.Errorf("%q is no device with registers on it", i.Device)
	}
	err := part.Preset(i.Value, i.Bits)
	if i.Data != nil {
		err = part.PresetBytes(i.Value, i.Data)
	}
	if err != nil {
		return err
	}
	done(link.Outcome{At: p.w.now, OK: true})
	return nil
}

// powerLost takes the supply from a part, and notes what became of what it was writing.
func (p place) powerLost(name string, part *device.Part) {
	if part == nil {
		return
	}
	if said := part.PowerLost(p.w.now, func() byte { return byte(p.w.rng.Uint32()) }); said != "" {
		p.note(p.w.now, "%s: %s", name, said)
	}
}

// note puts something that happened into the capture.
func (p place) note(at quantity.Time, format string, args ...any) {
	r := &record.Record{Kind: record.Changed, Link: p.index, Origin: record.FromGavrix, Start: at, End: at, Text: fmt.Sprintf(format, args...)}
	if p.w.holding {
		p.w.held = append(p.w.held, r)
		return
	}
	p.w.store.Put(r)
}

// MetaOf describes the capture of a bench.
func MetaOf(b *bench.Bench) capture.Meta {
	m := capture.Meta{Bench: string(b.Text()), Files: b.Files(), Seed: b.Seed}
	for _, l := range b.Links {
		c := capture.Link{Name: l.Name, Kind: l.Kind.Name, Real: l.Port != nil, OneSided: l.Port != nil}
		for _, e := range l.Ends {
			c.Ends = append(c.Ends, e.Name)
		}
		var roles, lines []string
		for _, r := range l.Roles() {
			roles = append(roles, r.Name)
			lines = append(lines, l.Name+"."+r.Name)
		}
		m.Add(c, roles, lines)
	}
	return m
}

// New gives the bench's world at the time 0; all traffic goes to the store, which was
// made for MetaOf the bench. Links with a real port are left out.
func New(b *bench.Bench, store *capture.Store) *World {
	w := &World{store: store, rng: rand.New(rand.NewPCG(b.Seed, 0x6c6f636b)), links: make([]simulated, len(b.Links))}
	line := 0
	for i, l := range b.Links {
		w.names = append(w.names, l.Name)
		if l.Port == nil {
			id := uint16(len(w.actors))
			w.actors = append(w.actors, nil)
			store.Put(&record.Record{Kind: record.Opened, Link: l.Index, Origin: record.FromGavrix, Text: "simulated"})
			s := kinds[l.Kind.Name].new(place{w, l.Index, id, line}, l)
			w.actors[id], w.links[i] = s, s
		}
		line += len(l.Roles())
	}
	return w
}

// Now is the virtual time.
func (w *World) Now() quantity.Time { return w.now }

// NextEvent is the time of the next thing that happens by itself.
func (w *World) NextEvent() quantity.Time { return min(w.queue.Next(), w.plans.Next()) }

// planned is an intent that has a time.
type planned struct {
	link   string
	intent link.Intent
	ctx    context.Context
	done   func(link.Outcome, error)
}

// DoAt is Do at a time; one that is past is the present. It is left out where the context has ended
// by then.
func (w *World) DoAt(ctx context.Context, at quantity.Time, name string, i link.Intent, done func(link.Outcome, error)) {
	w.plans.Push(max(at, w.now), planned{name, i, ctx, done})
}

// RunTo lets the world go on to the time t.
func (w *World) RunTo(t quantity.Time) {
	for w.plans.Next() <= t {
		w.runTo(max(w.plans.Next(), w.now))
		_, p := w.plans.Pop()
		err := p.ctx.Err()
		if err == nil {
			err = w.Do(p.link, p.intent, func(o link.Outcome) { p.done(o, nil) })
		}
		if err != nil {
			p.done(link.Outcome{At: w.now}, err)
		}
	}
	w.runTo(t)
}

func (w *World) runTo(t quantity.Time) {
	for w.queue.Next() <= t {
		w.step()
	}
	if t > w.now {
		w.now = t
	}
	for _, l := range w.links {
		if l != nil {
			l.feed()
		}
	}
	w.store.Advance(w.now)
}

func (w *World) step() {
	at, e := w.queue.Pop()
	w.now = at
	w.actors[e.actor].act(e.kind, e.arg)
}

// link gives a simulated link by its name.
func (w *World) link(name string) (simulated, uint16, error) {
	for i, n := range w.names {
		switch {
		case n != name:
		case w.links[i] == nil:
			return nil, 0, fmt.Errorf("link %s: a real port is behind it", name)
		default:
			return w.links[i], uint16(i), nil
		}
	}
	return nil, 0, fmt.Errorf("the bench has no link %q", name)
}

// Do does what is asked of a link at the present time, and keeps it in the capture.
// A world changes by nothing else, so bench, seed and inputs give the same capture
// again. What comes of it is said to done, which may be nil, when it is over.
func (w *World) Do(name string, i link.Intent, done func(link.Outcome)) error {
	l, index, err := w.link(name)
	if err != nil {
		return err
	}
	if done == nil {
		done = func(link.Outcome) {}
	}
	info := link.Info{Takes: l.takes()}
	if why := info.Refuses(i); why != "" {
		return fmt.Errorf("link %s: %s", name, why)
	}
	in := link.Input{At: w.now, Link: name, Intent: i}
	rec := &record.Record{Kind: record.Input, Link: index, Origin: record.FromGavrix, Start: w.now, End: w.now, Text: in.String()}
	w.holding = true
	err = l.do(i, done)
	w.holding = false
	if err == nil {
		w.store.Put(rec)
	}
	for _, r := range w.held {
		w.store.Put(r)
	}
	w.held = w.held[:0]
	if err != nil {
		return fmt.Errorf("link %s: %w", name, err)
	}
	return nil
}

// Apply brings a changed bench into the world: every link whose ends differ
// from how they run is configured anew.
func (w *World) Apply(b *bench.Bench) error {
	if len(b.Links) != len(w.links) {
		return errOtherLinks
	}
	for i, l := range b.Links {
		if w.names[i] != l.Name {
			return errOtherLinks
		}
		if w.links[i] == nil {
			continue
		}
		if s := kinds[l.Kind.Name].state(l); s != w.links[i].state() {
			if err := w.Do(l.Name, link.Configure{State: s}, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

var errOtherLinks = fmt.Errorf("the links of the bench are no longer those of the simulation; start it again")

// StepChar runs to the end of the next character on any link, at most for
// the given time.
func (w *World) StepChar(most quantity.Time) {
	limit := w.now + most
	start := w.store.Version()
	for w.queue.Next() <= limit && w.store.Version() == start {
		w.step()
	}
	if w.store.Version() == start {
		w.now = limit
	}
	w.RunTo(w.now)
}

// Info says what a simulated link can do.
func (w *World) Info(l uint16) link.Info {
	i := link.Info{Simulated: true, Role: "MCU", Levels: true, Marks: "all", Open: true}
	if int(l) >= len(w.links) || w.links[l] == nil {
		return link.Info{Simulated: true, Problem: "there is no such simulated link"}
	}
	i.Takes = w.links[l].takes()
	return i
}

// Bit gives the bit time of a link's MCU end.
func (w *World) Bit(link uint16) quantity.Time {
	if int(link) < len(w.links) && w.links[link] != nil {
		return w.links[link].bit()
	}
	return quantity.Microsecond
}

// packed gives a state as a word of text, unpacked is its inverse.
func packed(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("a state without a text: %v", err)) // finite numbers always have one
	}
	return base64.RawStdEncoding.EncodeToString(text)
}

func unpacked(text string, v any) error {
	raw, err := base64.RawStdEncoding.DecodeString(text)
	if err != nil {
		return fmt.Errorf("the state is no base64 text")
	}
	if err := json.Unmarshal(raw, v); err != nil {
		return fmt.Errorf("the state can't be read")
	}
	return nil
}
