package sim

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/demo"
)

// shownBy gives the frames that a strip latched from a time on.
func shownBy(s *capture.Snapshot, l *bench.Link, from quantity.Time) (out [][]uint32, flags record.Flags) {
	for _, h := range s.After(s.IndexAt(from), records.Query{Link: int(l.Index), Kinds: []record.Kind{record.Transaction}}) {
		out = append(out, pulse.Elements(s.Of(h)))
		flags |= h.Flags
	}
	return out, flags
}

func TestHealthyStrip(t *testing.T) {
	b := lock7(t)
	l := b.Link("depth-strip")
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(quantity.Second)
	frames, flags := shownBy(w.store.Snapshot(), l, 0)
	require.Len(t, frames, 10)
	assert.Zero(t, flags)
	for _, f := range frames {
		assert.Equal(t, l.Model.(*bench.Pulse).Frames[0].Elements, f)
	}
	assert.Empty(t, diagnose.Link(w.store.Snapshot(), l))
}

// Each step of the unit's start-up that is left out is named, alone, and the strip
// shows it.
func TestEveryStepOfAPulseUnitIsNeeded(t *testing.T) {
	c, err := lock7(t).Link("depth-strip").Chain()
	require.NoError(t, err)
	for _, gone := range c.Needed() {
		b := lock7(t)
		l := b.Link("depth-strip")
		require.NoError(t, b.Apply(l.StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == gone }))))
		fs := errorsOf(b)
		require.Len(t, fs, 1, gone)
		assert.Contains(t, fs[0].Seen, "startup step "+gone+" ")
		_, dumped := verdictsOf(t, b, l)
		for _, v := range dumped {
			assert.Equal(t, v.Name == gone, v.Broken(), "%s left out, %s", gone, v.Name)
		}
		w := New(b, capture.NewStore(MetaOf(b)))
		w.RunTo(300 * quantity.Millisecond)
		frames, flags := shownBy(w.store.Snapshot(), l, 0)
		if gone == "rate" {
			assert.NotZero(t, flags, "far too short pulses")
		} else {
			assert.Empty(t, frames, gone)
		}
		require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
		require.NoError(t, w.Apply(b))
		w.RunTo(700 * quantity.Millisecond)
		frames, flags = shownBy(w.store.Snapshot(), l, 400*quantity.Millisecond)
		assert.NotEmpty(t, frames, gone)
		assert.Zero(t, flags, gone)
	}
}

// Whatever divider, pattern and pause the MCU has, the strip reads clean frames just
// where the description has nothing to report.
func TestLintIsWhatTheStripSees(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		text := string(lock7(t).Text())
		text = strings.Replace(text, "zero: 100\n      one: 110", "zero: "+rapid.SampledFrom([]string{"10", "100", "1000"}).Draw(rt, "zero")+"\n      one: 110\n      divider: "+rapid.SampledFrom([]string{"8", "16", "32"}).Draw(rt, "divider")+
			"\n      latch: "+rapid.SampledFrom([]string{"20 us", "80 us"}).Draw(rt, "latch"), 1)
		text = strings.Replace(text, "kind: pulse                          # its data line carries pulses, fed by a timer", "kind: pulse\n      pause: "+rapid.SampledFrom([]string{"0 ns", "500 ns", "70 us"}).Draw(rt, "pause"), 1)
		b, faults := bench.Parse(demo.Files, "lock7.yaml", []byte(text))
		if b == nil {
			require.Contains(rt, faults[0].Seen, "different lengths")
			return
		}
		l := b.Link("depth-strip")
		w := New(b, capture.NewStore(MetaOf(b)))
		w.RunTo(120 * quantity.Millisecond)
		// Two frames back to back show what a short latch does.
		for range 2 {
			require.NoError(rt, w.Do("depth-strip", link.Transact{Text: "0F0 F00 5A5"}, nil))
		}
		w.RunTo(145 * quantity.Millisecond)
		frames, flags := shownBy(w.store.Snapshot(), l, 120*quantity.Millisecond)
		clean := flags == 0 && len(frames) == 2 && slices.Equal(frames[0], []uint32{0x0f0, 0xf00, 0x5a5})
		require.Equal(rt, len(l.Lint()) == 0, clean, "%v %X %v", l.Lint(), frames, flags)
	})
}

func TestAStripWhoseWireIsCut(t *testing.T) {
	h := NewHeadless(lock7(t))
	l := h.Bench.Link("depth-strip")
	do := func(i link.Intent) error {
		_, err := h.Do(context.Background(), l.Index, i)
		return err
	}
	h.World.RunTo(quantity.Millisecond)
	require.NoError(t, do(link.Cut{End: "mcu"}))
	require.NoError(t, do(link.Transact{Text: "123"}))
	h.World.RunTo(20 * quantity.Millisecond)
	frames, _ := shownBy(h.Store().Snapshot(), l, 0)
	assert.Empty(t, frames)
	require.NoError(t, do(link.Cut{End: "mcu", Joined: true}))
	require.NoError(t, do(link.Transact{Text: "123 456"}))
	h.World.RunTo(40 * quantity.Millisecond)
	frames, _ = shownBy(h.Store().Snapshot(), l, 0)
	assert.Equal(t, [][]uint32{{0x123, 0x456}}, frames)
	assert.ErrorContains(t, do(link.Cut{End: "strip"}), "only the MCU drives it")
	assert.ErrorContains(t, do(link.Transact{Text: "1234"}), "12 bits")
	assert.ErrorContains(t, do(link.Transact{Text: "123 .."}), "say what is sent")
	assert.ErrorContains(t, do(link.Send{Data: []byte("x")}), "sends elements")
	assert.ErrorContains(t, do(link.Configure{State: "e30"}), "out of range")
}
