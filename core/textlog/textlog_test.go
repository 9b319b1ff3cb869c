package textlog

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// Each record of a growing capture has its line, once, in the order in which they came; those
// before the beginning have none.
func TestFollow(t *testing.T) {
	b := lock7(t)
	rapid.Check(t, func(rt *rapid.T) {
		h := sim.NewHeadless(b)
		h.World.RunTo(quantity.Time(rapid.Int64Range(0, int64(100*quantity.Millisecond)).Draw(rt, "before")))
		before := h.Store().Snapshot().Mark()
		ctx, stop := context.WithCancel(context.Background())
		var out bytes.Buffer
		told := -1
		begun, ended := make(chan bool, 1), make(chan error, 1)
		go func() {
			first := true
			snapshot := h.Store().Snapshot
			ended <- Follow(ctx, &out, func() *capture.Snapshot {
				s := snapshot()
				if first {
					first = false
					begun <- true
				}
				return s
			}, b.Meanings(), func(r *record.Record) bool { return r.Link != 1 }, func(n int) { told = n })
		}()
		<-begun
		h.World.RunTo(h.World.Now() + quantity.Time(rapid.Int64Range(0, int64(100*quantity.Millisecond)).Draw(rt, "for")))
		stop()
		require.NoError(rt, <-ended)
		snap := h.Store().Snapshot()
		want := ""
		for _, i := range snap.Since(before) {
			if r := snap.At(i); r.Link != 1 {
				want += Line(snap.Meta(), b.Meanings(), r)
			}
		}
		require.Equal(rt, want, out.String())
		require.Equal(rt, strings.Count(want, "\n"), told)
	})
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestAFullDiskEndsIt(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first := true
	err := Follow(ctx, full{}, func() *capture.Snapshot {
		if !first {
			h.World.RunTo(h.World.Now() + 200*quantity.Millisecond)
		}
		first = false
		return h.Store().Snapshot()
	}, b.Meanings(), func(*record.Record) bool { return true }, func(int) {})
	assert.ErrorContains(t, err, "no room")
}

// What came from a wire can't steer a terminal that the text is shown on.
func TestLinesAreSafe(t *testing.T) {
	b := lock7(t)
	meta := sim.MetaOf(b)
	rapid.Check(t, func(rt *rapid.T) {
		r := record.Record{
			Kind: rapid.SampledFrom([]record.Kind{record.Chars, record.Note, record.Gap, record.Flow}).Draw(rt, "kind"),
			Link: uint16(rapid.IntRange(0, len(meta.Links)-1).Draw(rt, "link")), From: record.Device, Seen: record.MCU,
			Data: rapid.SliceOfN(rapid.Byte(), 0, 40).Draw(rt, "data"), Text: rapid.StringN(0, 30, -1).Draw(rt, "text"),
		}
		line := Line(&meta, b.Meanings(), &r)
		require.True(rt, strings.HasSuffix(line, "\n"))
		for _, c := range strings.TrimSuffix(line, "\n") {
			require.True(rt, c >= ' ' && c != 0x7f && (c < 0x80 || c > 0x9f), "%q", line)
		}
	})
}
