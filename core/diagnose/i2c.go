package diagnose

import (
	"fmt"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// i2cBus gives findings about the newest traffic of an i2c bus.
func i2cBus(snap *capture.Snapshot, l *bench.Link) []finding.Finding {
	var out []finding.Finding
	for i, role := range l.Kind.Lines {
		if since, held := heldLow(snap, l.Index, i); held {
			out = append(out, finding.Finding{
				Severity: finding.Error, Code: "line-held-low", Where: finding.Place{Link: l.Name, At: since}, Link: l.Name,
				Seen: fmt.Sprintf("the %s line of %s is low without end", role.Name, l.Name), Why: "nothing lets it rise: no pull-up, a short, or a device that holds it",
				Change: "look for the pull-up first; then take the devices off one by one",
			})
		}
	}
	if len(out) > 0 {
		return out
	}
	// The newest word of each address counts.
	answered, at := map[i2c.Address]bool{}, map[i2c.Address]quantity.Time{}
	for _, h := range snap.Before(snap.Len(), records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Transaction, record.Input}}) {
		if h.Start < snap.Now-2*window || h.Kind == record.Input {
			break
		}
		r := snap.Of(h)
		if len(r.Data) == 0 || len(r.Back) == 0 {
			continue
		}
		for _, p := range i2c.Parts(r) {
			a := i2c.Address(p.Address)
			if p.Ten {
				a |= i2c.TenBit
			}
			if at[a] == 0 {
				answered[a], at[a] = p.Acked, r.Start
			}
		}
	}
	silent := 0
	for _, d := range l.Model.(*bench.I2C).Devices {
		if t, asked := at[d.End.Address]; asked && !answered[d.End.Address] {
			silent++
			out = append(out, finding.Finding{
				Severity: finding.Warning, Code: "no-acknowledge", Where: finding.Place{Link: l.Name, At: t}, Link: l.Name,
				Seen:   fmt.Sprintf("%s does not acknowledge its address %s (%s)", d.Name, d.End.Address, d.End.Address.OnWire()),
				Why:    "absent, not powered, or strapped to another address: the wire does not tell these apart",
				Change: "measure its supply; then look for who answers on the bus",
			})
		}
	}
	if silent == len(at) && silent > 1 {
		out = []finding.Finding{{
			Severity: finding.Warning, Code: "nobody-acknowledges", Where: out[0].Where, Link: l.Name,
			Seen: fmt.Sprintf("none of %d devices acknowledges", silent), Why: "all at once: the data line does not reach them, or their common supply is off",
			Change: "look at the data pin in the startup (s), then at the supply",
		}}
	}
	return out
}
