package device

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// Answers are what is wrong with what a part answers; "" is nothing.
type Answers string

// The faults of answers.
const (
	Silent   Answers = "none"     // it gives none
	Damaged  Answers = "damaged"  // a bit of each check is turned
	Repeated Answers = "repeated" // the answer before comes once more, in front of the right one
	Unturned Answers = "unturned" // the toggle bit or sequence number stays as it was first
)

// AnswersType is a fault of answers as files write it.
var AnswersType = doc.Enum(string(Silent), string(Damaged), string(Repeated), string(Unturned))

// CantAnswer says why the answers of a device can't have a fault; "" where they can.
func (d *Device) CantAnswer(a Answers) string {
	talks := d.Talks != nil && (len(d.Talks.answers) > 0 || d.Talks.other != nil)
	dialogue := d.Map != nil && d.Map.Dialogue != nil
	some := func(is func(p *access.Pattern) bool) bool {
		if d.Map == nil {
			return false
		}
		for _, p := range d.Map.Patterns {
			if is(p) {
				return true
			}
		}
		return false
	}
	switch {
	case !talks && (d.Map == nil || len(d.Map.Patterns) == 0 && (!dialogue || !d.Map.Dialogue.Objects)):
		return "its file describes nothing that it answers"
	case a == Damaged && (d.Framing == nil || d.Framing.Check == nil) && !some((*access.Pattern).Checked):
		return "its file describes no check of what it answers"
	case a == Repeated && !dialogue && !talks:
		return "it answers within what is asked: no answer can come once more"
	case a == Unturned && (!dialogue || !d.Map.Dialogue.Objects) && !some(func(p *access.Pattern) bool { return p.SequenceBits > 0 }):
		return "its file describes neither a toggle bit nor a sequence number"
	}
	return ""
}

// Odd is what one very part does otherwise than its file says.
type Odd struct {
	// Jobs are how long its jobs take; quantity.Forever: they never end.
	Jobs map[string]quantity.Time
	// Write is how long writing its memory takes; 0: as its file says.
	Write quantity.Time
	// Bad are bytes of its memory that take nothing.
	Bad map[uint64]bool
	// Answers is what is wrong with what it answers.
	Answers Answers
	// Parts are how many are in its chain; 0: as its file says.
	Parts int
}

// lasts gives how long a job of this part takes from now on.
func (p *Part) lasts(j *Job) quantity.Time {
	if t, odd := p.odd.Jobs[j.Name]; odd {
		return t
	}
	return j.Lasting(p.number)
}
