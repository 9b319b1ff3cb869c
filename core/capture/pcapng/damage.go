package pcapng

import (
	"fmt"
	"strings"
	"sync"

	"gavrix.org/gavrix/core/quantity"
)

// Damage says that parts of a file can't be read. What is behind them is there.
type Damage struct {
	// N is how many records are damaged; in the place of each stands a gap. Others is how many
	// parts that are none: levels, how the lines stood, what was not finished, the end.
	N, Others int
	First     error
}

// Error implements error.
func (d *Damage) Error() string {
	what, place := "", ""
	switch {
	case d.N == 1:
		what, place = "a record", ", a gap stands in its place"
	case d.N > 1:
		what, place = fmt.Sprintf("%d records", d.N), ", a gap stands in the place of each"
	}
	if d.Others > 0 {
		others := quantity.Count(d.Others, "other part") + " of the file"
		if what != "" {
			others = " and " + others
		}
		what += others
	}
	if d.N+d.Others == 1 {
		return fmt.Sprintf("%s can't be read: %v%s", what, d.First, strings.Replace(place, ",", ";", 1))
	}
	return fmt.Sprintf("%s can't be read%s; the first: %v", what, place, d.First)
}

// mostPlaces bounds how many damaged places are told apart.
const mostPlaces = 1 << 20

// damages are the damaged places of one file, each once however often it is read.
type damages struct {
	mu     sync.Mutex
	places map[int64]bool // whether it is a record
	first  error
}

// add takes note of a damaged place by the byte at which it begins.
func (d *damages) add(at int64, record bool, why error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		d.places, d.first = map[int64]bool{}, fmt.Errorf("at byte %d: %w", at, why)
	}
	if len(d.places) < mostPlaces {
		d.places[at] = record
	}
}

// err says what is damaged; nil: nothing that was read.
func (d *damages) err() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		return nil
	}
	x := &Damage{First: d.first}
	for _, record := range d.places {
		if record {
			x.N++
		} else {
			x.Others++
		}
	}
	return x
}
