package sim

import (
	"bytes"
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// wishes are things that may be asked of the links of Lock 7, good and bad ones.
var wishes = []string{
	"lower-gauge send 534E41500A", "upper-gauge send 3F0D", "lower-gauge cut on mcu", "lower-gauge cut off mcu", "upper-gauge cut on upper-gauge",
	"lower-gauge power off lower-gauge", "hull transact start 3A ack 07 ack stop", "hull hold on data", "hull hold off data", "hull hold on clock", "gate transact out 6B",
	"pump transact 2A5 3C 81", "pump cut on mcu", "pump cut off mcu", "winch transact 100 01", "depth-strip transact 3C0 3C1", "depth-strip cut on mcu", "hull power off leaf-tilt",
}

// TestReplayFromFile: whatever is put in, the replay of the file is the capture, also
// of one that was cut off anywhere.
func TestReplayFromFile(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		h := NewHeadless(b)
		taken := 0
		for range rapid.IntRange(1, 4).Draw(rt, "inputs") {
			h.World.RunTo(h.World.now + quantity.Time(rapid.Int64Range(0, int64(20*quantity.Millisecond)).Draw(rt, "gap")))
			name, what, _ := bytes.Cut([]byte(rapid.SampledFrom(wishes).Draw(rt, "ask")), []byte(" "))
			i, err := link.ParseIntent(string(what))
			require.NoError(rt, err)
			if l := b.Link(string(name)); l != nil && h.World.Do(l.Name, i, nil) == nil {
				taken++
			}
		}
		h.World.RunTo(h.World.now + 40*quantity.Millisecond)
		var file bytes.Buffer
		require.NoError(rt, pcapng.Save(&file, h.Store().Snapshot()))
		var head bytes.Buffer
		require.NoError(rt, pcapng.Save(&head, capture.NewStore(MetaOf(b)).Snapshot()))
		cut := rapid.Bool().Draw(rt, "cut")
		if cut {
			file.Truncate(rapid.IntRange(head.Len()+1000, file.Len()).Draw(rt, "bytes"))
		}
		store, err := pcapng.Read(&file)
		if !cut {
			require.NoError(rt, err)
		}
		snap := store.Snapshot()
		again, err := BenchOf(&store.Meta)
		require.NoError(rt, err)
		inputs, err := Inputs(snap)
		require.NoError(rt, err)
		if !cut {
			require.Len(rt, inputs, taken)
		}
		is, err := Replay(context.Background(), again, inputs, h.World.now+60*quantity.Millisecond, nil)
		require.NoError(rt, err)
		alike, parted := Compare(snap, is.Snapshot())
		require.Nil(rt, parted, "%s", partedText(parted))
		require.Positive(rt, alike)
	})
}

// TestReplayShowsWhereItParts: one record that is changed, left out or made up is
// found, and is the one that is named.
func TestReplayShowsWhereItParts(t *testing.T) {
	h := NewHeadless(lock7(t))
	h.World.RunTo(2 * quantity.Second)
	whole := h.Store().Snapshot()
	is, err := Replay(context.Background(), h.Bench, nil, 3*quantity.Second, nil)
	require.NoError(t, err)
	rapid.Check(t, func(rt *rapid.T) {
		var rs []*record.Record
		for i := range whole.Len() - 20 {
			c := *whole.At(i)
			rs = append(rs, &c)
		}
		at := rapid.IntRange(0, len(rs)/3).Draw(rt, "record")
		for len(rs[at].Data) == 0 {
			at++
		}
		broken := *rs[at]
		switch rapid.SampledFrom([]string{"data", "time", "gone"}).Draw(rt, "what") {
		case "data":
			broken.Data = append([]byte{}, broken.Data...)
			broken.Data[0] ^= 1 << rapid.IntRange(0, 7).Draw(rt, "bit")
			rs[at] = &broken
		case "time":
			broken.Start -= quantity.Time(rapid.IntRange(1, 1000).Draw(rt, "ps"))
			rs[at] = &broken
		case "gone":
			rs = append(rs[:at:at], rs[at+1:]...)
		}
		s := capture.NewStore(MetaOf(h.Bench))
		for _, r := range rs {
			s.Put(r)
		}
		_, parted := Compare(s.Snapshot(), is.Snapshot())
		require.NotNil(rt, parted)
		require.LessOrEqual(rt, broken.Start, parted.Is.Start, "the first of them")
	})
}

