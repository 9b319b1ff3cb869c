// Package stats gives figures of a stretch of traffic: how much, how long, with
// what gaps, how fast it was answered.
package stats

import (
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
	t := Traffic{Span: to - from}
	var in []*record.Record
	for _, r := range rs {
		if r.Traffic() && r.Kind != record.Flow && r.Start >= from && r.End <= to {
			in = append(in, r)
		}
	}
	slices.SortStableFunc(in, func(a, b *record.Record) int { return int(a.Start - b.Start) })
	var lengths, gaps, replies, rounds []quantity.Time
	end := from
	var asked *record.Record
	for i, r := range in {
		t.Records++
		t.Bytes += r.Len()
		if r.Kind == record.Transaction && r.Bits > 0 {
			t.Bytes += len(r.Data) + len(r.Back) - r.Len()
		}
		if r.AllFlags() != 0 {
			t.Bad++
		}
		lengths = append(lengths, r.End-r.Start)
		if i > 0 && r.Start >= end {
			gaps = append(gaps, r.Start-end)
		}
		t.Busy += max(r.End-max(r.Start, end), 0)
		switch {
		case r.From == record.MCU:
			asked = r
		case r.From >= record.Device && r.Kind == record.Chars && asked != nil && r.End > asked.End:
			// What begins while the question is still sent, as an echo does, is no answer to
			// the whole of it: its last character alone need come behind it.
			own := 1
			if r.Start >= asked.End {
				replies, own = append(replies, r.Start-asked.End), r.Len()
			}
			rounds = append(rounds, r.End-asked.Start)
			line := asked.Each*quantity.Time(asked.Len()) + r.Each*quantity.Time(own)
			if line = min(line, r.End-asked.Start); t.Line == 0 || line < t.Line {
				t.Line = line
			}
			asked = nil
		}
		end = max(end, r.End)
	}
	t.Length, t.Gap, t.Reply, t.Round = wire.TimesOf(lengths), wire.TimesOf(gaps), wire.TimesOf(replies), wire.TimesOf(rounds)
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
