package device

import (
	"bytes"
	"encoding/binary"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

// CANPart is a part with registers at a can node.
type CANPart struct {
	m         *Map
	part      *Part
	from      quantity.Time // it listens from there on
	server    *objects.Server
	responder access.Responder
	before    *can.Frame // the answer before
}

// OnCAN gives a part at work from a time on; nil where its registers are not described.
func (d *Device) OnCAN(on quantity.Time, cells *Cells) (*CANPart, *Part) {
	if d.Map == nil {
		return nil, nil
	}
	part := d.NewPart(cells)
	c := &CANPart{m: d.Map, part: part, from: on + d.Map.PowerUp}
	c.server = objects.NewServer(dictionary{part})
	c.server.Unturned = part.odd.Answers == Unturned
	c.responder = access.Responder{Patterns: d.Map.Patterns, Refusal: d.Map.Dialogue.Refusal, When: d.Map.Dialogue.When, Part: part, Unturned: part.odd.Answers == Unturned}
	return c, part
}

// Take takes a frame that the node received, and gives what it answers with, and how much later.
func (c *CANPart) Take(now quantity.Time, f can.Frame) (answers []can.Frame, after quantity.Time) {
	answer, after, some := c.take(now, f)
	if !some || c.part.odd.Answers == Silent {
		return nil, after
	}
	if c.part.odd.Answers == Repeated {
		if c.before != nil {
			answers = append(answers, *c.before)
		}
		c.before = &answer
	}
	return append(answers, answer), after
}

func (c *CANPart) take(now quantity.Time, f can.Frame) (answer can.Frame, after quantity.Time, answers bool) {
	talk := c.m.Dialogue
	if f.ID != talk.Request.ID || f.Extended != talk.Request.Extended || f.Remote || now < c.from {
		return can.Frame{}, 0, false
	}
	c.part.Freeze(now)
	defer c.part.store(now)
	answer = can.Frame{ID: talk.Response.ID, Extended: talk.Response.Extended}
	after = talk.Lag
	if talk.Objects {
		if len(f.Data) != len(objects.Frame{}) {
			return can.Frame{}, 0, false
		}
		out, answers := c.server.Take(objects.Frame(f.Data))
		answer.Data = out[:]
		return answer, after, answers
	}
	content, p, answers := c.responder.Respond(f.Data)
	c.part.message(refusedFor(&c.responder)...)
	if own, has := talk.After[p]; has {
		after = own
	}
	answer.Data = content
	return answer, after, answers && answer.Check() == nil
}

// refusedFor says what was wrong with the request that was answered last.
func refusedFor(r *access.Responder) []MessageFault {
	if r.Why == access.BadLength {
		return []MessageFault{BadLength}
	}
	return nil
}

// dictionary gives a part's registers and texts as objects.
type dictionary struct{ *Part }

// missing says how an object is not there.
func (d dictionary) missing(o objects.Object) objects.Code {
	for _, r := range d.m.Registers {
		if objects.ObjectOf(r.Address).Index == o.Index {
			return objects.NoSub
		}
	}
	for _, t := range d.m.Texts {
		if objects.ObjectOf(t.Number).Index == o.Index {
			return objects.NoSub
		}
	}
	return objects.NoObject
}

// Read implements objects.Dictionary: texts go in segments.
func (d dictionary) Read(o objects.Object) (data []byte, segments bool, code objects.Code) {
	if t := d.m.TextAt(o.Number()); t != nil {
		if t.Access == register.WriteOnly {
			return nil, false, objects.CantBeRead
		}
		return []byte(d.texts[t]), true, 0
	}
	r := d.at(o.Number(), false)
	switch {
	case r == nil:
		return nil, false, d.missing(o)
	case !r.some(func(a register.Access) bool { return a != register.WriteOnly }):
		return nil, false, objects.CantBeRead
	}
	data = binary.LittleEndian.AppendUint64(nil, d.Part.Read(o.Number()))
	return data[:r.Bits/8], false, 0
}

var objectReasons = map[access.Reason]objects.Code{
	access.Unwritable: objects.CantBeWritten, access.BadLength: objects.WrongLength,
	access.OutOfRange: objects.OutOfRange, access.NotNow: objects.NotNow,
}

// MayWrite implements objects.Dictionary.
func (d dictionary) MayWrite(o objects.Object, size int) objects.Code {
	t, r := d.m.TextAt(o.Number()), d.at(o.Number(), true)
	switch {
	case t != nil:
		return objectReasons[d.grantsText(t, true, max(size, 0))]
	case r == nil:
		return d.missing(o)
	case size >= 0 && size != r.Bits/8:
		return objects.WrongLength
	}
	return 0
}

// Write implements objects.Dictionary.
func (d dictionary) Write(o objects.Object, data []byte) objects.Code {
	if t := d.m.TextAt(o.Number()); t != nil {
		if code := d.MayWrite(o, len(data)); code != 0 {
			return code
		}
		d.texts[t] = string(bytes.TrimRight(data, "\x00"))
		return 0
	}
	r := d.at(o.Number(), true)
	if r == nil {
		return d.missing(o)
	}
	v := binary.LittleEndian.Uint64(append(bytes.Clone(data), make([]byte, 8)...))
	if !r.some(func(a register.Access) bool { return a != register.ReadOnly && a != register.ReadClears }) {
		return objects.CantBeWritten
	}
	if len(data) != r.Bits/8 {
		return objects.WrongLength
	}
	if why := d.grantsWrite(r, v); why != access.Granted {
		return objectReasons[why]
	}
	d.Part.Write(o.Number(), v)
	return 0
}
