package image

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestRoundTrip(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var cs []Chunk
		at := uint64(0)
		for range rapid.IntRange(1, 4).Draw(rt, "chunks") {
			at += uint64(rapid.SampledFrom([]int{1, 7, 0xfff8, 0x20000}).Draw(rt, "gap"))
			data := rapid.SliceOfN(rapid.Byte(), 1, 100).Draw(rt, "data")
			cs = append(cs, Chunk{at, data})
			at += uint64(len(data))
		}
		for _, form := range []Form{HexRecords, SRecords} {
			var b bytes.Buffer
			require.NoError(rt, Write(&b, form, cs))
			got, err := Read(bytes.NewReader(b.Bytes()), form)
			require.NoError(rt, err, b.String())
			require.Equal(rt, cs, got)
			// One digit changed: refused, with its line, unless it is a digit of the
			// other capitals.
			text := b.Bytes()
			i := rapid.IntRange(0, len(text)-1).Draw(rt, "place")
			if text[i] == '\n' || text[i] == ':' || text[i] == 'S' || i > 0 && text[i-1] == 'S' {
				continue
			}
			changed := bytes.Clone(text)
			changed[i] = "0123456789ABCDEF"[(strings.IndexByte("0123456789ABCDEF", text[i])+1+rapid.IntRange(0, 14).Draw(rt, "to"))%16]
			_, err = Read(bytes.NewReader(changed), form)
			require.Error(rt, err)
			require.Contains(rt, err.Error(), fmt.Sprintf("line %d: ", 1+bytes.Count(text[:i], []byte("\n"))))
		}
		var raw bytes.Buffer
		require.NoError(rt, Write(&raw, Raw, cs[:1]))
		got, err := Read(&raw, Raw)
		require.NoError(rt, err)
		require.Equal(rt, cs[0].Data, got[0].Data)
	})
}

// TestKnownRecords are lines worked out by hand.
func TestKnownRecords(t *testing.T) {
	got, err := Read(strings.NewReader(":02000004 0001F9\n:00000001FF\n"), HexRecords)
	assert.ErrorContains(t, err, "line 1")
	assert.Nil(t, got)
	got, err = Read(strings.NewReader(":020000040001F9\n:0300300002337A1E\r\n\n:00000001FF\n"), HexRecords)
	require.NoError(t, err)
	assert.Equal(t, []Chunk{{0x10030, []byte{0x02, 0x33, 0x7a}}}, got)
	got, err = Read(strings.NewReader("S00600004844521B\nS1070030DEADBEEF90\nS5030001FB\nS9030000FC\n"), SRecords)
	require.NoError(t, err)
	assert.Equal(t, []Chunk{{0x30, []byte{0xde, 0xad, 0xbe, 0xef}}}, got)
}

func TestBadImages(t *testing.T) {
	for _, c := range []struct {
		form       Form
		text, says string
	}{
		{HexRecords, "", "line 1: the record that ends the file is missing"},
		{HexRecords, "0300300002337A1E\n", "line 1: a record begins with a colon"},
		{HexRecords, ":0300300002\n", "line 1: 3 bytes of data are stated, 0 are there"},
		{HexRecords, ":0300300002337A1F\n", "line 1: its check byte is 1F, not 1E"},
		{HexRecords, ":0300300602337A18\n", "type 6 is none"},
		{HexRecords, ":0300300002337A1E\n", "line 2: the record that ends the file is missing: it is cut off"},
		{HexRecords, ":00000001FF\n", "no data"},
		{HexRecords, ":00000001FF\n:00000001FF\n", "line 2: it comes after"},
		{HexRecords, ":0300300002337A1E\n:0300310002337A1D\n:00000001FF\n", "address 0x31 has two contents"},
		{HexRecords, ":01000004 ", "too short"},
		{HexRecords, ":" + strings.Repeat("00", 3000), "longer than a record"},
		{SRecords, "S4070030DEADBEEF90\n", "begins with S and its type"},
		{SRecords, "S1070030DEADBEEF91\n", "its check byte is 91, not 90"},
		{SRecords, "S1080030DEADBEEF8F\n", "8 bytes are stated, 7 are there"},
		{SRecords, "S10200FD\n", "too short for its address"},
		{Raw, "", "empty"},
	} {
		_, err := Read(strings.NewReader(c.text), c.form)
		if assert.Error(t, err, c.text) {
			ok := false
			for _, s := range strings.Split(c.says, "|") {
				ok = ok || strings.Contains(err.Error(), s)
			}
			assert.True(t, ok, "%s: %v", c.says, err)
		}
	}
	_, err := FormOf("a.elf")
	assert.ErrorContains(t, err, "must end in .hex")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(":0300300002337A1E\n:00000001FF\n"), 1)
	f.Add([]byte("S1070030DEADBEEF90\nS9030000FC\n"), 2)
	f.Fuzz(func(t *testing.T, text []byte, form int) {
		fm := Form(uint(form) % 3)
		cs, err := Read(bytes.NewReader(text), fm)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		var b bytes.Buffer
		if Write(&b, fm, cs) != nil {
			return
		}
		again, err := Read(&b, fm)
		require.NoError(t, err)
		require.Equal(t, cs, again)
	})
}
