// Package sending sends again and again, at times, or whenever something is seen: what is asked of
// links, a list of it, or what a capture holds.
package sending

import (
	"context"
	"errors"
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/wire"
)

// Item is something to send, at a time behind the beginning.
type Item struct {
	After  quantity.Time
	Link   uint16
	Intent link.Intent
	Text   string // what it is, in words
	// Lasts is how long it was on the line that it was taken from; 0: it is from no line.
	Lasts quantity.Time

	operation *operation.Operation // in place of an intent
}

// Refused says why a link would not take the item; "" where it would.
func (it *Item) Refused(info link.Info) string {
	if it.operation == nil {
		return info.Refuses(it.Intent)
	}
	if !info.Open {
		return info.Problem
	}
	return ""
}

// Plan is what to send, and when.
type Plan struct {
	Items []Item // in order of their times
	// Times is how often all of them are sent, 0 without end; Every the time from one begin to
	// the next.
	Times int
	Every quantity.Time
	// When sends them for each record that fits, in place of times: After counts from its end.
	When *filter.Filter
	// Spaced keeps the times between items also where one comes late: the next one counts from
	// it. Else what is late is caught up. On a port the silence between what a capture holds is
	// kept too, where the port is slower than the line of the capture.
	Spaced bool
	// For is how long it goes on at most, from its begin; 0 is without end.
	For quantity.Time
}

// errOver says that the time of a plan is over.
var errOver = errors.New("the time is over")

// LeastEvery is the least time from one begin to the next.
const LeastEvery = quantity.Microsecond

// Valid says what is wrong with a plan.
func (p *Plan) Valid() error {
	switch {
	case len(p.Items) == 0:
		return fmt.Errorf("there is nothing to send")
	case p.Times < 0:
		return fmt.Errorf("%d times: write 0 for no end", p.Times)
	case p.When == nil && p.Times != 1 && p.Every < LeastEvery:
		return fmt.Errorf("every %s: write at least %s", p.Every, LeastEvery)
	}
	for i := 1; i < len(p.Items); i++ {
		if p.Items[i].After < p.Items[i-1].After {
			return fmt.Errorf("the times of the list go back at number %d", i+1)
		}
	}
	return nil
}

// Progress is how far it has come.
type Progress struct {
	Sent, Failed int
	Why          string // of the latest that failed
	// First and Last are when the first and the latest were done, on the session's time axis.
	First, Last quantity.Time
	// Late is by how much items came later than they were to.
	Late wire.Times
	sum  quantity.Time
	// Waiting is how many characters of a link were not on its line yet when the latest were given
	// to it, beyond these themselves: it does not carry so many. Of how many there were in all.
	Waiting, Of int
	asked       map[uint16]int // characters by link
	latest      int
}

// String says it in words.
func (p *Progress) String() string {
	text := fmt.Sprintf("%d sent", p.Sent)
	if p.Sent > 1 {
		text += fmt.Sprintf(", done from %s to %s", whole(p.First), whole(p.Last))
	} else if p.Sent == 1 {
		text += fmt.Sprintf(", done at %s", whole(p.Last))
	}
	if p.Failed > 0 {
		text += fmt.Sprintf(", %d of them failed: %s", p.Failed, p.Why)
	}
	switch {
	case p.Late.N == 0:
	case p.Waiting > 0:
		text += fmt.Sprintf(", more than the link takes: when the last was given to it, %d of %d characters had not gone out yet", p.Waiting, p.Of)
	case p.Late.Most == 0:
		text += ", each on time"
	default:
		text += fmt.Sprintf(", late by %s, at most %s", p.Late.Mean.Round(3), p.Late.Most.Round(3))
	}
	return text
}

// whole is a time in words, to whole nanoseconds.
func whole(t quantity.Time) string {
	return (t / quantity.Nanosecond * quantity.Nanosecond).Round(6)
}

func (p *Progress) late(t quantity.Time) {
	p.sum += t
	l := &p.Late
	if l.N == 0 || t < l.Least {
		l.Least = t
	}
	l.Most = max(l.Most, t)
	l.N++
	l.Mean = p.sum / quantity.Time(l.N)
}

// Run sends until all is sent or the context ends, and tells how far it has come. The bench says
// what records mean to When; it may be nil.
func Run(ctx context.Context, s link.Session, b *bench.Bench, p *Plan, tell func(Progress)) (done Progress, err error) {
	if err := p.Valid(); err != nil {
		return done, err
	}
	if tell == nil {
		tell = func(Progress) {}
	}
	start, end := s.Now(), quantity.Forever
	before := lined(s)
	defer func() { done.wait(s, before) }()
	if p.For > 0 {
		end = start + p.For
	}
	if p.When != nil {
		err = p.onMatches(ctx, s, b, end, &done, tell)
	}
	for k := 0; p.When == nil && err == nil && (p.Times == 0 || k < p.Times); k++ {
		err = p.once(ctx, s, b, start+quantity.Time(k)*p.Every, end, &done, tell)
	}
	if errors.Is(err, errOver) {
		err = nil
	}
	return done, err
}

