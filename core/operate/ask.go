package operate

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/coding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// intent gives what is asked of the session for the words of a bus.
func (x *run) intent(text string) (link.Intent, error) {
	if !operation.Characters(x.Link.Kind.Name) {
		return link.Transact{Text: text}, nil
	}
	data, err := operation.Sent(x.Link.Kind.Name, text)
	return link.Send{Data: data}, err
}

// mostWait is how long a request may wait until it is on the line: the firmware may ask
// something itself.
const mostWait = quantity.Second

// ask does a step with a part that is asked and answers.
func (x *run) ask(s operation.Step) (access.Answer, bool) {
	part := x.op.Part
	a := part.Ask(s.Plan)
	notes := 0
	for {
		text, has := a.Next()
		if !has {
			break
		}
		mark := x.Session.Store().Snapshot().Mark()
		if !x.sent(text) {
			return access.Answer{}, false
		}
		if a.Over() { // nothing answers the end of a transfer
			if x.err = x.seen(mark, a); x.err != nil {
				return access.Answer{}, false
			}
			break
		}
		if x.err = x.until(mark, a); x.err != nil {
			return access.Answer{}, false
		}
		for _, n := range a.Notes()[notes:] {
			verdict := OK
			if n.Damage {
				verdict = Warn
			}
			x.r.say(verdict, "%s", n.Text)
		}
		notes = len(a.Notes())
		if !a.Ready() {
			x.unanswered(a)
			return access.Answer{}, false
		}
	}
	answer, good := a.Answer()
	switch late := a.Late(); {
	case !good:
		x.r.say(Fault, "%s: %s", part.Name, a.Problem())
		return answer, false
	case answer.Refused:
		x.r.say(Fault, "%s refuses: %s; nothing is changed", part.Name, part.Map.Dialogue.Refusal.Because(answer.Why))
		return answer, false
	case late > part.Map.Dialogue.Within:
		x.r.say(Warn, "%s answered after %s, later than the %s of its file", part.Name, late.Round(3), part.Map.Dialogue.Within)
	}
	return answer, true
}

// sent sends a piece of a request.
func (x *run) sent(text string) bool {
	intent, err := x.intent(text)
	if err != nil {
		x.r.say(Refused, "the request fits no packet: %v", err)
		return false
	}
	out, err := x.Session.Do(x.ctx, x.Link.Index, intent)
	if err != nil {
		x.err = err
		return false
	}
	if !out.OK {
		x.r.Exchanges = append(x.r.Exchanges, Exchange{text, false, out.Text, out.Record, out.At})
		x.r.say(Fault, "%s", out.Text)
	}
	return out.OK
}

// seen lets time go on until what was sent last is on the line.
func (x *run) seen(mark records.Mark, a operation.Asking) error {
	seen := false
	return x.Session.Wait(x.ctx, x.Session.Now()+mostWait, func(snap *capture.Snapshot) bool {
		for _, i := range snap.Since(mark) {
			if h := snap.Head(i); h.Link != x.Link.Index || seen {
				continue
			}
			if r := snap.At(i); a.Take(r) {
				seen = true
				x.r.Exchanges = append(x.r.Exchanges, Exchange{x.Link.Kind.Sentence(r), true, "seen", r, r.End})
			}
		}
		mark = snap.Mark()
		return seen
	})
}

// until lets time go on until a request is ready for more, or its time is over.
func (x *run) until(mark records.Mark, a operation.Asking) error {
	slack := x.Link.BitWith(0)*12*512 + 20*quantity.Millisecond // for the answer itself
	limit := x.Session.Now() + mostWait + slack
	over := func() bool { return a.Ready() || x.Session.Now() >= limit }
	look := func(snap *capture.Snapshot) bool {
		for _, i := range snap.Since(mark) {
			if h := snap.Head(i); h.Link != x.Link.Index || a.Ready() {
				continue
			}
			r := snap.At(i)
			if a.Take(r) {
				x.r.Exchanges = append(x.r.Exchanges, Exchange{x.Link.Kind.Sentence(r), true, "seen", r, r.End})
			}
		}
		mark = snap.Mark()
		if at, heard := a.Heard(); heard {
			limit = at + x.op.Part.Map.Dialogue.Within + slack
		}
		return over()
	}
	for !over() {
		if err := x.Session.Wait(x.ctx, limit, look); err != nil {
			return err
		}
	}
	return nil
}

// unanswered says that nothing came that answers a request.
func (x *run) unanswered(a operation.Asking) {
	part, d := x.op.Part, x.op.Part.Map.Dialogue
	_, heard := a.Heard()
	switch {
	case a.Problem() != "":
		x.r.say(Fault, "%s: %s", part.Name, a.Problem())
	case !heard:
		x.r.say(Fault, "the request to %s was not seen on the link: the MCU's end does not send, or its line is held", part.Name)
	case d.Packet == nil:
		x.r.say(Fault, "no answer with identifier %s within %s: %s is absent, without supply, or has another number", d.Response, d.Within, part.Name)
	default:
		x.r.say(Fault, "%s does not answer within %s: it is absent, without supply, set up otherwise, or the request did not reach it whole", part.Name, d.Within)
	}
}

