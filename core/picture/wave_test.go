package picture

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/wire"
)

var set = uart.Settings{Rate: 100 * quantity.Kilobaud, Frame: uart.Frame{Data: 8, Stop: 1}}

// recorded is a capture of a device that sends characters with pauses, and of
// an MCU that reads them, all but one.
func recorded(chars []byte, wrong int) (*capture.Store, wire.Window) {
	p := quantity.PeriodOf(set.Rate)
	var meta capture.Meta
	meta.Add(capture.Link{Name: "gauge", Kind: "uart", Ends: []string{"MCU", "gauge"}}, []string{"mcu", "device"}, []string{"tx", "rx"})
	st := capture.NewStore(meta)
	var tog []quantity.Time
	at := quantity.Millisecond
	for _, c := range chars {
		tog, at = uart.Encode(tog, set.Frame, p, at, uint16(c))
		at += p.Times(int64(c % 60))
	}
	end := at + 10*quantity.Millisecond
	w := wire.Window{To: end, High: true, Toggles: tog}
	idle := wire.Window{To: end, High: true}
	st.Levels(0, &idle)
	st.Levels(1, &w)
	cfg := set.Config(p)
	cfg.From, cfg.Seen = record.Device, record.Tap
	uart.NewReceiver(cfg).Feed(&w, st)
	cfg.Seen = record.MCU
	var list record.List
	uart.NewReceiver(cfg).Feed(&w, &list)
	n := 0
	for i := range list.Done {
		r := &list.Done[i]
		for k := range r.Data {
			if n == wrong {
				r.Data[k] ^= 0x10
			}
			n++
		}
		st.Put(r)
	}
	st.Advance(end)
	return st, w
}

func wave(st *capture.Store, from, to quantity.Time, columns int) *scene.Scene {
	w := Wave{
		Snap: st.Snapshot(), From: from, To: to, Columns: columns,
		Bands: []Band{{Kind: uart.Kind, Name: "gauge", Settings: []bus.Settings{set}, LineNames: []string{"MCU", "gauge"}}},
	}
	return w.Scene()
}

func lane(s *scene.Scene, detail string) *scene.Lane {
	for i := range s.Lanes {
		if s.Lanes[i].Detail == detail {
			return &s.Lanes[i]
		}
	}
	return nil
}

// TestThePlantedDifferenceIsMarked: of all characters read just the wrong one
// is marked, where it stands.
func TestThePlantedDifferenceIsMarked(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		chars := rapid.SliceOfN(rapid.Byte(), 1, 30).Draw(rt, "chars")
		wrong := rapid.IntRange(-1, len(chars)-1).Draw(rt, "wrong")
		st, w := recorded(chars, wrong)
		s := wave(st, 0, w.To, 100_000)
		sent, read := lane(s, "gauge sent"), lane(s, "MCU read")
		require.Len(rt, sent.Cells, len(chars))
		require.Len(rt, read.Cells, len(chars))
		for i := range chars {
			require.Equal(rt, sent.Cells[i].From, read.Cells[i].From)
			require.Equal(rt, i == wrong, read.Cells[i].Tone == scene.Differ)
			require.Equal(rt, i == wrong, sent.Cells[i].Label != read.Cells[i].Label)
		}
		// Zoomed out the whole run is marked.
		s = wave(st, 0, w.To, 20)
		differs := false
		for _, c := range lane(s, "MCU read").Cells {
			differs = differs || c.Tone == scene.Differ
		}
		require.Equal(rt, wrong >= 0, differs)
	})
}

// TestLevelsAreTrueAtEveryScale: at the beginning of every column the drawn
// level is that of the line, and where an edge stands alone it is drawn.
func TestLevelsAreTrueAtEveryScale(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		chars := make([]byte, rapid.IntRange(1, 300).Draw(rt, "n"))
		for i := range chars {
			chars[i] = byte(rng.Uint32())
		}
		st, w := recorded(chars, -1)
		from := quantity.Time(rapid.Int64Range(0, int64(w.To)-2).Draw(rt, "from"))
		to := from + 1 + quantity.Time(rapid.Int64Range(0, int64(w.To-from)-1).Draw(rt, "span"))
		columns := rapid.IntRange(1, 300).Draw(rt, "columns")
		s := wave(st, from, to, columns)
		l := lane(s, "gauge").Levels
		require.LessOrEqual(rt, len(l.Toggles)+len(l.Busy), columns)
		k, b, high := 0, 0, l.High
		n := 0
		for i := range columns {
			x := from + quantity.Time(float64(to-from)*float64(i)/float64(columns))
			for k < len(l.Toggles) && l.Toggles[k] < x || b < len(l.Busy) && l.Busy[b].To <= x {
				if k < len(l.Toggles) && l.Toggles[k] < x && (b == len(l.Busy) || l.Toggles[k] < l.Busy[b].From) {
					require.Equal(rt, high, l.Before(k))
					high = !high
					k++
				} else {
					high = l.Busy[b].High
					b++
				}
			}
			for n < len(w.Toggles) && w.Toggles[n] < x {
				n++
			}
			if b < len(l.Busy) && l.Busy[b].From < x {
				continue // inside a busy stretch
			}
			require.Equal(rt, n%2 == 0, high, "column %d", i)
		}
	})
}

