package device

import (
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/packet"
	"gavrix.org/gavrix/core/quantity"
)

// askedPart is a part on a character link that is asked and answers.
type askedPart struct {
	m         *Map
	part      *Part
	responder access.Responder
	reader    *packet.Reader
	from      quantity.Time // it listens from there on
	content   []byte        // of the packet that ended last
}

// Commands lists what a part on a character link answers, as text.
func (d *Device) Commands() []string {
	var out []string
	for _, a := range d.Talks.answers {
		out = append(out, a.to)
	}
	if d.Map != nil {
		for _, p := range d.Map.Patterns {
			if text := p.Asks(); text != "" {
				out = append(out, text)
			}
		}
	}
	return out
}

// Knows says whether a part on a character link knows a command, without what ends it.
func (d *Device) Knows(command string) bool {
	if d.Map == nil {
		return slices.ContainsFunc(d.Talks.answers, func(a answer) bool { return a.to == command })
	}
	_, _, found := access.Match(d.Map.Patterns, []access.Seen{{Out: access.Bits([]byte(command))}}, nil)
	return found
}

func newAsked(m *Map, part *Part, from quantity.Time) *askedPart {
	a := &askedPart{m: m, part: part, from: from, responder: access.Responder{Patterns: m.Patterns, Refusal: m.Dialogue.Refusal, When: m.Dialogue.When, Part: part, Unturned: part.odd.Answers == Unturned}}
	a.reader = packet.NewReader(m.Dialogue.Packet, func(e packet.Event) {
		switch e.Why {
		case packet.BadCheck:
			part.message(BadCheck)
		case packet.BadLength, packet.TooLong:
			part.message(BadLength)
		case packet.Good:
			a.content = slices.Clone(e.Content)
			if a.content == nil {
				a.content = []byte{}
			}
		}
	})
	return a
}

// receive takes a character; behind the last one of a request the answer is due.
func (a *askedPart) receive(r *Running, c uart.Char) {
	if c.End < a.from {
		return
	}
	a.reader.Take(byte(c.Value), c.Flags != 0)
	if a.content == nil {
		return
	}
	content := a.content
	a.content = nil
	a.part.Freeze(c.End)
	answer, p, answers := a.responder.Respond(content)
	a.part.message(refusedFor(&a.responder)...)
	a.part.store(c.End)
	if !answers {
		return
	}
	after, has := a.m.Dialogue.After[p]
	if !has {
		after = a.m.Dialogue.Lag
	}
	wrap := a.m.Dialogue.Packet.Wrap
	if r.odd.Answers == Damaged {
		wrap = a.m.Dialogue.Packet.Damage
	}
	if raw, err := wrap(answer); err == nil {
		r.answer(reply{at: c.End + after, raw: raw})
	}
}
