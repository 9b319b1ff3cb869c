package operation

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// canWire: a message is a frame, or a transfer of an object.
var canWire = wire{
	texts: func(p *Part, plan *access.Plan) []string {
		d := p.Map.Dialogue
		if !d.Objects {
			return []string{frameText(d.Request, plan.Request())}
		}
		f, _ := transfer(plan).Next()
		return []string{frameText(d.Request, f[:])}
	},
	asks: func(p *Part, plan *access.Plan) Asking {
		if p.Map.Dialogue.Objects {
			return &asksObject{part: p, plan: plan, client: transfer(plan)}
		}
		return &asksFrame{part: p, plan: plan}
	},
	talk: func(p *Part) *Talk {
		x := &objectTalk{Talk: &Talk{part: p}}
		x.follow = x.frames
		if p.Map.Dialogue.Objects {
			x.follow = x.take
		}
		return x.Talk
	},
}

// frameText gives a frame in the words of its bus.
func frameText(id device.Identifier, data []byte) string {
	return strings.TrimSpace(fmt.Sprintf("%s % X", id, data))
}

// with says whether a record is a good frame with an identifier.
func with(r *record.Record, id device.Identifier) bool {
	return r.Kind == record.Frame && r.ID == id.ID && (r.Attr&record.Extended != 0) == id.Extended && r.AllFlags() == 0 && r.Attr&(record.Incomplete|record.Remote) == 0
}

// The first byte of contents says what is done with an object.
const (
	readObject  = 1
	writeObject = 2
	objectDone  = 0x00
	objectEnded = 0xFF
)

// transfer begins a transfer of an object.
func transfer(plan *access.Plan) *objects.Client {
	content := plan.Request()
	o := objects.ObjectOf(plan.Number)
	if content[0] == readObject {
		return objects.Read(o)
	}
	return objects.Write(o, content[4:], plan.Pattern.Text != nil)
}

// contentOf gives the content of the answer that the end of a transfer is.
func contentOf(write bool, data []byte, code objects.Code) []byte {
	switch {
	case code != 0:
		return []byte{objectEnded, byte(code >> 24), byte(code >> 16), byte(code >> 8), byte(code)}
	case write:
		return []byte{objectDone}
	}
	return append([]byte{objectDone}, data...)
}

// asksObject is a transfer of an object.
type asksObject struct {
	part   *Part
	plan   *access.Plan
	client *objects.Client
	waits  objects.Frame // what was sent last
	heard  bool
	at     quantity.Time
	late   quantity.Time
	notes  []Note
}

func (a *asksObject) Next() (string, bool) {
	f, has := a.client.Next()
	if !has {
		return "", false
	}
	a.waits, a.heard = f, false
	return frameText(a.part.Map.Dialogue.Request, f[:]), true
}

func (a *asksObject) Take(r *record.Record) bool {
	d := a.part.Map.Dialogue
	if len(r.Data) != len(objects.Frame{}) {
		return false
	}
	f := objects.Frame(r.Data)
	switch {
	case with(r, d.Request) && f == a.waits:
		a.heard, a.at = true, r.End
		return true
	case !with(r, d.Response) || !a.heard:
		return false
	case a.client.Take(f) == objects.Taken:
		a.late = max(a.late, r.Start-a.at)
		return true
	}
	a.notes = append(a.notes, Note{Text: fmt.Sprintf("a response that belongs to something else was not taken: % X", f[:])})
	return false
}

func (a *asksObject) Heard() (quantity.Time, bool) { return a.at, a.heard }
func (a *asksObject) Ready() bool                  { return a.client.Over() || a.client.Pending() }
func (a *asksObject) Late() quantity.Time          { return a.late }
func (a *asksObject) Over() bool                   { return a.client.Over() }
func (a *asksObject) Notes() []Note                { return a.notes }
func (a *asksObject) Problem() string {
	if a.client.Mine {
		return fmt.Sprintf("the transfer was ended: %s", a.client.Code)
	}
	return ""
}

func (a *asksObject) Answer() (access.Answer, bool) {
	if !a.Over() || a.client.Mine {
		return access.Answer{}, false
	}
	return a.plan.Reply(contentOf(a.client.Write, a.client.Data, a.client.Code), a.part.Map.Dialogue.Refusal)
}

