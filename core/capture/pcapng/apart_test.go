package pcapng_test

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// apart is a record as a reader finds it that knows docs/formats.md alone.
type apart struct {
	iface                    int
	kind, from, seen, origin byte
	bits                     byte
	id                       uint32
	start, length, each      int64
	data, back               []byte
	text                     string
	times                    []int64
}

// parse reads the bytes of one record, as the table of the document has them.
func parse(t *testing.T, b []byte, ns int64) (x apart, soFar bool) {
	require.EqualValues(t, 3, b[0])
	x.kind, x.from, x.seen, x.origin, x.bits = b[1], b[2], b[3], b[4], b[6]
	x.start = ns*1000 + int64(b[8]) + 256*int64(b[9])
	x.id = binary.LittleEndian.Uint32(b[10:14])
	rest := bytes.NewReader(b[14:])
	number := func() int64 {
		n, err := binary.ReadUvarint(rest)
		require.NoError(t, err)
		return int64(n)
	}
	x.length, x.each = number(), number()
	data, back, text, times := number(), number(), number(), number()
	take := func(n int64) []byte {
		out := make([]byte, n)
		_, err := io.ReadFull(rest, out)
		require.NoError(t, err)
		return out
	}
	x.data, x.back, x.text = take(data), take(back), string(take(text))
	at := int64(0)
	for range times {
		d, err := binary.ReadVarint(rest)
		require.NoError(t, err)
		at += d
		x.times = append(x.times, at)
	}
	return x, b[5]&8 != 0
}

// TestAReaderBuiltApart: by the library for pcapng and the document of the form alone all records
// of Lock 7, of each kind of link, are read back; and a reader that knows the link types finds
// the frames of CAN and the bytes of I2C in the packets themselves.
func TestAReaderBuiltApart(t *testing.T) {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	h.World.RunTo(700 * quantity.Millisecond)
	snap := h.Store().Snapshot()
	var file bytes.Buffer
	require.NoError(t, pcapng.Save(&file, snap))

	ng, err := pcapgo.NewNgReader(&file, pcapgo.NgReaderOptions{WantMixedLinkType: true})
	require.NoError(t, err)
	var got []apart
	described, frames, bus := false, 0, 0
	for {
		data, ci, opts, err := ng.ReadPacketDataWithOptions()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		if !described {
			described = data[1] == 255
			continue
		}
		intf, err := ng.Interface(ci.InterfaceIndex)
		require.NoError(t, err)
		ns := ci.Timestamp.Sub(time.Unix(0, 0)).Nanoseconds()
		whole := ""
		for _, c := range opts.Comments {
			if c == "gavrix: goes on" {
				whole = "-"
			} else if part, is := strings.CutPrefix(c, "gavrix: "); is {
				whole = part
			} else if part, is := strings.CutPrefix(c, "gavrix+ "); is {
				whole += part
			}
		}
		sealed := data
		if intf.LinkType != 147 && whole != "-" {
			var err error
			sealed, err = base64.StdEncoding.DecodeString(whole)
			require.NoError(t, err)
		}
		if whole != "-" {
			link := ci.InterfaceIndex
			for i := range snap.Meta().Links {
				if snap.Meta().Links[i].Name == intf.Name {
					link = i
				}
			}
			over := binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint64(nil, uint64(ns)), uint16(link))
			over = append(over, sealed[:len(sealed)-4]...)
			for _, c := range opts.Comments {
				if strings.HasPrefix(c, "errors: ") {
					over = append(over, c...)
				}
			}
			require.Equal(t, crc32.Checksum(over, crc32.MakeTable(crc32.Castagnoli)), binary.LittleEndian.Uint32(sealed[len(sealed)-4:]))
		}
		switch {
		case whole == "-" || data[0] == 3 && (data[1] == 253 || data[1] == 252) && intf.LinkType == 147:
			continue
		case intf.LinkType == 147:
			x, soFar := parse(t, data, ns)
			require.False(t, soFar)
			x.iface = ci.InterfaceIndex
			got = append(got, x)
			continue
		}
		raw, err := base64.StdEncoding.DecodeString(whole)
		require.NoError(t, err)
		x, _ := parse(t, raw, ns)
		for i := range snap.Meta().Links {
			if snap.Meta().Links[i].Name == intf.Name {
				x.iface = i
			}
		}
		switch intf.LinkType {
		case 227: // the identifier in network order, the length, then the data
			frames++
			assert.Equal(t, x.id, binary.BigEndian.Uint32(data)&0x1fffffff)
			assert.EqualValues(t, len(x.data), data[4])
			assert.Equal(t, x.data, data[8:8+len(x.data)])
		case 209: // a byte of the bus, four of flags, the address byte, the data
			bus++
			assert.Equal(t, x.data[:len(data)-5], data[5:])
		}
		got = append(got, x)
	}
	require.Positive(t, frames)
	require.Positive(t, bus)
	require.Len(t, got, snap.Len()+len(snap.Running))
	for i := range snap.Len() {
		r, x := snap.At(i), got[i]
		want := apart{int(r.Link), byte(r.Kind), byte(r.From), byte(r.Seen), byte(r.Origin), r.Bits, r.ID, int64(r.Start), int64(r.End - r.Start), int64(r.Each), append([]byte{}, r.Data...), append([]byte{}, r.Back...), r.Text, nil}
		for _, o := range r.Offsets {
			want.times = append(want.times, int64(o))
		}
		require.Equal(t, want, x, "record %d", i)
	}
}
