package pcapng

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// benchFile is a file of characters and frames in equal parts.
func benchFile(b *testing.B) []byte {
	store := capture.NewStore(meta)
	for i := range 20_000 {
		at := quantity.Time(i) * quantity.Microsecond
		r := record.Record{Kind: record.Frame, Link: 2, From: record.Device, Seen: record.Tap, ID: uint32(i & 0x7ff), Data: []byte{1, 2, 3, 4, 5, 6, 7, 8}, Bits: 8, Start: at, End: at + 100}
		if i%2 == 0 {
			r = record.Record{Link: 0, From: record.Device, Seen: record.MCU, Data: []byte("12.345\r\n"), Each: 10, Start: at, End: at + 100}
			for k := range r.Data {
				r.Offsets = append(r.Offsets, quantity.Time(10*k))
			}
		}
		store.Put(&r)
	}
	var file bytes.Buffer
	require.NoError(b, Save(&file, store.Snapshot()))
	return file.Bytes()
}

func BenchmarkRead(b *testing.B) {
	file := benchFile(b)
	b.ReportAllocs()
	n := 0
	for b.Loop() {
		r, err := newReader(nil, newBlocks(bytes.NewReader(file), 0), &damages{})
		require.NoError(b, err)
		for {
			_, _, err := r.next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(b, err)
			n++
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/record")
}