func TestBenchOfCaptures(t *testing.T) {
	m := MetaOf(lock7(t))
	b, err := BenchOf(&m)
	require.NoError(t, err)
	assert.Len(t, b.Links, len(m.Links))
	for _, c := range []struct {
		change func(*capture.Meta)
		want   string
	}{
		{func(m *capture.Meta) { m.Bench = "" }, "carries no bench"},
		{func(m *capture.Meta) { m.Bench = "links: [" }, ""},
		{func(m *capture.Meta) { m.Files = nil }, "marlow40.csv"},
		{func(m *capture.Meta) { m.Links = append(m.Links, m.Links[0]) }, "has 8 links, the bench 7"},
		{func(m *capture.Meta) { m.Links = m.Links[:3] }, "has 3 links"},
		{func(m *capture.Meta) { m.Links[2].Kind = "other" }, "link 3 of the capture"},
		{func(m *capture.Meta) { m.Links[2].Name = "other" }, "link 3 of the capture"},
	} {
		m := MetaOf(lock7(t))
		c.change(&m)
		_, err := BenchOf(&m)
		assert.ErrorContains(t, err, c.want)
	}
}

func TestReplayCanBeStopped(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	_, err := Replay(ctx, lock7(t), nil, 1000*quantity.Second, func(at quantity.Time) {
		if at > quantity.Second {
			cancel()
		}
	})
	assert.ErrorIs(t, err, context.Canceled)
}

func partedText(p *Parting) string {
	if p == nil {
		return ""
	}
	out := ""
	for _, r := range []*record.Record{p.Was, p.Is} {
		if r != nil {
			out += fmt.Sprintf("%+v\n", *r)
		}
	}
	return out
}

// A capture that was kept and opened again gives the same findings, with its own bench,
// and its levels written as tables and waves are the same levels.
func TestFindingsOfAKeptCapture(t *testing.T) {
	codes := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		if rapid.Bool().Draw(rt, "edited") {
			e := rapid.SampledFrom([]finding.Edit{
				{Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: "8N1"},
				{Path: []string{"links", "upper-gauge", "mcu", "rate"}, Value: "19.2 kBd"},
				{Path: []string{"links", "pump", "mcu", "rate"}, Value: "125 kbit/s"},
				{Path: []string{"links", "hull", "mcu", "rate"}, Value: "100 kbit/s"},
			}).Draw(rt, "edit")
			require.NoError(rt, b.Apply(e))
		}
		h := NewHeadless(b)
		for range rapid.IntRange(0, 3).Draw(rt, "inputs") {
			h.World.RunTo(h.World.now + quantity.Time(rapid.Int64Range(0, int64(50*quantity.Millisecond)).Draw(rt, "gap")))
			name, what, _ := bytes.Cut([]byte(rapid.SampledFrom(wishes).Draw(rt, "ask")), []byte(" "))
			i, err := link.ParseIntent(string(what))
			require.NoError(rt, err)
			_ = h.World.Do(b.Link(string(name)).Name, i, nil)
		}
		h.World.RunTo(h.World.now + 700*quantity.Millisecond)
		was := h.Store().Snapshot()
		var file bytes.Buffer
		require.NoError(rt, pcapng.Save(&file, was))
		store, err := pcapng.Read(&file)
		require.NoError(rt, err)
		store.Advance(was.Now)
		is := store.Snapshot()
		again, err := BenchOf(&store.Meta)
		require.NoError(rt, err)
		for i, l := range b.Links {
			want := diagnose.Link(was, l)
			got := diagnose.Link(is, again.Links[i])
			for _, f := range want {
				codes[f.Code]++
			}
			require.Equal(rt, saidOf(want), saidOf(got), l.Name)
		}
	})
	require.NotEmpty(t, codes)
}

func saidOf(fs []finding.Finding) (out []string) {
	for _, f := range fs {
		out = append(out, fmt.Sprintf("%d %s: %s; %s; %s", f.Severity, f.Code, f.Seen, f.Why, f.Change))
	}
	return out
}
