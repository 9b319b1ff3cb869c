package tui

import (
	"slices"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/session"
)

// BenchmarkKeyToScreen is the time from a key to the frame that shows it, and of the
// frame at each tick between, while Lock 7 runs at 1000 times its pace (or as fast as
// it can): the mean, what 99 of 100 keep, and the slowest.
func BenchmarkKeyToScreen(b *testing.B) {
	for _, view := range []string{"timing", "traffic", "waves"} {
		b.Run(view, func(b *testing.B) {
			bb := demoBench(b)
			s := session.Open(bb)
			defer s.Close()
			a := newApp(bb, "", s, s.Store())
			a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
			a.runCommand(view)
			s.World.SetSpeed(1000)
			// The capture is to be a long one.
			require.NoError(b, s.Wait(b.Context(), quantity.Forever, func(snap *capture.Snapshot) bool { return snap.Now > 60*quantity.Second }))
			keys := map[string][]string{"timing": {"+", "-", "w", "J"}, "traffic": {"up", "enter", "down", "a", "J", "end"}, "waves": {"+", "-", "left", "right", "J", "end"}}[view]
			var took []time.Duration
			var frame, slowestFrame time.Duration
			for i := 0; b.Loop(); i++ {
				begin := time.Now()
				a.Update(keyNamed(keys[i%len(keys)]))
				a.View()
				took = append(took, time.Since(begin))
				begin = time.Now()
				a.Update(tickMsg{})
				a.View()
				d := time.Since(begin)
				frame, slowestFrame = frame+d, max(slowestFrame, d)
				time.Sleep(2 * time.Millisecond) // the world goes on, as between keys
			}
			ms := func(d time.Duration) float64 { return float64(d) / 1e6 }
			var key time.Duration
			for _, d := range took {
				key += d
			}
			slices.Sort(took)
			b.ReportMetric(ms(key)/float64(b.N), "ms/key")
			b.ReportMetric(ms(took[len(took)*99/100]), "ms/key-of-99%")
			b.ReportMetric(ms(took[len(took)-1]), "ms/slowest-key")
			b.ReportMetric(ms(frame)/float64(b.N), "ms/tick")
			b.ReportMetric(ms(slowestFrame), "ms/slowest-tick")
		})
	}
}
