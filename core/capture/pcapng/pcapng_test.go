package pcapng

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

var meta = capture.Meta{
	Seed: 7, Bench: "bench: x\n", Files: map[string]string{"devices/x.yaml": "device: x\n"}, Lines: []string{"a.x", "a.y", "c.line", "sck", "mosi", "cs"},
	Links: []capture.Link{
		{Name: "a", Kind: "uart", Ends: []string{"MCU", "d"}, Roles: []string{"x", "y"}, Lines: []int{0, 1}}, {Name: "b", Kind: "uart", Real: true},
		{Name: "c", Kind: "can", Roles: []string{"line"}, Lines: []int{2}}, {Name: "d", Kind: "i2c", Roles: []string{"clock", "data"}, Lines: []int{-1, -1}},
		{Name: "e", Kind: "spi", Roles: []string{"clock", "out", "select"}, Lines: []int{3, 4, 5}}, {Name: "f", Kind: "pulse"},
	},
}

// anyWords is a transaction of spi or of a pulse line.
func anyWords(rt *rapid.T) record.Record {
	r := record.Record{
		Kind: record.Transaction, Link: uint16(rapid.IntRange(4, 5).Draw(rt, "link")), From: record.Device + record.End(rapid.IntRange(0, 3).Draw(rt, "device")), Seen: record.Tap,
		Start: quantity.Time(rapid.Int64Range(0, 1e18).Draw(rt, "start")), Bits: uint8(rapid.IntRange(4, 32).Draw(rt, "bits")), Text: rapid.StringMatching(`[a-z ,:]{0,20}`).Draw(rt, "text"),
	}
	r.End = r.Start + quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "length"))
	size := (int(r.Bits) + 7) / 8
	n := rapid.IntRange(1, 10).Draw(rt, "words")
	r.Data = rapid.SliceOfN(rapid.Byte(), n*size, n*size).Draw(rt, "out")
	if r.Link == 4 {
		r.Back = rapid.SliceOfN(rapid.Byte(), n*size, n*size).Draw(rt, "in")
	}
	for i := range n {
		r.Offsets = append(r.Offsets, quantity.Time(1000*i))
	}
	if rapid.Bool().Draw(rt, "bad") {
		r.Marks = []record.Mark{{Index: n, Flags: record.Short}}
	}
	return r
}

// anyFrame is a can frame of any form.
func anyFrame(rt *rapid.T) record.Record {
	r := record.Record{
		Kind: record.Frame, Link: 2, From: record.End(rapid.IntRange(0, 5).Draw(rt, "from")), Seen: record.Tap, Origin: record.Origin(rapid.IntRange(0, 4).Draw(rt, "origin")),
		Start: quantity.Time(rapid.Int64Range(0, 1e18).Draw(rt, "start")), ID: rapid.Uint32Range(0, 1<<29-1).Draw(rt, "id"), More: rapid.Bool().Draw(rt, "more"),
	}
	r.End = r.Start + quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "length"))
	for _, a := range []record.Attr{record.Extended, record.FD, record.Switched, record.Passive} {
		if rapid.Bool().Draw(rt, "attribute") {
			r.Attr |= a
		}
	}
	if rapid.IntRange(0, 4).Draw(rt, "remote") == 0 {
		r.Attr |= record.Remote
		r.Bits = uint8(rapid.IntRange(0, 15).Draw(rt, "code"))
	} else {
		r.Data = rapid.SliceOfN(rapid.Byte(), 1, 64).Draw(rt, "data")
		r.Bits = uint8(len(r.Data))
	}
	if rapid.Bool().Draw(rt, "bad") {
		r.Facts = []record.Fact{{What: record.CheckValue, Value: rapid.Int64().Draw(rt, "check")}, {What: record.StuffBits, Index: rapid.IntRange(0, 300).Draw(rt, "of"), Value: rapid.Int64().Draw(rt, "stuff")}}
		r.Marks = []record.Mark{{Index: rapid.IntRange(0, 600).Draw(rt, "bit"), Flags: record.Flags(rapid.SampledFrom([]record.Flags{record.Stuff, record.Form, record.NotAcknowledged, record.ErrorFlag, record.Overload}).Draw(rt, "flag"))}}
		r.Text = rapid.StringMatching(`[a-z ,:]{0,20}`).Draw(rt, "text")
	}
	return r
}

