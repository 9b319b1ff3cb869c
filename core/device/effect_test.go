package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const effects = `device: e
kind: spi
end: {mode: 0, most: 4 MHz, valid: 40 ns}
access:
  all: {out: OUT.16 POS.8}
registers:
  OUT:
    width: 16
    access: write-only
    fields:
      LAMPS:  {bits: 9:4, switches: lamps, active: low}
      VALVES: {bits: 3:0, switches: valves}
  POS: {access: write-only, scale: 0.5 %, least: 10 %, greatest: 100 %, bar: yes}
`

// TestWhatIsSwitched counts marks against bits.
func TestWhatIsSwitched(t *testing.T) {
	d, faults := Parse("e.yaml", []byte(effects))
	require.Empty(t, faults)
	rapid.Check(t, func(t *rapid.T) {
		raw := rapid.Uint64Range(0, 63).Draw(t, "raw")
		lamps := d.Map.Value("OUT.LAMPS").Shown(raw)
		valves := d.Map.Value("OUT.VALVES").Shown(raw & 15)
		place := 0
		for _, r := range lamps {
			if r == '●' || r == '○' {
				assert.Equal(t, raw>>(5-place)&1 == 0, r == '●')
				place++
			}
		}
		assert.Equal(t, 6, place)
		ones := strings.Count(valves, "●")
		assert.Equal(t, 4, ones+strings.Count(valves, "○"))
		assert.Contains(t, valves, string(rune('0'+ones))+" of 4 valves on")
	})
	pos := d.Map.Value("POS")
	assert.Equal(t, "├◆────────────────────┤  10 %", pos.Shown(20))
	assert.Equal(t, "├────────────────────◆┤  100 %", pos.Shown(200))
	assert.Equal(t, "├──────────◆──────────┤  55 %", pos.Shown(110))
	assert.Equal(t, "├────────────────────◆┤  127.5 %", pos.Shown(255), "beyond its end")
	for _, c := range []struct{ from, to, says string }{
		{"switches: valves", "switches: valves, scale: 2 V", "no number with a scale"},
		{"switches: valves", "switches: valves, bar: yes", "not both"},
		{"switches: lamps, active: low", "active: low", "add `switches:`"},
		{"active: low", "active: down", "one of high, low"},
	} {
		_, faults := Parse("e.yaml", []byte(strings.Replace(effects, c.from, c.to, 1)))
		require.NotEmpty(t, faults, c.to)
		assert.Contains(t, faults[0].Seen+faults[0].Change, c.says)
	}
}
