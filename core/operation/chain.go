package operation

import (
	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bus/spi"
)

// marker are bits that come back from the end of a chain as many clocks later as the chain is
// long: none of its shifts is like its beginning.
const marker, markerBits = uint64(0x2C7B1E95), 32

// Marked gives the transaction that counts the parts of a chain: a marker goes in front, and behind
// it what the parts are to hold at the release. As many bits pass as twice the parts have.
func (p *Part) Marked(held map[string]uint64) (text string, err error) {
	pat := p.Map.Patterns[0]
	plan, err := pat.Plan(access.Use{Held: held})
	if err != nil {
		return "", err
	}
	last := plan.Spans[0].Out
	out := make([]bool, 0, markerBits+3*len(last))
	for i := range markerBits {
		out = append(out, marker>>(markerBits-1-i)&1 == 1)
	}
	word, latch := p.End.(spi.End).Word, max(p.Map.Latch, 1)
	for n := len(last); len(out)+n < markerBits+2*n || (len(out)+n)%word != 0 || (len(out)+n)%latch != 0; {
		out = append(out, false)
	}
	plan.Spans[0].Out = append(out, last...)
	return wires[p.Kind.Name].texts(p, plan)[0], nil
}

// MarkerAt is how many bits came back before the marker; -1: it did not come.
func MarkerAt(in []access.Bit) int {
	for at := 0; at+markerBits <= len(in); at++ {
		same := true
		for i := range markerBits {
			same = same && in[at+i] == access.BitOf(marker>>(markerBits-1-i)&1 == 1)
		}
		if same {
			return at
		}
	}
	return -1
}
