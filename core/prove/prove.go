// Package prove runs a bench's checks over a session and judges them.
package prove

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// sendLimit is how long a check waits for its bytes to go out: the link may
// be in the middle of an exchange of its own.
const sendLimit = 2 * quantity.Second

// Link runs all checks of one link, one after the other.
func Link(ctx context.Context, s link.Session, l *bench.Link) ([]check.Result, error) {
	var out []check.Result
	for _, c := range l.Checks {
		r, err := One(ctx, s, l, c)
		if err != nil {
			return out, err
		}
		out = append(out, r)
	}
	return out, nil
}

// One runs one check. The error is ctx's when it was cancelled.
func One(ctx context.Context, s link.Session, l *bench.Link, c check.Check) (check.Result, error) {
	r := check.Result{Link: l.Name, Check: c.Name, Sent: c.Send, Simulated: s.Info(l.Index).Simulated}
	problem, err := ready(ctx, s, l.Index)
	if err == nil {
		err = up(ctx, s, l)
	}
	switch {
	case err != nil:
		return r, err
	case problem != "":
		r.Problem = problem
	case c.Plan != "":
		err = transaction(ctx, s, l, c, &r)
	case len(c.Send) == 0:
		err = watch(ctx, s, l, c, &r)
	default:
		err = exchange(ctx, s, l, c, &r)
	}
	if err != nil {
		return r, err
	}
	r.Pass = r.Problem == "" && len(r.Differences) == 0
	s.Store().Put(&record.Record{
		Kind: record.Verdict, Link: l.Index, Origin: record.FromGavrix, Start: s.Now(), End: s.Now(), Text: r.Summary(),
	})
	return r, nil
}

// openWait is how long a check waits for the link's port to open.
const openWait = 3 * quantity.Second

// up lets time go on until all parts of a simulated link answer after power-up.
func up(ctx context.Context, s link.Session, l *bench.Link) error {
	at := l.Up()
	if !s.Info(l.Index).Simulated || s.Now() >= at {
		return nil
	}
	return s.Wait(ctx, at, func(*capture.Snapshot) bool { return false })
}

// ready waits for a port that is not open yet, and says why it is not.
func ready(ctx context.Context, s link.Session, l uint16) (problem string, err error) {
	if s.Info(l).Open {
		return "", nil
	}
	err = s.Wait(ctx, s.Now()+openWait, func(*capture.Snapshot) bool { return s.Info(l).Open })
	if info := s.Info(l); !info.Open {
		problem = link.ErrNotOpen.Error() + ": " + info.Problem
	}
	return problem, err
}

// watch looks for the expected bytes in what comes by itself.
func watch(ctx context.Context, s link.Session, l *bench.Link, c check.Check, r *check.Result) error {
	start, late := s.Now(), s.Info(l.Index).Resolution
	found := -1
	var seen []check.Char
	err := s.Wait(ctx, start+c.Within, func(snap *capture.Snapshot) bool {
		seen, _ = received(snap, l.Index, start, start+c.Within+late)
		found = check.Find(c.Expect, seen)
		return found >= 0
	})
	if err != nil {
		return err
	}
	if found >= 0 {
		seen = seen[found : found+len(c.Expect)]
		r.Seen, r.Took = data(seen), seen[len(seen)-1].End-start
		return nil
	}
	r.Seen = data(seen)
	if len(seen) == 0 {
		r.Problem = fmt.Sprintf("nothing came within %s", c.Within)
		return nil
	}
	// The first place that begins like a message gives the differences.
	best := -1
	for at := 0; at+len(c.Expect) <= len(seen); at++ {
		if d := check.Compare(c.Expect, seen[at:at+len(c.Expect)]); best < 0 || len(d) < best {
			best, r.Differences = len(d), d
		}
	}
	if best < 0 {
		r.Differences = check.Compare(c.Expect, seen)
	}
	return nil
}

// transaction does what the check says, and waits for the transaction that it
// expects.
func transaction(ctx context.Context, s link.Session, l *bench.Link, c check.Check, r *check.Result) error {
	plan, err := intent.New(l.Kind, l.Model.Tap(), c.Plan, l.Model.Bit())
	if err != nil {
		r.Problem = err.Error()
		return nil
	}
	start := s.Now()
	if c.Do != "" {
		// A transaction that never ends must not hold up the checks.
		limit, cancel := context.WithTimeout(ctx, doLimit)
		out, err := s.Do(limit, l.Index, link.Transact{Text: c.Do})
		cancel()
		switch {
		case ctx.Err() != nil:
			return link.Ended(ctx)
		case err != nil:
			r.Problem = err.Error()
			return nil
		case !out.OK:
			r.Problem = out.Text
		}
	}
	var nearest []string
	found := quantity.Time(-1)
	last := "nothing was seen"
	late := s.Info(l.Index).Resolution
	err = s.Wait(ctx, start+c.Within+late, func(snap *capture.Snapshot) bool {
		for _, h := range snap.After(snap.IndexAt(start), records.Query{Link: int(l.Index), Traffic: true}) {
			if h.Start < start || h.End > start+c.Within+late {
				continue
			}
			rec := snap.Of(h)
			differs, is := plan.Read(rec)
			if !is {
				last = "the last one seen is: " + strings.TrimSpace(l.Kind.Sentence(rec)+"  "+rec.AllFlags().String())
				continue
			}
			if len(differs) == 0 {
				found = h.End
				return true
			}
			if nearest == nil || len(differs) < len(nearest) {
				nearest, last = differs, "it was seen as: "+strings.TrimSpace(l.Kind.Sentence(rec))
			}
		}
		return false
	})
	switch {
	case err != nil:
		return err
	case found >= 0:
		r.Problem, r.Seen, r.Took = "", nil, found-start
	case nearest != nil:
		r.Problem = strings.TrimPrefix(r.Problem+"; "+strings.Join(nearest, ", ")+"; "+last, "; ")
	case r.Problem == "":
		r.Problem = fmt.Sprintf("no such transaction within %s; %s", c.Within, last)
	}
	return nil
}

