// Package comb follows what comes again and again on a link, by what it is: an identifier, an
// address, a device or a sender. Each is a comb whose teeth are arrivals: with its period, what
// is missing between them, and which of its bytes change.
package comb

import (
	"cmp"
	"slices"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/stats"
)

// Tooth is one arrival.
type Tooth struct {
	Start, End quantity.Time
	Bad        bool // with an error mark
}

// Row is what came of one key.
type Row struct {
	stats.Key
	// Head is the word with which messages of characters begin; "" of those without one.
	Head       string
	Count, Bad int
	// Sender is who sent the latest; Senders says that there were several.
	Sender  record.End
	Senders bool
	// Latest is the newest one, Before the one that had other bytes before it, Whole the
	// newest without an error mark.
	Latest, Before, Whole record.Record
	// Varies says of each byte whether it ever changed, Fresh whether it did since Seen.
	Varies, Fresh []bool
	teeth         []Tooth // the newest, in the order of their starts
	// came are the starts of the newest that came whole: one that failed and is sent again is
	// no arrival.
	came    []quantity.Time
	usual   quantity.Time
	usualOf int // teeth when it was reckoned
}

// mostTeeth bounds the teeth, and the arrivals, that are kept of a row; the older half goes then.
const mostTeeth = 4096

// Comb follows a link, or all of them. It is not safe for use by several goroutines.
type Comb struct {
	rows  []*Row
	by    map[id]*Row
	heads map[stats.Key]int
	trail records.Trail
	wants func(r *record.Record) bool
}

// New gives a comb of the records that are wanted.
func New(wants func(r *record.Record) bool) *Comb {
	return &Comb{by: map[id]*Row{}, heads: map[stats.Key]int{}, wants: wants}
}

// Behind is how many records wait to be taken.
func (c *Comb) Behind() int { return c.trail.Behind }

// id is what tells one comb from another.
type id struct {
	stats.Key
	head string
}

// mostHeads bounds into how many combs the messages of a sender of characters fall; what comes
// with further words is one comb.
const mostHeads = 24

// longestHead bounds the word with which a message begins.
const longestHead = 12

// headOf gives the word with which a message of characters begins: letters, and what stands in
// front of them in sentences and commands.
func headOf(r *record.Record) string {
	if r.Kind != record.Chars || r.Wide {
		return ""
	}
	n, letters := 0, 0
	for n < min(len(r.Data), longestHead) {
		b := r.Data[n]
		letter := b >= 'A' && b <= 'Z' || b >= 'a' && b <= 'z'
		if !letter && (b != '$' && b != '_' && b != '#' && b != '*' && b != '?') {
			break
		}
		if n++; letter {
			letters++
		}
	}
	if letters < 2 {
		return "" // a byte of a binary message may look like a letter
	}
	return string(r.Data[:n])
}

// Take takes what came since the last time, so many records at most, and says whether more wait.
func (c *Comb) Take(s *capture.Snapshot, most int) (more bool) {
	fresh, more := c.trail.Next(&s.Reader, most)
	for _, i := range fresh {
		r := s.At(i)
		if k, ok := stats.KeyOf(r); ok && c.wants(r) {
			c.put(k, r)
		}
	}
	return more
}

func (c *Comb) put(k stats.Key, r *record.Record) {
	head := headOf(r)
	x := c.by[id{k, head}]
	if x == nil && head != "" && c.heads[k] >= mostHeads {
		head = ""
		x = c.by[id{k, head}]
	}
	if x == nil {
		if head != "" {
			c.heads[k]++
		}
		x = &Row{Key: k, Head: head, Sender: r.From, Latest: *r, Varies: make([]bool, len(r.Data)), Fresh: make([]bool, len(r.Data))}
		c.by[id{k, head}] = x
		at, _ := slices.BinarySearchFunc(c.rows, x, func(a, b *Row) int {
			return cmp.Or(cmp.Compare(a.Link, b.Link), cmp.Compare(a.ID, b.ID), cmp.Compare(a.From, b.From), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Head, b.Head))
		})
		c.rows = slices.Insert(c.rows, at, x)
	}
	x.Count++
	x.Senders = x.Senders || r.From != x.Sender
	x.Sender = r.From
	bad := r.AllFlags() != 0
	if bad {
		x.Bad++
	}
	t := Tooth{r.Start, r.End, bad}
	at := len(x.teeth)
	for at > 0 && x.teeth[at-1].Start > t.Start {
		at--
	}
	x.teeth = slices.Insert(x.teeth, at, t)
	if len(x.teeth) > mostTeeth {
		x.teeth = slices.Clone(x.teeth[mostTeeth/2:])
	}
	if !bad {
		at, _ := slices.BinarySearch(x.came, r.Start)
		if x.came = slices.Insert(x.came, at, r.Start); len(x.came) > mostTeeth {
			x.came = slices.Clone(x.came[mostTeeth/2:])
		}
	}
	if r.Start < x.Latest.Start {
		return // it came late: what is newer stays
	}
	if !bad {
		x.Whole = *r
	}
	changed := len(r.Data) != len(x.Latest.Data)
	for n := len(r.Data); len(x.Varies) < n; {
		// It was not there before.
		x.Varies, x.Fresh = append(x.Varies, true), append(x.Fresh, true)
	}
	for i, b := range r.Data {
		if i < len(x.Latest.Data) && b != x.Latest.Data[i] {
			x.Varies[i], x.Fresh[i], changed = true, true, true
		}
	}
	if changed {
		x.Before = x.Latest
	}
	x.Latest = *r
}

