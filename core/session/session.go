// Package session puts a bench's links together as they are bound: those with
// a port on the real thing, all others on the simulation, in one capture.
package session

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/link/tty"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// Session runs links. With any real port among them, simulated time is bound to the
// wall clock.
type Session struct {
	// World paces the simulated links; nil without any.
	World *sim.Runner
	ports []link.Port // by link
	all   []link.Port
	real  bool
	store *capture.Store
	start time.Time
}

// Open starts a bench's links.
func Open(b *bench.Bench) *Session {
	meta := sim.MetaOf(b)
	s := &Session{start: time.Now(), ports: make([]link.Port, len(b.Links))}
	for i, l := range b.Links {
		if l.Port != nil {
			s.real = true
			meta.Started = s.start
			meta.Links[i].Resolution = tty.Resolution
		}
	}
	s.store = capture.NewStore(meta)
	s.World = sim.NewRunner(sim.New(b, s.store), s.real, s.start)
	s.all = []link.Port{s.World}
	for i, l := range b.Links {
		s.ports[i] = s.World
		cfg, err := tty.ConfigOf(l)
		if l.Port == nil || err != nil {
			continue
		}
		s.ports[i] = tty.New(cfg, s.store, l.Index, s.start)
		s.all = append(s.all, s.ports[i])
	}
	s.run()
	return s
}

// OpenPort starts a port alone, without a bench.
func OpenPort(cfg tty.Config) *Session {
	s := &Session{start: time.Now(), real: true}
	meta := capture.Meta{Started: s.start}
	meta.Add(capture.Link{Name: cfg.Path, Kind: tty.Kind, Ends: []string{"here", "there"}, Real: true, OneSided: true, Resolution: tty.Resolution}, nil, nil)
	s.store = capture.NewStore(meta)
	s.ports = []link.Port{tty.New(cfg, s.store, 0, s.start)}
	s.all = s.ports
	s.run()
	return s
}

func (s *Session) run() {
	for _, p := range s.all {
		guard.Go(p.Run)
	}
}

// Apply brings a changed bench into the session: settings of the simulation
// from the links' next idle on, those of ports at once.
func (s *Session) Apply(b *bench.Bench) error {
	for i, l := range b.Links {
		if i < len(s.ports) && (s.ports[i] == link.Port(s.World)) != (l.Port == nil) {
			return fmt.Errorf("link %s was bound to a port or released from it; open the bench again for that", l.Name)
		}
	}
	var errs []error
	for _, p := range s.all {
		errs = append(errs, p.Configure(b))
	}
	return errors.Join(errs...)
}

// Real says whether any link is bound to a real port.
func (s *Session) Real() bool { return s.real }

// Store implements link.Session.
func (s *Session) Store() *capture.Store { return s.store }

// Info implements link.Session.
func (s *Session) Info(l uint16) link.Info {
	if int(l) >= len(s.ports) {
		return link.Info{}
	}
	return s.ports[l].Info(l)
}

// Do implements link.Session.
func (s *Session) Do(ctx context.Context, l uint16, i link.Intent) (link.Outcome, error) {
	if int(l) >= len(s.ports) {
		return link.Outcome{}, fmt.Errorf("there is no link %d", l)
	}
	began := time.Now()
	out, err := s.ports[l].Do(ctx, l, i)
	what := []any{"link", s.store.Meta.Links[l].Name, "what", i.Verb(), "took", time.Since(began)}
	switch {
	case err != nil:
		slog.Warn("refused", append(what, "why", err.Error())...)
	case !out.OK:
		slog.Warn("failed", append(what, "why", out.Text)...)
	default:
		slog.Debug("done", what...)
	}
	return out, err
}

// DoAt implements link.Timed.
func (s *Session) DoAt(ctx context.Context, at quantity.Time, l uint16, i link.Intent) (link.Outcome, error) {
	if int(l) < len(s.ports) {
		if t, ok := s.ports[l].(link.Timed); ok {
			return t.DoAt(ctx, at, l, i)
		}
	}
	return link.WaitAndDo(ctx, s, at, l, i)
}

// Now implements link.Session.
func (s *Session) Now() quantity.Time {
	if s.real {
		return quantity.Time(time.Since(s.start).Nanoseconds()) * quantity.Nanosecond
	}
	return s.World.Now()
}

// Wait implements link.Session.
func (s *Session) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	return link.WaitOn(ctx, s.store, s.Now, until, cond)
}

// Close ends the session and gives its ports back.
func (s *Session) Close() {
	for _, p := range s.all {
		p.Close()
	}
}