// asksFrame is a request in one frame.
type asksFrame struct {
	part   *Part
	plan   *access.Plan
	sent   bool
	heard  bool
	at     quantity.Time
	late   quantity.Time
	answer access.Answer
	over   bool
	notes  []Note
}

func (a *asksFrame) Next() (string, bool) {
	if a.sent {
		return "", false
	}
	a.sent = true
	return frameText(a.part.Map.Dialogue.Request, a.plan.Request()), true
}

func (a *asksFrame) Take(r *record.Record) bool {
	d := a.part.Map.Dialogue
	switch {
	case with(r, d.Request) && string(r.Data) == string(a.plan.Request()):
		a.heard, a.at = true, r.End
		a.over = !a.plan.Pattern.Answers()
		return true
	case !with(r, d.Response) || !a.heard || a.over:
		return false
	}
	x, good := a.plan.Reply(r.Data, d.Refusal)
	if !good {
		a.notes = append(a.notes, Note{Text: fmt.Sprintf("a response that belongs to something else was not taken: % X", r.Data)})
		return false
	}
	a.answer, a.over, a.late = x, true, r.Start-a.at
	return true
}

func (a *asksFrame) Heard() (quantity.Time, bool)  { return a.at, a.heard }
func (a *asksFrame) Ready() bool                   { return a.over || !a.sent }
func (a *asksFrame) Late() quantity.Time           { return a.late }
func (a *asksFrame) Over() bool                    { return a.over }
func (a *asksFrame) Notes() []Note                 { return a.notes }
func (a *asksFrame) Problem() string               { return "" }
func (a *asksFrame) Answer() (access.Answer, bool) { return a.answer, a.over }

// frames follows requests and answers of one frame each.
func (t *Talk) frames(r *record.Record) []Message {
	d := t.part.Map.Dialogue
	m := Message{FromPart: with(r, d.Response), Start: r.Start, End: r.End, Seen: r.Seen, Content: append([]byte{}, r.Data...), To: len(r.Data)}
	switch {
	case m.FromPart:
		t.answer(&m)
	case with(r, d.Request):
		t.request(&m)
	default:
		return nil
	}
	return []Message{m}
}

// objectTalk follows transfers of objects.
type objectTalk struct {
	*Talk
	follower objects.Follower
}

func (x *objectTalk) take(r *record.Record) []Message {
	d := x.part.Map.Dialogue
	request := with(r, d.Request)
	if !request && !with(r, d.Response) || len(r.Data) != len(objects.Frame{}) {
		return nil
	}
	m := Message{FromPart: !request, Start: r.Start, End: r.End, Seen: r.Seen, To: len(r.Data)}
	t, over, known := x.follower.Take(request, objects.Frame(r.Data))
	if !known {
		m.Dropped = "it belongs to no transfer"
		return []Message{m}
	}
	number := t.Number()
	content := []byte{readObject, byte(number >> 16), byte(number >> 8), byte(number)}
	if t.Write {
		content[0] = writeObject
		content = append(content, t.Data...)
	}
	asked := Message{Content: content}
	x.request(&asked)
	if !over {
		m.Content, m.Plan, m.Partly = content, asked.Plan, !request || !objects.Opens(objects.Frame(r.Data))
		return []Message{m}
	}
	m.FromPart, m.GivenUp = true, request // what ends it is the answer, whoever sent it
	m.Content = contentOf(t.Write, t.Data, t.Code)
	x.answer(&m)
	return []Message{m}
}

// laidFrames: a frame is a message.
func laidFrames(*Part) func(r *record.Record) []exchange {
	return func(r *record.Record) []exchange {
		if r.Kind != record.Frame || r.Attr&(record.Incomplete|record.Remote) != 0 || r.AllFlags() != 0 {
			return nil
		}
		e := whole(r, layout.Words(r.Data))
		e.id, e.fromPart = &device.Identifier{ID: r.ID, Extended: r.Attr&record.Extended != 0}, true
		return []exchange{e}
	}
}