// Rows gives what came, in the order of links and identifiers.
func (c *Comb) Rows() []*Row { return c.rows }

// Seen takes note that somebody has seen what changed.
func (r *Row) Seen() {
	for i := range r.Fresh {
		r.Fresh[i] = false
	}
}

// mostReckoned is of how many of the newest teeth the usual period is the median.
const mostReckoned = 101

// periods gives those of the newest arrivals.
func (r *Row) periods() []quantity.Time {
	at := r.came[max(0, len(r.came)-mostReckoned):]
	var out []quantity.Time
	for i := 1; i < len(at); i++ {
		out = append(out, at[i]-at[i-1])
	}
	return out
}

// Usual gives the usual period of the newest arrivals, from start to start, as stats.Usual.
func (r *Row) Usual() quantity.Time {
	if r.usualOf != r.Count {
		r.usual, r.usualOf = stats.Usual(r.periods()), r.Count
	}
	return r.usual
}

// Jitter gives how far the newest periods that are no gaps were from the usual one, at most.
func (r *Row) Jitter() quantity.Time {
	usual, most := r.Usual(), quantity.Time(0)
	for _, p := range r.periods() {
		if 2*p < 3*usual {
			most = max(most, p-usual, usual-p)
		}
	}
	return most
}

// Teeth gives those that touch a stretch of time.
func (r *Row) Teeth(from, to quantity.Time) []Tooth {
	var out []Tooth
	for i := len(r.teeth) - 1; i >= 0; i-- {
		t := r.teeth[i]
		if t.Start < to && t.End >= from {
			out = append(out, t)
		} else if t.Start < from-quantity.Second {
			break
		}
	}
	slices.Reverse(out)
	return out
}

// Tick is a time at which something should have come and did not.
type Tick struct {
	At quantity.Time
	// Missing: none came for stats.MissingAfter periods; else one may only be late.
	Missing bool
}

// Ticks gives the times in a stretch at which a tooth is not where one was expected, up to the
// time now: one and a half periods behind the tooth before it is looked for.
func (r *Row) Ticks(from, to, now quantity.Time) []Tick {
	usual := r.Usual()
	if usual <= 0 {
		return nil
	}
	var out []Tick
	gap := func(a, b quantity.Time) {
		if 2*(b-a) < 3*usual || b < from || a > to {
			return
		}
		missing := b-a > stats.MissingAfter*usual
		first := max(1, int64((from-a)/usual))
		for k := quantity.Time(first); a+k*usual <= b-usual/2 && a+k*usual <= to; k++ {
			if at := a + k*usual; at >= from {
				out = append(out, Tick{at, missing})
			}
		}
	}
	came := r.came
	for i := 1; i < len(came); i++ {
		gap(came[i-1], came[i])
	}
	if n := len(came); n > 0 {
		gap(came[n-1], now)
	}
	return out
}

// Overdue gives for how long none has come that should have, once that is longer than
// stats.MissingAfter periods; 0 where none is missing.
func (r *Row) Overdue(now quantity.Time) quantity.Time {
	usual, came := r.Usual(), r.came
	if n := len(came); usual > 0 && n > 0 && now-came[n-1] > stats.MissingAfter*usual {
		return now - came[n-1]
	}
	return 0
}
