package pcapng

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// blocksOf gives where the blocks of a sound file begin.
func blocksOf(file []byte) (out []int) {
	for at := 0; at < len(file); at += int(binary.LittleEndian.Uint32(file[at+4:])) {
		out = append(out, at)
	}
	return out
}

// recordsFrom is the first block that is neither header, interface nor description.
func recordsFrom(file []byte, starts []int) int {
	return slices.IndexFunc(starts, func(at int) bool {
		return binary.LittleEndian.Uint32(file[at:]) == blockPacket && file[at+29] < isRests
	})
}

// spoil damages a file behind a byte, as disks, cables and programs do.
func spoil(rt *rapid.T, file []byte, from int) []byte {
	file = slices.Clone(file)
	if from >= len(file) {
		return file
	}
	at := rapid.IntRange(from, len(file)-1).Draw(rt, "at")
	to := min(at+rapid.SampledFrom([]int{1, 2, 4, 16, 100, 512, 4096}).Draw(rt, "long"), len(file))
	switch rapid.SampledFrom([]string{"flip", "zeros", "noise", "cut", "gone", "more", "twice"}).Draw(rt, "damage") {
	case "flip":
		file[at] ^= 1 << rapid.IntRange(0, 7).Draw(rt, "bit")
	case "zeros":
		clear(file[at:to])
	case "noise":
		copy(file[at:to], rapid.SliceOfN(rapid.Byte(), to-at, to-at).Draw(rt, "noise"))
	case "cut":
		file = file[:at]
	case "gone":
		file = slices.Delete(file, at, to)
	case "more":
		file = slices.Insert(file, at, rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(rt, "more")...)
	case "twice":
		file = slices.Insert(file, at, file[at:to]...)
	}
	return file
}

// readBack reads all that an opened file has, and what was said of it.
func readBack(path string) (got []record.Record, said error) {
	o, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	err = errors.Join(o.Why, o.Load(context.Background(), nil))
	snap := o.Store.Snapshot()
	for i := range snap.Len() {
		got = append(got, *snap.At(i))
	}
	return got, errors.Join(err, o.Damage())
}

// TestDamaged: a capture that was damaged in any way is read, with the index of the sound file
// beside it or without one. No record is another one than was written; whatever is missing is
// said; and what is not damaged is there.
func TestDamaged(t *testing.T) {
	small(t)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, "x.pcapng")
		store := capture.NewStore(meta)
		rs := stream(rt)
		for i := range rs {
			store.Put(&rs[i])
		}
		var b bytes.Buffer
		require.NoError(rt, Save(&b, store.Snapshot()))
		require.NoError(rt, os.WriteFile(path, b.Bytes(), 0o600))
		want, said := readBack(path) // and makes the index
		require.NoError(rt, said)
		require.Len(rt, want, len(rs))

		file, starts := b.Bytes(), blocksOf(b.Bytes())
		first := len(file)
		if i := recordsFrom(file, starts); i >= 0 {
			first = starts[i]
		}
		for range rapid.IntRange(1, 3).Draw(rt, "times") {
			file = spoil(rt, file, first)
		}
		require.NoError(rt, os.WriteFile(path, file, 0o600))
		if rapid.Bool().Draw(rt, "without index") {
			require.NoError(rt, os.RemoveAll(IndexName(path)))
		}
		got, said := readBack(path)
		there := func(r *record.Record) bool {
			i, _ := slices.BinarySearchFunc(want, r.End, func(w record.Record, t quantity.Time) int { return int(w.End - t) })
			for ; i < len(want) && want[i].End == r.End; i++ {
				if reflect.DeepEqual(want[i], *r) {
					return true
				}
			}
			return false
		}
		sound := 0
		for i := range got {
			switch {
			case there(&got[i]):
				sound++
			case got[i].Lost() || got[i].Kind == record.Gap && said != nil:
			default:
				rt.Fatalf("record %d was never written: %+v", i, got[i])
			}
		}
		if sound != len(want) || len(got) != len(want) {
			require.Error(rt, said)
		}
		if damage := new(Damage); errors.As(said, &damage) {
			require.Error(rt, verified(path))
		}
	})
}

