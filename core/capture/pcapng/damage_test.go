package pcapng

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// ofRecords gives where the bytes of the records of a file begin, as its blocks have them.
func ofRecords(file []byte) (out []int) {
	for at := 0; at+32 <= len(file); {
		length := int(binary.LittleEndian.Uint32(file[at+4:]))
		if data := at + 28; binary.LittleEndian.Uint32(file[at:]) == 6 && file[data] == version && file[data+1] < isRests && file[data+1] < isPiece && file[data+1] < isLast {
			out = append(out, data)
		}
		at += length
	}
	return out
}

// TestDamagedRecords: of a file in which some records were spoilt all others are read, from it
// and beside its index, and it is said how many are not.
func TestDamagedRecords(t *testing.T) {
	small(t)
	rapid.Check(t, func(rt *rapid.T) {
		store := capture.NewStore(meta)
		n := rapid.IntRange(1, 900).Draw(rt, "records")
		for i := range n {
			store.Put(&record.Record{Kind: record.Chars, Data: binary.LittleEndian.AppendUint32(nil, uint32(i)), Start: quantity.Time(1000 * i), End: quantity.Time(1000 * i), From: record.MCU, Seen: record.Tap})
		}
		var b bytes.Buffer
		require.NoError(rt, Save(&b, store.Snapshot()))
		file := b.Bytes()
		places := ofRecords(file)
		require.Len(rt, places, n)
		spoilt := map[uint32]bool{}
		for _, k := range rapid.SliceOfNDistinct(rapid.IntRange(0, n-1), 0, min(n, 5), rapid.ID).Draw(rt, "spoilt") {
			spoilt[uint32(k)] = true
			file[places[k]] = 0xff
		}
		said := func(err error) {
			if len(spoilt) == 0 {
				require.NoError(rt, err)
				return
			}
			var d *Damage
			require.ErrorAs(rt, err, &d)
			require.Equal(rt, len(spoilt), d.N)
		}
		check := func(s *capture.Store) {
			snap := s.Snapshot()
			require.Equal(rt, n, snap.Len())
			for i := range n {
				r := snap.At(i)
				if spoilt[uint32(i)] {
					require.Equal(rt, record.Gap, r.Kind)
					require.Contains(rt, r.Text, "can't be read: it has no header")
				} else {
					require.Equal(rt, uint32(i), binary.LittleEndian.Uint32(r.Data))
				}
			}
		}
		read, err := Read(bytes.NewReader(file))
		said(err)
		check(read)
		path := filepath.Join(t.TempDir(), "x.pcapng")
		require.NoError(rt, os.WriteFile(path, file, 0o600))
		for range 2 { // the second time beside the index
			o, err := Open(path)
			require.NoError(rt, err)
			err = o.Load(context.Background(), nil)
			if !o.Known {
				said(err)
			}
			check(o.Store)
			o.Close()
		}
		require.NoError(rt, os.RemoveAll(IndexName(path)))
	})
}
