package decode

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/csv"
	"gavrix.org/gavrix/core/wire/vcd"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// TestLevelsGoThroughFiles writes random lines, also with unknown stretches and with
// changes at the very start, to each format and on to the other: they come back as they
// were.
func TestLevelsGoThroughFiles(t *testing.T) {
	write := map[string]func(out io.Writer, names []string) (Sink, error){
		"x.vcd": func(out io.Writer, names []string) (Sink, error) { return vcd.NewWriter(out, names) },
		"x.csv": func(out io.Writer, names []string) (Sink, error) { return csv.NewWriter(out, names) },
	}
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(1, 4).Draw(rt, "lines")
		want := wiretest.Lines(rt, n)
		var names []string
		for i := range n {
			names = append(names, fmt.Sprintf("line%d", i))
		}
		first, second := "x.vcd", "x.csv"
		if rapid.Bool().Draw(rt, "csv first") {
			first, second = second, first
		}
		var one, two bytes.Buffer
		w, err := write[first](&one, names)
		require.NoError(rt, err)
		wiretest.Split(want, wiretest.AtRandom(rt, want[0].To, 4), func(ws []wire.Window) { require.NoError(rt, w.Write(ws)) })
		require.NoError(rt, w.Close(want[0].To-1))
		src, err := Open(first, bytes.NewReader(one.Bytes()), 0)
		require.NoError(rt, err)
		w, err = write[second](&two, names)
		require.NoError(rt, err)
		require.NoError(rt, Copy(src, w))
		src, err = Open(second, &two, 0)
		require.NoError(rt, err)
		var all []int
		for i := range n {
			all = append(all, i)
		}
		src.Select(all...)
		var got []wire.Window
		for {
			ws, err := src.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(rt, err)
			for i, w := range ws {
				if len(got) < n {
					got = append(got, wire.Window{From: w.From, High: w.High})
				}
				wiretest.Join(&got[i], w)
			}
		}
		require.Equal(rt, len(want), len(got))
		for i := range want {
			require.Equal(rt, levelled(want[i]), levelled(got[i]))
		}
	})
}

// levelled takes the first level of a line that nobody drove or knew till then for what it was
// before, as files are read.
func levelled(w wire.Window) wire.Window {
	if len(w.Unknown) > 0 && w.Unknown[0].From == w.From && len(w.Toggles) > 0 && w.Toggles[0] == w.Unknown[0].To {
		w.High, w.Toggles = !w.High, w.Toggles[1:]
	}
	if len(w.Toggles) == 0 {
		w.Toggles = nil
	}
	return w
}
