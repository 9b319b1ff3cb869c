package operate_test

import (
	"context"
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/values"
)

// onSPI gives a bench with one part on an SPI bus, from the text of its file behind the
// end; word is its word.
func onSPI(t require.TestingT, word int, file string) *sim.Headless {
	files := fstest.MapFS{
		"part.yaml": {Data: []byte(fmt.Sprintf("device: a part\nkind: spi\nend: {mode: 1, most: 2 MHz, valid: 50 ns, word: %d}\n", word) + file)},
		"b.yaml": {Data: []byte(`bench: one part
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {s: {kind: spi, clock: core, prescaler: {values: [8, 16]}}}
links:
  bus: {kind: spi, unit: s, mcu: {}, devices: {probe: {file: part.yaml}}}
`)},
	}
	b, faults := bench.Load(files, "b.yaml")
	require.Empty(t, faults, file)
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h
}

// TestStatusThatComesAlong: a register without a number, which stands beside the content of
// others, is read as itself, whatever the part holds; reading it writes nothing and clears
// nothing; what is to be known of it is said when it comes with another.
func TestStatusThatComesAlong(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		status, first, data := rapid.Byte().Draw(t, "status"), rapid.Byte().Draw(t, "first"), rapid.Byte().Draw(t, "data")
		warned := rapid.Byte().Draw(t, "warned")
		patterns := rapid.Permutation([]string{
			`  write: {out: "reg.7 0 | value.8", in: "STATUS | skip.8"}`,
			`  read:  {out: "reg.7 1 | skip.8", in: "STATUS | value.8"}`,
		}).Draw(t, "patterns")
		h := onSPI(t, 8, fmt.Sprintf("access:\n%s\n%s\nregisters:\n  STATUS: {reset: %d, warn: {%d: power was lost}}\n  FLAGS: {number: 0, access: clear-on-read, reset: %d}\n  DATA: {number: 1, reset: %d}\n",
			patterns[0], patterns[1], status, warned, first, data))
		r := do(t, h, "bus", "read STATUS")
		require.Equal(t, uint64(status), r.Values[0].Raw)
		require.Equal(t, uint64(first), do(t, h, "bus", "read FLAGS").Values[0].Raw, "it was cleared")
		r = do(t, h, "bus", "read DATA")
		require.Equal(t, uint64(data), r.Values[0].Raw)
		if status == warned {
			require.Equal(t, operate.Warn, r.Verdict)
			require.Contains(t, says(r), "STATUS came along: power was lost")
		} else {
			require.NotContains(t, says(r), "came along")
		}
	})
}

// TestAnswersInTheNextTransaction: an operation may take two selects; what the second
// sends may ask for the next. What each means is what the part holds.
func TestAnswersInTheNextTransaction(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		holds := [4]byte{}
		file := "access:\n  read: {out: '1 0 reg.6 00 | release | skip.16', in: 'skip.16 | release | 00 value.8'}\n  write: {out: '0 1 reg.6 value.8', in: skip.16}\nregisters:\n"
		for i := range holds {
			holds[i] = rapid.Byte().Draw(t, "content")
			file += fmt.Sprintf("  R%d: {number: %d, reset: %d}\n", i, i, holds[i])
		}
		h := onSPI(t, 16, file)
		i := rapid.IntRange(0, 3).Draw(t, "register")
		require.Equal(t, uint64(holds[i]), do(t, h, "bus", fmt.Sprintf("read R%d", i)).Values[0].Raw)
		to := rapid.Byte().Draw(t, "to")
		do(t, h, "bus", fmt.Sprintf("write R%d %d", i, to))
		holds[i] = to

		// One request behind the other, each collecting what the one before asked for.
		asked := rapid.SliceOfN(rapid.IntRange(0, 3), 1, 8).Draw(t, "asked")
		var texts, want []string
		for k, n := range asked {
			texts = append(texts, fmt.Sprintf("raw select 1 out %04X", 0x8000|n<<8))
			if k == 0 {
				want = append(want, fmt.Sprintf("asks for probe.R%d", n))
			} else {
				want = append(want, fmt.Sprintf("probe.R%d read 0x%02X", asked[k-1], holds[asked[k-1]]))
			}
		}
		from := h.Store().Snapshot().Len()
		do(t, h, "bus", texts...)
		snap := h.Store().Snapshot()
		inOrder, anywhere := h.Bench.Meanings(), h.Bench.Meanings().Within(&snap.Reader)
		var got []string
		for k := from; k < snap.Len(); k++ {
			if r := snap.At(k); r.Traffic() {
				got = append(got, inOrder.Text("bus", r))
			}
		}
		require.Equal(t, want, got)
		for _, k := range rapid.Permutation([]int{from, snap.Len() - 1}).Draw(t, "looked at") {
			if r := snap.At(k); r.Traffic() && k > from {
				require.Equal(t, want[len(want)-1], anywhere.Text("bus", r))
			}
		}
	})
}

// TestEveryValueIsInTraffic: each value that a device file names can be found, comes when
// its registers are read, and is said of the transaction.
func TestEveryValueIsInTraffic(t *testing.T) {
	h := onSPI(t, 8, `access:
  read:  {out: "reg.7 1 | skip.8 ...", in: "skip.8 | value.8 ..."}
registers:
  A: {number: 0, reset: 0x81, scale: 0.5 V, fields: {LOW: {bits: 3:0}, HIGH: {bits: 7}}}
  B: {number: 1, reset: 0x42}
values:
  whole: {bits: B}
  spelled: {bits: "B[7:0]", scale: 0.25 °C}
  part: {bits: "A[6:2]"}
  both: {bits: A B}
  sum: {from: whole + part}
`)
	do(t, h, "bus", "read A B")
	snap := h.Store().Snapshot()
	book := values.NewBook(h.Bench, snap.Meta(), 1<<20)
	for book.Take(snap, 100) {
	}
	m := h.Bench.Meanings()
	said := ""
	for i := range snap.Len() {
		if r := snap.At(i); r.Traffic() {
			for _, x := range m.Of("bus", r) {
				said += x.Sentence() + fmt.Sprint(x.Details())
			}
		}
	}
	for _, v := range h.Bench.Link("bus").Parts()[0].Map.Values {
		n, err := book.Find("probe." + v.Name)
		require.NoError(t, err, v.Name)
		require.NotNil(t, book.Of(n), v.Name)
		assert.Equal(t, 1, book.Of(n).Len(), v.Name)
		assert.Contains(t, said, v.Name+" ", v.Name)
	}
}
