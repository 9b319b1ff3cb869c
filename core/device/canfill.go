package device

import (
	"slices"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/formula"
	"gavrix.org/gavrix/core/layout"
	"gavrix.org/gavrix/core/quantity"
)

// Holding is what a simulated part puts into a value of its messages.
type Holding struct {
	Field *layout.Field
	Of    *formula.Formula // of t, the time in seconds, and of the inputs
	// Inputs are values of the part's registers.
	Inputs []*Value
}

// holds reads what a simulated part puts into the values of a layout.
func (x *mapper) holds(d *Device, l *Layout, n *doc.Node, fields []*layout.Field, nodes []*doc.Node) {
	for i, f := range fields {
		at := nodes[i].Get("holds")
		if at == nil {
			continue
		}
		sent := slices.ContainsFunc(d.End.(can.End).Messages, func(m can.Message) bool {
			return m.Frame.ID == l.ID.ID && m.Frame.Extended == l.ID.Extended
		})
		if !sent {
			x.fault("holds-without-message", at, "add the message to `end.messages`, or leave it out", "layout %s: the part sends no message with this identifier by itself", n.Key)
			return
		}
		h := Holding{Field: f}
		names := []string{"t"}
		if d.Map != nil {
			y := &mapper{m: d.Map}
			known := y.variables(at.Scalar)
			for _, k := range known {
				names, h.Inputs = append(names, k.name), append(h.Inputs, k.Value)
			}
		}
		var err error
		if h.Of, err = formula.New(at.Scalar, names...); err != nil {
			x.fault("bad-expression", at, "t is the time in seconds; the part's values are known by their names, with _ in place of - and .", "layout %s: %s: %v", n.Key, f.Name, err)
			return
		}
		l.Holds = append(l.Holds, h)
	}
}

// Setting is a value of the part's registers that a received message sets.
type Setting struct {
	Field *layout.Field
	To    *Value
}

// sets reads what received messages set.
func (x *mapper) sets(d *Device, l *Layout, n *doc.Node, fields []*layout.Field, nodes []*doc.Node) {
	for i, f := range fields {
		at := nodes[i].Get("sets")
		if at == nil {
			continue
		}
		if d.SendsFrame(*l.ID) {
			x.fault("sets-of-own-message", at, "leave it out", "layout %s: the part sends this message itself", n.Key)
			return
		}
		var v *Value
		if d.Map != nil {
			v = d.Map.Value(at.Scalar)
		}
		if v == nil || v.From != nil {
			x.fault("unknown-value", at, "name a register or value below `registers:` or `values:`", "layout %s: the part has no value %s that can be set", n.Key, at.Scalar)
			return
		}
		l.Sets = append(l.Sets, Setting{f, v})
	}
}

// Takes lets the simulated part take over what a received message sets.
func (d *Device) Takes(f can.Frame, part *Part, now quantity.Time) {
	for _, l := range d.Layouts {
		words := layout.Words(f.Data)
		if l.ID == nil || l.ID.ID != f.ID || l.ID.Extended != f.Extended || len(l.Sets) == 0 || f.Remote || !l.Fits(words) {
			continue
		}
		part.Freeze(now)
		for _, s := range l.Sets {
			raw, whole := s.Field.Of(words)
			if !whole {
				continue
			}
			v := s.Field.Decode(raw)
			if v.Number == nil {
				part.put(s.To, raw)
				continue
			}
			number, _ := v.Number.Float64()
			part.put(s.To, s.To.Nearest(number))
		}
	}
}

// variable is a value as expressions name it.
type variable struct {
	name string
	*Value
}

// variables gives the values whose names stand in an expression.
func (x *mapper) variables(text string) []variable {
	var out []variable
	used := identifier.FindAllString(text, -1)
	for _, o := range x.m.Values {
		name := inExpressions(o.Name)
		if slices.Contains(used, name) && !slices.ContainsFunc(out, func(v variable) bool { return v.name == name }) {
			out = append(out, variable{name, o})
		}
	}
	return out
}

// Fill puts what the simulated part holds at a time into the bytes of one of its messages;
// part may be nil.
func (d *Device) Fill(f can.Frame, part *Part, now quantity.Time) can.Frame {
	frozen := false
	for _, l := range d.Layouts {
		if l.ID == nil || l.ID.ID != f.ID || l.ID.Extended != f.Extended || len(l.Holds) == 0 {
			continue
		}
		words := layout.Words(f.Data)
		if !l.Fits(words) {
			continue
		}
		if part != nil && !frozen {
			part.Freeze(now)
			frozen = true
		}
		for _, h := range l.Holds {
			in := []float64{now.Seconds()}
			for _, v := range h.Inputs {
				in = append(in, part.number(v))
			}
			h.Field.Put(words, h.Field.Nearest(h.Of.Value(in...)))
		}
		f.Data = l.Bytes(words)
	}
	return f
}

// number gives a value that the part holds as a number; of a code its number.
func (p *Part) number(v *Value) float64 { return v.Number(p.content) }

// SendsFrame says whether the part sends frames with an identifier by itself.
func (d *Device) SendsFrame(id Identifier) bool {
	end, ok := d.End.(can.End)
	return ok && slices.ContainsFunc(end.Messages, func(m can.Message) bool { return m.Frame.ID == id.ID && m.Frame.Extended == id.Extended })
}
