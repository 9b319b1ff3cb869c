package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/recognise"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

const (
	// leastRead and mostRead are the numbers of characters that are judged.
	leastRead, mostRead = 30, 400
	// leastDifferent is how many different characters there must be.
	leastDifferent = 12
	// leastSure is by how many bits another frame must fit better than the
	// receiver's own.
	leastSure = 10
)

// received gives the newest characters that the MCU read of a device, since the
// last change of settings.
func received(snap *capture.Snapshot, l uint16) []recognise.Char {
	var out []recognise.Char
	take := func(r *record.Record) {
		if r.Kind != record.Chars || r.Link != l || r.From != record.Device || r.Seen != record.MCU {
			return
		}
		for i := r.Len() - 1; i >= 0 && len(out) < mostRead; i-- {
			out = append(out, recognise.Char{Value: r.Char(i), Flags: r.FlagsAt(i)})
		}
	}
	for i := range snap.Running {
		take(&snap.Running[i])
	}
	looked := 0
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l)}) {
		if looked++; h.Kind == record.Changed || h.Start < snap.Now-10*quantity.Second || looked > mostLooked || len(out) >= mostRead {
			break
		}
		take(snap.Of(h))
	}
	return out
}

// reading compares the characters that the MCU read with the frame that it reads
// with. Where the stated frames or rates differ already, Lint says so, and what is read
// tells no more.
func reading(snap *capture.Snapshot, l *bench.UART) (finding.Finding, bool) {
	own := l.MCU.Frame
	if own != l.DeviceEnd.Frame || l.Directions()[1].Judgement != uart.Fits {
		return finding.Finding{}, false
	}
	chars := received(snap, l.Index)
	different := map[uint16]bool{}
	for _, c := range chars {
		different[c.Value] = true
	}
	if len(chars) < leastRead {
		return finding.Finding{}, false
	}
	gs := recognise.Bytes(own, chars)
	// A receiver that is too fast sees few different values by its nature.
	if len(gs) == 0 || gs[0].Faster == 1 && len(different) < leastDifferent || gs[0].Gain < leastSure || gs[0].Faster == 1 && slices.ContainsFunc(gs[0].Class, func(c string) bool {
		return c == own.String() || strings.HasPrefix(c, own.String()+" whose")
	}) {
		return finding.Finding{}, false
	}
	g := gs[0]
	f := finding.Finding{
		Severity: finding.Warning, Code: "sender-has-another-frame", Where: finding.Place{Link: l.Name, At: snap.Now},
		Seen:   fmt.Sprintf("what %s sends looks like %s, not %s", l.Device.Name, g.Class[0], own),
		Why:    fmt.Sprintf("of the last %d characters: %s", len(chars), strings.Join(g.Reasons, "; ")),
		Change: "if its sheet agrees, take that frame",
		Fixes:  []finding.Fix{{Label: "MCU to " + g.Frame.String(), Edits: []finding.Edit{{Path: []string{"links", l.Name, "mcu", "frame"}, Value: g.Frame.String()}}}},
	}
	if g.Framing {
		f.Seen += ", or comes at another rate"
		f.Change = "measure a bit first: a wrong rate gives framing errors too; " + f.Change
	}
	if g.Faster != 1 {
		f.Code, f.Fixes = "sender-is-slower", nil
		f.Seen = fmt.Sprintf("%s seems to send at 1/%g of the rate", l.Device.Name, g.Faster)
		f.Change = "compare its rate with its sheet, or measure a bit"
	}
	return f, true
}
