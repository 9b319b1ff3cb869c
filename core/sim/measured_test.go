package sim

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/stats"
)

// TestMeasuredRate: a link of 57600 Bd whose device's clock is 2 % slow reads
// 56448 Bd, -2.0 %, from the levels at the MCU, with the verdict of its budget.
func TestMeasuredRate(t *testing.T) {
	verdict := func(off string) string {
		fs := fstest.MapFS{"b.yaml": {Data: []byte(`bench: x
mcu:
  name: M
  clocks: {c: {source: 7.3728 MHz}}
  units: {s: {kind: uart, clock: c, oversampling: [16], divider: {most: 9999}}}
links:
  l: {kind: uart, unit: s, mcu: {rate: 57600, frame: 8N1}, device: {file: d.yaml, clock-off: ` + off + `}}
`)}, "d.yaml": {Data: []byte(`device: d
kind: uart
end: {rate: 57600, frame: 8N1}
behaviour:
  stream: {every: 50 ms, lines: 2, text: "4.82 m"}
`)}}
		b, faults := bench.Load(fs, "b.yaml")
		require.Empty(t, faults)
		h := NewHeadless(b)
		h.World.RunTo(500 * quantity.Millisecond)
		snap := h.Store().Snapshot()
		var starts []quantity.Time
		for i := range snap.Len() {
			if r := snap.At(i); r.Seen == record.Tap {
				for _, o := range r.Offsets {
					starts = append(starts, r.Start+o)
				}
			}
		}
		w, ok := snap.Window(0, 1, 0, 500*quantity.Millisecond)
		require.True(t, ok)
		l := b.Links[0].Model.(*bench.UART)
		return uart.RateVerdict(starts, w.Toggles, l.Tap()[1].(uart.Settings), l.MCU)
	}
	assert.Contains(t, verdict("-2 %"), "sends at 56 448.0 Bd, -2.00 % from the wanted 57.6 kBd")
	assert.Contains(t, verdict("-2 %"), "passes, 38 % of what is allowed")
	assert.Contains(t, verdict("-6 %"), "too early, allowed +4.6 / -5.3 %")
	assert.Empty(t, uart.RateVerdict(nil, nil, uart.Settings{}, uart.Settings{}))
}

// TestStopAt: time stops by itself at the first error, and at characters, not
// later than the event that brought them.
func TestStopAt(t *testing.T) {
	b := live7(t)
	r := NewRunner(New(b, capture.NewStore(MetaOf(b))), false, time.Now())
	guard.Go(r.Run)
	defer r.Close()
	r.SetSpeed(100)
	halted := func(tr *capture.Trigger) Halt {
		r.StopAt(tr)
		for deadline := time.Now().Add(20 * time.Second); ; {
			if h, ok := r.Halted(); ok {
				return h
			}
			require.True(t, time.Now().Before(deadline), "time never stopped")
			<-time.After(time.Millisecond)
		}
	}
	h := halted(capture.NewTrigger(r.store.Snapshot(), capture.Condition{Bytes: []byte("SNAP")}))
	assert.Equal(t, uint16(1), h.Link)
	assert.False(t, r.Pace().Running)
	assert.LessOrEqual(t, r.Now()-h.At, quantity.Millisecond, "stopped at once")
	at := r.Now()
	// What has been seen does not count again.
	second := halted(capture.NewTrigger(r.store.Snapshot(), capture.Condition{Bytes: []byte("SNAP")}))
	assert.Greater(t, second.At, at)
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: "7O1"}))
	require.NoError(t, r.Configure(b))
	h = halted(capture.NewTrigger(r.store.Snapshot(), capture.Condition{Any: true}))
	assert.Equal(t, uint16(1), h.Link)
	assert.LessOrEqual(t, r.Now()-h.At, quantity.Millisecond)
	r.StopAt(nil)
	_, ok := r.Halted()
	assert.False(t, ok)
}

// TestPaceThatIsReached: a pace beyond the machine's is not claimed for long.
func TestPaceThatIsReached(t *testing.T) {
	b := live7(t)
	r := NewRunner(New(b, capture.NewStore(MetaOf(b))), false, time.Now())
	go r.Run()
	defer r.Close()
	r.SetSpeed(1000)
	require.Eventually(t, func() bool { p := r.Pace(); return p.Reached < 0.9*p.Speed && p.Reached > 0 }, 20*time.Second, time.Millisecond)
	// Half of it, it says, is reached then.
	r.SetSpeed(r.Pace().Reached / 4)
	require.Eventually(t, func() bool { p := r.Pace(); return p.Reached == p.Speed }, 20*time.Second, time.Millisecond)
}

// The time of an answer is measured from the point from which it is stated: the end of
// the command.
func TestAnswerTimes(t *testing.T) {
	b := lock7(t)
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "lower-gauge", "mcu", "ask"}}))
	w := New(b, capture.NewStore(MetaOf(b)))
	l := b.Link("lower-gauge")
	for i := range 5 {
		w.RunTo(quantity.Time(i)*100*quantity.Millisecond + 50*quantity.Millisecond)
		require.NoError(t, w.links[l.Index].do(link.Send{Data: []byte("TEMP\n")}, func(link.Outcome) {}))
	}
	w.RunTo(quantity.Second)
	snap := w.store.Snapshot()
	var tap []*record.Record
	for i := range snap.Len() {
		if r := snap.At(i); r.Link == l.Index && r.Seen == record.Tap {
			tap = append(tap, r)
		}
	}
	f := stats.Of(tap, 0, quantity.Second)
	require.Equal(t, 5, f.Reply.N)
	char := uart.Duration(l.Model.(*bench.UART).MCU, 1)
	assert.InDelta(t, float64(2500*quantity.Microsecond), float64(f.Reply.Mean), float64(char)/20)
	assert.Greater(t, f.Round.Least, f.Line)
}
