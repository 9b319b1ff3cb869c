package sim

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// spoken gives what the tap saw on the spi bus, and what the MCU read otherwise.
func spoken(b *bench.Bench, long quantity.Time) (tap, unit []record.Record, w *World) {
	w = New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(long)
	s := w.store.Snapshot()
	for i := range s.Len() {
		r := s.At(i)
		switch {
		case r.Link != b.Link("gate").Index || r.Kind != record.Transaction:
		case r.Seen == record.MCU:
			unit = append(unit, r.Clone())
		default:
			tap = append(tap, r.Clone())
		}
	}
	return tap, unit, w
}

// with counts records with a device.
func with(rs []record.Record, device int) (n int) {
	for i := range rs {
		if rs[i].From == record.Device+record.End(device) {
			n++
		}
	}
	return n
}

func TestHealthySPIBus(t *testing.T) {
	b := lock7(t)
	tap, unit, w := spoken(b, quantity.Second)
	assert.Empty(t, unit, "the MCU reads what the tap reads")
	assert.InDelta(t, 20, with(tap, 0), 1)
	assert.InDelta(t, 4, with(tap, 1), 1)
	assert.InDelta(t, 2, with(tap, 2), 1)
	for i := range tap {
		require.Zero(t, tap[i].AllFlags())
	}
	// The clock's period on the wire is that of the divider for each device.
	s := w.store.Snapshot()
	for k, d := range b.Link("gate").Model.(*bench.SPI).Devices {
		for i := range tap {
			if r := &tap[i]; int(r.From-record.Device) == k {
				win, ok := s.Window(b.Link("gate").Index, 0, r.Start, r.End)
				require.True(t, ok)
				assert.InEpsilon(t, 1e12/d.Margin.Rate.Hz(), float64(win.Toggles[2]-win.Toggles[0]), 1e-3, d.Name)
				break
			}
		}
	}
}

// Each step of the unit's start-up that is left out has its symptom on the wire.
func TestEveryStepOfAnSPIUnitIsNeeded(t *testing.T) {
	b := lock7(t)
	l := b.Link("gate")
	chain, err := l.Chain()
	require.NoError(t, err)
	whole := chain.Needed()
	for _, gone := range whole {
		var steps []string
		for _, s := range whole {
			if s != gone {
				steps = append(steps, s)
			}
		}
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "gate", "mcu", "startup"}, Value: strings.Join(steps, ", ")}))
		l = b.Link("gate")
		tap, unit, w := spoken(b, 300*quantity.Millisecond)
		edges := func(role int) int {
			win, _ := w.store.Snapshot().Window(l.Index, role, 0, w.now)
			return len(win.Toggles)
		}
		switch gone {
		case "clock", "enable":
			assert.Zero(t, edges(0)+edges(1)+edges(3), gone)
			assert.Empty(t, tap, gone)
		case "port-clock":
			assert.Zero(t, edges(0)+edges(1)+edges(3), gone)
			assert.NotEmpty(t, unit, "the unit runs, and reads a line that it is not joined to")
		case "clock-pin":
			assert.Zero(t, edges(0), gone)
			assert.Positive(t, edges(3), gone)
			assert.NotEmpty(t, unit, gone)
		case "out-pin":
			assert.Zero(t, edges(1), gone)
			require.Positive(t, with(tap, 0), gone)
			assert.Equal(t, []byte{0, 0, 0, 0, 0}, tap[0].Data, gone)
		case "in-pin":
			require.NotEmpty(t, unit, gone)
			open, _ := unit[0].Fact(record.Undriven, 0)
			assert.Equal(t, int64(0xff), open, gone)
		case "select-pin":
			assert.Zero(t, edges(3), gone)
			assert.Empty(t, tap, gone)
			assert.NotEmpty(t, unit, gone)
		case "rate", "frame":
			assert.NotEmpty(t, tap, gone)
			assert.NotEqual(t, SPIOf(lock7(t).Link("gate")).Devices[0], SPIOf(l).Devices[0], gone)
		case "interrupt-line", "receive-interrupt", "dma-clock", "dma-channel", "dma-request":
			assert.Len(t, tap, 1, "%s: the firmware waits for the first for ever", gone)
		default:
			t.Errorf("no symptom is stated for %s", gone)
		}
	}
}

