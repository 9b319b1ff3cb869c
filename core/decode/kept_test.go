package decode

import (
	"bytes"
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// wild is a source of any levels: each stretch begins with whatever level, and lines are
// unknown for parts of it.
type wild struct {
	rt     *rapid.T
	names  []string
	chosen []int
	at     quantity.Time
	left   int
}

func (w *wild) Names() []string     { return w.names }
func (w *wild) Select(lines ...int) { w.chosen = lines }

func (w *wild) Next() ([]wire.Window, error) {
	if w.left == 0 {
		return nil, io.EOF
	}
	w.left--
	end := w.at + quantity.Time(rapid.Int64Range(1, int64(200*quantity.Microsecond)).Draw(w.rt, "length"))
	by := map[int]wire.Window{}
	for i := range w.names {
		x := wire.Window{From: w.at, To: end, High: rapid.Bool().Draw(w.rt, "high")}
		step := rapid.SampledFrom([]int64{2e5, 1.1e6, 4e6, 5e7}).Draw(w.rt, "step")
		for at, n := w.at, rapid.IntRange(0, 60).Draw(w.rt, "toggles"); n > 0; n-- {
			if at += quantity.Time(rapid.Int64Range(1, step).Draw(w.rt, "apart")); at >= end {
				break
			}
			x.Toggles = append(x.Toggles, at)
		}
		at := w.at
		for range rapid.IntRange(0, 2).Draw(w.rt, "unknown") {
			if at >= end {
				break
			}
			from := at + quantity.Time(rapid.Int64Range(0, int64(end-at-1)).Draw(w.rt, "from"))
			to := from + quantity.Time(rapid.Int64Range(1, int64(end-from)).Draw(w.rt, "to"))
			x.Unknown = append(x.Unknown, wire.Span{From: from, To: to, Open: rapid.Bool().Draw(w.rt, "open")})
			at = to + 1
		}
		by[i] = x
	}
	var out []wire.Window
	for _, i := range w.chosen {
		out = append(out, by[i])
	}
	w.at = end
	return out, nil
}

// TestWhatIsDecodedCanBeKept: whatever the levels are, records are such that a file of them
// can be read again, and say the same.
func TestWhatIsDecodedCanBeKept(t *testing.T) {
	names := []string{"rx", "sck", "mosi", "miso", "cs", "scl", "sda", "can", "raw"}
	words := []string{
		"gauge uart device=rx rate=1M frame=8N1", "far uart device=rx rate=3M frame=9E2",
		"angle spi clock=sck out=mosi in=miso select=cs mode=1 word=16", "bare spi clock=sck out=mosi in=miso active=none gap=5us word=8",
		"one spi clock=sck out=mosi select=cs wires=1 turn=5 word=5", "tilt i2c clock=scl data=sda",
		`pump can line=can rate="500 kbit/s"`, `fast can line=can rate="500 kbit/s" data-rate="5 Mbit/s"`,
		`strip pulse line=raw zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us element=12`,
	}
	var links []Link
	for _, w := range words {
		l, err := ParseLink(w, names)
		require.NoError(t, err, w)
		links = append(links, l)
	}
	rapid.Check(t, func(rt *rapid.T) {
		store := capture.NewStore(Meta(links))
		require.NoError(rt, Load(context.Background(), &wild{rt: rt, names: names, left: rapid.IntRange(1, 4).Draw(rt, "stretches")}, links, store))
		was := store.Snapshot()
		var file bytes.Buffer
		require.NoError(rt, pcapng.Save(&file, was))
		again, err := pcapng.Read(&file)
		require.NoError(rt, err)
		is := again.Snapshot()
		require.Equal(rt, was.Len(), is.Len())
		for i := range was.Len() {
			require.True(rt, was.At(i).Alike(is.At(i)), "%+v\n%+v", was.At(i), is.At(i))
		}
	})
}
