package main

import (
	"encoding/json"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The transfers of every link run on the same words, wherever the traffic is from: simulated,
// recorded, or decoded from levels.
func TestCompareOnEveryKindOfFile(t *testing.T) {
	dir := t.TempDir()
	levels, recorded := filepath.Join(dir, "lock.vcd"), filepath.Join(dir, "lock.pcapng")
	out, status := run(t, "watch", "demo", "--fast", "--for", "500ms", "--levels", levels, "--save", recorded)
	require.Equal(t, fine, status, out)
	for _, l := range []string{"upper-gauge", "lower-gauge", "pump", "winch", "gate", "hull", "depth-strip"} {
		moved := func(more ...string) map[string]int {
			out, status := run(t, append([]string{"compare", "demo", "--link", l, "--json"}, more...)...)
			require.Equal(t, fine, status, out)
			var got struct {
				Result []struct {
					Method string `json:"method"`
					Came   int    `json:"words_came"`
				}
			}
			require.NoError(t, json.Unmarshal([]byte(out), &got))
			counts := map[string]int{}
			for _, r := range got.Result {
				counts[r.Method] = r.Came
			}
			return counts
		}
		simulated := moved("--for", "500ms")
		require.Positive(t, simulated["interrupt"], l)
		// What is on its way at the end is in one and not in the other.
		for name, other := range map[string]map[string]int{"recorded": moved("--capture", recorded), "levels": moved("--capture", levels)} {
			for method, n := range simulated {
				assert.InDelta(t, n, other[method], 0.05*float64(n)+9, "%s, %s: %s", l, method, name)
			}
		}
	}
	for _, args := range [][]string{
		{"--link", "upper-gauge", "--capture", filepath.Join(dir, "none.vcd")}, {"--link", "nowhere"}, {"--link", "hull", "--transfer", "other"},
		{"--link", "hull", "--methods", "magic"}, {"--link", "hull", "--methods", ""}, {"--link", "hull", "--for", "1e9 s"}, {"--link", "hull", "--capture", recorded, "--for", "1s"},
	} {
		_, status := run(t, append([]string{"compare", "demo"}, args...)...)
		assert.Equal(t, cannot, status, args)
	}
	out, status = run(t, "compare", "demo", "--link", "upper-gauge", "--set", "links.upper-gauge.transfers.readings.method=polled")
	assert.Equal(t, found, status, out)
	out, status = run(t, "export", "c", "demo", "--out", filepath.Join(dir, "c"))
	require.Equal(t, fine, status, out)
	files, _ := filepath.Glob(filepath.Join(dir, "c", "*"))
	assert.Len(t, files, 7)
	out, status = run(t, "draw", "transfer", "demo", "--link", "gate", "--transfer", "words in", "--out", filepath.Join(dir, "x.svg"))
	assert.Equal(t, fine, status, out)
}
