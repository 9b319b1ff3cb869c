// Package link says what can be done with a link, whoever is behind it: the
// simulation or a real port.
package link

import (
	"context"
	"errors"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
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
	// Takes are the verbs of the intents that the link takes, with "", and of
	// those that it does not, with the reason.
	Takes map[string]string
}

// Refuses says why the link does not take an intent; "" where it does.
func (i *Info) Refuses(in Intent) string {
	why, known := i.Takes[in.Verb()]
	if !known {
		return "it can't " + in.Verb()
	}
	return why
}

// Port is what stands behind one link or several: the simulated world, or a port of
// the operating system.
type Port interface {
	// Run works until Close.
	Run()
	// Configure brings a changed bench into force.
	Configure(b *bench.Bench) error
	// Do does what is asked of a link, and says what came of it when it is done.
	Do(ctx context.Context, link uint16, i Intent) (Outcome, error)
	Info(link uint16) Info
	// Close ends Run and waits for it.
	Close()
}

// Session is a set of links that can be watched and used. Its methods may be
// called from any goroutine.
type Session interface {
	Store() *capture.Store
	Info(link uint16) Info
	// Do does what is asked of a link.
	Do(ctx context.Context, link uint16, i Intent) (Outcome, error)
	Now() quantity.Time
	// Wait lets time go on until the condition holds or the session's clock
	// reaches the time; the condition is tried whenever something was seen.
	Wait(ctx context.Context, until quantity.Time, cond func(*capture.Snapshot) bool) error
}

// Timed is a session or port that does what is asked exactly at a time of its own clock; one that
// is past is the present.
type Timed interface {
	DoAt(ctx context.Context, at quantity.Time, link uint16, i Intent) (Outcome, error)
}

// WaitAndDo is DoAt as well as it can be done by waiting.
func WaitAndDo(ctx context.Context, s Session, at quantity.Time, l uint16, i Intent) (Outcome, error) {
	if err := s.Wait(ctx, at, func(*capture.Snapshot) bool { return false }); err != nil {
		return Outcome{}, err
	}
	return s.Do(ctx, l, i)
}

// ErrNotOpen says that the link's port is not there now.
var ErrNotOpen = errors.New("the port is not open")

// ended is why waiting ended before what was waited for came.
type ended struct{ error }

func (e ended) Error() string {
	if errors.Is(e.error, context.DeadlineExceeded) {
		return "nothing came of it in time: time is stopped or goes too slowly, or the line is held"
	}
	return "it was stopped"
}

func (e ended) Unwrap() error { return e.error }

// Ended says in words why a context is over; it is still the context's error to errors.Is.
// It is nil while the context is not over.
func Ended(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return ended{err}
	}
	return nil
}

// How long who waits sleeps between two looks: shorter just before its time, so that what is to
// be sent then is not late by a nap.
const mostNap, leastNap = 4 * time.Millisecond, 100 * time.Microsecond

// WaitOn waits for a condition on a store that somebody else fills.
func WaitOn(ctx context.Context, store *capture.Store, now func() quantity.Time, until quantity.Time, cond func(*capture.Snapshot) bool) error {
	t := time.NewTimer(mostNap)
	defer t.Stop()
	seen := uint64(0)
	for {
		if v := store.Version(); v != seen {
			seen = v
			if cond(store.Snapshot()) {
				return nil
			}
		}
		left := until - now()
		if left <= 0 {
			return nil
		}
		nap := mostNap
		if left < quantity.Time(mostNap)*quantity.Nanosecond {
			nap = max(time.Duration(left/quantity.Nanosecond), leastNap)
		}
		t.Reset(nap)
		select {
		case <-ctx.Done():
			return Ended(ctx)
		case <-t.C:
		}
	}
}
