package pcapng

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
)

// small makes everything happen with few records: for the time of a test.
func small(t testing.TB) {
	was, were := leastIndexed, memory
	leastIndexed, memory = 10, 1
	t.Cleanup(func() { leastIndexed, memory = was, were })
}

// stream gives records as they come from a bench: mostly in the order of their ends, with
// some that come late.
func stream(rt *rapid.T) []record.Record {
	rs := rapid.SliceOfN(rapid.Custom(anyRecord), 1, 20).Draw(rt, "kinds")
	at := quantity.Time(0)
	var out []record.Record
	for range rapid.IntRange(1, 2500).Draw(rt, "records") {
		r := rs[len(out)%len(rs)].Clone()
		long := min(r.End-r.Start, 1000)
		at += quantity.Time(len(out)%7) * 100
		r.End = at
		if len(out)%41 == 7 {
			r.End = at / 2
		}
		r.Start = max(r.End-long, 0)
		out = append(out, r)
	}
	return out
}

func same(t require.TestingT, want, got *capture.Snapshot) {
	require.Equal(t, want.Len(), got.Len())
	for i := range want.Len() {
		require.Equal(t, *want.At(i), *got.At(i))
	}
	require.Equal(t, want.State(nobody{}).Counters, got.State(nobody{}).Counters)
	require.Equal(t, want.Now, got.Now)
	var a, b records.Trail
	for more := true; more; {
		var x, y []int
		x, more = a.Next(&want.Reader, 300)
		y, _ = b.Next(&got.Reader, 300)
		require.Equal(t, x, y)
	}
}

// closed fails when a file that may be recorded yet could not be read.
func closed(t require.TestingT, err error) {
	if !errors.Is(err, ErrNoEnd) {
		require.NoError(t, err)
	}
}

// nobody is a home that has nothing.
type nobody struct{}

func (nobody) Writes() bool                                           { return false }
func (nobody) Holds(_, _ uint32) bool                                 { return false }
func (nobody) Load(_, _ uint32, _ func(uint32, *record.Record)) error { return errGone }

// TestOpenedAsRead: a capture that was recorded with its index, and left in the middle at any
// moment, opens as if it had been read whole; so it does without the index, and with the one
// that opening it has made.
func TestOpenedAsRead(t *testing.T) {
	small(t)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		path, copied := filepath.Join(dir, "x.pcapng"), filepath.Join(dir, "y.pcapng")
		store := capture.NewStore(meta)
		store.Bound(1)
		r, err := Record(store, path)
		require.NoError(rt, err)
		clock := time.Unix(1000, 0)
		r.now = func() time.Time { return clock }
		rs := stream(rt)
		left := rapid.IntRange(0, len(rs)).Draw(rt, "left at")
		every := rapid.IntRange(1, 400).Draw(rt, "beat every")
		var index []byte
		going := rapid.Bool().Draw(rt, "one goes on")
		run := record.Record{Kind: record.Chars, Link: 1, From: record.Device + 9, Seen: record.MCU, Each: 5}
		for i := range rs {
			store.Put(&rs[i])
			store.Advance(rs[i].End)
			if going && i%10 == 0 {
				run.Data, run.Offsets = append(run.Data, byte(i)), append(run.Offsets, quantity.Time(i)*10)
				run.End = quantity.Time(i)*10 + 5
				store.Open(&run)
			}
			if i%every == 0 {
				clock = clock.Add(rapid.SampledFrom([]time.Duration{time.Second, time.Minute}).Draw(rt, "passes"))
				r.Beat()
			}
			if i == left {
				whole, err := os.ReadFile(path)
				require.NoError(rt, err)
				index, _ = os.ReadFile(IndexName(path))
				require.NoError(rt, os.WriteFile(copied, whole, 0o644))
			}
		}
		require.NoError(rt, r.Close())

		// While it was recorded, all of it could be looked at.
		plain := capture.NewStore(meta)
		for i := range rs {
			plain.Put(&rs[i])
			plain.Advance(rs[i].End)
		}
		if going {
			plain.Open(&run)
		}
		require.Equal(rt, plain.Snapshot().Running, store.Snapshot().Running)
		same(rt, plain.Snapshot(), store.Snapshot())

		check := func(path string, known bool) {
			whole, err := os.ReadFile(path)
			require.NoError(rt, err)
			want, err := Read(bytes.NewReader(whole))
			closed(rt, err)
			o, err := Open(path)
			require.NoError(rt, err)
			defer o.Close()
			require.NoError(rt, o.Why)
			if known {
				require.True(rt, o.Known)
			}
			closed(rt, o.Load(context.Background(), nil))
			same(rt, want.Snapshot(), o.Store.Snapshot())
		}
		check(path, len(rs) >= int(leastIndexed))
		require.NoError(rt, os.RemoveAll(IndexName(path)))
		check(path, false)
		check(path, len(rs) >= int(leastIndexed))
		if left < len(rs) {
			if index != nil {
				require.NoError(rt, os.WriteFile(IndexName(copied), index, 0o644))
			}
			check(copied, index != nil)
			check(copied, index != nil)
		}
	})
}

