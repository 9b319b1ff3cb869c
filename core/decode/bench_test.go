package decode_test

import (
	"context"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/demo"
)

// some is a source of which some lines are missing, and the others stand in another order.
type some struct {
	decode.Source
	order []int
}

func (s some) Names() []string {
	var out []string
	for _, i := range s.order {
		out = append(out, s.Source.Names()[i])
	}
	return out
}

func (s some) Select(lines ...int) {
	var of []int
	for _, i := range lines {
		of = append(of, s.order[i])
	}
	s.Source.Select(of...)
}

func (s some) Next() ([]wire.Window, error) { return s.Source.Next() }

// way is one direction of a link as somebody saw it.
type way struct {
	link       uint16
	from, seen record.End
}

// heard is what went each way up to a time, byte after byte.
func heard(snap *capture.Snapshot, to quantity.Time) map[way][]byte {
	out := map[way][]byte{}
	for i := range snap.Len() {
		if r := snap.At(i); r.Traffic() && r.End < to {
			k := way{r.Link, r.From, r.Seen}
			if r.Kind == record.Frame { // no level says which node sent it
				k.from = record.Nobody
			}
			out[k] = append(append(out[k], r.Data...), r.Back...)
		}
	}
	return out
}

// TestLevelsOfABench: from the levels of a bench alone, with any of its lines missing and in any
// order, each link that is left has under its own number what the live capture has: what went
// over the wires, and what each end's receiver made of it with its own settings.
func TestLevelsOfABench(t *testing.T) {
	type lived struct {
		bench *bench.Bench
		snap  *capture.Snapshot
	}
	const last = 900 * quantity.Millisecond
	live := sync.OnceValue(func() map[string]lived {
		out := map[string]lived{}
		for _, frame := range []string{"", "8N1", "8E1"} {
			b, faults := bench.Load(demo.Files, demo.Bench)
			require.Empty(t, faults)
			if frame != "" {
				require.NoError(t, b.Apply(finding.Edit{Op: finding.Set, Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: frame}))
			}
			h := sim.NewHeadless(b)
			h.World.RunTo(last)
			out[frame] = lived{b, h.Store().Snapshot()}
		}
		return out
	})
	rapid.Check(t, func(rt *rapid.T) {
		l := live()[rapid.SampledFrom([]string{"", "8N1", "8E1"}).Draw(rt, "the MCU's frame at lower-gauge")]
		src := decode.OfCapture(l.snap)
		all := make([]int, len(src.Names()))
		for i := range all {
			all[i] = i
		}
		order := rapid.Permutation(all).Draw(rt, "order")
		order = order[:len(order)-rapid.IntRange(0, 3).Draw(rt, "missing")]
		names := some{src, order}
		links, _ := decode.FromBench(l.bench, names.Names())
		meta := decode.Meta(links)
		require.NoError(rt, sim.Suits(l.bench, &meta))
		store := capture.NewStore(meta)
		require.NoError(rt, decode.Load(context.Background(), names, links, store))
		want, got := heard(l.snap, last-50*quantity.Millisecond), heard(store.Snapshot(), last-50*quantity.Millisecond)
		for k, w := range want {
			link := l.bench.Links[k.link]
			if slices.ContainsFunc(l.snap.Meta().Links[k.link].Roles, func(role string) bool {
				return !slices.Contains(names.Names(), link.Name+"."+role) && slices.Contains(src.Names(), link.Name+"."+role)
			}) || link.Kind.Records == record.Transaction && k.seen != record.Tap {
				continue
			}
			require.Equal(rt, w, got[k], "%s from %d seen by %d", link.Name, k.from, k.seen)
		}
		for k := range got {
			require.Contains(rt, want, k)
		}
	})
}
