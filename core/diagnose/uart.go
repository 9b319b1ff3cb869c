package diagnose

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
)

func uartLink(snap *capture.Snapshot, link *bench.Link) []finding.Finding {
	l := link.Model.(*bench.UART)
	var out []finding.Finding
	for side, s := range []uart.Settings{l.MCU, l.DeviceEnd.Settings} {
		// Longer than any break that is meant.
		since, held := lowFor(snap, l.Index, side, max(5*uart.Duration(s, 1), 2*quantity.Millisecond))
		if !held || s.Frame.Inverted {
			continue
		}
		from := []string{"the MCU", l.Device.Name}[side]
		out = append(out, finding.Finding{
			Severity: finding.Error, Code: "line-stuck-low", Where: finding.Place{Link: l.Name, At: since},
			Seen: "the line from " + from + " is stuck low", Why: "an idle line rests high: it is shorted, inverted, or its driver is off while something pulls it down",
			Change: "measure the line with " + from + " unplugged; if it stays low the fault is in the wire or at the other end",
		})
	}
	if f, ok := collided(snap, l); ok {
		return append(out, f)
	}
	out = append(out, heldBack(snap, l)...)
	if w, ok := snap.Window(l.Index, 0, max(0, snap.Now-2*window), snap.Now); ok && fought(w) {
		out = append(out, finding.Finding{
			Severity: finding.Error, Code: "out-driven-twice", Where: finding.Place{Link: l.Name, At: w.Unknown[0].From},
			Seen: "the MCU and somebody else drive one wire against each other", Why: "the two wires are exchanged at " + l.Device.Name + ", so that output meets output, and nobody drives the other wire",
			Change: "exchange the two wires at one end: each output belongs to the other end's input",
		})
	}
	if f, ok := unanswered(snap, l); ok {
		out = append(out, f)
	}
	if f, ok := reading(snap, l); ok {
		out = append(out, f)
	}
	return append(out, marks(snap, l)...)
}

func unanswered(snap *capture.Snapshot, l *bench.UART) (finding.Finding, bool) {
	if _, streams := l.Device.Talks.Streams(); streams {
		return finding.Finding{}, false
	}
	x, ok := lastUnanswered(snap, l.Index)
	if !ok {
		return finding.Finding{}, false
	}
	f := finding.Finding{
		Severity: finding.Warning, Code: "no-answer", Where: finding.Place{Link: l.Name, At: x.Start},
		Seen: fmt.Sprintf("%s got no answer (at %.3f s)", safe.Bytes(x.Sent), x.Start.Seconds()),
	}
	// What the settings of both ends, as stated, make of these bytes.
	values := make([]uint16, len(x.Sent))
	for i, b := range x.Sent {
		values[i] = uint16(b)
	}
	seen := uart.Outcome(l.MCU, l.Far(), values...)
	for i := range seen.Chars {
		if seen.Marks[i] == 0 && i < len(values) && seen.Chars[i] == values[i] {
			continue
		}
		sent := byte(0)
		if i < len(x.Sent) {
			sent = x.Sent[i]
		}
		how := fmt.Sprintf("reads '%c' (%02X) as %02X", safe.Byte(sent), sent, seen.Chars[i])
		if seen.Marks[i] != 0 {
			how = fmt.Sprintf("finds a %s error in '%c' (%02X)", seen.Marks[i], safe.Byte(sent), sent)
			if seen.Marks[i]&record.Parity != 0 {
				how += ": " + uart.ParityNote(l.DeviceEnd.Frame, uint16(sent)&l.DeviceEnd.Frame.Mask()) + fmt.Sprintf(", it expects %s", l.DeviceEnd.Frame.Parity)
			}
		}
		f.Why = l.Device.Name + " " + how + ", so it drops the command"
		f.Change = "make the frames agree"
		if l.MCU.Frame == l.DeviceEnd.Frame {
			f.Change = "give both ends one rate"
		}
		return f, true
	}
	f.Why = "by the stated settings the bytes arrive as sent; a silent device: not powered, not connected, another rate or frame than stated, or no such command; one can't tell these apart from here"
	known := l.Device.Commands()
	text := strings.TrimRight(string(x.Sent), "\r\n")
	switch {
	case len(known) > 0 && !l.Device.Knows(text):
		f.Change = "send one of its commands: " + strings.Join(known, ", ")
	case !strings.HasSuffix(string(x.Sent), string(l.Device.Talks.LineEnd)):
		f.Change = "end the command with " + safe.Bytes(l.Device.Talks.LineEnd)
	default:
		f.Change = "look for levels on its line: an idle high line separates not connected from wrong settings"
	}
	return f, true
}

// marks goes from the error marks that the MCU's receiver raised to causes.
func marks(snap *capture.Snapshot, l *bench.UART) []finding.Finding {
	c := snap.Counters(capture.Direction{Link: l.Index, From: record.Device, Seen: record.MCU})
	if c.Bad == 0 || snap.Now-c.LastBad > 10*quantity.Second || changed(snap, l.Index) >= c.LastBad {
		return nil
	}
	var out []finding.Finding
	add := func(code, seen, why, change string) {
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: code, Where: finding.Place{Link: l.Name, At: c.LastBad}, Seen: seen, Why: why, Change: change,
		})
	}
	share := float64(c.Bad) / float64(max(c.Chars, 1))
	framing, parity := c.Flags.Of(record.Framing), c.Flags.Of(record.Parity)
	switch {
	case c.Flags.Of(record.Break) > 0 && c.Flags.Of(record.Break) == framing:
		add("break-seen", number(c.Flags.Of(record.Break), "break"), "the line was held low longer than a character: a break sent on purpose, or a line that is shorted or not driven", "look at the line's level while the device is silent")
	case framing > 0 && l.MCU.Frame == l.DeviceEnd.Frame && l.Directions()[1].Judgement != uart.Fits:
		add("framing-of-rate", fmt.Sprintf("framing errors on %.0f %% of the characters", 100*share), fmt.Sprintf("by the stated settings the rates of the two ends differ by %+.2f %%, more than the receiver bears", 100*l.Directions()[1].Worst), "mend the rates first: the finding of the description says how")
	case framing > 0 && share > 0.5:
		add("framing-on-most", fmt.Sprintf("framing errors on %.0f %% of the characters", 100*share), "the rate or the frame of the two ends differs", "compare rate and frame of both ends in Timing")
	case framing > 0:
		add("framing-on-some", number(framing, "framing error")+" in "+number(c.Chars, "character"), "noise, a marginal rate, or a sender that differs only for some values", "look at the margin in Timing")
	}
	if parity > 0 && framing == 0 {
		add("parity-only", number(parity, "parity error")+" and no framing error", "the parity rule differs, or single bits are disturbed", "compare the parity of both ends in Timing")
	}
	if n := c.Flags.Of(record.Overrun); n > 0 {
		add("overrun", number(n, "character")+" lost to overrun", "the receive register was still full when the next character completed: the handler comes too late", "shorten the handler or use a deeper queue")
	}
	return out
}
