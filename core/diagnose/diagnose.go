// Package diagnose goes from what was seen on a link to its likely causes. It
// looks only at what an engineer could see: the capture and the bench.
package diagnose

import (
	"fmt"
	"sort"
	"strings"

	"gavrix/core/bench"
	"gavrix/core/bus/uart"
	"gavrix/core/capture"
	"gavrix/core/finding"
	"gavrix/core/quantity"
	"gavrix/core/record"
	"gavrix/core/records"
	"gavrix/core/safe"
)

// patience is how long a sent message may stay without an answer before that
// is worth a finding.
const patience = 50 * quantity.Millisecond

// Exchange is one message that the MCU sent, and what came back before the
// next one.
type Exchange struct {
	Sent       []byte
	Start, End quantity.Time
	Answer     []byte
	Marks      record.Flags
	AnswerAt   quantity.Time
}

// mostLooked bounds the records of a link that are looked at.
const mostLooked = 20_000

// memory is how long an unanswered message stays worth a finding.
const memory = 30 * quantity.Second

// Recent gives the exchanges of a link that began in the last 30 s, and after
// the last change of settings, oldest first.
func Recent(snap *capture.Snapshot, l uint16) []Exchange {
	var runs []*record.Record
	q := records.Query{Link: int(l)}
	take := func(r *record.Record) bool {
		return r.Kind == record.Chars && r.Len() > 0 &&
			(r.From == record.Device && r.Seen == record.MCU || r.From == record.MCU && (r.Seen == record.Tap || r.Seen == record.Nobody))
	}
	looked := 0
	for _, h := range snap.Before(snap.Len(), q) {
		if h.Start < snap.Now-memory || h.Kind == record.Changed || looked > mostLooked {
			break
		}
		looked++
		if r := snap.Of(h); take(r) {
			runs = append(runs, r)
		}
	}
	for i := range snap.Running {
		if r := &snap.Running[i]; q.WantsRecord(r) && take(r) {
			runs = append(runs, r)
		}
	}
	sort.SliceStable(runs, func(i, j int) bool { return runs[i].Start < runs[j].Start })
	var out []Exchange
	for _, r := range runs {
		if r.From == record.MCU {
			out = append(out, Exchange{Sent: r.Data, Start: r.Start, End: r.End})
			continue
		}
		if len(out) == 0 {
			continue // it answers something older
		}
		x := &out[len(out)-1]
		if x.Answer == nil {
			x.AnswerAt = r.Start
		}
		x.Answer = append(x.Answer, r.Data...)
		x.Marks |= r.AllFlags()
	}
	return out
}

// lastUnanswered gives the newest exchange without an answer, unless the same
// message was answered since.
func lastUnanswered(snap *capture.Snapshot, l uint16) (Exchange, bool) {
	all := Recent(snap, l)
	answered := map[string]bool{}
	for i := len(all) - 1; i >= 0; i-- {
		x := all[i]
		switch {
		case len(x.Answer) > 0:
			answered[string(x.Sent)] = true
		case snap.Now >= x.End+patience && !answered[string(x.Sent)]:
			return x, true
		}
	}
	return Exchange{}, false
}

// kinds find what is wrong with the newest traffic of links, by the name of their
// kind.
var kinds = map[string]func(*capture.Snapshot, *bench.Link) []finding.Finding{
	"uart":  uartLink,
	"i2c":   i2cBus,
	"can":   canBus,
	"pulse": pulseLine,
}

// Link gives findings about the newest traffic of a link. Those that the
// bench alone shows are Lint's.
func Link(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	find, known := kinds[l.Kind.Name]
	if !known {
		return nil
	}
	out := find(snap, l)
	for i := range out {
		out[i].Link = l.Name
	}
	finding.Sort(out)
	return out
}

func uartLink(snap *capture.Snapshot, link *bench.Link) []finding.Finding {
	l := link.Model.(*bench.UART)
	var out []finding.Finding
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
	seen := uart.Outcome(l.MCU, l.DeviceEnd.Settings, values...)
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
		return f, true
	}
	f.Why = "by the stated settings the bytes arrive as sent; a silent device: not powered, not connected, another rate or frame than stated, or no such command; one can't tell these apart from here"
	known := l.Device.Talks.Commands()
	text := strings.TrimRight(string(x.Sent), "\r\n")
	isKnown := false
	for _, k := range known {
		isKnown = isKnown || k == text
	}
	switch {
	case len(known) > 0 && !isKnown:
		f.Change = "send one of its commands: " + strings.Join(known, ", ")
	case !strings.HasSuffix(string(x.Sent), string(l.Device.Talks.LineEnd)):
		f.Change = "end the command with " + safe.Bytes(l.Device.Talks.LineEnd)
	default:
		f.Change = "look for levels on its line: an idle high line separates not connected from wrong settings"
	}
	return f, true
}

// number gives a count with its noun.
func number(n uint64, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return fmt.Sprintf("%d %s", n, noun)
}

// marks goes from the error marks that the MCU's receiver raised to causes.
func marks(snap *capture.Snapshot, l *bench.UART) []finding.Finding {
	c := snap.Counters(capture.Direction{Link: l.Index, From: record.Device, Seen: record.MCU})
	if c.Bad == 0 || snap.Now-c.LastBad > 10*quantity.Second {
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
