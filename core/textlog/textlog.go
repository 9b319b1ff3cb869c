// Package textlog writes records as lines of text, with what they mean.
package textlog

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/safe"
)

// placed is where inputs say for a replay when and on which link they were put: here both
// stand in front already.
var placed = regexp.MustCompile(`^at [0-9]+ "(?:[^"\\]|\\.)*" `)

// Line gives a record as a line: its time, its link, what was on it, what that means, and what
// is wrong with it.
func Line(meta *capture.Meta, meanings *bench.Meanings, r *record.Record) string {
	l := &meta.Links[r.Link]
	var b strings.Builder
	fmt.Fprintf(&b, "%14.6f s  %-12s ", r.Start.Seconds(), safe.Text(l.Name))
	switch kind := all.ByName(l.Kind); {
	case r.Kind == record.Chars:
	case r.Kind == record.Flow:
		fmt.Fprintf(&b, "%s: %s\n", safe.Text(l.EndName(r.From)), safe.Text(r.Text))
		return b.String()
	case kind != nil && (r.Kind == record.Transaction || r.Kind == record.Frame):
		mark := ""
		if f := r.AllFlags(); f != 0 {
			mark = "  ▲ " + f.String()
		}
		fmt.Fprintf(&b, "%s%s\n", safe.Text(meanings.Sentence(l.Name, kind.Sentence(r), r)), mark)
		return b.String()
	default:
		fmt.Fprintf(&b, "%s: %s\n", r.Kind, safe.Text(placed.ReplaceAllString(r.Text, "")))
		return b.String()
	}
	to := l.Device()
	if r.From == record.Device {
		to = l.MCU()
	}
	way := l.EndName(r.From) + " → " + to
	if r.Seen == record.Tap {
		way += " (tap)"
	}
	fmt.Fprintf(&b, "%-22s % X  %s", safe.Text(way), r.Data, safe.Bytes(r.Data))
	if text := meanings.Text(l.Name, r); text != "" {
		fmt.Fprintf(&b, "   %s", safe.Text(text))
	}
	for _, m := range r.Marks {
		if m.Index < r.Len() {
			fmt.Fprintf(&b, "  ▲ %s in character %d", m.Flags, m.Index+1)
		} else {
			fmt.Fprintf(&b, "  ▲ %s after the last", m.Flags)
		}
	}
	b.WriteByte('\n')
	return b.String()
}

const (
	// beat is the time from one look at what is new to the next.
	beat = 100 * time.Millisecond
	// mostAtOnce bounds the records of one writing.
	mostAtOnce = 4096
)

// Follow writes the records that come from now on and are wanted, until the context ends; what
// came until then is written too. It tells how many lines there are after each writing.
func Follow(ctx context.Context, out io.Writer, snapshot func() *capture.Snapshot, meanings *bench.Meanings, wants func(*record.Record) bool, tell func(lines int)) error {
	w := bufio.NewWriter(out)
	trail := records.TrailFrom(&snapshot().Reader)
	tick := time.NewTicker(beat)
	defer tick.Stop()
	lines := 0
	for over := false; !over; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			over = true
		}
		snap := snapshot()
		for more := true; more; {
			var numbers []int
			numbers, more = trail.Next(&snap.Reader, mostAtOnce)
			for _, i := range numbers {
				if r := snap.At(i); wants(r) {
					lines++
					if _, err := w.WriteString(Line(snap.Meta(), meanings, r)); err != nil {
						return err
					}
				}
			}
		}
		if err := w.Flush(); err != nil {
			return err
		}
		tell(lines)
	}
	return nil
}
