package pcapng

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

var twoLines = capture.Meta{Lines: []string{"a", "b"}, Links: []capture.Link{
	{Name: "l", Kind: "uart", Ends: []string{"MCU", "d"}, Roles: []string{"mcu", "device"}, Lines: []int{0, 1}},
	{Name: "m", Kind: "uart", Ends: []string{"MCU", "e"}, Roles: []string{"device"}, Lines: []int{1}},
}}

// anyLevels is what a line does next.
func anyLevels(rt *rapid.T, from, to quantity.Time, high bool) wire.Window {
	w := wire.Window{From: from, To: to, High: high}
	for range rapid.IntRange(0, 12).Draw(rt, "edges") {
		w.Toggles = append(w.Toggles, from+quantity.Time(rapid.Int64Range(0, int64(to-from-1)).Draw(rt, "edge")))
	}
	slices.Sort(w.Toggles)
	w.Toggles = slices.Compact(w.Toggles)
	if to-from > 10 && rapid.IntRange(0, 5).Draw(rt, "some unknown") == 0 {
		at := from + quantity.Time(rapid.Int64Range(0, int64(to-from-2)).Draw(rt, "unknown from"))
		w.Unknown = []wire.Span{{From: at, To: at + 1 + quantity.Time(rapid.Int64Range(0, int64(to-at-1)).Draw(rt, "unknown for")), Open: rapid.Bool().Draw(rt, "open")}}
	}
	return w
}

// TestLevelsInAFile: levels that are recorded with a capture, beat by beat or at once, are there
// when it is opened, edge by edge; and what is lost of them by damage is unknown, never another
// level.
func TestLevelsInAFile(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		store := capture.NewStore(twoLines)
		path := filepath.Join(dir, "x.pcapng")
		r, err := RecordLimited(store, path, Limits{Levels: true})
		require.NoError(rt, err)
		r.now = func() time.Time { return time.Unix(1000, 0) }
		at, high := quantity.Time(0), [2]bool{rapid.Bool().Draw(rt, "a"), true}
		for range rapid.IntRange(1, 40).Draw(rt, "stretches") {
			to := at + quantity.Time(rapid.Int64Range(1, 1e9).Draw(rt, "for"))
			for line := range 2 {
				w := anyLevels(rt, at, to, high[line])
				high[line] = w.EndsHigh()
				store.Levels(line, &w)
			}
			at = to
			store.Put(&record.Record{Kind: record.Chars, Data: []byte{1}, Start: at - 1, End: at, From: record.MCU, Seen: record.Tap})
			store.Advance(at)
			if rapid.Bool().Draw(rt, "beat") {
				r.Beat()
			}
		}
		require.NoError(rt, r.Close())
		want := store.Snapshot()
		equal := func(got *capture.Snapshot) {
			for line := range 2 {
				x, _ := want.Window(0, line, 0, at)
				y, ok := got.Window(0, line, 0, at)
				require.True(rt, ok)
				require.Equal(rt, x, y)
			}
			require.Equal(rt, want.Now, got.Now)
		}
		var saved bytes.Buffer
		require.NoError(rt, SaveAll(&saved, want))
		s, err := Read(&saved)
		require.NoError(rt, err)
		equal(s.Snapshot())
		for range 2 {
			o, err := Open(path)
			require.NoError(rt, err)
			require.NoError(rt, o.Load(context.Background(), nil))
			equal(o.Store.Snapshot())
			o.Close()
		}

		file, err := os.ReadFile(path)
		require.NoError(rt, err)
		starts := blocksOf(file)
		first := slices.IndexFunc(starts, func(at int) bool { return file[at] == blockPacket && file[at+29] < isPiece })
		s, err = Read(bytes.NewReader(spoil(rt, file, starts[first])))
		if s == nil {
			return
		}
		for line := range 2 {
			x, _ := want.Window(0, line, 0, at)
			y, _ := s.Snapshot().Window(0, line, 0, at)
			ask := append(append([]quantity.Time{0}, x.Toggles...), y.Toggles...)
			for _, t := range ask {
				if k := y.Symbol(t); t < y.To && k != 'x' && k != 'z' && k != x.Symbol(t) {
					rt.Fatalf("line %d at %d: %c was %c (%v)", line, t, k, x.Symbol(t), err)
				}
			}
			if y.To < x.To || len(y.Unknown) != len(x.Unknown) {
				require.Error(rt, err)
			}
		}
	})
}

func FuzzLevels(f *testing.F) {
	w := wire.Window{From: 5, To: 100, High: true, Toggles: []quantity.Time{7, 30}, Unknown: []wire.Span{{From: 40, To: 50, Open: true}}}
	f.Add(appendLevels(nil, 1, &w))
	f.Fuzz(func(t *testing.T, b []byte) {
		line, w, err := parseLevels(b, 3)
		if err != nil {
			return
		}
		again, x, err := parseLevels(appendLevels(nil, line, &w), 3)
		require.NoError(t, err)
		require.Equal(t, line, again)
		require.Equal(t, w, x)
	})
}
