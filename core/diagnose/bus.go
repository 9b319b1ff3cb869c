package diagnose

import (
	"fmt"

	"gavrix/core/bench"
	"gavrix/core/capture"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/records"
)

// window is how far back the traffic of a bus is looked at.
const window = quantity.Second

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
		add(finding.Warning, "nobody-acknowledges", s.last.Start, fmt.Sprintf("%s of %s without acknowledge", number(uint64(s.unacknowledged), "frame"), who(l, s.last)),
			"it is alone: all others are off, listen only, or are in stand-by", "look at the start-up of the MCU's node (s), and at the others' supply")
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

// heldLow says whether the line was low all through the last milliseconds.
func heldLow(snap *capture.Snapshot, link uint16, line int) (since quantity.Time, held bool) {
	kept, ok := snap.Kept(link, line)
	const long = 2 * quantity.Millisecond
	if !ok || kept.To-kept.From < long {
		return 0, false
	}
	w, ok := snap.Window(link, line, kept.To-long, kept.To)
	return kept.To - long, ok && !w.High && len(w.Toggles) == 0
}

// i2cBus gives findings about the newest traffic of an i2c bus.
func i2cBus(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	var out []finding.Finding
	for i, role := range l.Kind.Lines {
		if since, held := heldLow(snap, l.Index, i); held {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "line-held-low", Where: finding.Place{Link: l.Name, At: since}, Link: l.Name,
				Seen: fmt.Sprintf("the %s line of %s is low without end", role.Name, l.Name), Why: "nothing lets it rise: no pull-up, a short, or a device that holds it",
				Change: "look for the pull-up first; then take the devices off one by one",
			})
		}
	}
	if len(out) > 0 {
		return out
	}
	// The newest word of each address counts.
	answered, at := map[byte]bool{}, map[byte]quantity.Time{}
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Transaction, record.Input}}) {
		if h.Start < snap.Now-2*window || h.Kind == record.Input {
			break
		}
		r := snap.Of(h)
		if len(r.Data) == 0 || len(r.Back) == 0 {
			continue
		}
		if a := r.Data[0] >> 1; at[a] == 0 {
			answered[a], at[a] = r.Back[0]&record.Acked != 0, r.Start
		}
	}
	silent := 0
	for _, d := range l.Model.(*bench.I2C).Devices {
		if t, asked := at[d.End.Address]; asked && !answered[d.End.Address] {
			silent++
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "no-acknowledge", Where: finding.Place{Link: l.Name, At: t}, Link: l.Name,
				Seen:   fmt.Sprintf("%s does not acknowledge its address %02X (%02X on the wire)", d.Name, d.End.Address, d.End.Address<<1),
				Why:    "absent, not powered, or strapped to another address: the wire does not tell these apart",
				Change: "measure its supply; then look for who answers on the bus",
			})
		}
	}
	if silent == len(at) && silent > 1 {
		out = []finding.Finding{{
			Severity: finding.Warning, Code: "nobody-acknowledges", Where: out[0].Where, Link: l.Name,
			Seen: fmt.Sprintf("none of %d devices acknowledges", silent), Why: "all at once: the data line does not reach them, or their common supply is off",
			Change: "look at the data pin in the start-up (s), then at the supply",
		}}
	}
	return out
}
