// Package diagnose goes from what was seen on a link to its likely causes. It
// looks only at what an engineer could see: the capture and the bench.
package diagnose

import (
	"fmt"
	"sort"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// patience is how long a sent message may stay without an answer before that
// is worth a finding.
const patience = 50 * quantity.Millisecond

// Exchange is one message that the MCU sent, and what came back before the
// next one.
type Exchange struct {
	Sent       []byte
	Start, End quantity.Time
	Answer     []byte
	Marks      record.Flags
	AnswerAt   quantity.Time
}

// mostLooked bounds the records of a link that are looked at.
const mostLooked = 20_000

// memory is how long an unanswered message stays worth a finding.
const memory = 30 * quantity.Second

// Recent gives the exchanges of a link that began in the last 30 s, and after
// the last change of settings, oldest first.
func Recent(snap *capture.Snapshot, l uint16) []Exchange {
	var runs []*record.Record
	q := records.Query{Link: int(l)}
	take := func(r *record.Record) bool {
		return r.Kind == record.Chars && r.Len() > 0 &&
			(r.From == record.Device && r.Seen == record.MCU || r.From == record.MCU && (r.Seen == record.Tap || r.Seen == record.Nobody))
	}
	looked := 0
	for _, h := range snap.Before(snap.Len(), q) {
		if h.Start < snap.Now-memory || h.Kind == record.Changed || looked > mostLooked {
			break
		}
		looked++
		if r := snap.Of(h); take(r) {
			runs = append(runs, r)
		}
	}
	for i := range snap.Running {
		if r := &snap.Running[i]; q.WantsRecord(r) && take(r) {
			runs = append(runs, r)
		}
	}
	sort.SliceStable(runs, func(i, j int) bool { return runs[i].Start < runs[j].Start })
	var out []Exchange
	for _, r := range runs {
		if r.From == record.MCU {
			out = append(out, Exchange{Sent: r.Data, Start: r.Start, End: r.End})
		}
	}
	for _, r := range runs {
		if r.From != record.MCU {
			answer(out, r)
		}
	}
	return out
}

// answer gives each character of a run to the message before it: one run may hold the
// answers to several.
func answer(out []Exchange, r *record.Record) {
	for i := range r.Len() {
		at := r.Start
		if i < len(r.Offsets) {
			at += r.Offsets[i]
		}
		k := sort.Search(len(out), func(k int) bool { return out[k].Start > at }) - 1
		if k < 0 {
			continue // it answers something older
		}
		x := &out[k]
		if x.Answer == nil {
			x.AnswerAt = at
		}
		x.Answer = append(x.Answer, byte(r.Char(i)))
		x.Marks |= r.FlagsAt(i)
	}
}

// changed is when a link was changed last; errors from before may be mended.
func changed(snap *capture.Snapshot, l uint16) quantity.Time {
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l), Kinds: []record.Kind{record.Changed}}) {
		return h.End
	}
	return -1
}

// lastUnanswered gives the newest exchange without an answer, unless the same
// message was answered since.
func lastUnanswered(snap *capture.Snapshot, l uint16) (Exchange, bool) {
	all := Recent(snap, l)
	answered := map[string]bool{}
	for i := len(all) - 1; i >= 0; i-- {
		x := all[i]
		switch {
		case len(x.Answer) > 0:
			answered[string(x.Sent)] = true
		case snap.Now >= x.End+patience && !answered[string(x.Sent)]:
			return x, true
		}
	}
	return Exchange{}, false
}

// kinds find what is wrong with the newest traffic of links, by the name of their
// kind.
var kinds = map[string]func(*capture.Snapshot, *bench.Link) []finding.Finding{
	"uart":  uartLink,
	"spi":   spiBus,
	"i2c":   i2cBus,
	"can":   canBus,
	"pulse": pulseLine,
}

// Link gives findings about the newest traffic of a link. Those that the
// bench alone shows are Lint's.
func Link(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	find, known := kinds[l.Kind.Name]
	if !known {
		return nil
	}
	out := find(snap, l)
	for i := range out {
		out[i].Link = l.Name
	}
	finding.Sort(out)
	return out
}

// number gives a count with its noun.
func number(n uint64, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}