// lined gives how many characters of the MCU were on each line so far, by link.
func lined(s link.Session) map[uint16]int {
	snap := s.Store().Snapshot()
	out := map[uint16]int{}
	for i := range snap.Meta().Links {
		out[uint16(i)] = int(snap.Counters(capture.Direction{Link: uint16(i), From: record.MCU, Seen: record.Tap}).Chars)
	}
	return out
}

// wait counts what was asked for and is not on its line yet.
func (p *Progress) wait(s link.Session, before map[uint16]int) {
	now := lined(s)
	for l, asked := range p.asked {
		if s.Info(l).Simulated {
			p.Waiting = max(p.Waiting, asked-p.latest-(now[l]-before[l]))
			p.Of += asked
		}
	}
}

// gave takes note of characters that were given to a link.
func (p *Progress) gave(it *Item) {
	if send, is := it.Intent.(link.Send); is {
		if p.asked == nil {
			p.asked = map[uint16]int{}
		}
		p.latest = len(send.Data)
		p.asked[it.Link] += p.latest
	}
}

// once sends all items, their times counting from a begin; none after the end.
func (p *Plan) once(ctx context.Context, s link.Session, b *bench.Bench, begin, end quantity.Time, done *Progress, tell func(Progress)) error {
	var before quantity.Time // when the item before was sent
	over := map[uint16]quantity.Time{}
	last := map[uint16]*Item{}
	for i := range p.Items {
		it := &p.Items[i]
		info := s.Info(it.Link)
		at := begin + it.After
		if p.Spaced && i > 0 {
			at = max(at, before+it.After-p.Items[i-1].After)
			if x := last[it.Link]; x != nil && x.Lasts > 0 && !info.Simulated {
				at = max(at, over[it.Link]+max(it.After-x.After-x.Lasts, 0))
			}
		}
		if max(at, s.Now()) > end {
			return errOver
		}
		if why := it.Refused(info); why != "" {
			return fmt.Errorf("%s: %s", it.Text, why)
		}
		late := max(s.Now()-at, 0)
		before = max(s.Now(), at)
		var out link.Outcome
		var err error
		if t, timed := s.(link.Timed); timed && info.Simulated && it.operation == nil {
			out, err = t.DoAt(ctx, at, it.Link, it.Intent)
		} else if err = s.Wait(ctx, at, func(*capture.Snapshot) bool { return false }); err == nil {
			// A port is as late as the operating system wakes who waits.
			late = max(s.Now()-at, 0)
			before = s.Now()
			out, err = it.do(ctx, s, b)
		}
		last[it.Link], over[it.Link] = it, before+lineTime(b, it)
		switch {
		case ctx.Err() != nil:
			return link.Ended(ctx)
		case err != nil && !errors.Is(err, link.ErrNotOpen):
			// It can't be said so, now or later; a port may come back.
			return fmt.Errorf("%s: %w", it.Text, err)
		}
		done.Sent++
		done.gave(it)
		done.Last = out.At
		if done.Last == 0 {
			done.Last = s.Now()
		}
		if done.Sent == 1 {
			done.First = done.Last
		}
		done.late(late)
		if err == nil && !out.OK {
			err = fmt.Errorf("%s", out.Text)
		}
		if err != nil {
			done.Failed++
			done.Why = it.Text + ": " + err.Error()
		}
		tell(*done)
	}
	return nil
}

// do does the item now.
func (it *Item) do(ctx context.Context, s link.Session, b *bench.Bench) (link.Outcome, error) {
	if it.operation == nil {
		return s.Do(ctx, it.Link, it.Intent)
	}
	r, err := operate.On(s, b, b.Links[it.Link]).Do(ctx, it.Text, it.operation)
	if err != nil {
		return link.Outcome{}, err
	}
	out := link.Outcome{At: s.Now(), OK: r.Verdict == operate.OK || r.Verdict == operate.Warn, Text: string(r.Verdict)}
	if len(r.Says) > 0 {
		out.Text = r.Says[0]
	}
	return out, nil
}

// onMatches sends for each record that fits, from now on.
func (p *Plan) onMatches(ctx context.Context, s link.Session, b *bench.Bench, end quantity.Time, done *Progress, tell func(Progress)) error {
	m := p.When.Matcher(b, &s.Store().Meta)
	snap := s.Store().Snapshot()
	// What was before tells what changes mean, and fires nothing.
	for i := snap.First(); i < snap.Len(); i++ {
		m.Take(snap.At(i))
	}
	mark := snap.Mark()
	fired := 0
	for p.Times == 0 || fired < p.Times {
		var ends []quantity.Time
		err := s.Wait(ctx, end, func(now *capture.Snapshot) bool {
			for _, i := range now.Since(mark) {
				before := m.Matches
				r := now.At(i)
				if m.Take(r) && m.Matches > before {
					ends = append(ends, r.End)
				}
			}
			mark = records.Mark(now.Mark())
			return len(ends) > 0
		})
		if err != nil {
			return err
		}
		if len(ends) == 0 {
			return errOver
		}
		for _, e := range ends {
			if p.Times > 0 && fired >= p.Times {
				break
			}
			fired++
			if err := p.once(ctx, s, b, e, end, done, tell); err != nil {
				return err
			}
		}
	}
	return nil
}
