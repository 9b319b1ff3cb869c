package tui

import (
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
)

// BenchmarkWavesFrame draws a capture of 100 million edges, decoded, at all
// scales: a picture at each zoom from all of it to single bits, then panning.
func BenchmarkWavesFrame(b *testing.B) {
	const edges = 100_000_000
	link, err := decode.ParseLink("gauge uart device=rx rate=20M frame=8N1", []string{"rx"})
	require.NoError(b, err)
	store := capture.NewStore(decode.Meta([]decode.Link{link}))
	dec := uart.Kind.Decoder(0, link.Settings)
	period := quantity.PeriodOf(20 * quantity.Megabaud)
	at := quantity.Microsecond
	from := quantity.Time(0)
	ws := make([]wire.Window, len(uart.Kind.Lines))
	for n := 0; n < edges; {
		var tog []quantity.Time
		for range 20_000 {
			tog, at = uart.Encode(tog, uart.Frame{Data: 8, Stop: 1}, period, at, 'U')
		}
		n += len(tog)
		for i := range ws {
			ws[i] = wire.Window{From: from, To: at, High: true}
		}
		ws[1].Toggles = tog
		store.Levels(store.Meta.Line(0, 1), &ws[1])
		dec.Feed(ws, store)
		store.Advance(at)
		from = at
	}
	a := newApp(nil, "", nil, store)
	a.levels = &Levels{Name: "a.vcd", Links: []decode.Link{link}}
	a.levels.done.Store(true)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press(a, "6", "0")
	keys := []string{"0"}
	for range 30 {
		keys = append(keys, "+")
	}
	for range 10 {
		keys = append(keys, "pgdown")
	}
	for range 30 {
		keys = append(keys, "-")
	}
	k := 0
	slowest := time.Duration(0)
	for b.Loop() {
		start := time.Now()
		press(a, keys[k%len(keys)])
		slowest = max(slowest, time.Since(start))
		k++
	}
	b.ReportMetric(slowest.Seconds()*1e3, "slowest-ms")
}
