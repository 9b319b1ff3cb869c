package wire

import (
	"fmt"

	"gavrix.org/gavrix/core/quantity"
)

// Symbols walks through the windows of several lines, as a writer of captures needs
// them: symbol by symbol (Window.Symbol), in order of time.
type Symbols struct {
	now []byte // of each line; nil before the first windows
	// next are the changes of each line that are still to come.
	next    [][]quantity.Time
	changed []int
}

// Walk goes through the windows that follow the last ones, one for each line and all
// over the same stretch. At the start of the first, and at each time at which a symbol
// changes, put is given all symbols and the lines that changed; both are valid until
// it returns.
func (s *Symbols) Walk(windows []Window, put func(at quantity.Time, symbols []byte, changed []int) error) error {
	if len(windows) == 0 {
		return nil
	}
	if s.now == nil {
		s.now, s.next = make([]byte, len(windows)), make([][]quantity.Time, len(windows))
	}
	if len(windows) != len(s.now) {
		return fmt.Errorf("%d windows for %d lines", len(windows), len(s.now))
	}
	for i := range windows {
		s.next[i] = windows[i].Changes()
	}
	for at, to := windows[0].From, windows[0].To; at < to; {
		next := quantity.Forever
		s.changed = s.changed[:0]
		for i := range windows {
			n := s.next[i]
			if at == windows[0].From || len(n) > 0 && n[0] == at {
				if len(n) > 0 && n[0] == at {
					n = n[1:]
					s.next[i] = n
				}
				if symbol := windows[i].Symbol(at); symbol != s.now[i] {
					s.now[i] = symbol
					s.changed = append(s.changed, i)
				}
			}
			if len(n) > 0 {
				next = min(next, n[0])
			}
		}
		if len(s.changed) > 0 {
			if err := put(at, s.now, s.changed); err != nil {
				return err
			}
		}
		at = next
	}
	return nil
}