// doLimit is how long a transaction that is done for a check may take.
const doLimit = 5 * time.Second

// exchange sends and compares the answer.
func exchange(ctx context.Context, s link.Session, l *bench.Link, c check.Check, r *check.Result) error {
	asked := s.Now()
	if _, err := s.Do(ctx, l.Index, link.Send{Data: c.Send}); err != nil {
		if errors.Is(err, link.ErrNotOpen) {
			r.Problem = err.Error()
			return nil
		}
		return err
	}
	var from, end quantity.Time
	err := s.Wait(ctx, asked+sendLimit, func(snap *capture.Snapshot) bool {
		from, end = sentSpan(snap, l.Index, asked, c.Send)
		return end > 0
	})
	if err != nil {
		return err
	}
	if end == 0 {
		r.Problem = fmt.Sprintf("the bytes did not go out within %s: the link was never free", sendLimit)
		return nil
	}
	var seen []check.Char
	var each quantity.Time
	deadline, late := end+c.Within, s.Info(l.Index).Resolution
	collect := func(snap *capture.Snapshot) bool {
		seen, each = received(snap, l.Index, from, deadline+late)
		return len(seen) >= len(c.Expect)
	}
	if err = s.Wait(ctx, deadline, collect); err != nil {
		return err
	}
	if len(seen) > 0 && len(check.Compare(c.Expect, seen)) > 0 {
		// What the other side says by itself may come first.
		at := -1
		err = s.Wait(ctx, deadline, func(snap *capture.Snapshot) bool {
			collect(snap)
			at = check.Answer(c.Expect, c.Send, seen)
			return at >= 0
		})
		if err != nil {
			return err
		}
		if at >= 0 {
			seen = seen[at : at+len(c.Expect)]
			r.Seen, r.Took = data(seen), max(seen[len(seen)-1].End-end, 0)
			return nil
		}
	}
	if len(seen) >= len(c.Expect) {
		// An answer that is too long shows within one more character.
		enough := seen[len(c.Expect)-1].End + 2*each
		err = s.Wait(ctx, min(enough, deadline), func(snap *capture.Snapshot) bool {
			collect(snap)
			return false
		})
		if err != nil {
			return err
		}
	}
	r.Seen = data(seen)
	if len(seen) == 0 {
		r.Problem = fmt.Sprintf("no answer within %s", c.Within)
		return nil
	}
	// The end of sending is reckoned where a port does not tell it.
	r.Took = max(seen[min(len(seen), len(c.Expect))-1].End-end, 0)
	r.Differences = check.Compare(c.Expect, seen)
	return nil
}

// runs calls f for all runs of a direction that end after the time from,
// unfinished ones last.
func runs(snap *capture.Snapshot, l uint16, from quantity.Time, sender record.End, seen []record.End, f func(*record.Record)) {
	is := func(r *record.Record) bool {
		if r.Kind != record.Chars || r.Link != l || r.From != sender || r.End <= from {
			return false
		}
		for _, s := range seen {
			if r.Seen == s {
				return true
			}
		}
		return false
	}
	for _, h := range snap.After(snap.IndexAt(from+1), records.Query{Link: int(l), Kinds: []record.Kind{record.Chars}, From: []record.End{sender}, Seen: seen}) {
		f(snap.Of(h))
	}
	for i := range snap.Running {
		if r := &snap.Running[i]; is(r) {
			f(r)
		}
	}
}

// received gives the characters from the device that began after the time from
// and were complete by the time until: what came later came too late, even if
// it is seen when the verdict is made. It gives the time of a character too.
func received(snap *capture.Snapshot, l uint16, from, until quantity.Time) (out []check.Char, each quantity.Time) {
	runs(snap, l, from, record.Device, []record.End{record.MCU}, func(r *record.Record) {
		each = max(each, r.Each)
		for i := range r.Len() {
			start, end := r.Start, r.End
			if i < len(r.Offsets) {
				start = r.Start + r.Offsets[i]
				end = start + r.Each
			}
			if start >= from && end <= until {
				out = append(out, check.Char{Byte: byte(r.Char(i)), Flags: r.FlagsAt(i), End: end})
			}
		}
	})
	return out, each
}

func data(seen []check.Char) []byte {
	var out []byte
	for _, c := range seen {
		out = append(out, c.Byte)
	}
	return out
}

// sentSpan finds the bytes on the MCU's own line and gives their start and
// end; end is 0 while they are not all out.
func sentSpan(snap *capture.Snapshot, l uint16, asked quantity.Time, want []byte) (from, end quantity.Time) {
	var got []byte
	var starts, ends []quantity.Time
	runs(snap, l, asked, record.MCU, []record.End{record.Tap, record.Nobody}, func(r *record.Record) {
		for i := range r.Len() {
			start, stop := r.Start, r.End
			if i < len(r.Offsets) {
				start = r.Start + r.Offsets[i]
				stop = start + r.Each
			}
			if start >= asked {
				got, starts, ends = append(got, byte(r.Char(i))), append(starts, start), append(ends, stop)
			}
		}
	})
	// The firmware's own traffic may come first; ours is the last match.
	for at := len(got) - len(want); at >= 0; at-- {
		if string(got[at:at+len(want)]) == string(want) {
			return starts[at], ends[at+len(want)-1]
		}
	}
	return 0, 0
}
