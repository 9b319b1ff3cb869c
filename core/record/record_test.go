package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

func TestFlagsAndKindsPrintAndParse(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := Flags(rapid.Uint32Range(0, uint32(1)<<len(flagNames)-1).Draw(rt, "flags"))
		require.Equal(rt, f, ParseFlags(f.String()))
	})
	for k := Chars; k <= Frame; k++ {
		back, ok := ParseKind(k.String())
		assert.True(t, ok)
		assert.Equal(t, k, back)
	}
	_, ok := ParseKind("nonsense")
	assert.False(t, ok)
	assert.Equal(t, "kind 200", Kind(200).String())
	assert.Equal(t, "origin 99", Origin(99).String())
}

func TestCharactersAndMarks(t *testing.T) {
	r := Record{Data: []byte{0x34, 0x01, 0xff, 0x00}, Wide: true, Offsets: []quantity.Time{0, 5}, Marks: []Mark{{1, Parity}, {1, Noise}, {2, Glitch}}}
	assert.Equal(t, 2, r.Len())
	assert.Equal(t, uint16(0x134), r.Char(0))
	assert.Equal(t, Parity|Noise, r.FlagsAt(1))
	assert.Equal(t, Parity|Noise|Glitch, r.AllFlags())
	c := r.Clone()
	r.Data[0], r.Offsets[0], r.Marks[0].Index = 9, 9, 9
	assert.Equal(t, uint16(0x134), c.Char(0))
	assert.Zero(t, c.Offsets[0])
	assert.Equal(t, 1, c.Marks[0].Index)
	words := Record{Kind: Transaction, Bits: 12, Data: make([]byte, 6)}
	assert.Equal(t, 3, words.Len())
}

func TestListReplacesWhatIsOpen(t *testing.T) {
	l := &List{}
	l.Open(&Record{Data: []byte("a")})
	l.Open(&Record{Data: []byte("ab")})
	assert.Len(t, l.Running, 1)
	l.Put(&Record{Data: []byte("abc")})
	assert.Empty(t, l.Running)
	assert.Equal(t, "abc", string(l.Done[0].Data))
}
