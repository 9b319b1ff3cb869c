package operate

import (
	"fmt"
	"math/bits"
	"strings"

	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operation"
)

// scan asks every address who is there.
func (x *run) scan() {
	parts := x.Link.Parts()
	probes := x.op.Probes(parts)
	silent := 0
	for _, p := range probes {
		out, err := x.Session.Do(x.ctx, x.Link.Index, link.Transact{Text: p.Text})
		if err != nil {
			x.err = err
			return
		}
		refused := operation.Silent(x.Link.Kind.Name, out.Record)
		if !out.OK && !refused {
			x.r.say(Fault, "at address %02X: %s; the scan was ended", p.Address, out.Text)
			return
		}
		f := Found{Address: p.Address, Answered: out.OK}
		if p.Part != nil {
			f.Part = p.Part.Name
		}
		if !f.Answered && f.Part == "" {
			silent++
			continue
		}
		if f.Part == "" {
			for _, o := range probes {
				if o.Part != nil && bits.OnesCount(uint(o.Address^p.Address)) == 1 {
					f.Near = append(f.Near, o.Part.Name)
				}
			}
		}
		x.r.Found = append(x.r.Found, f)
	}
	missing := map[string]bool{}
	for _, f := range x.r.Found {
		if f.Part == "" {
			continue
		}
		if f.Answered {
			x.r.say(OK, "%s answers at %02X", f.Part, f.Address)
		} else {
			missing[f.Part] = true
			x.r.say(Fault, "%s does not answer at %02X", f.Part, f.Address)
		}
	}
	for _, f := range x.r.Found {
		if f.Part != "" {
			continue
		}
		text := fmt.Sprintf("a stranger answers at %02X (%02X, %02X on the wire)", f.Address, f.Address<<1, f.Address<<1|1)
		for _, n := range f.Near {
			text += ", one strap away from " + n
			if missing[n] {
				text += ", which is missing"
			}
		}
		x.r.say(Warn, "%s", text)
	}
	x.r.say(OK, "the other %d addresses are silent", silent)
	how := "each address was written to, with nothing after it: a part that takes that for a command may have been disturbed"
	if x.op.Text == "reading" {
		how = "of each part that answers one byte was read: flags may have been cleared by that, and a queue moved on"
	}
	x.r.Says = append(x.r.Says, strings.TrimSpace(how))
}