// anyTransaction is an i2c transaction of any form.
func anyTransaction(rt *rapid.T) record.Record {
	r := record.Record{
		Kind: record.Transaction, Link: 3, From: record.MCU, Seen: record.Tap, Origin: record.FromLevels,
		Start: quantity.Time(rapid.Int64Range(0, 1e18).Draw(rt, "start")), More: rapid.Bool().Draw(rt, "more"),
		Attr: record.Attr(rapid.IntRange(0, 1).Draw(rt, "stopped")) * record.Stopped, Data: rapid.SliceOfN(rapid.Byte(), 1, rapid.SampledFrom([]int{1, 30, 60_000}).Draw(rt, "most")).Draw(rt, "data"), Text: rapid.StringMatching(`[a-z ,:]{0,20}`).Draw(rt, "text"),
	}
	r.End = r.Start + quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "length"))
	for range r.Data {
		r.Back = append(r.Back, byte(rapid.IntRange(0, 3).Draw(rt, "back")))
		r.Offsets = append(r.Offsets, quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "offset")))
	}
	slices.Sort(r.Offsets)
	if rapid.Bool().Draw(rt, "bad") {
		r.Marks = []record.Mark{{Index: rapid.IntRange(0, len(r.Data)).Draw(rt, "byte"), Flags: record.CutOff}}
	}
	return r
}

func anyRecord(rt *rapid.T) record.Record {
	switch rapid.IntRange(0, 4).Draw(rt, "what") {
	case 0:
		return anyFrame(rt)
	case 1:
		return anyTransaction(rt)
	case 2:
		return anyWords(rt)
	}
	r := record.Record{
		Kind: record.Kind(rapid.IntRange(0, 7).Draw(rt, "kind")), Link: uint16(rapid.IntRange(0, 1).Draw(rt, "link")),
		From: record.End(rapid.IntRange(0, 5).Draw(rt, "from")), Seen: record.End(rapid.IntRange(0, 5).Draw(rt, "seen")),
		Origin: record.Origin(rapid.IntRange(0, 4).Draw(rt, "origin")), More: rapid.Bool().Draw(rt, "more"),
		Start: quantity.Time(rapid.Int64Range(0, 1e18).Draw(rt, "start")), Each: quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "each")),
	}
	r.End = r.Start + quantity.Time(rapid.Int64Range(0, 1e15).Draw(rt, "length"))
	if r.Kind != record.Chars {
		r.Text = rapid.String().Draw(rt, "text")
		return r
	}
	r.Wide = rapid.Bool().Draw(rt, "wide")
	n := rapid.IntRange(0, 40).Draw(rt, "n")
	size := n
	if r.Wide {
		size *= 2
	}
	if size > 0 {
		r.Data = rapid.SliceOfN(rapid.Byte(), size, size).Draw(rt, "data")
	}
	if n > 0 && rapid.Bool().Draw(rt, "offsets") {
		at := quantity.Time(0)
		for range n {
			r.Offsets = append(r.Offsets, at)
			at += quantity.Time(rapid.Int64Range(0, 1e12).Draw(rt, "step"))
		}
	}
	for range rapid.IntRange(0, 3).Draw(rt, "marks") {
		r.Marks = append(r.Marks, record.Mark{Index: rapid.IntRange(0, n).Draw(rt, "at"), Flags: record.Flags(rapid.IntRange(1, 255).Draw(rt, "flags"))})
	}
	return r
}

func TestSavedAndReadIsTheSame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		m := meta
		if rapid.Bool().Draw(rt, "real") {
			m.Started = time.Unix(1_790_000_000, 123_456_789).UTC()
		}
		store := capture.NewStore(m)
		rs := rapid.SliceOfN(rapid.Custom(anyRecord), 0, 20).Draw(rt, "records")
		for i := range rs {
			store.Put(&rs[i])
		}
		var a, b bytes.Buffer
		require.NoError(rt, Save(&a, store.Snapshot()))
		back, err := Read(bytes.NewReader(a.Bytes()))
		require.NoError(rt, err)
		snap := back.Snapshot()
		require.Equal(rt, len(rs), snap.Len())
		// A capture stands in the order of ends.
		sort.SliceStable(rs, func(i, j int) bool { return rs[i].End < rs[j].End })
		for i := range rs {
			require.Equal(rt, rs[i], *snap.At(i))
		}
		require.Equal(rt, m, *snap.Meta())
		require.NoError(rt, Save(&b, snap))
		require.Equal(rt, a.Bytes(), b.Bytes())

		// Cut anywhere, what stands before is kept.
		cut := rapid.IntRange(0, a.Len()).Draw(rt, "cut")
		part, err := Read(bytes.NewReader(a.Bytes()[:cut]))
		if part == nil {
			require.Error(rt, err)
			return
		}
		for i := range part.Snapshot().Len() {
			require.Equal(rt, rs[i], *part.Snapshot().At(i))
		}
	})
}

