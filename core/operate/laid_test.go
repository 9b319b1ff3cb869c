package operate_test

import (
	"context"
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
)

// TestMessagesAreJudgedByTheirLayouts: a frame of another length gives no value, one with a
// selector that no layout knows says which, and contents that are to be warned of are told.
func TestMessagesAreJudgedByTheirLayouts(t *testing.T) {
	layouts := ""
	for i := range 3 {
		layouts += fmt.Sprintf("  page %d:\n    identifier: 0x145\n    length: 3\n    rows: {0: ss.....f, 1-2: vvvvvvvv}\n    when: {page: %d}\n    legend: {s: {name: page}, f: {name: stuck, warn: {1: the gate is stuck}}, v: {name: way%d, scale: 0.5 mm}}\n", i, i, i)
	}
	files := fstest.MapFS{
		"part.yaml": {Data: []byte("device: a gate\nkind: can\nend: {clock: 16 MHz, rate: 250 kbit/s, timing: \"4, 1+12+3, 1\"}\nlayouts:\n" + layouts)},
		"b.yaml": {Data: []byte(`bench: gates
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {c: {kind: can, clock: core, quanta: {prescaler: 512, seg1: 16, seg2: 8, jump: 4}}}
links:
  bus: {kind: can, unit: c, mcu: {rate: 250 kbit/s}, devices: {gate: {file: part.yaml}}}
`)},
	}
	b, faults := bench.Load(files, "b.yaml")
	require.Empty(t, faults)
	rapid.Check(t, func(rt *rapid.T) {
		h := sim.NewHeadless(b)
		page, stuck, way := rapid.IntRange(0, 3).Draw(rt, "page"), rapid.IntRange(0, 1).Draw(rt, "stuck"), rapid.Uint16().Draw(rt, "way")
		data := []byte{byte(page<<6 | stuck), byte(way >> 8), byte(way), 7, 7}[:rapid.IntRange(1, 5).Draw(rt, "length")]
		out, err := h.Do(context.Background(), 0, link.Transact{Text: fmt.Sprintf("145 % X", data)})
		require.NoError(rt, err)
		require.True(rt, out.OK, out.Text)
		snap := h.Store().Snapshot()
		said := ""
		for i := range snap.Len() {
			if r := snap.At(i); r.Kind == record.Frame {
				said = bench.Sentences(b.Meanings().Of("bus", r))
			}
		}
		switch {
		case len(data) != 3:
			require.Contains(rt, said, fmt.Sprintf("page 0 has 3 bytes, and this one %d: nothing of it is used", len(data)))
		case page == 3:
			require.Equal(rt, "gate: page is 3: no layout of this identifier is for that", said)
		default:
			require.Contains(rt, said, fmt.Sprintf("gate.page %d page %d, stuck %d, way%d %s mm", page, page, stuck, page, half(int(way))))
			require.Equal(rt, stuck == 1, len(said) > 20 && said[len(said)-len("; the gate is stuck"):] == "; the gate is stuck", said)
		}
	})
}

// half writes a number of halves.
func half(n int) string {
	if n%2 == 0 {
		return fmt.Sprint(n / 2)
	}
	return fmt.Sprintf("%d.5", n/2)
}
