package device

import (
	"slices"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/formula"
)

// Condition is an expression of a part's values.
type Condition struct {
	Text   string // as the file has it
	Of     *formula.Formula
	Inputs []*Value
}

// value gives the expression's number for what the part holds.
func (c *Condition) value(number func(*Value) float64) float64 {
	in := make([]float64, len(c.Inputs))
	for i, v := range c.Inputs {
		in[i] = number(v)
	}
	return c.Of.Value(in...)
}

// Flag is a value that comes up, and goes, by what the other values are.
type Flag struct {
	Value *Value
	// Is: it is what the condition says at each moment. Set and Clear: it comes up with the one
	// and goes with the other, and stays between them; without Clear it comes up when Set
	// becomes true, and stays until somebody clears it. Nil: not stated.
	Is, Set, Clear *Condition
	// After is the job at whose end alone Set counts; nil: always.
	After *Job
	// Of is a fault of messages in place of a condition: of the one before (Is), or of any since
	// somebody cleared it (Set).
	Of    MessageFault
	Stays bool
}

// MessageFault is what may be wrong with a message that a part took.
type MessageFault string

// The faults.
const (
	BadCheck  MessageFault = "bad-check"  // its check does not fit
	BadLength MessageFault = "bad-length" // it is as long as none of the operations
)

var flagsKey = doc.Key{Name: "flags", Doc: "bits that come up, and go, by what other values are, by name", Type: doc.MapOfNamed(doc.Map(
	doc.Key{Name: "is", Doc: "the condition that it shows at each moment: CURRENT < 0; or bad-check or bad-length: what was wrong with the message before", Type: doc.AnyText},
	doc.Key{Name: "set", Doc: "the condition with which it comes up: LEVEL > LIMIT; or bad-check or bad-length, of any message", Type: doc.AnyText},
	doc.Key{Name: "clear", Doc: "the condition with which it goes; absent: it stays until it is cleared", Type: doc.AnyText},
	doc.Key{Name: "after", Doc: "the job at whose end the condition of `set` counts; absent: when it becomes true", Type: doc.NameType},
))}

// flags reads what comes up by itself.
func (x *mapper) flags(n *doc.Node) []Flag {
	var out []Flag
	for _, c := range n.Get("flags").All() {
		f := Flag{Value: x.bitsValue(c, c.Key)}
		for key, to := range map[string]**Condition{"is": &f.Is, "set": &f.Set, "clear": &f.Clear} {
			at := c.Get(key)
			switch {
			case at == nil:
			case key != "clear" && (at.Scalar == string(BadCheck) || at.Scalar == string(BadLength)):
				f.Of, f.Stays = MessageFault(at.Scalar), key == "set"
			default:
				*to = x.condition(c.Key, at)
			}
		}
		at := c.Get("after")
		if at != nil {
			if f.After = x.m.Job(at.Scalar); f.After == nil {
				x.fault("unknown-job", at, "name one below `jobs:`", "%s: there is no job %s", c.Key, at.Scalar)
			}
		}
		switch {
		case (c.Get("is") != nil) == (c.Get("set") != nil):
			x.fault("bad-flag", c, "write `is:` for one that shows a condition, or `set:` for one that stays", "%s: it needs one condition, `is` or `set`", c.Key)
		case c.Get("is") != nil && (c.Get("clear") != nil || at != nil):
			x.fault("bad-flag", c, "leave `clear` and `after` out, or write `set:`", "%s: what shows a condition at each moment needs no other", c.Key)
		case f.Of != "" && at != nil:
			x.fault("bad-flag", at, "leave it out", "%s: a fault of a message comes with the message, not with a job", c.Key)
		}
		out = append(out, f)
	}
	return out
}

// condition reads an expression; nil with a fault said.
func (x *mapper) condition(of string, at *doc.Node) *Condition {
	f, in, ok := x.expression(of, at)
	if !ok {
		return nil
	}
	return &Condition{at.Scalar, f, in}
}

// message lets the flags be what a message that is over says; wrong is what was wrong with it.
func (p *Part) message(wrong ...MessageFault) {
	for i := range p.acts.Flags {
		f := &p.acts.Flags[i]
		switch {
		case f.Of == "":
		case slices.Contains(wrong, f.Of):
			p.put(f.Value, ones(f.Value.Bits))
		case !f.Stays:
			p.put(f.Value, 0)
		}
	}
}

// raise lets the flags be what the values say now; over is the job that has just ended.
func (p *Part) raise(over *Job) {
	for i := range p.acts.Flags {
		f := &p.acts.Flags[i]
		if f.Of != "" {
			if f.Clear != nil && f.Clear.value(p.number) != 0 {
				p.put(f.Value, 0)
			}
			continue
		}
		if f.Is != nil {
			up := uint64(0)
			if f.Is.value(p.number) != 0 {
				up = ones(f.Value.Bits)
			}
			p.put(f.Value, up)
			continue
		}
		set := f.Set.value(p.number) != 0
		was := p.was[i]
		if f.After == nil {
			p.was[i] = set
		}
		switch {
		case set && f.After == nil && (!was || f.Clear != nil), set && f.After != nil && f.After == over:
			p.put(f.Value, ones(f.Value.Bits))
		case f.Clear != nil && f.Clear.value(p.number) != 0:
			p.put(f.Value, 0)
		}
	}
}
