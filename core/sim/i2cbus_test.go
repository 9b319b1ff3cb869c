package sim

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/startup"
)

// heard gives the transactions of a bus in words, with how often each was seen.
func heard(s *capture.Snapshot, link uint16, from quantity.Time) map[string]int {
	out := map[string]int{}
	for i := range s.Len() {
		if r := s.At(i); r.Link == link && r.Kind == record.Transaction && r.Start >= from {
			text := i2c.Describe(r)
			if w := strings.Fields(text); len(w) == len(strings.Fields(tilt)) && strings.HasPrefix(text, tilt[:strings.Index(tilt, "..")]) && w[13] == "nack" {
				text = tilt
			}
			out[text]++
		}
	}
	return out
}

func i2cTraffic(b *bench.Bench, long quantity.Time) (map[string]int, *World) {
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(long)
	return heard(w.store.Snapshot(), b.Link("hull").Index, 0), w
}

// tilt is the reading of the sensor, whatever it is.
const tilt = "start 96 ack 12 ack restart 97 ack .. ack .. ack .. nack stop"

func TestHealthyI2CBus(t *testing.T) {
	b := lock7(t)
	got, w := i2cTraffic(b, quantity.Second)
	assert.InDelta(t, 10, got[tilt], 1)
	assert.InDelta(t, 20, got["start 43 ack F0 ack 0F nack stop"], 1)
	assert.InDelta(t, 2, got["start 42 ack F0 ack 0F ack stop"], 1)
	assert.Contains(t, got, "start A0 ack 00 ack 40 ack restart A1 ack FF ack FF ack FF ack FF ack FF ack FF ack FF ack FF nack stop")
	// The clock's period on the wire is what the counters were reckoned for.
	s := w.store.Snapshot()
	index := b.Link("hull").Index
	clock, ok := s.Window(index, 0, 0, w.now)
	require.True(t, ok)
	want := bench.ModelOf[*bench.I2C](b, "hull").Timing.Time
	shortest := quantity.Forever
	for i := 2; i < len(clock.Toggles); i++ {
		shortest = min(shortest, clock.Toggles[i]-clock.Toggles[i-2])
	}
	assert.InEpsilon(t, float64(want), float64(shortest), 0.02)
}

// Each step of the unit's start-up that is left out is named, alone, and the bus
// shows it.
func TestEveryStepOfAnI2CUnitIsNeeded(t *testing.T) {
	c, err := lock7(t).Link("hull").Chain()
	require.NoError(t, err)
	for _, gone := range c.Needed() {
		b := lock7(t)
		l := b.Link("hull")
		require.NoError(t, b.Apply(l.StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == gone }))))
		fs := errorsOf(b)
		require.Len(t, fs, 1, gone)
		assert.Contains(t, fs[0].Seen, "startup step "+gone+" ")
		_, dumped := verdictsOf(t, b, l)
		for _, v := range dumped {
			assert.Equal(t, v.Name == gone, v.Broken(), "%s left out, %s", gone, v.Name)
		}
		got, w := i2cTraffic(b, 300*quantity.Millisecond)
		edges := func(line int) int {
			win, _ := w.store.Snapshot().Window(b.Link("hull").Index, line, 0, w.now)
			return len(win.Toggles)
		}
		switch gone {
		case "clock", "enable", "port-clock":
			assert.Zero(t, edges(0)+edges(1), gone)
		case "clock-pin":
			assert.Zero(t, edges(0), gone)
			assert.Zero(t, got[tilt], gone)
		case "data-pin":
			assert.Positive(t, edges(0), gone)
			assert.Zero(t, edges(1), gone)
		case "rate":
			// Bits as short as the counters' reset values make them.
			win, _ := w.store.Snapshot().Window(b.Link("hull").Index, 0, 0, w.now)
			require.Greater(t, len(win.Toggles), 20, gone)
			shortest := quantity.Forever
			for i := 2; i < len(win.Toggles); i++ {
				shortest = min(shortest, win.Toggles[i]-win.Toggles[i-2])
			}
			assert.Less(t, float64(shortest), 0.3*float64(l.Model.(*bench.I2C).Timing.Time))
		case "interrupt-line", "receive-interrupt":
			n := 0
			for _, k := range got {
				n += k
			}
			assert.Equal(t, 1, n, "%s: the firmware waits for the first for ever", gone)
		default:
			t.Errorf("no symptom is stated for %s", gone)
		}
		require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
		got, _ = i2cTraffic(b, 300*quantity.Millisecond)
		assert.Positive(t, got[tilt], gone)
	}
}

// Without a pull-up the bus never leaves low; with it back it works again, in the
// running world.
func TestPullUpMissing(t *testing.T) {
	b := lock7(t)
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(200 * quantity.Millisecond)
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "hull", "pull-up"}}))
	require.NoError(t, w.Apply(b))
	w.RunTo(500 * quantity.Millisecond)
	index := b.Link("hull").Index
	win, ok := w.store.Snapshot().Window(index, 1, 450*quantity.Millisecond, 500*quantity.Millisecond)
	require.True(t, ok)
	assert.False(t, win.High)
	assert.Empty(t, win.Toggles)
	found := diagnose.Link(w.store.Snapshot(), b.Link("hull"))
	require.NotEmpty(t, found)
	assert.Equal(t, "line-held-low", found[0].Code)
	assert.Contains(t, found[0].Why, "no pull-up")
	require.True(t, b.Undo())
	require.NoError(t, w.Apply(b))
	w.RunTo(900 * quantity.Millisecond)
	assert.Positive(t, heard(w.store.Snapshot(), index, 550*quantity.Millisecond)[tilt])
	assert.Empty(t, diagnose.Link(w.store.Snapshot(), b.Link("hull")))
}

// What does not acknowledge is named: one device, or all of them at once.
func TestSilentDevicesAreNamed(t *testing.T) {
	b := lock7(t)
	w := New(b, capture.NewStore(MetaOf(b)))
	n := I2COf(b.Link("hull"))
	n.Devices = slices.DeleteFunc(n.Devices, func(e i2c.End) bool { return e.Name == "boat-lamps" })
	require.NoError(t, w.Do("hull", link.Configure{State: packed(n)}, nil))
	w.RunTo(quantity.Second)
	found := diagnose.Link(w.store.Snapshot(), b.Link("hull"))
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Seen, "boat-lamps does not acknowledge its address 21 (42, 43 on the wire)")
	n.Devices = nil
	require.NoError(t, w.Do("hull", link.Configure{State: packed(n)}, nil))
	w.RunTo(3 * quantity.Second)
	found = diagnose.Link(w.store.Snapshot(), b.Link("hull"))
	require.Len(t, found, 1)
	assert.Equal(t, "nobody-acknowledges", found[0].Code)
}

// Of spi, which is not simulated, each step that is left out is named all the same:
// from the list, and from the registers as they are then.
func TestEveryStepOfAnSPIUnitIsNamed(t *testing.T) {
	c, err := lock7(t).Link("gate").Chain()
	require.NoError(t, err)
	for _, gone := range c.Needed() {
		b := lock7(t)
		l := b.Link("gate")
		require.NoError(t, b.Apply(l.StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == gone }))))
		judged, dumped := verdictsOf(t, b, b.Link("gate"))
		for _, vs := range [][]startup.Verdict{judged, dumped} {
			for _, v := range vs {
				assert.Equal(t, v.Name == gone, v.Broken(), "%s left out, %s", gone, v.Name)
			}
		}
	}
}
