package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/wire"
)

// spiBus gives findings about the newest traffic of an spi bus.
func spiBus(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	var out []finding.Finding
	b := l.Model.(*bench.SPI)
	type newest struct {
		tap, unit *record.Record
		done      bool
	}
	with := make([]newest, len(b.Devices))
	// The newest transaction with each device counts, as the wire shows it and as the
	// MCU read it.
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Transaction, record.Changed}}) {
		if h.Start < snap.Now-2*window || h.Kind == record.Changed {
			break
		}
		i := int(h.From) - int(record.Device)
		if i < 0 || i >= len(with) || with[i].done {
			continue
		}
		switch r := snap.Of(h); {
		case r.Seen == record.MCU && with[i].tap == nil:
			with[i].unit = r
		case r.Seen != record.MCU:
			with[i].tap, with[i].done = r, true
		default:
			with[i].done = true
		}
	}
	for i, d := range b.Devices {
		x := with[i]
		if x.tap != nil {
			out = append(out, onTheWire(snap, l, d, x.tap, x.unit)...)
		}
		at := finding.Place{Link: l.Name}
		switch {
		case x.unit != nil && x.tap == nil:
			at.At = x.unit.Start
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "select-not-seen", Where: at,
				Seen:   fmt.Sprintf("the MCU's unit exchanges words with %s, and no select is seen on the wire", d.Name),
				Why:    "the select pin does not belong to the unit, or its wire is open",
				Change: "look at the select pin in the startup (s), then along the wire",
			})
		case x.unit != nil:
			at.At = x.unit.Start
			why := "it samples at another edge, with another word or order, or the answer comes too late for its clock"
			var differ []string
			for _, f := range b.Compare(i) {
				differ = append(differ, f.What)
			}
			if len(differ) > 0 {
				why = strings.Join(differ, "; ")
			}
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "unit-reads-otherwise", Where: at,
				Seen:   fmt.Sprintf("the MCU does not read what %s puts on the wire: %s, where the wire says %s", d.Name, l.Kind.Sentence(x.unit), l.Kind.Sentence(x.tap)),
				Why:    why,
				Change: "compare both ends in Timing (2): mode, word, order, divider",
			})
		case x.tap != nil && d.End.Valid > 0 && silent(x.tap) && (!d.End.Shared || d.End.TurnedBy(spi.Words(x.tap, x.tap.Data))):
			at.At = x.tap.Start
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "no-answer", Where: at,
				Seen:   fmt.Sprintf("%s does not drive the line back while it is selected", d.Name),
				Why:    "absent, without supply, its select or its clock does not reach it, its out and in are exchanged, or what was asked has no answer: the wire does not tell these apart",
				Change: "measure its supply; then clock and select at its pins",
			})
		}
	}
	return out
}

// onTheWire gives what the levels of a transaction show, whatever it says.
func onTheWire(snap *capture.Snapshot, l *bench.Link, d *bench.SPIDevice, r, unit *record.Record) []finding.Finding {
	var out []finding.Finding
	flags := r.AllFlags()
	f := finding.Finding{Severity: finding.Error, Where: finding.Place{Link: l.Name, At: r.Start}}
	if flags&record.Clash != 0 {
		f.Code, f.Seen = "two-selected", fmt.Sprintf("another device is selected while the MCU talks to %s", d.Name)
		f.Why = "both drive the line back, and both take what is sent"
		f.Change = "look in Waves (6) which select stays active, and let it go after each transfer"
		out = append(out, f)
	}
	if bits, cut := r.Fact(record.CutBits, r.Len()); (cut || unit != nil && unit.Len() > r.Len()) && flags&record.CutOff == 0 {
		f.Code, f.Seen = "select-ends-early", fmt.Sprintf("select of %s is released after %d of %d bits of word %d", d.Name, bits, r.Bits, r.Len()+1)
		if bits == 0 {
			f.Seen = fmt.Sprintf("select of %s is released after %s, and the clock goes on", d.Name, quantity.Count(r.Len(), "word"))
		}
		f.Why = "the firmware lets it go while the last word is still on its way, clock and word don't fit, or edges are missed"
		f.Change = "wait until the last bit is sent before select is released; compare the word at both ends in Timing (2)"
		out = append(out, f)
	}
	if w, ok := snap.Window(l.Index, 1, r.Start, r.End); ok && !d.End.Shared && fought(w) {
		f.Code, f.Seen = "out-driven-twice", fmt.Sprintf("somebody drives the line out against the MCU while %s is selected", d.Name)
		f.Why = fmt.Sprintf("out and in are exchanged at %s, or it has one data line for both directions", d.Name)
		f.Change = "exchange its two data wires, then look whether it answers"
		out = append(out, f)
	}
	return out
}

// fought says whether two drove a line against each other.
func fought(w wire.Window) bool {
	return slices.ContainsFunc(w.Unknown, func(s wire.Span) bool { return !s.Open })
}

// silent says whether nobody drove the line back in any word of a transaction.
func silent(r *record.Record) bool {
	n := r.Len()
	for i := range n {
		if open, _ := r.Fact(record.Undriven, i); open != int64(1)<<r.Bits-1 {
			return false
		}
	}
	return n > 0
}
