package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/finding"
)

// TestRateRegisters: of every kind of unit, a register that is not there and one
// without a field are found.
func TestRateRegisters(t *testing.T) {
	for _, l := range demoBench(t).Links {
		for _, p := range unitRegisters(l) {
			b := demoBench(t)
			require.NotContains(t, codes(b.Link(l.Name).Lint()), "rate-register-absent")
			require.NoError(t, b.Apply(finding.Edit{Path: p, Value: "NOWHERE"}, finding.Edit{Op: finding.Delete, Path: fieldOf(p)}))
			assert.Contains(t, codes(b.Link(l.Name).Lint()), "rate-register-absent", p)
			b = demoBench(t)
			require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: fieldOf(p)}))
			assert.Contains(t, codes(b.Link(l.Name).Lint()), "rate-register-without-field", p)
		}
	}
}

// unitRegisters gives the places at which a link's unit names registers for its rate.
func unitRegisters(l *Link) [][]string {
	unit := []string{"mcu", "units", l.Unit.Name}
	return map[string][][]string{
		"uart": {append(unit, "divider", "register")},
		"spi":  {append(unit, "prescaler", "register")},
		"i2c":  {append(unit, "counters", "low-register")},
	}[l.Kind.Name]
}

func fieldOf(register []string) []string {
	out := append([]string(nil), register...)
	last := &out[len(out)-1]
	*last = (*last)[:len(*last)-len("register")] + "field"
	return out
}

func TestDMAChannels(t *testing.T) {
	b := demoBench(t)
	dma := func(name string) finding.Edit {
		return finding.Edit{Path: []string{"links", name, "mcu", "receive"}, Value: "dma"}
	}
	require.NoError(t, b.Apply(dma("upper-gauge"), dma("lower-gauge")))
	assert.NotContains(t, codes(b.Link("upper-gauge").Lint()), "dma-channel-twice")
	at := []string{"mcu", "units", b.Link("upper-gauge").Unit.Name, "control", "dma-channel"}
	require.NoError(t, b.Apply(finding.Edit{Path: at, Value: b.Link("lower-gauge").Unit.Control["dma-channel"]}))
	assert.Contains(t, codes(b.Link("upper-gauge").Lint()), "dma-channel-twice")
	assert.Contains(t, codes(b.Link("lower-gauge").Lint()), "dma-channel-twice")
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: at}))
	assert.Contains(t, codes(b.Link("upper-gauge").Lint()), "no-dma-channel")
	assert.NotContains(t, codes(b.Link("lower-gauge").Lint()), "dma-channel-twice")
}
