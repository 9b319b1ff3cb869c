package operation

import (
	"bytes"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// Asking is a request to a part that answers, on its way: what Next gives is sent, what
// the link shows is given to Take, until it is Over.
type Asking interface {
	// Next gives the words of what is to be sent now; false where there is nothing.
	Next() (text string, has bool)
	// Take takes a record of the link; mine says that it belongs to the request.
	Take(r *record.Record) (mine bool)
	// Heard says whether what was sent last was seen on the link, and when that ended.
	Heard() (quantity.Time, bool)
	// Ready: it is over, or something is to be sent.
	Ready() bool
	Over() bool
	// Late is how long after the request the last answer began.
	Late() quantity.Time
	// Answer is what came back; false where this side gave up, and Problem says why.
	Answer() (access.Answer, bool)
	Problem() string
	// Notes are what else came meanwhile.
	Notes() []Note
}

// Note is something that came and was not taken; Damage: there is something wrong with it.
type Note struct {
	Text   string
	Damage bool
}

// Ask begins a request to a part that answers.
func (p *Part) Ask(plan *access.Plan) Asking { return wires[p.Kind.Name].asks(p, plan) }

// Asked says whether the part is asked and answers.
func (p *Part) Asked() bool { return p.Map != nil && p.Map.Dialogue != nil }

// Message is a message between the MCU and a part, as a record shows it.
type Message struct {
	FromPart   bool
	Start, End quantity.Time
	Seen       record.End
	Content    []byte // of a good one
	// Dropped says why bytes are no message.
	Dropped string
	// Plan is the operation that is asked for, or answered; nil where that is not known.
	Plan *access.Plan
	// Answer is what an answer says; nil of requests.
	Answer *access.Answer
	// Again: another receiver's record showed the same message before.
	Again bool
	// GivenUp: the MCU ended a transfer.
	GivenUp bool
	// Partly: a piece of a transfer that takes several frames.
	Partly bool
	// From is the index of its first byte in the record, 0 where it began in one before; To
	// that behind its last byte.
	From, To int
}

// Talk follows the messages between the MCU and a part that answers, record by record.
type Talk struct {
	part   *Part
	follow func(r *record.Record) []Message
	asked  *access.Plan // what was asked for last
	last   [2]Message   // from each side
}

// Talk gives what follows the messages with a part; nil where it is none that answers.
func (p *Part) Talk() *Talk {
	if !p.Asked() {
		return nil
	}
	return wires[p.Kind.Name].talk(p)
}

// Part is the part whose messages are followed.
func (t *Talk) Part() *Part { return t.part }

// Take takes a record of the link, in the order of their ends, and gives the messages
// that end in it.
func (t *Talk) Take(r *record.Record) []Message {
	if r.Kind == record.Changed || r.Kind == record.Lost || r.Kind == record.Gap {
		t.asked = nil
		return nil
	}
	out := t.follow(r)
	for i := range out {
		m := &out[i]
		side := 0
		if m.FromPart {
			side = 1
		}
		old := &t.last[side]
		m.Again = old.Seen != m.Seen && m.Content != nil && bytes.Equal(old.Content, m.Content) && old.End > m.Start && m.End > old.Start
		if m.Content != nil {
			*old = *m
		}
	}
	return out
}

// request reads the content of a request.
func (t *Talk) request(m *Message) {
	plan, _, found := access.Match(t.part.Map.Patterns, []access.Seen{{Out: access.Bits(m.Content)}}, t.part.Map.Fits)
	if !found {
		// What no register has is asked for all the same.
		plan, _, found = access.Match(t.part.Map.Patterns, []access.Seen{{Out: access.Bits(m.Content)}}, nil)
	}
	if t.asked = access.Foreign(m.Content); found {
		m.Plan, t.asked = plan, plan
	}
}

// answer reads the content of an answer.
func (t *Talk) answer(m *Message) {
	if t.asked == nil {
		return
	}
	if a, good := t.asked.Reply(m.Content, t.part.Map.Dialogue.Refusal); good {
		m.Plan, m.Answer = t.asked, &a
	}
}
