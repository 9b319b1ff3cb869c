package wire_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// TestTraceKeepsWhatIsUnknown compares each symbol that a trace gives with the lines
// that were put into it.
func TestTraceKeepsWhatIsUnknown(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		want := wiretest.Lines(rt, 1)[0]
		trace := wire.NewTrace(want.High, 1<<20)
		wiretest.Split([]wire.Window{want}, wiretest.AtRandom(rt, want.To, 5), func(ws []wire.Window) { trace.Append(&ws[0]) })
		span := int64(want.To - want.From)
		from := want.From + quantity.Time(rapid.Int64Range(0, span-1).Draw(rt, "from"))
		to := from + 1 + quantity.Time(rapid.Int64Range(0, int64(want.To-from)-1).Draw(rt, "length"))
		got := trace.Window(from, to)
		require.Equal(rt, to, got.To)
		for range 20 {
			at := from + quantity.Time(rapid.Int64Range(0, int64(to-from)-1).Draw(rt, "at"))
			require.Equal(rt, want.Symbol(at), got.Symbol(at))
		}
	})
}

// TestTraceStaysBounded: a line that is unknown again and again takes no more than its
// limit, and what is left is right.
func TestTraceStaysBounded(t *testing.T) {
	trace := wire.NewTrace(true, 4096)
	for i := range quantity.Time(10_000) {
		trace.Append(&wire.Window{From: 100 * i, To: 100*i + 100, High: true, Unknown: []wire.Span{{From: 100*i + 20, To: 100*i + 40}}})
	}
	require.LessOrEqual(t, trace.Bytes(), 4096)
	kept := trace.Kept()
	require.Greater(t, kept.From, quantity.Time(900_000))
	for at := kept.From; at < kept.To; at += 10 {
		w := trace.Window(at, at+1)
		require.Equal(t, at%100 >= 20 && at%100 < 40, w.Floating(at), at)
	}
}
