package operate

import (
	"slices"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
)

// proveChain counts the parts of a chain: in one select a marker is sent, and behind it what the
// parts hold, so that they take over at the release what they had.
func (x *run) proveChain() {
	p := x.op.Part
	pat := p.Map.Patterns[0]
	bits, each := pat.Spans[0].Bits, pat.Spans[0].Bits/p.Map.Chain
	held := map[string]uint64{}
	for _, name := range pat.HeldOut {
		reg := p.Map.Named(name)
		v, known := x.content(reg)
		if !known && !x.op.Force {
			x.r.say(Refused, "what %s holds is not known, and the parts take over what goes through them: write it first, or force its reset value %s", name, reg.Hex(reg.Reset))
			return
		}
		if held[name] = v; !known {
			held[name] = reg.Reset
		}
	}
	text, err := p.Marked(held)
	if err != nil {
		x.r.say(Refused, "%v", err)
		return
	}
	rec, ok := x.transact(text)
	if !ok {
		return
	}
	if rec == nil {
		x.r.say(Fault, "nothing was seen of the transaction")
		return
	}
	spans, with := p.Seen(rec)
	if !with || len(spans) == 0 {
		x.r.say(Fault, "the transaction that was seen is with another part")
		return
	}
	in := spans[0].In
	if !slices.ContainsFunc(in, func(b access.Bit) bool { return b != access.Unknown }) {
		x.r.say(Fault, "nobody drives the line from the end of the chain: %s is absent, without supply, not selected, or the wires between its parts are open", p.Name)
		return
	}
	switch n := operation.MarkerAt(in); {
	case n < 0:
		x.r.say(Fault, "the marker does not come back within %d clocks: the chain is interrupted, has more than %d parts, or one side samples at the wrong edge", len(in), 2*p.Map.Chain)
	case n == bits:
		x.r.say(OK, "a marker came back %d clocks later: %s in the chain, as its file says; all of them hold what they held", n, areParts(n/each))
	case n%each != 0:
		x.r.say(Fault, "a marker came back %d clocks later, which is no whole number of parts of %d bits: clock edges are lost or added, or another part is in the chain", n, each)
	default:
		x.r.say(Fault, "a marker came back %d clocks later: %s in the chain where its file describes %d", n, areParts(n/each), p.Map.Chain)
	}
}

func areParts(n int) string {
	if n == 1 {
		return "1 part is"
	}
	return quantity.Count(n, "part") + " are"
}
