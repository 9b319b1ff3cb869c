// Package session puts a bench's links together as they are bound: those with
// a port on the real thing, all others on the simulation, in one capture.
package session

import (
	"context"
	"fmt"
	"time"

	"gavrix/core/bench"
	"gavrix/core/capture"
	"gavrix/core/guard"
	"gavrix/core/link"
	"gavrix/core/link/tty"
	"gavrix/core/quantity"
	"gavrix/core/sim"
)

// Session runs a bench. With any real port in it, simulated time is bound to
// the wall clock.
type Session struct {
	*sim.Runner
	ports map[uint16]*tty.Port
	store *capture.Store
	start time.Time
}

// Open starts a bench's links.
func Open(b *bench.Bench) *Session {
	meta := sim.MetaOf(b)
	for i, l := range b.Links {
		if l.Port != nil {
			meta.Started = time.Now()
			meta.Links[i].Resolution = tty.Resolution
		}
	}
	s := &Session{store: capture.NewStore(meta), ports: map[uint16]*tty.Port{}, start: time.Now()}
	s.Runner = sim.NewRunner(sim.New(b, s.store))
	for _, l := range b.Links {
		if l.Port == nil {
			continue
		}
		p := tty.New(configOf(l), s.store, l.Index, s.start)
		s.ports[l.Index] = p
		guard.Go(p.Run)
	}
	guard.Go(s.Runner.Run)
	return s
}

func configOf(l *bench.Link) tty.Config {
	return tty.Config{Path: l.Port.Path, Rate: l.Wanted, Frame: l.MCU.Frame, Flow: l.Port.Flow, DTR: l.Port.DTR, RTS: l.Port.RTS}
}

// Apply brings a changed bench into the session: settings of the simulation
// from the links' next idle on, those of ports at once.
func (s *Session) Apply(b *bench.Bench) error {
	if err := s.Runner.Apply(b); err != nil {
		return err
	}
	for _, l := range b.Links {
		p := s.ports[l.Index]
		if (p == nil) != (l.Port == nil) {
			return fmt.Errorf("link %s was bound to a port or released from it; open the bench again for that", l.Name)
		}
		if p != nil {
			p.Configure(configOf(l))
		}
	}
	return nil
}

// Real says whether any link is bound to a real port.
func (s *Session) Real() bool { return len(s.ports) > 0 }

// Info implements link.Session.
func (s *Session) Info(l uint16) link.Info {
	if p := s.ports[l]; p != nil {
		return p.Info()
	}
	return s.Runner.Info(l)
}

// Send implements link.Session.
func (s *Session) Send(l uint16, data []byte) error {
	if p := s.ports[l]; p != nil {
		return p.Send(data)
	}
	return s.Runner.Send(l, data)
}

// Now implements link.Session.
func (s *Session) Now() quantity.Time {
	if s.Real() {
		return quantity.Time(time.Since(s.start).Nanoseconds()) * quantity.Nanosecond
	}
	return s.Runner.Now()
}

// Wait implements link.Session.
func (s *Session) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	return link.WaitOn(ctx, s.store, s.Now, until, cond)
}

// Close ends the session and gives its ports back.
func (s *Session) Close() {
	for _, p := range s.ports {
		p.Close()
	}
	s.Stop()
}
