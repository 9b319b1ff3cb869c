package bench

import (
	"fmt"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/startup"
)

// lintWritten finds registers that a unit names for its rate and that can't be written:
// there is no such register, or it isn't said which of its fields.
func (l *Link) lintWritten() []finding.Finding {
	if l.registers == nil {
		return nil
	}
	var out []finding.Finding
	var walk func(n *doc.Node)
	walk = func(n *doc.Node) {
		for _, e := range n.All() {
			prefix, is := strings.CutSuffix(e.Key, "register")
			if !is || e.Kind != doc.Value {
				if e.Key != "control" {
					walk(e)
				}
				continue
			}
			r := l.registers.Named(e.Scalar)
			field := n.Get(prefix + "field")
			switch {
			case r == nil:
				var known []string
				for i := range l.registers.Registers {
					known = append(known, l.registers.Registers[i].Name)
				}
				change := "name one of the registers of mcu.registers"
				if near := doc.Nearest(e.Scalar, known); near != "" {
					change = "did you mean " + near + "?"
				}
				out = append(out, finding.Finding{
					Severity: finding.Error, Code: "rate-register-absent", Where: e.Place(),
					Seen: fmt.Sprintf("unit %s: there is no register %s, so it can't be written", l.Unit.Name, e.Scalar), Change: change,
				})
			case field == nil:
				f := finding.Finding{
					Severity: finding.Warning, Code: "rate-register-without-field", Where: e.Place(),
					Seen:   fmt.Sprintf("unit %s: it isn't said which field of %s takes the value, so it is not written", l.Unit.Name, e.Scalar),
					Change: fmt.Sprintf("add `%sfield:`", prefix),
				}
				if len(r.Fields) == 1 {
					f.Fixes = []finding.Fix{{Label: "field " + r.Fields[0].Name, Edits: []finding.Edit{{Path: append(slices.Clone(n.Path), prefix+"field"), Value: r.Fields[0].Name}}}}
				}
				out = append(out, f)
			}
		}
	}
	walk(l.unitNode)
	return out
}

// lintDMA finds received words that no channel takes, or that two fight for.
func (l *Link) lintDMA() []finding.Finding {
	if l.Receive != startup.DMA {
		return nil
	}
	where := l.node.Get("mcu", "receive").Place()
	channel, _ := fieldAndWord(l.Unit.Control["dma-channel"])
	if channel == "" {
		return []finding.Finding{{
			Severity: finding.Warning, Code: "no-dma-channel", Where: where,
			Seen:   fmt.Sprintf("%s receives by DMA; unit %s names no channel", l.Name, l.Unit.Name),
			Why:    "without a channel nothing empties the receive register: the first word waits, overrun from the second one on",
			Change: "add `dma-channel:` below control of the unit, or receive by interrupt",
		}}
	}
	var out []finding.Finding
	for _, other := range l.peers {
		if c, _ := fieldAndWord(other.Unit.Control["dma-channel"]); other != l && other.Receive == startup.DMA && c == channel {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "dma-channel-twice", Where: l.unitNode.Get("control", "dma-channel").Place(),
				Seen: fmt.Sprintf("%s and %s both receive by %s", l.Name, other.Name, channel),
				Why:  "a channel serves one request: the other unit's words are lost, or land in the wrong buffer", Change: "give each its own channel",
			})
		}
	}
	return out
}
