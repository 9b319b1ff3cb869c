// Package link says what can be done with a link, whoever is behind it: the
// simulation or a real port.
package link

import (
	"context"
	"errors"
	"time"

	"gavrix/core/capture"
	"gavrix/core/finding"
	"gavrix/core/quantity"
)

// Info is what a link's source can do and how it is.
type Info struct {
	Simulated  bool
	Port       string        // path of the real port
	Role       string        // which end it stands in for
	Resolution quantity.Time // how exact times are; 0 is exact
	Levels     bool          // line levels are known
	Marks      string        // which error marks the source can tell
	Open       bool
	Problem    string // why it is not open, in words
	Findings   []finding.Finding
}

// Session is a set of links that can be watched and used. Its methods may be
// called from any goroutine.
type Session interface {
	Store() *capture.Store
	Info(link uint16) Info
	// Send lets the MCU's end of a link send, as soon as the link is free.
	Send(link uint16, data []byte) error
	Now() quantity.Time
	// Wait lets time go on until the condition holds or the session's clock
	// reaches the time; the condition is tried whenever something was seen.
	Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error
}

// ErrNotOpen says that the link's port is not there now.
var ErrNotOpen = errors.New("the port is not open")

// WaitOn waits for a condition on a store that somebody else fills.
func WaitOn(ctx context.Context, store *capture.Store, now func() quantity.Time, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	t := time.NewTicker(4 * time.Millisecond)
	defer t.Stop()
	seen := uint64(0)
	for {
		if v := store.Version(); v != seen {
			seen = v
			if cond(store.Snapshot()) {
				return nil
			}
		}
		if now() >= until {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C:
		}
	}
}
