package tui

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/wire"
)

// round gives the levels of some time again and again, as fast as they would come from a wire,
// or, without a pace, at once.
type round struct {
	names   []string
	pieces  [][]wire.Window // by stretch of a round
	span    quantity.Time
	chosen  []int
	n, most int
	begun   time.Time
	paced   bool
	stop    *atomic.Bool
}

func (r *round) Names() []string     { return r.names }
func (r *round) Select(lines ...int) { r.chosen = lines }

func (r *round) Next() ([]wire.Window, error) {
	if r.n == r.most || r.stop.Load() && r.n%len(r.pieces) == 0 {
		return nil, io.EOF
	}
	turn := quantity.Time(r.n/len(r.pieces)) * r.span
	piece := r.pieces[r.n%len(r.pieces)]
	var out []wire.Window
	for _, i := range r.chosen {
		w := piece[i]
		w.From, w.To = w.From+turn, w.To+turn
		w.Toggles = slices.Clone(w.Toggles)
		for k := range w.Toggles {
			w.Toggles[k] += turn
		}
		out = append(out, w)
	}
	r.n++
	if r.paced {
		at := r.begun.Add(time.Duration(out[0].To / quantity.Nanosecond))
		time.Sleep(time.Until(at)) // as a wire would
	}
	return out, nil
}

// tally counts records.
type tally map[uint16]int

func (t tally) Put(r *record.Record) {
	if r.Traffic() {
		t[r.Link]++
	}
}
func (tally) Open(*record.Record) {}

// processor is the time that the process has used.
func processor(b *testing.B) time.Duration {
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkFullLoad watches four links that are as busy as their rates allow, decoded from
// their levels as these come: CAN FD at 1 and 8 Mbit/s with 20 000 frames a second, UART at
// 3 MBd, SPI at 10 MHz and I2C at 1 MHz, all recorded to a file. It gives what part of a
// processor that takes, records that are lost, and how long a key needs until its picture
// is made, whatever the program does when it comes; up to 17 ms pass before that one is shown.
func BenchmarkFullLoad(b *testing.B) {
	bb, faults := bench.Load(os.DirFS("testdata/load"), "load.yaml")
	require.NotNil(b, bb, "%v", faults)
	h := sim.NewHeadless(bb)
	h.World.RunTo(120 * quantity.Millisecond)
	levels := decode.OfCapture(h.Store().Snapshot())
	names := levels.Names()
	var every []int
	for i := range names {
		every = append(every, i)
	}
	levels.Select(every...)
	links, missing := decode.FromBench(bb, names)
	require.Empty(b, missing)
	stop := &atomic.Bool{}
	r := round{names: names, span: 100 * quantity.Millisecond, most: -1, stop: stop}
	for {
		ws, err := levels.Next()
		if err != nil {
			break
		}
		if len(r.pieces) < 10 {
			r.pieces = append(r.pieces, ws)
		}
	}
	require.Len(b, r.pieces, 10)

	store := capture.NewStore(decode.Meta(links))
	rec, err := pcapng.Record(store, filepath.Join(b.TempDir(), "x.pcapng"))
	require.NoError(b, err)
	ended := make(chan struct{})
	go func() { defer close(ended); rec.Run() }()
	live := r
	live.paced, live.begun = true, time.Now()
	decoded := make(chan error, 1)
	go func() { decoded <- decode.Load(context.Background(), &live, links, store) }()

	a := newApp(bb, "", nil, store)
	a.source = "load"
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	a.runCommand("traffic")
	a.paced = true // as on a screen
	p := tea.NewProgram(probed{a}, tea.WithInput(nil), tea.WithOutput(io.Discard), tea.WithoutSignals(), tea.WithWindowSize(160, 47), tea.WithFPS(60))
	left := make(chan error, 1)
	go func() { _, err := p.Run(); left <- err }()
	probe := func(f func(a *App)) {
		done := make(chan struct{})
		p.Send(probeMsg(func(a *App) { defer close(done); f(a) }))
		<-done
	}
	keys := []string{"up", "enter", "down", "a", "J", "end", "6", "+", "-", "J", "5", "end"}
	var took []time.Duration
	used, begun := processor(b), time.Now()
	for i := 0; b.Loop(); i++ {
		time.Sleep(33 * time.Millisecond)
		if i%3 == 0 {
			begin := time.Now()
			probe(func(a *App) { a.drawn = time.Time{} }) // the worst case: it is drawn at once
			p.Send(keyNamed(keys[i/3%len(keys)]))
			probe(func(*App) {})
			took = append(took, time.Since(begin))
		}
	}
	share := float64(processor(b)-used) / float64(time.Since(begun))
	stop.Store(true)
	require.NoError(b, <-decoded)
	require.NoError(b, rec.Close())
	<-ended
	p.Quit()
	require.NoError(b, <-left)

	again := r
	again.stop, again.most = &atomic.Bool{}, live.n
	want, got := tally{}, tally{}
	require.NoError(b, decode.Run(context.Background(), &again, links, decode.Options{}, want))
	snap := store.Snapshot()
	for i := snap.First(); i < snap.Len(); i++ {
		got.Put(snap.At(i))
	}
	lost := 0
	for l, n := range want {
		lost += n - got[l]
	}
	slices.Sort(took)
	b.ReportMetric(share, "processors")
	b.ReportMetric(float64(lost), "lost")
	b.ReportMetric(float64(snap.Len())/(float64(live.n)/100), "records/s")
	b.ReportMetric(float64(took[len(took)/2])/1e6, "ms/key")
	b.ReportMetric(float64(took[len(took)*95/100])/1e6, "ms/key-of-95%")
	b.ReportMetric(float64(took[len(took)-1])/1e6, "ms/slowest-key")
	b.ReportMetric(0, "ns/op")
}
