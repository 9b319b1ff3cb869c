package diagnose

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// seenOnBus is what a tap saw of a can bus lately.
type seenOnBus struct {
	good, bad, unacknowledged int
	last                      *record.Record
	flags                     record.Flags
}

// canBus gives findings about the newest traffic of a can bus.
func canBus(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	var out []finding.Finding
	add := func(sev finding.Severity, code string, at quantity.Time, seen, why, change string) {
		out = append(out, finding.Finding{Severity: sev, Code: code, Where: finding.Place{Link: l.Name, At: at}, Seen: seen, Why: why, Change: change})
	}
	if since, held := heldLow(snap, l.Index, 0); held {
		add(finding.Error, "line-held-dominant", since, fmt.Sprintf("the line of %s is dominant without end", l.Name),
			"no node sees the eleven recessive bits that it waits for, so none takes part", "look for a driver that is stuck, a swapped pair or a short")
		return out
	}
	s := lately(snap, l.Index)
	switch {
	case s.unacknowledged > 0 && s.good == 0 && s.bad == 0:
		add(finding.Warning, "nobody-acknowledges", s.last.Start, fmt.Sprintf("%s of %s without acknowledge in the last second", number(uint64(s.unacknowledged), "frame"), who(l, s.last)),
			"it is alone: all others are off, listen only, or are in stand-by", "look at the startup of the MCU's node (s), and at the others' supply")
	case s.bad > 0:
		add(finding.Warning, "error-frames", s.last.Start, fmt.Sprintf("%s with errors in the last second (%s), %d good", number(uint64(s.bad+s.unacknowledged), "frame"), s.flags, s.good),
			"rates or sample points differ, a clock is off, or the line is disturbed", "compare the nodes in Timing")
	}
	return out
}

// who names the sender of a frame.
func who(l *bench.Link, r *record.Record) string {
	if r.From == record.MCU {
		return "the MCU"
	}
	if i := int(r.From) - int(record.Device) + 1; r.From >= record.Device && i < len(l.Ends) {
		return l.Ends[i].Name
	}
	return "one node"
}

func lately(snap *capture.Snapshot, link uint16) (s seenOnBus) {
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(link), Kinds: []record.Kind{record.Frame, record.Input}}) {
		if h.Start < snap.Now-window || h.Kind == record.Input {
			break
		}
		switch h.Flags {
		case 0:
			s.good++
			continue
		case record.NotAcknowledged:
			s.unacknowledged++
		default:
			s.bad++
		}
		s.flags |= h.Flags
		if s.last == nil {
			s.last = snap.Of(h)
		}
	}
	return s
}
