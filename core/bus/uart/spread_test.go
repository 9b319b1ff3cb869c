package uart

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestTolerancesGoBothWays: of two tolerances the worst pair counts, which is at their ends.
func TestTolerancesGoBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := Frame{Data: rapid.IntRange(7, 8).Draw(t, "data"), Parity: rapid.SampledFrom([]ParityRule{None, Even}).Draw(t, "parity"), Stop: 1}
		draw := func(name string) Spread {
			a, b := rapid.Float64Range(-0.04, 0.04).Draw(t, name), rapid.Float64Range(-0.04, 0.04).Draw(t, name)
			return Spread{min(a, b), max(a, b)}
		}
		a, b := draw("mcu"), draw("device")
		worst := WorstBudget(f, 16, a, b)
		for range 20 {
			x := rapid.Float64Range(a.Least, a.Most).Draw(t, "x")
			y := rapid.Float64Range(b.Least, b.Most).Draw(t, "y")
			g := BudgetOf(f, 16, x, y)
			assert.LessOrEqual(t, g.Used, worst.Used+1e-9)
			assert.False(t, worst.Pass && !g.Pass)
		}
	})
}
