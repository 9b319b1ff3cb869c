// Package stats gives figures of a stretch of traffic: how much, how long, with
// what gaps, how fast it was answered.
package stats

import (
	"cmp"
	"fmt"
	"slices"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// Traffic are figures of one link's records in a stretch of time.
type Traffic struct {
	Records int
	Bytes   int // of both directions
	Bad     int // records with an error mark
	Span    quantity.Time
	Length  wire.Times // from start to end of a record
	Gap     wire.Times // from the end of a record to the start of the next
	// Reply is the time from the end of what the MCU sent to the start of a
	// device's record behind it, on a link where each has its line.
	Reply wire.Times
	// Round is the time from the start of such a question to the end of the answer's
	// first record; Line the least that their characters alone took on the line.
	Round wire.Times
	Line  quantity.Time
	Busy  quantity.Time // how long at least one record lasted
}

// PerSecond is the number of bytes a second.
func (t *Traffic) PerSecond() float64 {
	if t.Span <= 0 {
		return 0
	}
	return float64(t.Bytes) / t.Span.Seconds()
}

// Share is the part of the stretch in which there was traffic: of what the link
// could carry with the frames that it has.
func (t *Traffic) Share() float64 {
	if t.Span <= 0 {
		return 0
	}
	return float64(t.Busy) / float64(t.Span)
}

// Of gives the figures of records as one receiver saw them, whole ones in a
// stretch of time. Their order does not matter.
func Of(rs []*record.Record, from, to quantity.Time) Traffic {
	var in []item
	for _, r := range rs {
		if x, ok := itemOf(r); ok && x.start >= from && x.end <= to {
			in = append(in, x)
		}
	}
	slices.SortStableFunc(in, func(a, b item) int { return cmp.Compare(a.start, b.start) })
	return figures(in, from, to)
}

func figures(in []item, from, to quantity.Time) Traffic {
	t := Traffic{Span: to - from}
	var lengths, gaps, replies, rounds wire.Sum
	end := from
	var asked *item
	for i := range in {
		r := &in[i]
		t.Records++
		t.Bytes += int(r.bytes)
		if r.bad {
			t.Bad++
		}
		lengths.Add(r.end - r.start)
		if i > 0 && r.start >= end {
			gaps.Add(r.start - end)
		}
		t.Busy += max(r.end-max(r.start, end), 0)
		switch {
		case r.from == record.MCU:
			asked = r
		case r.from >= record.Device && r.chars && asked != nil && r.end > asked.end:
			// What begins while the question is still sent, as an echo does, is no answer to
			// the whole of it: its last character alone need come behind it.
			own := int32(1)
			if r.start >= asked.end {
				replies.Add(r.start - asked.end)
				own = r.n
			}
			rounds.Add(r.end - asked.start)
			line := asked.each*quantity.Time(asked.n) + r.each*quantity.Time(own)
			if line = min(line, r.end-asked.start); t.Line == 0 || line < t.Line {
				t.Line = line
			}
			asked = nil
		}
		end = max(end, r.end)
	}
	t.Length, t.Gap, t.Reply, t.Round = lengths.Times(), gaps.Times(), replies.Times(), rounds.Times()
	return t
}

// Lines gives the figures in words.
func (t *Traffic) Lines() []string {
	if t.Records == 0 {
		return nil
	}
	out := []string{fmt.Sprintf("%s, %s, %d bad: %.4g bytes/s, traffic %.3g %% of the time; a record lasts %s", quantity.Count(t.Records, "record"), quantity.Count(t.Bytes, "byte"), t.Bad, t.PerSecond(), 100*t.Share(), spread(t.Length))}
	if t.Gap.N > 0 {
		out = append(out, "gaps of "+spread(t.Gap))
	}
	if t.Round.N > 0 {
		line := "there and back " + spread(t.Round)
		if t.Reply.N > 0 {
			line = fmt.Sprintf("%s after %s; %s", quantity.Count(t.Reply.N, "answer"), spread(t.Reply), line)
		}
		if t.Line > 0 {
			line += fmt.Sprintf(", at least %s by the characters alone", t.Line.Round(4))
		}
		out = append(out, line)
	}
	return out
}

func spread(t wire.Times) string {
	if t.Least == t.Most {
		return t.Mean.Round(4)
	}
	return fmt.Sprintf("%s (%s to %s)", t.Mean.Round(4), t.Least.Round(4), t.Most.Round(4))
}
