package agenda

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// What is put in comes out in the order of its times, and of its making where they are
// equal, whenever it is put in.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var a Agenda[int]
		type due struct {
			at quantity.Time
			n  int
		}
		var model []due
		for n := range rapid.IntRange(1, 200).Draw(t, "steps") {
			if len(model) > 0 && rapid.Bool().Draw(t, "pop") {
				at, what := a.Pop()
				require.Equal(t, model[0], due{at, what})
				model = model[1:]
				continue
			}
			d := due{quantity.Time(rapid.IntRange(0, 20).Draw(t, "at")), n}
			a.Push(d.at, d.n)
			model = append(model, d)
			slices.SortStableFunc(model, func(x, y due) int { return int(x.at - y.at) })
		}
		next := quantity.Forever
		if len(model) > 0 {
			next = model[0].at
		}
		require.Equal(t, next, a.Next())
	})
}