// readText reads a text.
func (x *run) readText() {
	t := x.op.Chars
	text, ok := x.fetchText()
	if ok {
		x.r.Values = append(x.r.Values, Named{t.Name, coding.Words(text)})
	}
}

func (x *run) fetchText() (string, bool) {
	steps, err := x.op.Part.TextSteps(x.op.Chars, nil, false)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return "", false
	}
	a, ok := x.do(steps[0])
	return string(a.CharsOf(x.op.Chars.Name)), ok
}

// writeText writes a text, reads it before and behind that where it can, and compares.
func (x *run) writeText() {
	t := x.op.Chars
	steps, err := x.op.Part.TextSteps(t, []byte(x.op.Text), true)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	if !t.Writable() && !x.op.Force {
		x.r.say(Refused, "%s can't be written: it is read-only; force tries it", t.Name)
		return
	}
	_, err = x.op.Part.TextSteps(t, nil, false)
	reads := err == nil && t.Readable()
	before := ""
	if reads {
		var ok bool
		if before, ok = x.fetchText(); !ok {
			return
		}
	}
	if _, ok := x.do(steps[0]); !ok {
		return
	}
	if !reads {
		x.r.say(OK, "%s can't be read back; %s answered that it is done", t.Name, x.op.Part.Name)
		return
	}
	after, ok := x.fetchText()
	switch {
	case !ok:
	case after != x.op.Text:
		x.r.say(Fault, "%s reads %q where %q was written", t.Name, after, x.op.Text)
	case before == after:
		x.r.say(Warn, "%s was %q already: reading it back proves nothing", t.Name, after)
	default:
		x.r.say(OK, "%s is %q; before it was %q", t.Name, after, before)
	}
}

// rawCharacters sends characters, and shows what comes behind them.
func (x *run) rawCharacters() {
	data, err := operation.Sent(x.Link.Kind.Name, x.op.Text)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	mark := x.Session.Store().Snapshot().Mark()
	if !x.sent(x.op.Text) {
		return
	}
	slack := x.Link.BitWith(0)*12*quantity.Time(len(data)+64) + 120*quantity.Millisecond
	answers := 0
	x.listen(mark, slack, func(r *record.Record) bool {
		switch {
		case r.Kind != record.Chars, r.From == record.Device && r.Seen == record.Tap, r.From == record.MCU && r.Seen == record.Device:
			return false
		case r.From == record.Device:
			answers++
		}
		x.r.Exchanges = append(x.r.Exchanges, Exchange{x.Link.Kind.Sentence(r), true, "seen", r, r.End})
		return answers > 0
	})
	switch {
	case x.err != nil:
	case answers == 0:
		x.r.say(OK, "%s sent; nothing came back within %s", quantity.Count(len(data), "character"), slack.Round(2))
	default:
		x.r.say(OK, "%s sent", quantity.Count(len(data), "character"))
	}
}

// rawFrame shows what a part that is asked answers to a frame that was sent.
func (x *run) rawFrame(mark records.Mark) {
	answered := false
	within := quantity.Time(0)
	for _, p := range x.Link.Parts() {
		if p.Asked() {
			within = max(within, p.Map.Dialogue.Within)
		}
	}
	if within == 0 {
		return
	}
	x.listen(mark, within, func(r *record.Record) bool {
		for _, p := range x.Link.Parts() {
			if last := &x.r.Exchanges[len(x.r.Exchanges)-1]; last.Record == nil && p.Asked() && r.Kind == record.Frame && r.ID == p.Map.Dialogue.Request.ID {
				last.Record = r
			}
			if p.Asked() && r.Kind == record.Frame && r.ID == p.Map.Dialogue.Response.ID {
				answered = true
				x.r.Exchanges = append(x.r.Exchanges, Exchange{x.Link.Kind.Sentence(r), true, "seen", r, r.End})
			}
		}
		return answered
	})
}

// listen lets time go on until something came that is waited for, and says what the
// messages mean that came until then.
func (x *run) listen(mark records.Mark, within quantity.Time, take func(r *record.Record) bool) {
	var talks []*operation.Talk
	for _, p := range x.Link.Parts() {
		if t := p.Talk(); t != nil {
			talks = append(talks, t)
		}
	}
	x.err = x.Session.Wait(x.ctx, x.Session.Now()+within, func(snap *capture.Snapshot) bool {
		over := false
		for _, i := range snap.Since(mark) {
			r := snap.At(i)
			if r.Link != x.Link.Index || over {
				continue
			}
			over = take(r)
			for _, t := range talks {
				for _, msg := range t.Take(r) {
					m, known := t.Part().Meaning(&msg, x.page(t.Part()))
					if !known || msg.Again {
						continue
					}
					verdict := OK
					if msg.Dropped != "" || msg.Answer != nil && msg.Answer.Refused {
						verdict = Fault
					}
					x.r.say(verdict, "%s", m.Sentence())
				}
			}
		}
		mark = snap.Mark()
		return over
	})
}