func TestRecorder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.pcapng")
	store := capture.NewStore(meta)
	r, err := Record(store, path)
	require.NoError(t, err)
	_, err = Record(store, path)
	assert.ErrorContains(t, err, "is there already")
	store.Put(&record.Record{Data: []byte("one"), From: record.MCU, Seen: record.Tap})
	r.Beat()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	half, err := Read(bytes.NewReader(text))
	require.ErrorIs(t, err, ErrNoEnd)
	assert.Equal(t, 1, half.Snapshot().Len(), "readable while it grows")
	store.Open(&record.Record{Data: []byte("two")})
	require.NoError(t, r.Close())
	require.NoError(t, r.Close())
	text, _ = os.ReadFile(path)
	whole, err := Read(bytes.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, 2, whole.Snapshot().Len(), "the unfinished run too")
}

func TestForeignFiles(t *testing.T) {
	_, err := Read(bytes.NewReader([]byte("no capture")))
	assert.ErrorContains(t, err, "no pcapng")
	_, err = Read(bytes.NewReader(nil))
	assert.Error(t, err)
	full := errors.New("no space left")
	store := capture.NewStore(meta)
	store.Put(&record.Record{})
	assert.ErrorIs(t, Save(failing{full}, store.Snapshot()), full)
}

type failing struct{ err error }

func (f failing) Write([]byte) (int, error) { return 0, f.err }

func FuzzRead(f *testing.F) {
	store := capture.NewStore(meta)
	store.Put(&record.Record{Data: []byte("abc"), Offsets: []quantity.Time{0, 1, 2}, Marks: []record.Mark{{Index: 1, Flags: record.Parity}}})
	var b bytes.Buffer
	_ = Save(&b, store.Snapshot())
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		s, _ := Read(bytes.NewReader(data))
		if s != nil {
			snap := s.Snapshot()
			for i := range snap.Len() {
				_ = snap.At(i).AllFlags()
			}
		}
	})
}

// What goes on for long is in the file up to a second ago, at any moment and without
// Close; once it is finished, only the whole of it counts.
func TestRecorderKeepsWhatGoesOn(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		store := capture.NewStore(capture.Meta{Lines: []string{"a"}, Links: []capture.Link{{Name: "l", Kind: "uart", Ends: []string{"MCU", "d"}, Roles: []string{"mcu"}, Lines: []int{0}}}})
		path := filepath.Join(t.TempDir(), fmt.Sprintf("%d.pcapng", rapid.Uint64().Draw(rt, "name")))
		r, err := Record(store, path)
		require.NoError(rt, err)
		defer r.Close()
		clock := time.Unix(1000, 0)
		r.now = func() time.Time { return clock }
		run := record.Record{Kind: record.Chars, From: record.Device, Seen: record.MCU, Each: 10}
		var kept []byte
		read := func() []*record.Record {
			data, err := os.ReadFile(path)
			require.NoError(rt, err)
			s, err := Read(bytes.NewReader(data))
			closed(rt, err)
			snap := s.Snapshot()
			var out []*record.Record
			for i := range snap.Len() {
				out = append(out, snap.At(i))
			}
			return out
		}
		history := map[time.Time]int{clock: 0} // characters by wall time
		for range rapid.IntRange(1, 60).Draw(rt, "beats") {
			clock = clock.Add(100 * time.Millisecond)
			for range rapid.IntRange(0, 2).Draw(rt, "chars") {
				run.Offsets = append(run.Offsets, quantity.Time(10*len(run.Data)))
				run.Data = append(run.Data, byte(rapid.IntRange(0, 255).Draw(rt, "char")))
				run.End = run.Start + quantity.Time(10*len(run.Data))
			}
			if len(run.Data) > 0 {
				store.Open(&run)
			}
			history[clock] = len(run.Data)
			r.Beat()
			kept = nil
			for _, rec := range read() {
				kept = append(kept, rec.Data...)
			}
			require.True(rt, bytes.Equal(run.Data[:len(kept)], kept))
			require.GreaterOrEqual(rt, len(kept), history[clock.Add(-time.Second)])
		}
		if len(run.Data) == 0 {
			return
		}
		store.Put(&run)
		r.Beat()
		all := read()
		require.Len(rt, all, 1)
		require.Equal(rt, run.Data, all[0].Data)
	})
}
