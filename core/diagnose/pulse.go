package diagnose

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// pulseLine gives findings about the newest traffic of a pulse line.
func pulseLine(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	bad, cut, all := 0, 0, 0
	var last *records.Head
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Transaction, record.Input}}) {
		if h.Start < snap.Now-window || h.Kind == record.Input {
			break
		}
		all++
		if h.Flags == 0 {
			continue
		}
		if last == nil {
			last = h
		}
		if h.Flags&record.Glitch != 0 {
			bad++
		} else {
			cut++
		}
	}
	add := func(code, seen, why, change string) []finding.Finding {
		return []finding.Finding{{Severity: finding.Warning, Code: code, Where: finding.Place{Link: l.Name, At: last.Start}, Seen: seen, Why: why, Change: change}}
	}
	name := l.Ends[1].Name
	switch {
	case bad > 0:
		return add("pulses-outside-limits", fmt.Sprintf("%d of %d frames have pulses outside the limits of %s", bad, all, name), "the bit is read by the nearer width, right or wrong", "compare the times in Timing; then look at the line for a slow edge")
	case cut > 0:
		return add("latched-within-a-frame", fmt.Sprintf("%d of %d frames were latched within an element", cut, all), "the line rested low for as long as a latch: the unit pauses between bytes, or a handler fed it too late", "feed the unit by DMA, or shorten the pause")
	}
	return nil
}
