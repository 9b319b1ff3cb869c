package recognise

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// mostLead is the number of edges of the clock that may stand before the first start.
const mostLead = 2000

// findI2C reads two lines as clock and data.
func findI2C(clock, data *look, c, d int) (Proposal, bool) {
	end := min(clock.To, data.To)
	// Nine pulses a byte; data changes once a pulse at the most.
	cw := upTo(clock.Window, end)
	if len(cw.Toggles) < 18 || len(upTo(data.Window, end).Toggles) > len(cw.Toggles) {
		return Proposal{}, false
	}
	trial := firstEdges(cw, trialEdges)
	if hopeless(transactions(trial, upTo(data.Window, trial.To))) {
		return Proposal{}, false
	}
	dw := upTo(data.without(clock.pulse), end)
	out := transactions(cw, dw)
	p := Proposal{Kind: i2c.Kind, Lines: []int{c, d}, Unit: "bytes"}
	cost, good, explained := 0.0, 0, 0
	addresses := map[int]bool{}
	for i := range out {
		r := &out[i]
		p.Units += len(r.Data)
		flags := r.AllFlags() &^ record.Stretched
		// The capture may end inside a transaction.
		if i == len(out)-1 {
			flags &^= record.CutOff
		}
		cut, broke := cutBits(r)
		if flags&^record.StopInByte != 0 || len(r.Data)+cut == 0 {
			p.Bad += max(len(r.Data), 1)
			p.Units += max(1-len(r.Data), 0)
			cost += errorBits
			continue
		}
		for _, part := range i2c.Parts(r) {
			addresses[part.Address] = true
		}
		if broke == 0 {
			good++
		}
		p.Units, p.Bad = p.Units+broke, p.Bad+broke
		// Start and stop, then each byte with its acknowledge. What broke off tells no
		// more than its bits.
		cost += startBits + 4 + 10*float64(len(r.Data)) + errorBits*float64(broke) + float64(cut)
		explained += between(cw.Toggles, r) + between(dw.Toggles, r)
	}
	if good == 0 || p.Units < 2*p.Bad {
		return Proposal{}, false
	}
	if _, all := addresses[0]; all && len(addresses) == 1 {
		return Proposal{}, false // a slow line beside any clock looks like zeros to all
	}
	// A capture may begin inside a transaction, too: pulses of a byte each nine.
	lead, _ := slices.BinarySearch(cw.Toggles, out[0].Start)
	leadData, _ := slices.BinarySearch(dw.Toggles, out[0].Start)
	if lead < mostLead && leadData <= lead {
		explained += lead + leadData
		cost += 10 * float64(lead) / 18
	}
	edges := len(cw.Toggles) + len(dw.Toggles)
	cost += float64(edges-explained) * edgeBits
	p.Gain = float64(edges*edgeBits) - cost
	if clock.spikes+data.spikes > 0 && !alike(out, transactions(upTo(clock.untouched, end), upTo(data.untouched, end))) {
		width := quantity.Time(spikeShare * float64(clock.pulse))
		p.Settings = "filter=" + plainTime(width)
		p.Reasons = append(p.Reasons, fmt.Sprintf("spikes shorter than %s are left out", width.Round(2)))
	}
	m := wire.Measure(&cw)
	period := median(periods(cw.Toggles))
	p.Reasons = append(p.Reasons,
		fmt.Sprintf("data changes only while the clock is low, but for %d starts and stops; nine pulses a byte", 2*good),
		fmt.Sprintf("addresses %s, clock %s", list(addresses), quantity.FromHz(1e12/float64(max(period, 1))).Round(4)),
	)
	if m.Low.N > 0 && m.Low.Most > 3*m.Low.Mean {
		p.Reasons = append(p.Reasons, "the clock is held low at times: "+m.Low.Most.Round(3))
	}
	return p, true
}

// cutBits counts the bytes of a transaction that broke off, and the bits of these.
func cutBits(r *record.Record) (bits, bytes int) {
	for _, f := range r.Facts {
		if f.What == record.CutBits {
			bits, bytes = bits+int(f.Value), bytes+1
		}
	}
	return bits, bytes
}

// alike says whether two readings of the same lines say the same.
func alike(a, b []record.Record) bool {
	return slices.EqualFunc(a, b, func(a, b record.Record) bool {
		return a.AllFlags() == b.AllFlags() && slices.Equal(a.Data, b.Data)
	})
}

// transactions decodes clock and data.
func transactions(clock, data wire.Window) []record.Record {
	dec := i2c.NewDecoder(i2c.Settings{}, 0)
	var out record.List
	dec.Feed([]wire.Window{clock, data}, &out)
	dec.Flush(&out)
	return out.Done
}

// hopeless says whether more than three of four transactions are faulty, the
// last one, which may be cut off, not counted.
func hopeless(rs []record.Record) bool {
	bad := 0
	for i := range rs[:max(len(rs)-1, 0)] {
		if rs[i].AllFlags()&^record.Stretched != 0 || len(rs[i].Data) == 0 {
			bad++
		}
	}
	return len(rs) == 0 || len(rs) > 4 && 4*bad > 3*len(rs)
}

// list gives addresses in hex, the first few of many.
func list(addresses map[int]bool) string {
	var out []string
	for _, a := range slices.Sorted(maps.Keys(addresses)) {
		if len(out) == 6 {
			return strings.Join(out, " ") + fmt.Sprintf(" and %d more", len(addresses)-6)
		}
		out = append(out, fmt.Sprintf("%02X", a))
	}
	return strings.Join(out, " ")
}

// between counts the toggles of a record's stretch.
func between(toggles []quantity.Time, r *record.Record) int {
	from, _ := slices.BinarySearch(toggles, r.Start)
	to, _ := slices.BinarySearch(toggles, r.End+1)
	return to - from
}

// periods are the distances from an edge to the next but one.
func periods(toggles []quantity.Time) []quantity.Time {
	var out []quantity.Time
	for i := 2; i < len(toggles); i += 2 {
		out = append(out, toggles[i]-toggles[i-2])
	}
	return out
}
