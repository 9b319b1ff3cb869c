package sim

import (
	"bytes"
	"context"
	"fmt"
	"reflect"
	"slices"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// BenchOf gives the bench that a capture carries. It is an error if there is none, if
// it can't be read, or if its links aren't those of the capture.
func BenchOf(m *capture.Meta) (*bench.Bench, error) {
	if m.Bench == "" {
		return nil, fmt.Errorf("the capture carries no bench: it was not recorded from one")
	}
	b, faults := bench.FromFiles("the bench of the capture", m.Bench, m.Files)
	if b == nil {
		return nil, fmt.Errorf("%s", faults[0].String())
	}
	if err := Suits(b, m); err != nil {
		return nil, fmt.Errorf("the bench that the capture carries is not its own: %w", err)
	}
	b.Seed = m.Seed
	return b, nil
}

// Suits says in what the links of a bench are not those of a capture, by name, kind,
// ends and lines. Of decoded levels there may be links behind those of the bench.
func Suits(b *bench.Bench, m *capture.Meta) error {
	n := len(m.Links)
	for n > 0 && n > len(b.Links) && m.Links[n-1].Decoded {
		n-- // buses that were found beside those of the bench
	}
	if len(b.Links) != n {
		return fmt.Errorf("the capture has %d links, the bench %d", len(m.Links), len(b.Links))
	}
	for i, l := range b.Links {
		c := m.Links[i]
		if c.Name != l.Name || c.Kind != l.Kind.Name || len(c.Ends) > len(l.Ends) {
			return fmt.Errorf("link %d of the capture is %s (%s, %d ends), in the bench %s (%s, %d ends)", i+1, c.Name, c.Kind, len(c.Ends), l.Name, l.Kind.Name, len(l.Ends))
		}
		if len(c.Roles) == 0 {
			continue // nothing is known of its lines
		}
		roles := l.Roles()
		if len(c.Roles) != len(roles) {
			return fmt.Errorf("link %s of the capture has %d lines, in the bench %d", l.Name, len(c.Roles), len(roles))
		}
		for k, r := range roles {
			if c.Roles[k] != r.Name {
				return fmt.Errorf("line %d of link %s of the capture is its %s, in the bench its %s", k+1, l.Name, c.Roles[k], r.Name)
			}
		}
	}
	return nil
}

// Inputs gives what was put into the world of a capture, in order: with them, its
// bench and its seed the capture can be made again.
func Inputs(snap *capture.Snapshot) ([]link.Input, error) {
	var out []link.Input
	for i := snap.First(); i < snap.Len(); i++ {
		if snap.Head(i).Kind != record.Input {
			continue
		}
		in, err := link.ParseInput(snap.At(i).Text)
		if err != nil {
			return nil, err
		}
		out = append(out, in)
	}
	return out, nil
}

// replaySlice is how far a replay goes on before it looks whether it is wanted still.
const replaySlice = 50 * quantity.Millisecond

// Replay makes a capture again: a new world of the bench goes on to the time to, and
// each input is put in at its time. It tells progress how far it is, which may be
// nil.
func Replay(ctx context.Context, b *bench.Bench, inputs []link.Input, to quantity.Time, progress func(quantity.Time)) (*capture.Store, error) {
	w := New(b, capture.NewStore(MetaOf(b)))
	run := func(to quantity.Time) error {
		for w.now < to {
			if err := ctx.Err(); err != nil {
				return err
			}
			w.RunTo(min(to, w.now+replaySlice))
			if progress != nil {
				progress(w.now)
			}
		}
		return nil
	}
	for _, in := range inputs {
		if in.At < w.now {
			return w.store, fmt.Errorf("the input at %s comes after a later one", in.At)
		}
		if err := run(in.At); err != nil {
			return w.store, err
		}
		if err := w.Do(in.Link, in.Intent, nil); err != nil {
			return w.store, fmt.Errorf("at %s: %w", in.At, err)
		}
	}
	return w.store, run(to)
}

// Parting is the first record in which a replay differs from its capture. Either may
// be nil, where it has no such record.
type Parting struct {
	Was, Is *record.Record
}

// longestEnding is how long a record may wait behind its last bit until its end is
// sure. So long one from each sender to each reader may lack at the end of a capture
// that was cut off.
const longestEnding = quantity.Second

// Compare holds a capture against its replay, which went on beyond its end. Only what
// the simulated world made is compared; the last record from each sender to each
// reader may be cut off in the capture. It gives how many records are alike.
func Compare(was, is *capture.Snapshot) (alike int, first *Parting) {
	type channel struct {
		link       uint16
		kind       record.Kind
		from, seen record.End
	}
	list := func(s *capture.Snapshot) (map[channel][]*record.Record, []channel, quantity.Time) {
		out, order, last := map[channel][]*record.Record{}, []channel(nil), quantity.Time(0)
		add := func(r *record.Record) {
			if !simulatedRecord(s.Meta(), r) {
				return
			}
			c := channel{r.Link, r.Kind, r.From, r.Seen}
			if out[c] == nil {
				order = append(order, c)
			}
			out[c] = append(out[c], r)
			last = max(last, r.End)
		}
		for i := s.First(); i < s.Len(); i++ {
			add(s.At(i))
		}
		for i := range s.Running {
			add(&s.Running[i])
		}
		return out, order, last
	}
	a, order, last := list(was)
	b, others, _ := list(is)
	earliest := func(p Parting) {
		at := func(p *Parting) quantity.Time {
			if p.Was != nil {
				return p.Was.Start
			}
			return p.Is.Start
		}
		if first == nil || at(&p) < at(first) {
			first = &p
		}
	}
	for _, c := range order {
		for i, r := range a[c] {
			if i >= len(b[c]) {
				earliest(Parting{Was: r})
				break
			}
			if x := b[c][i]; !reflect.DeepEqual(*r, *x) && (i < len(a[c])-1 || !begins(r, x)) {
				earliest(Parting{r, x})
				break
			}
			alike++
		}
	}
	for _, c := range others {
		n := len(a[c])
		if n < len(b[c]) && b[c][n].End < last-longestEnding || n+1 < len(b[c]) && b[c][n+1].End < last {
			earliest(Parting{Is: b[c][n]})
		}
	}
	return alike, first
}

// simulatedRecord says whether a record is the simulated world's.
func simulatedRecord(m *capture.Meta, r *record.Record) bool {
	if int(r.Link) >= len(m.Links) || m.Links[r.Link].Real {
		return false
	}
	return !slices.Contains([]record.Kind{record.Verdict, record.Note, record.Opened, record.Lost, record.Gap, record.Returned}, r.Kind)
}

// begins says whether a record that was cut off is the beginning of another.
func begins(cut, whole *record.Record) bool {
	return cut.Start == whole.Start && cut.End <= whole.End && bytes.HasPrefix(whole.Data, cut.Data)
}
