package decode

import (
	"io"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// stretch is the length of the windows that Kept gives.
const stretch = 10 * quantity.Millisecond

// Kept gives the levels that a capture in memory still keeps. Its lines are
// called LINK.ROLE.
type Kept struct {
	snap   *capture.Snapshot
	names  []string
	places [][2]int // link and role
	chosen []int
	at, to quantity.Time
}

// OfCapture gives the levels of a capture as they stand now: the stretch for
// which all lines are kept. Next gives io.EOF at once where there are none.
func OfCapture(snap *capture.Snapshot) *Kept {
	k := &Kept{snap: snap, to: quantity.Forever}
	taken := map[int]bool{}
	for i, l := range snap.Meta().Links {
		for role, name := range l.Roles {
			s, ok := snap.Kept(uint16(i), role)
			if !ok || taken[l.Lines[role]] {
				continue
			}
			taken[l.Lines[role]] = true
			k.names = append(k.names, l.Name+"."+name)
			k.places = append(k.places, [2]int{i, role})
			k.at, k.to = max(k.at, s.From), min(k.to, s.To)
		}
	}
	if len(k.names) == 0 {
		k.to = 0
	}
	return k
}

// From is where the levels begin: those before are no longer kept.
func (k *Kept) From() quantity.Time { return k.at }

// Names implements Source.
func (k *Kept) Names() []string { return k.names }

// Select implements Source.
func (k *Kept) Select(lines ...int) { k.chosen = lines }

// Next implements Source.
func (k *Kept) Next() ([]wire.Window, error) {
	if k.at >= k.to {
		return nil, io.EOF
	}
	end := min(k.at+stretch, k.to)
	var out []wire.Window
	for _, i := range k.chosen {
		w, _ := k.snap.Window(uint16(k.places[i][0]), k.places[i][1], k.at, end)
		out = append(out, w)
	}
	k.at = end
	return out, nil
}
