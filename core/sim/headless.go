package sim

import (
	"context"
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
)

// Headless is a session on a world whose time goes on only while somebody
// waits, as fast as it can.
type Headless struct {
	World *World
	Bench *bench.Bench
}

// NewHeadless gives a session on a new world.
func NewHeadless(b *bench.Bench) *Headless {
	return &Headless{World: New(b, capture.NewStore(MetaOf(b))), Bench: b}
}

// Store implements link.Session.
func (h *Headless) Store() *capture.Store { return h.World.store }

// Now implements link.Session.
func (h *Headless) Now() quantity.Time { return h.World.now }

// Info implements link.Session.
func (h *Headless) Info(l uint16) link.Info { return h.World.Info(l) }

// mostWait is how long, in virtual time, an outcome is waited for.
const mostWait = 10 * quantity.Second

// Do implements link.Session: time goes on until the outcome is there.
func (h *Headless) Do(ctx context.Context, l uint16, i link.Intent) (out link.Outcome, err error) {
	over := false
	if err := h.World.Do(h.World.names[l], i, func(o link.Outcome) { out, over = o, true }); err != nil {
		return out, err
	}
	for limit := h.World.now + mostWait; !over; h.World.RunTo(max(h.World.NextEvent(), h.World.now+1)) {
		if err := link.Ended(ctx); err != nil {
			return out, err
		}
		if h.World.now > limit {
			return out, errNoOutcome
		}
	}
	return out, nil
}

// DoAt implements link.Timed: time goes on until the outcome is there.
func (h *Headless) DoAt(ctx context.Context, at quantity.Time, l uint16, i link.Intent) (out link.Outcome, err error) {
	over := false
	h.World.DoAt(ctx, at, h.World.names[l], i, func(o link.Outcome, e error) { out, err, over = o, e, true })
	for limit := max(at, h.World.now) + mostWait; !over; h.World.RunTo(max(h.World.NextEvent(), h.World.now+1)) {
		if err := link.Ended(ctx); err != nil {
			return out, err
		}
		if h.World.now > limit {
			return out, errNoOutcome
		}
	}
	return out, err
}

var errNoOutcome = fmt.Errorf("nothing came of it within %s: the bus is held, or another transaction never ends", mostWait)

// Wait implements link.Session.
func (h *Headless) Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	seen := uint64(0)
	for {
		if v := h.World.store.Version(); v != seen {
			seen = v
			if cond(h.World.store.Snapshot()) {
				return nil
			}
		}
		if h.World.now >= until {
			return nil
		}
		if err := link.Ended(ctx); err != nil {
			return err
		}
		h.World.RunTo(min(until, max(h.World.NextEvent(), h.World.now+1)))
	}
}
