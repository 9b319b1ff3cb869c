package pcapng

import (
	"fmt"
	"sync"
)

// Damage says that records of a file can't be read. What is behind them is there; in the place of
// each stands a gap.
type Damage struct {
	N     int
	First error
}

// Error implements error.
func (d *Damage) Error() string {
	if d.N == 1 {
		return fmt.Sprintf("a record can't be read: %v; a gap stands in its place", d.First)
	}
	return fmt.Sprintf("%d records can't be read, a gap stands in the place of each; the first: %v", d.N, d.First)
}

// mostPlaces bounds how many damaged places are told apart.
const mostPlaces = 1 << 20

// damages are the damaged places of one file, each once however often it is read.
type damages struct {
	mu     sync.Mutex
	places map[int64]bool
	first  error
}

// add takes note of a damaged place by the byte at which it begins.
func (d *damages) add(at int64, why error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		d.places, d.first = map[int64]bool{}, fmt.Errorf("at byte %d: %w", at, why)
	}
	if len(d.places) < mostPlaces {
		d.places[at] = true
	}
}

// err says what is damaged; nil: nothing that was read.
func (d *damages) err() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		return nil
	}
	return &Damage{len(d.places), d.first}
}