// TestARingOfFiles: a recording that is cut into files has each record in one of them, the
// oldest files go, and with them what the capture has of them.
func TestARingOfFiles(t *testing.T) {
	small(t)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		path := filepath.Join(dir, "x.pcapng")
		store := capture.NewStore(meta)
		store.Bound(1)
		limits := Limits{Bytes: leastFile, Files: rapid.SampledFrom([]int{0, 2, 3}).Draw(rt, "files")}
		if rapid.Bool().Draw(rt, "by time") {
			limits = Limits{Time: time.Minute, Files: limits.Files}
		}
		r, err := RecordLimited(store, path, limits)
		require.NoError(rt, err)
		clock := time.Unix(1000, 0)
		r.now = func() time.Time { return clock }
		rs := stream(rt)
		for i := range rs {
			store.Put(&rs[i])
			if i%50 == 0 {
				clock = clock.Add(20 * time.Second)
				r.Beat()
			}
		}
		require.NoError(rt, r.Close())
		files, err := filepath.Glob(filepath.Join(dir, "*.pcapng"))
		require.NoError(rt, err)
		if limits.Files > 0 {
			require.LessOrEqual(rt, len(files), limits.Files)
		}
		n := 0
		for k := r.made - len(files); k < r.made; k++ {
			o, err := Open(limits.Name(path, k+1))
			require.NoError(rt, err)
			require.NoError(rt, o.Load(context.Background(), nil))
			snap := o.Store.Snapshot()
			n += snap.Len()
			o.Close()
		}
		require.Equal(rt, len(rs), r.Count())
		if len(files) == r.made {
			require.Equal(rt, len(rs), n)
		}
		snap := store.Snapshot()
		for i := snap.First(); i < snap.Len(); i++ {
			require.NotContains(rt, snap.At(i).Text, "can't be read back")
		}
	})
}

func TestLimitsThatMakeNoSense(t *testing.T) {
	for _, x := range []struct {
		l    Limits
		says string
	}{
		{Limits{Files: 3}, "needs a size or a time"},
		{Limits{Files: 1, Time: time.Minute}, "keep two"},
		{Limits{Bytes: 1}, "64 kB at least"},
		{Limits{Time: -1}, "not negative"},
	} {
		_, err := RecordLimited(capture.NewStore(meta), filepath.Join(t.TempDir(), "x.pcapng"), x.l)
		assert.ErrorContains(t, err, x.says)
	}
}

// TestAnotherIndex: an index that belongs to another file, or to a file as it was before it
// was written again, is not believed.
func TestAnotherIndex(t *testing.T) {
	small(t)
	dir := t.TempDir()
	write := func(name, text string) string {
		store := capture.NewStore(meta)
		path := filepath.Join(dir, name)
		r, err := Record(store, path)
		require.NoError(t, err)
		for i := range 100 {
			store.Put(&record.Record{Data: []byte(text), Start: quantity.Time(i), End: quantity.Time(i), From: record.MCU, Seen: record.Tap})
		}
		require.NoError(t, r.Close())
		return path
	}
	a, b := write("a.pcapng", "one"), write("b.pcapng", "two")
	index, err := os.ReadFile(IndexName(a))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(IndexName(b), index, 0o644))
	o, err := Open(b)
	require.NoError(t, err)
	defer o.Close()
	assert.False(t, o.Known)
	assert.ErrorContains(t, o.Why, "not the index of this file")
	require.NoError(t, o.Load(context.Background(), nil))
	assert.Equal(t, "two", string(o.Store.Snapshot().At(99).Data))
}

// TestDamageBeforeTheIndexEnds: what is damaged in the stretch that is read again beside an
// index is said, and what stands before it is there.
func TestDamageBeforeTheIndexEnds(t *testing.T) {
	small(t)
	path := filepath.Join(t.TempDir(), "x.pcapng")
	store := capture.NewStore(meta)
	r, err := Record(store, path)
	require.NoError(t, err)
	for i := range 400 {
		store.Put(&record.Record{Data: []byte("abcdefgh"), Start: quantity.Time(i), End: quantity.Time(i), From: record.MCU, Seen: record.Tap})
	}
	require.NoError(t, r.Close())
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Greater(t, len(b), 3*sample)
	for i := range 64 {
		b[len(b)/2+i] = 0xee
	}
	require.NoError(t, os.WriteFile(path, b, 0o644))
	o, err := Open(path)
	require.NoError(t, err)
	defer o.Close()
	require.True(t, o.Known)
	require.Error(t, o.Load(context.Background(), nil))
	assert.Positive(t, o.Store.Snapshot().Len())
	assert.Less(t, o.Store.Snapshot().Len(), 400)
}

// FuzzIndex: no index makes opening a file panic, or gives what the file does not have
// without saying so.
func FuzzIndex(f *testing.F) {
	small(f)
	dir := f.TempDir()
	path := filepath.Join(dir, "x.pcapng")
	store := capture.NewStore(meta)
	r, err := Record(store, path)
	require.NoError(f, err)
	for i := range 600 {
		store.Put(&record.Record{Data: []byte("abc"), Start: quantity.Time(i), End: quantity.Time(i), From: record.MCU, Seen: record.Tap})
	}
	require.NoError(f, r.Close())
	index, err := os.ReadFile(IndexName(path))
	require.NoError(f, err)
	f.Add(index)
	f.Fuzz(func(t *testing.T, index []byte) {
		require.NoError(t, os.WriteFile(IndexName(path), index, 0o644))
		o, err := Open(path)
		require.NoError(t, err)
		defer o.Close()
		_ = o.Load(context.Background(), nil)
		snap := o.Store.Snapshot()
		for i := range min(snap.Len(), 5000) {
			_ = snap.At(i).AllFlags()
		}
		for range snap.Touching(100, 200, records.Query{Link: records.Any}) {
		}
	})
}
