package sim

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// TestEditedBenchesRun sets random settings of all links to values of others, and lets
// the world go on after each: it takes what can be bound.
func TestEditedBenchesRun(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		w := New(b, capture.NewStore(MetaOf(b)))
		for range rapid.IntRange(1, 3).Draw(rt, "edits") {
			l := rapid.SampledFrom(b.Links).Draw(rt, "link")
			path := rapid.SampledFrom(l.Settable()).Draw(rt, "path")
			value := rapid.SampledFrom([]string{"0", "1", "2", "7", "64", "1000", "yes", "no", "7E1", "9O2", "19200 Bd", "500 kBd", "125 kBd", "3 kΩ", "0 Ω", "10 us", "90 %", "50000 ppm", "low", "high", "lsb", "floating", "3C0 3C1", "1100", "5 V"}).Draw(rt, "value")
			before := string(b.Text())
			if b.Apply(finding.Edit{Path: strings.Split(path, "."), Value: value}) != nil {
				require.Equal(rt, before, string(b.Text()), "a refused edit changes nothing")
				continue
			}
			if err := w.Apply(b); err != nil {
				require.ErrorContains(rt, err, "links of the bench are no longer", "%s %s", path, value)
				return
			}
			w.RunTo(w.now + 4*quantity.Millisecond)
		}
		// The state that was reached in steps is the one that the text alone gives.
		again, faults := bench.FromFiles("lock7.yaml", string(b.Text()), b.Files())
		require.Empty(rt, faults)
		for i, l := range again.Links {
			if w.links[i] != nil {
				require.Equal(rt, kinds[l.Kind.Name].state(l), w.links[i].state(), l.Name)
			}
		}
	})
}
