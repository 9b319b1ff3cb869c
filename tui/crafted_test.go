package tui

import (
	"bytes"
	"slices"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
)

// kept is a capture of the demo, as its file is made from.
func kept(t testing.TB) *capture.Snapshot {
	h := sim.NewHeadless(demoBench(t))
	h.World.RunTo(300 * quantity.Millisecond)
	return h.Store().Snapshot()
}

// TestCraftedCaptures: files whose description and records were changed at random, as
// by somebody who knows the form, are refused or shown in all views; nothing panics.
func TestCraftedCaptures(t *testing.T) {
	alone(t)
	whole := kept(t)
	n := whole.Len()
	shown := 0
	rapid.Check(t, func(rt *rapid.T) {
		meta := *whole.Meta()
		meta.Links = slices.Clone(meta.Links)
		kinds := []string{"uart", "spi", "i2c", "can", "pulse", "none"}
		some := func(what string) bool { return rapid.IntRange(0, 3).Draw(rt, what) == 0 }
		for i := range meta.Links {
			l := &meta.Links[i]
			if !some("link") {
				continue
			}
			if some("kind") {
				l.Kind = rapid.SampledFrom(kinds).Draw(rt, "kind")
			}
			if some("ends") {
				l.Ends = slices.Clone(l.Ends[:rapid.IntRange(0, len(l.Ends)).Draw(rt, "ends")])
			}
			if some("roles") {
				l.Roles = slices.Clone(l.Roles[:rapid.IntRange(0, len(l.Roles)).Draw(rt, "roles")])
			}
			if some("lines") {
				l.Lines = rapid.SliceOfN(rapid.IntRange(-2, len(meta.Lines)+1), 0, 5).Draw(rt, "lines")
			}
		}
		switch rapid.IntRange(0, 3).Draw(rt, "bench") {
		case 0:
			meta.Bench = ""
		case 1:
			meta.Links = meta.Links[:rapid.IntRange(1, len(meta.Links)).Draw(rt, "links")]
		case 2:
			meta.Files = nil
		}
		store := capture.NewStore(meta)
		for range rapid.IntRange(1, 60).Draw(rt, "records") {
			r := whole.At(whole.First() + rapid.IntRange(0, n-1).Draw(rt, "record")).Clone()
			if some("link") {
				r.Link = uint16(rapid.IntRange(0, len(meta.Links)).Draw(rt, "link"))
			}
			if some("kind") {
				r.Kind = record.Kind(rapid.IntRange(0, 12).Draw(rt, "kind"))
			}
			if some("bits") {
				r.Bits, r.Attr, r.ID = rapid.Byte().Draw(rt, "bits"), record.Attr(rapid.Byte().Draw(rt, "attr")), rapid.Uint32().Draw(rt, "id")
			}
			if some("ends") {
				r.From, r.Seen, r.Origin = record.End(rapid.Byte().Draw(rt, "from")), record.End(rapid.Byte().Draw(rt, "seen")), record.Origin(rapid.Byte().Draw(rt, "origin"))
			}
			if some("data") {
				r.Data, r.Back = rapid.SliceOfN(rapid.Byte(), 0, 70).Draw(rt, "data"), rapid.SliceOfN(rapid.Byte(), 0, 70).Draw(rt, "back")
			}
			if some("offsets") {
				r.Offsets = r.Offsets[:rapid.IntRange(0, len(r.Offsets)).Draw(rt, "offsets")]
			}
			if some("marks") {
				r.Marks = []record.Mark{{Index: rapid.IntRange(0, 5000).Draw(rt, "index"), Flags: record.Flags(rapid.Uint32().Draw(rt, "flags"))}}
			}
			if some("facts") {
				r.Facts = []record.Fact{{What: record.FactKind(rapid.Byte().Draw(rt, "fact")), Index: rapid.IntRange(0, 1000).Draw(rt, "of"), Value: rapid.Int64().Draw(rt, "value")}}
			}
			if some("time") {
				r.End = r.Start + quantity.Time(rapid.Int64Range(0, 1<<50).Draw(rt, "length"))
			}
			r.Text = rapid.SampledFrom([]string{r.Text, "", "at 5 \"pump\" transact 2A0", "\x1b]0;x\a"}).Draw(rt, "text")
			store.Put(&r)
		}
		var file bytes.Buffer
		if err := pcapng.Save(&file, store.Snapshot()); err != nil {
			return
		}
		read, err := pcapng.Read(&file)
		if read == nil {
			require.Error(rt, err)
			return
		}
		shown++
		snap := read.Snapshot()
		for i := snap.First(); i < snap.Len(); i++ {
			_, err := jsonl.Marshal(snap.Meta(), snap.At(i), "")
			require.NoError(rt, err)
		}
		b, _ := sim.BenchOf(&read.Meta)
		a := newApp(b, "", nil, read)
		a.source = "x"
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
		for _, view := range []string{"2", "4", "5", "6"} {
			press(a, view)
			for range snap.Meta().Links {
				press(a, rapid.SampledFrom([]string{"J", "K"}).Draw(rt, "link"))
				for range 4 {
					press(a, rapid.SampledFrom([]string{"up", "enter", "a", "d", "r", "e", "n", "N", "+", "-", "m", "right", "t", "h", "end", "home", "s", "P", "esc"}).Draw(rt, "key"))
				}
			}
		}
	})
	t.Log(shown, "shown")
	require.Positive(t, shown, "some are shown")
}
