// Package follow runs the transfers of a bench against the words that a capture holds,
// live or loaded, simulated or real: what would have become of each byte.
package follow

import (
	"slices"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/transfer"
)

// word is one unit of traffic as it went over a link.
type word struct {
	start, end quantity.Time
	value      uint64
}

// kind says which words the records of a kind of bus hold.
type kind struct {
	name string
	// whole is the kind of record that holds them.
	whole record.Kind
	// ownReading: what the MCU's own receiver saw stands in records of its own.
	ownReading bool
	// asks: the MCU asks for what comes in; nil: it comes by itself.
	asks func(l *bench.Link) bool
	// words gives those that came in to the MCU, and those that it sent.
	words func(l *bench.Link, r *record.Record) (in, out []word)
}

var kinds = []kind{uartWords, spiWords, i2cWords, canWords, pulseWords}

func kindNamed(name string) *kind {
	for i := range kinds {
		if kinds[i].name == name {
			return &kinds[i]
		}
	}
	return nil
}

// Followed is one transfer as it is run.
type Followed struct {
	Link     *bench.Link
	Transfer *bench.Transfer
	Live     *transfer.Live
	Cadence  Cadence // of the words that it carries
	kind     *kind
	// asks: the words come because the MCU asked for them, last at requested; -1: not yet.
	asks      bool
	requested quantity.Time
}

// Follower runs all transfers of a bench. It is not safe for use by several goroutines.
type Follower struct {
	All    []*Followed
	byLink map[uint16][]*Followed
	trail  records.Trail
	seenBy map[uint16]record.End
	Words  int // that were followed
}

// New gives a follower that begins with the first record that a capture keeps. Its links are
// found by their names; those that it does not have are not followed.
func New(b *bench.Bench, meta *capture.Meta) *Follower {
	f := &Follower{byLink: map[uint16][]*Followed{}, seenBy: map[uint16]record.End{}}
	if b == nil {
		return f
	}
	for _, l := range b.Links {
		for _, t := range l.Transfers {
			f.add(l, t, l.Setup(), meta)
		}
	}
	return f
}

func (f *Follower) add(l *bench.Link, t *bench.Transfer, s *transfer.Setup, meta *capture.Meta) {
	k := kindNamed(l.Kind.Name)
	at := slices.IndexFunc(meta.Links, func(c capture.Link) bool { return c.Name == l.Name })
	if k == nil || at < 0 {
		return
	}
	x := &Followed{Link: l, Transfer: t, kind: k, Live: s.Live(t.Plan, 0), asks: k.asks != nil && k.asks(l), requested: -1}
	f.All = append(f.All, x)
	f.byLink[uint16(at)] = append(f.byLink[uint16(at)], x)
}

// Of gives the transfers of a link of the capture.
func (f *Follower) Of(link uint16) []*Followed { return f.byLink[link] }

// Behind is how many records wait to be followed.
func (f *Follower) Behind() int { return f.trail.Behind }

// Take follows what came since the last time, so many records at most, and says whether
// more wait.
func (f *Follower) Take(s *capture.Snapshot, most int) (more bool) {
	fresh, more := f.trail.Next(&s.Reader, most)
	for _, i := range fresh {
		h := s.Head(i)
		list := f.byLink[h.Link]
		if len(list) == 0 || h.Kind != list[0].kind.whole || !f.reads(s, h.Link, list[0].kind, h.Seen) {
			continue
		}
		f.follow(list, s.At(i))
	}
	if !more {
		f.quiet(s)
	}
	return more
}

// reads says whether the words of a link are taken from what an end saw.
func (f *Follower) reads(s *capture.Snapshot, link uint16, k *kind, seen record.End) bool {
	if !k.ownReading {
		return seen == record.Tap || seen == record.Nobody || seen == record.MCU && s.Meta().Links[link].Real
	}
	if seen != record.MCU && seen != record.Tap {
		return false
	}
	by, known := f.seenBy[link]
	if !known {
		by = record.Tap
		if c := s.Seen(link, record.MCU); c.Chars > 0 {
			by = record.MCU
		}
		f.seenBy[link] = by
	}
	return seen == by || seen == record.Tap
}

func (f *Follower) follow(list []*Followed, r *record.Record) {
	in, out := list[0].kind.words(list[0].Link, r)
	if list[0].kind.ownReading && f.seenBy[r.Link] == record.MCU && r.Seen != record.MCU {
		in = nil // the MCU's own reading is another record
	}
	for _, x := range list {
		if len(out) > 0 {
			x.requested = out[0].start
		}
		switch {
		case x.Transfer.Plan.Receive:
			for _, w := range in {
				x.Live.Word(w.start, w.end, w.value)
				x.Cadence.word(w.start, w.end, x.Transfer.Plan.Stream.Word())
			}
			f.Words += len(in)
		case len(out) > 0:
			var words []uint64
			for _, w := range out {
				words = append(words, w.value)
				x.Cadence.word(w.start, w.end, x.Transfer.Plan.Stream.Word())
			}
			x.Live.Send(out[0].start, words)
			f.Words += len(out)
		}
	}
}

// quiet lets time go on where nothing came: up to the present, less what may be on the way.
func (f *Follower) quiet(s *capture.Snapshot) {
	for _, x := range f.All {
		late := 2 * x.Transfer.Plan.Stream.Word()
		running := s.Running
		busy := false
		for i := range running {
			if int(running[i].Link) < len(s.Meta().Links) && s.Meta().Links[running[i].Link].Name == x.Link.Name {
				busy = true
				late = max(late, s.Now-running[i].Start)
			}
		}
		if t := s.Now - late; t > x.Live.Now() && !busy {
			x.Live.To(t)
		}
	}
}