// TestBitsAndSamplesAppearWithTheZoom
func TestBitsAndSamplesAppearWithTheZoom(t *testing.T) {
	st, _ := recorded([]byte("3.417\n"), -1)
	bit := 10 * quantity.Microsecond
	s := wave(st, quantity.Millisecond-bit, quantity.Millisecond+12*bit, 100)
	bits := lane(s, "gauge bits")
	require.NotNil(t, bits)
	var names []string
	for _, c := range bits.Cells[:10] {
		names = append(names, c.Label)
	}
	assert.Equal(t, "start b0 b1 b2 b3 b4 b5 b6 b7 stop", strings.Join(names, " "))
	require.NotNil(t, lane(s, "gauge samples"))
	assert.Equal(t, quantity.Millisecond+bit/2, lane(s, "gauge samples").Marks[0].At)
	s = wave(st, 0, 20*quantity.Millisecond, 100)
	assert.Nil(t, lane(s, "gauge bits"))
	assert.Equal(t, "33", lane(wave(st, quantity.Millisecond, quantity.Millisecond+70*bit, 100), "gauge sent").Cells[0].Label)
}

// TestManyRecordsAreCounted: what can't be told apart is counted.
func TestManyRecordsAreCounted(t *testing.T) {
	chars := make([]byte, 600)
	for i := range chars {
		chars[i] = 59 // a pause behind each
	}
	st, w := recorded(chars, -1)
	s := wave(st, 0, w.To, 80)
	require.Len(t, lane(s, "gauge sent").Cells, 1)
	assert.Equal(t, "600 records", lane(s, "gauge sent").Cells[0].Label)
}

// TestOtherBuses: a transaction stands over its lines, each with its labels.
func TestOtherBuses(t *testing.T) {
	var meta capture.Meta
	roles := []string{"clock", "out", "in", "select"}
	meta.Add(capture.Link{Name: "gate", Kind: "spi"}, roles, roles)
	st := capture.NewStore(meta)
	m := spi.Mode(0)
	l, end := spi.Encode(m, 1_000_000, 500_000, []uint32{0xa5}, []uint32{0x3c})
	end += 1_000_000
	high := []bool{false, false, false, true}
	var ws []wire.Window
	for i, tog := range [][]quantity.Time{l.Clock, l.Out, l.In, l.Select} {
		w := wire.Window{To: end, High: high[i], Toggles: tog}
		ws = append(ws, w)
		st.Levels(i, &w)
	}
	spi.NewDecoder(m, 0, record.Device).Feed(ws, st)
	w := Wave{Snap: st.Snapshot(), To: end, Columns: 160, Bands: []Band{{Kind: spi.Kind, Name: "gate", Settings: []bus.Settings{m}}}}
	s := w.Scene()
	var all strings.Builder
	for _, f := range s.Facts() {
		all.WriteString(f + "\n")
	}
	assert.Contains(t, all.String(), "gate: out A5  in 3C from")
	assert.Contains(t, all.String(), "out sent: A5 from")
	assert.Contains(t, all.String(), "in sent: 3C from")
	assert.Contains(t, all.String(), "select: low at 1 µs")
	assert.Contains(t, all.String(), "out bits: b7 from")
}

func TestTimeLabels(t *testing.T) {
	for _, c := range []struct {
		t, step quantity.Time
		want    string
	}{
		{6_250_417_640_000, quantity.Microsecond, "6.250 417 s"},
		{6 * quantity.Second, quantity.Second, "6 s"},
		{1500 * quantity.Microsecond, 100 * quantity.Microsecond, "1.5 ms"},
		{12_345, 1, "12.345 ns"},
		{7, 1, "7 ps"},
		{0, quantity.Millisecond, "0 ms"},
		{quantity.Second + 1, 1, "1.000 000 000 001 s"},
	} {
		assert.Equal(t, c.want, TimeLabel(c.t, c.step))
	}
}
