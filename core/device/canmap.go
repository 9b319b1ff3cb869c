package device

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/quantity"
)

var identifierType = doc.Scalar("an identifier, as 0x60A; with more than 3 digits it has 29 bits", func(s string) (Identifier, error) {
	id, err := strconv.ParseUint(strings.ReplaceAll(s, "_", ""), 0, 32)
	i := Identifier{uint32(id), len(strings.TrimPrefix(strings.ToLower(s), "0x")) > 3}
	if err != nil || (can.Frame{ID: i.ID, Extended: i.Extended}).Check() != nil {
		return i, fmt.Errorf("%q is no identifier of 11 or 29 bits", s)
	}
	return i, nil
})

// canKeys say how parts on can are asked.
func canKeys() []doc.Key {
	ids := []doc.Key{
		{Name: "request", Doc: "identifier of requests", Type: identifierType, Required: true},
		{Name: "response", Doc: "identifier of answers", Type: identifierType, Required: true},
		withinKey(),
		{Name: "after", Doc: "how long the simulated part takes to answer", Type: doc.TimeType, Default: "200 us"},
	}
	return []doc.Key{
		{Name: "objects", Doc: "registers are objects with index and sub-index, reached as in CiA 301", Type: doc.Map(ids...)},
		{Name: "frames", Doc: "a request is one frame, its answer another: their content stands below `access`", Type: doc.Map(ids...)},
		refusalsKey(), textsKey(),
	}
}

// frames binds how a part on can is asked.
func frames(x *mapper, d *Device, root *doc.Node) {
	n, plain := root.Get("objects"), root.Get("frames")
	switch {
	case n != nil && plain != nil:
		x.fault("two-ways", plain, "keep one", "a part is reached by objects or by frames of its own")
		return
	case n == nil && plain == nil:
		x.fault("no-way", root, "add `objects:` or `frames:`", "nothing says with which identifiers the part is asked")
		return
	}
	talk := &Dialogue{Objects: n != nil}
	x.m.Dialogue = talk
	if n == nil {
		n = plain
	}
	talk.Request, talk.Response, talk.Within = doc.Of[Identifier](n, "request"), doc.Of[Identifier](n, "response"), doc.Of[quantity.Time](n, "within")
	talk.Lag = doc.Of[quantity.Time](n, "after")
	if talk.Request == talk.Response {
		x.fault("two-ways", n.Get("response"), "give each way an identifier of its own", "requests and answers have the identifier %s", talk.Request)
	}
	if !talk.Objects {
		return
	}
	for _, key := range []string{"access", "refusals"} {
		if at := root.Get(key); at != nil {
			x.fault("two-ways", at, "leave it out", "%s has no effect: objects are reached as in CiA 301", key)
		}
	}
}

// objectPatterns gives the operations on objects of the sizes that the part has.
func (x *mapper) objectPatterns(rules access.Rules, root *doc.Node) {
	add := func(name, out, in string) {
		p, err := access.ParseMessage(name, out, in, rules)
		if err != nil {
			x.fault("bad-pattern", root, "take another size", "%s: %v", name, err)
			return
		}
		x.m.Patterns = append(x.m.Patterns, p)
	}
	var sizes []int
	for _, r := range x.m.Registers {
		n := root.Get("registers", r.Name)
		switch {
		case r.Bits%8 != 0:
			x.fault("bad-width", n, "write whole bytes", "%s has %d bits: objects have whole bytes", r.Name, r.Bits)
		case !r.Numbered:
			x.fault("register-unreachable", n, "give it a number, as 0x2001 sub 1", "%s has no number", r.Name)
		case r.Address > 0xFFFFFF:
			x.fault("number-too-wide", n.Get("number"), "write index and sub-index, as 0x2001 sub 1", "%s: 0x%X", r.Name, r.Address)
		case !slices.Contains(sizes, r.Bits):
			sizes = append(sizes, r.Bits)
		}
	}
	slices.Sort(sizes)
	for _, bits := range sizes {
		value := ""
		for at := 0; at < bits; at += 8 {
			value += fmt.Sprintf(" value[%d:%d]", at+7, at)
		}
		noun := "bytes"
		if bits == 8 {
			noun = "byte"
		}
		add(fmt.Sprintf("read %d %s", bits/8, noun), "01 reg.24", "00"+value)
		add(fmt.Sprintf("write %d %s", bits/8, noun), "02 reg.24"+value, "00")
	}
	if len(x.m.Texts) > 0 {
		add("read text", "01 reg.24", "00 text")
		add("write text", "02 reg.24 text", "00")
	}
	x.m.Dialogue.Refusal, _ = access.ParseRefusal("FF why.32", rules)
	x.m.Dialogue.Refusal.Codes = objects.Meanings()
}