// verified says what a file is found to have lost without any of its records being looked at.
func verified(path string) error {
	o, err := Open(path)
	if err != nil {
		return err
	}
	defer o.Close()
	if err := o.Load(context.Background(), nil); err != nil {
		return err
	}
	if err := o.Verify(context.Background()); err != nil {
		return err
	}
	return o.Damage()
}

// TestDamageCostsWhatIsDamaged: damage within records costs these alone, whatever is hit of
// them, their lengths too: without an index, and beside the one of the sound file.
func TestDamageCostsWhatIsDamaged(t *testing.T) {
	small(t)
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		store := capture.NewStore(meta)
		n := rapid.IntRange(10, 3000).Draw(rt, "records")
		for i := range n {
			store.Put(&record.Record{Kind: record.Chars, Data: binary.LittleEndian.AppendUint32(nil, uint32(i)), Start: quantity.Time(1000 * i), End: quantity.Time(1000*i + 700), From: record.MCU, Seen: record.Tap})
		}
		var b bytes.Buffer
		require.NoError(rt, Save(&b, store.Snapshot()))
		path := filepath.Join(dir, "x.pcapng")
		require.NoError(rt, os.WriteFile(path, b.Bytes(), 0o600))
		_, said := readBack(path)
		require.NoError(rt, said)

		file, starts := b.Bytes(), blocksOf(b.Bytes())
		from := recordsFrom(file, starts)
		starts = append(starts, len(file))
		spoilt := map[int]bool{}
		for _, k := range rapid.SliceOfNDistinct(rapid.IntRange(0, n-1), 1, 5, rapid.ID).Draw(rt, "spoilt") {
			at := rapid.IntRange(starts[from+k], starts[from+k+1]-1).Draw(rt, "byte")
			file[at] ^= byte(rapid.IntRange(1, 255).Draw(rt, "by"))
			spoilt[k] = true
		}
		require.NoError(rt, os.WriteFile(path, file, 0o600))
		for _, index := range []bool{true, false} {
			got, said := readBack(path)
			kept := map[uint32]bool{}
			for i := range got {
				if !got[i].Lost() && len(got[i].Data) == 4 {
					kept[binary.LittleEndian.Uint32(got[i].Data)] = true
				}
			}
			for i := range n {
				require.True(rt, kept[uint32(i)] || spoilt[i] && said != nil, "record %d, index %v", i, index)
			}
			require.NoError(rt, os.RemoveAll(IndexName(path)))
		}
	})
}

// TestChangedIndex: an index of which anything was changed is not believed.
func TestChangedIndex(t *testing.T) {
	small(t)
	store := capture.NewStore(meta)
	for i := range 300 {
		store.Put(&record.Record{Kind: record.Chars, Data: []byte{byte(i)}, Start: quantity.Time(i), End: quantity.Time(i), From: record.MCU, Seen: record.Tap})
	}
	path := filepath.Join(t.TempDir(), "x.pcapng")
	var b bytes.Buffer
	require.NoError(t, Save(&b, store.Snapshot()))
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	_, said := readBack(path)
	require.NoError(t, said)
	index, err := os.ReadFile(IndexName(path))
	require.NoError(t, err)
	rapid.Check(t, func(rt *rapid.T) {
		changed := slices.Clone(index)
		changed[rapid.IntRange(0, len(index)-1).Draw(rt, "at")] ^= byte(rapid.IntRange(1, 255).Draw(rt, "by"))
		require.NoError(rt, os.WriteFile(IndexName(path), changed, 0o600))
		o, err := Open(path)
		require.NoError(rt, err)
		defer o.Close()
		require.False(rt, o.Known)
		require.ErrorContains(rt, o.Why, "checksum")
		require.NoError(rt, o.Load(context.Background(), nil))
		require.Equal(rt, 300, o.Store.Snapshot().Len())
	})
}
