package diagnose

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// heldFor is how long an end is held back before it is worth a word.
const heldFor = 200 * quantity.Millisecond

// readyRole is the role of the first ready line.
const readyRole = 3

// heldBack finds ends that the other one's flow control keeps from sending.
func heldBack(snap *capture.Snapshot, l *bench.UART) []finding.Finding {
	var out []finding.Finding
	ends := []struct {
		name string
		s    uart.Settings
		end  record.End
	}{{"the MCU", l.MCU, record.MCU}, {l.Device.Name, l.DeviceEnd.Settings, record.Device}}
	for side, e := range ends {
		other := ends[1-side]
		f := finding.Finding{Severity: finding.Warning, Code: "held-back", Where: finding.Place{Link: l.Name}}
		switch e.s.Flow {
		case uart.Hardware:
			r, ok := snap.Rest(l.Index, readyRole+1-side)
			if ok && (!r.High || r.To-r.Since < heldFor) || !ok && snap.Now < heldFor {
				continue
			}
			f.Where.At = r.Since
			switch {
			case l.Wires != 4:
				f.Seen = fmt.Sprintf("%s sends nothing: it waits for a ready line that is not connected", e.name)
				f.Change = "connect the ready lines (`wires: 4`), or send without flow control"
			case other.s.Flow != uart.Hardware:
				f.Seen = fmt.Sprintf("%s sends nothing: nobody drives the ready line of %s", e.name, other.name)
				f.Why = fmt.Sprintf("flow control of %s is %s", other.name, other.s.Flow)
				f.Change = "give both ends one flow control"
			default:
				f.Seen = fmt.Sprintf("%s has not been ready to receive for %s: %s holds back", other.name, (r.To - r.Since).Round(3), e.name)
				f.Why = "its queue is full and nothing empties it, or it is off or not started"
				f.Change = "look what should take the received characters away there: Transfers, and the startup in Timing"
			}
		case uart.Software:
			at, said := lastSign(snap, l.Index, other.end)
			if said != uart.XOFF || snap.Now-at < heldFor {
				continue
			}
			f.Where.At = at
			f.Seen = fmt.Sprintf("XOFF (13) of %s has held %s back for %s", other.name, e.name, (snap.Now - at).Round(3))
			f.Why, f.Change = "its queue is full and nothing empties it: no XON came", "look what should take the received characters away there"
			if other.s.Flow != uart.Software {
				f.Why = fmt.Sprintf("%s has no software flow control: the 13 was data, and no 11 follows", other.name)
				f.Change = "use rts-cts, or escape 11 and 13 in the data"
			}
		default:
			continue
		}
		out = append(out, f)
	}
	return out
}

// lastSign gives the latest XON or XOFF of an end, as an ideal tap saw it; 0 without any.
func lastSign(snap *capture.Snapshot, link uint16, from record.End) (at quantity.Time, sign uint16) {
	q := records.Query{Link: int(link), Kinds: []record.Kind{record.Chars}, From: []record.End{from}, Seen: []record.End{record.Tap}}
	for i, h := range snap.Before(snap.Len(), q) {
		if snap.Now-h.End > 10*window {
			break
		}
		r := snap.At(i)
		for k := r.Len() - 1; k >= 0; k-- {
			if c := r.Char(k); (c == uart.XON || c == uart.XOFF) && r.FlagsAt(k) == 0 {
				if k < len(r.Offsets) {
					return r.Start + r.Offsets[k], c
				}
				return r.End, c
			}
		}
	}
	return 0, 0
}

// sentUntil is the end of the last character of a run that began before a time; 0 where none did.
func sentUntil(r *record.Record, at quantity.Time) quantity.Time {
	for i := r.Len() - 1; i >= 0; i-- {
		if i < len(r.Offsets) && r.Start+r.Offsets[i] < at {
			return r.Start + r.Offsets[i] + r.Each
		}
	}
	return 0
}

// collided finds ends that drive one wire at the same time.
func collided(snap *capture.Snapshot, l *bench.UART) (finding.Finding, bool) {
	q := records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Chars}, Flags: record.Collision, Seen: []record.End{record.Tap}}
	for i, h := range snap.Before(snap.Len(), q) {
		if snap.Now-h.End > 2*window {
			break
		}
		r := snap.At(i)
		if r.From != record.Device {
			continue
		}
		f := finding.Finding{
			Severity: finding.Error, Code: "collision", Where: finding.Place{Link: l.Name, At: r.Start},
			Seen:   fmt.Sprintf("%s and the MCU drive the wire at the same time", l.Device.Name),
			Why:    "what is sent meanwhile reads as either, and both outputs are stressed",
			Change: "let one end wait until the other has released the wire",
		}
		before := records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Chars}, From: []record.End{record.MCU}, Seen: []record.End{record.Tap}}
		for k := range snap.Before(i, before) {
			end := sentUntil(snap.At(k), r.Start)
			if end == 0 {
				continue // on the shared wire the answer itself reads as the MCU's too
			}
			if end > r.Start {
				f.Why = fmt.Sprintf("%s begins before the MCU has sent its last bit; %s", l.Device.Name, f.Why)
				break
			}
			gap := r.Start - end
			f.Why = fmt.Sprintf("%s answers %s after the last stop bit, and the MCU's driver holds the wire for %s", l.Device.Name, gap.Round(3), l.MCU.TurnRound)
			if gap < l.MCU.TurnRound {
				value := (gap / 2).Round(2)
				f.Change = fmt.Sprintf("let the MCU's driver go within %s", gap.Round(3))
				f.Fixes = []finding.Fix{{Label: "turn-round " + value, Edits: []finding.Edit{{Path: []string{"links", l.Name, "mcu", "turn-round"}, Value: value}}}}
			}
			break
		}
		return f, true
	}
	return finding.Finding{}, false
}