// ask does a transaction with the encoder: its identity.
func ask(t *testing.T, h *Headless) *record.Record {
	t.Helper()
	require.NoError(t, h.Wait(context.Background(), h.Now()+10*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	l := h.Bench.Link("gate")
	out, err := h.Do(context.Background(), l.Index, link.Transact{Text: "select 1 out 01 00 00"})
	require.NoError(t, err)
	require.True(t, out.OK)
	require.NotNil(t, out.Record)
	return out.Record
}

// Each wrong setting, wire and part gives what the wire makes of it.
func TestSPIFaults(t *testing.T) {
	sentence := func(r *record.Record) string { return spi.Kind.Sentence(r) }
	set := func(key, value string) finding.Edit {
		return finding.Edit{Path: []string{"links", "gate", "devices", "leaf-angle", "mcu", key}, Value: value}
	}
	for _, c := range []struct {
		name string
		edit *finding.Edit
		do   link.Intent
		want string
	}{
		{"healthy", nil, nil, "out 01 00 00  in 80 -- A6"},
		{"mode 0", ptr(set("mode", "0")), nil, "out 01 00 00  in 40 0- 53"},
		{"wrong order", ptr(set("order", "lsb")), nil, "out 01 00 00  in 01 -- --"},
		{"in cut", nil, link.Cut{End: "in"}, "in -- -- --"},
		{"out cut", nil, link.Cut{End: "out"}, "in 80 -- --"},
		{"clock cut", nil, link.Cut{End: "clock"}, "in -- -- --"},
		{"select cut", nil, link.Cut{End: "select-leaf-angle"}, "in -- -- --"},
		{"no supply", nil, link.Power{Device: "leaf-angle"}, "in -- -- --"},
		{"in held", nil, link.Hold{Role: "in"}, "in 00 00 00"},
	} {
		b := lock7(t)
		if c.edit != nil {
			require.NoError(t, b.Apply(*c.edit), c.name)
		}
		h := NewHeadless(b)
		if c.do != nil {
			_, err := h.Do(context.Background(), b.Link("gate").Index, c.do)
			require.NoError(t, err, c.name)
		}
		assert.Contains(t, sentence(ask(t, h)), c.want, c.name)
		// Back to what it was it works again.
		switch d := c.do.(type) {
		case link.Cut:
			d.Joined = true
			c.do = d
		case link.Power:
			d.On = true
			c.do = d
		case link.Hold:
			d.Release = true
			c.do = d
		default:
			continue
		}
		_, err := h.Do(context.Background(), b.Link("gate").Index, c.do)
		require.NoError(t, err, c.name)
		assert.Contains(t, sentence(ask(t, h)), "in 80 -- A6", c.name)
	}
}

func ptr[T any](v T) *T { return &v }

// TestDrivenIsPlanned: every edge that the MCU drives is that of the planned picture, for
// random words to random devices under random settings.
func TestDrivenIsPlanned(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		l := b.Link("gate")
		require.NoError(rt, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "gate", "mcu", "asks"}}))
		k := rapid.IntRange(0, 2).Draw(rt, "device")
		d := l.Model.(*bench.SPI).Devices[k]
		h := NewHeadless(b)
		require.NoError(rt, h.Wait(context.Background(), quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
		text := fmt.Sprintf("select %d out", k+1)
		for range rapid.IntRange(1, 6).Draw(rt, "words") {
			text += fmt.Sprintf(" %0*X", (d.MCU.Word+3)/4, rapid.Uint32().Draw(rt, "word")&(1<<d.MCU.Word-1))
		}
		out, err := h.Do(context.Background(), l.Index, link.Transact{Text: text})
		require.NoError(rt, err)
		planned, err := spi.Kind.Plan(b.Link("gate").Model.Tap(), text, quantity.Time(1e12/d.Margin.Rate.Hz()), false)
		require.NoError(rt, err)
		s := h.Store().Snapshot()
		for _, role := range []int{0, 1} {
			w, ok := s.Window(l.Index, role, out.Record.Start, out.Record.End+1)
			require.True(rt, ok)

			// Lead and lag are the firmware's; between the clock's edges all is alike.
			if len(planned[role].Toggles) == 0 {
				require.Empty(rt, w.Toggles)
				continue
			}
			first := planned[0].Toggles[0]
			is, _ := s.Window(l.Index, 0, out.Record.Start, out.Record.End+1)
			shift := is.Toggles[0] - first
			n := 0
			for _, p := range planned[role].Toggles {
				if p < first || p > planned[0].Toggles[len(planned[0].Toggles)-1] {
					continue
				}
				require.Contains(rt, w.Toggles, p+shift, "role %d", role)
				n++
			}
			require.InDelta(rt, len(w.Toggles), n, 2)
		}
	})
}
