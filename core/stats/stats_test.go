package stats

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// An echo: each request is answered after a turn-round that is known, and the
// figures are those that it was made with.
func TestEcho(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		const char = 100 * quantity.Microsecond
		at := quantity.Time(0)
		var rs []*record.Record
		var replies, gaps []quantity.Time
		bytes, shortest := 0, quantity.Forever
		n := rapid.IntRange(1, 20).Draw(rt, "n")
		for i := range n {
			size := rapid.IntRange(1, 30).Draw(rt, "size")
			long := char * quantity.Time(size)
			turn := quantity.Time(rapid.Int64Range(1, 1e9).Draw(rt, "turn"))
			pause := quantity.Time(rapid.Int64Range(1, 1e9).Draw(rt, "pause"))
			if i > 0 {
				gaps = append(gaps, pause)
				at += pause
			}
			data := make([]byte, size)
			rs = append(rs, &record.Record{From: record.MCU, Start: at, Each: char, End: at + long, Data: data})
			at += long + turn
			rs = append(rs, &record.Record{From: record.Device, Start: at, Each: char, End: at + long, Data: data})
			at += long
			shortest = min(shortest, 2*long)
			replies, gaps, bytes = append(replies, turn), append(gaps, turn), bytes+2*size
		}
		// The order in which they are given does not matter.
		for i := range rs {
			k := rapid.IntRange(0, i).Draw(rt, "swap")
			rs[i], rs[k] = rs[k], rs[i]
		}
		f := Of(rs, 0, at)
		require.Equal(rt, 2*n, f.Records)
		require.Equal(rt, bytes, f.Bytes)
		require.Equal(rt, n, f.Reply.N)
		require.Equal(rt, len(gaps), f.Gap.N)
		least, sum := replies[0], quantity.Time(0)
		for _, r := range replies {
			least = min(least, r)
		}
		for _, g := range gaps {
			sum += g
		}
		require.Equal(rt, least, f.Reply.Least)
		require.Equal(rt, shortest, f.Line)
		require.Greater(rt, f.Round.Least, f.Line, "there and back is never less than the characters")
		require.Equal(rt, at-sum, f.Busy)
		require.InDelta(rt, float64(at-sum)/float64(at), f.Share(), 1e-9)
		require.InEpsilon(rt, float64(bytes)/at.Seconds(), f.PerSecond(), 1e-9)
		require.Len(rt, f.Lines(), 3)
	})
}

func TestNothing(t *testing.T) {
	f := Of(nil, 0, 0)
	assert.Empty(t, f.Lines())
	assert.Zero(t, f.PerSecond())
	assert.Zero(t, f.Share())
	// What reaches out of the stretch does not count.
	f = Of([]*record.Record{{Start: 5, End: 20, Data: []byte{1}}, {Kind: record.Opened, Start: 1, End: 2}}, 0, 10)
	assert.Zero(t, f.Records)
}
