package bench

import (
	"fmt"

	"gavrix.org/gavrix/core/clock"
	"gavrix.org/gavrix/core/finding"
)

// lintCommon finds what is wrong at the MCU's end of a link of any kind.
func (l *Link) lintCommon() []finding.Finding {
	out := l.lintPath()
	out = append(out, l.lintOptions()...)
	out = append(out, l.lintWords()...)
	out = append(out, l.lintStart()...)
	out = append(out, l.lintWritten()...)
	out = append(out, l.lintDMA()...)
	out = append(out, l.lintWear()...)
	out = append(out, l.said...)
	out = append(out, l.lintUnheld()...)
	out = append(out, l.lintTransfers()...)
	return append(out, l.lintForeign()...)
}

// Unheld lists settings of the MCU's end, in words, for which no described register of its
// unit has a field: no register value brings them about.
func (l *Link) Unheld() []string {
	if m, some := l.Model.(interface{ unheld() []string }); some {
		return m.unheld()
	}
	return nil
}

func (l *Link) lintUnheld() []finding.Finding {
	var out []finding.Finding
	for _, s := range l.Unheld() {
		out = append(out, finding.Finding{
			Severity: finding.Warning, Code: "setting-without-field", Where: l.node.Get("mcu").KeyPlace(),
			Seen: fmt.Sprintf("%s: no field of the registers of %s takes it", s, l.Unit.Name), Why: "what is exported leaves the unit as it is without it",
			Change: "name the field below `control:` of the unit, or do without the setting",
		})
	}
	return out
}

// lintPath finds clocks that are assumed only, or not what was measured.
func (l *Link) lintPath() []finding.Finding {
	var out []finding.Finding
	u := l.Unit
	if u.Clock.Unproven() {
		out = append(out, finding.Finding{
			Severity: finding.Note, Code: "clock-unproven", Where: l.node.Get("unit").Place(),
			Seen: fmt.Sprintf("the clock of %s is assumed only, so its rate is too", u.Name), Change: "measure it, then remove `unproven: yes`",
		})
	}
	if i := u.Clock.Parts(); i >= 0 {
		h := u.Clock[i]
		off := float64(h.Measured)/float64(h.Expected) - 1
		f := finding.Finding{
			Severity: finding.Warning, Code: "clock-not-as-expected", Where: l.node.Get("unit").Place(),
			Seen: fmt.Sprintf("clock %s was measured at %s, expected is %s: %s", h.Name, h.Measured, h.Expected, clock.Percent(off)),
			Why:  "rates are calculated with what was measured; whatever else hangs on this clock is off by as much",
		}
		f.Change = "look for the cause at or before " + h.Name
		if cs := clock.InferFactor(h.Expected, h.Measured, h.PlusMinus); len(cs) > 0 {
			f.Change += ": " + cs[0].Text
		}
		out = append(out, f)
	}
	return out
}
