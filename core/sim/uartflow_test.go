package sim

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

// held is a bench with one character link, and a part that streams and has a queue.
type held struct {
	wires, depth, holds  int
	mcu, dev             string
	service, each        quantity.Time
	extra, end, transfer string
}

func (h held) bench(t require.TestingT) *bench.Bench {
	fs := fstest.MapFS{
		"b.yaml": {Data: []byte(fmt.Sprintf(`bench: sluice
mcu:
  name: Alder 8
  clocks: {bus: {source: 40 MHz}}
  units: {s: {kind: uart, clock: bus, oversampling: [16], divider: {most: 65536}, depth: %d}}
links:
  wire:
    kind: uart
    unit: s
    wires: %d
    open: biased
    mcu: {rate: 115200, frame: 8N1, flow: %s, service: %s%s}
    device: {file: d.yaml}
`, h.depth, h.wires, h.mcu, h.service, h.extra) + h.transfer)},
		"d.yaml": {Data: []byte(fmt.Sprintf(`device: d
kind: uart
end: {rate: 115200, flow: %s, queue: {holds: %d, each: %s}%s}
behaviour:
  values: {x: 1234567}
  stream: {every: 15 ms, lines: 3, text: "{x .0}"}
  answers: [{to: GO, after: 1 ms, text: "going"}]
`, h.dev, h.holds, h.each, h.end))},
	}
	b, faults := bench.Load(fs, "b.yaml")
	require.Empty(t, faults)
	return b
}

// lost counts what an end lost because it was full.
func lost(h *Headless, from, seen record.End) int {
	n := 0
	s := h.Store().Snapshot()
	for i := range s.Len() {
		if r := s.At(i); r.Kind == record.Chars && r.From == from && r.Seen == seen {
			for k := range r.Len() {
				if r.FlagsAt(k)&record.Overrun != 0 {
					n++
				}
			}
		}
	}
	return n
}

func codes(list []finding.Finding) (out []string) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

// The same burst loses characters without flow control and none with it, in both
// directions; what arrives is what was sent, in order.
func TestFlowControlSavesBytes(t *testing.T) {
	const char = 86_805_555 * quantity.Picosecond // 10 bits
	rapid.Check(t, func(rt *rapid.T) {
		h := held{
			depth: rapid.SampledFrom([]int{1, 8, 16}).Draw(rt, "depth"), holds: rapid.IntRange(8, 32).Draw(rt, "holds"),
			service: char * quantity.Time(rapid.IntRange(30, 60).Draw(rt, "service")) / 10, each: char * quantity.Time(rapid.IntRange(15, 40).Draw(rt, "each")) / 10,
		}
		h.service = h.service * quantity.Time(h.depth)
		command := []byte(strings.Repeat("abcdefgh", 12) + "\n")
		run := func(flow string, wires int) (*Headless, int, int) {
			h.mcu, h.dev, h.wires = flow, flow, wires
			w := NewHeadless(h.bench(rt))
			require.NoError(rt, w.World.Do("wire", link.Send{Data: command}, nil))
			w.World.RunTo(150 * quantity.Millisecond)
			return w, lost(w, record.Device, record.MCU), lost(w, record.MCU, record.Device)
		}
		_, in, out := run("none", 2)
		require.Positive(rt, in)
		require.Positive(rt, out)

		w, in, out := run("rts-cts", 4)
		require.Zero(rt, in)
		require.Zero(rt, out)
		data, flags := traffic(w.Store().Snapshot(), 0, record.MCU, record.Device, 0)
		require.Equal(rt, command, data)
		require.Zero(rt, flags)
		data, _ = traffic(w.Store().Snapshot(), 0, record.Device, record.MCU, 0)
		require.True(rt, bytes.HasPrefix([]byte(strings.Repeat("1234567\n", 100)), data))
		require.Greater(rt, len(data), 20)

		if h.depth < 8 {
			return
		}
		w, in, out = run("xon-xoff", 2)
		require.Zero(rt, in)
		require.Zero(rt, out)
		data, _ = traffic(w.Store().Snapshot(), 0, record.MCU, record.Device, 0)
		require.Contains(rt, string(data), string(rune(uart.XOFF)))
		require.Equal(rt, command, bytes.Map(func(r rune) rune {
			if r == uart.XOFF || r == uart.XON {
				return -1
			}
			return r
		}, data))
	})
}

// A transfer that takes the characters out of the unit holds the other end back too.
func TestFlowControlWithATransfer(t *testing.T) {
	h := held{wires: 4, mcu: "rts-cts", dev: "rts-cts", depth: 1, holds: 8, service: quantity.Microsecond, each: quantity.Microsecond,
		transfer: "    transfers: {in: {direction: receive, goal: ring, method: polled, length: 64, every: 400 us}}\n"}
	w := NewHeadless(h.bench(t))
	w.World.RunTo(200 * quantity.Millisecond)
	assert.Zero(t, lost(w, record.Device, record.MCU))
	h.mcu, h.dev = "none", "none"
	w = NewHeadless(h.bench(t))
	w.World.RunTo(200 * quantity.Millisecond)
	assert.Positive(t, lost(w, record.Device, record.MCU))
}

// Ends that don't agree stall, and it is said why; each fix lets them go on.
func TestFlowControlThatDiffers(t *testing.T) {
	base := held{depth: 8, holds: 8, service: quantity.Microsecond, each: quantity.Microsecond}
	for _, c := range []struct {
		mcu, dev string
		wires    int
		lint     []string
		silent   record.End
	}{
		{"rts-cts", "none", 4, []string{"flow-differs"}, record.MCU},
		{"none", "rts-cts", 4, []string{"flow-differs"}, record.Device},
		{"rts-cts", "rts-cts", 2, []string{"ready-lines-missing"}, record.MCU},
	} {
		h := base
		h.mcu, h.dev, h.wires = c.mcu, c.dev, c.wires
		b := h.bench(t)
		w := NewHeadless(b)
		require.NoError(t, w.World.Do("wire", link.Send{Data: []byte("hello\n")}, nil))
		w.World.RunTo(500 * quantity.Millisecond)
		data, _ := traffic(w.Store().Snapshot(), 0, c.silent, record.Tap, 0)
		assert.Empty(t, data, "%+v", c)
		findings := b.Links[0].Lint()
		assert.Equal(t, c.lint, codes(findings), "%+v", c)
		assert.Contains(t, codes(diagnose.Link(w.Store().Snapshot(), b.Links[0])), "held-back", "%+v", c)

		// One of the fixes that do not leave both without flow control.
		require.NoError(t, b.Apply(findings[0].Fixes[0].Edits...))
		require.NoError(t, w.World.Apply(b))
		w.World.RunTo(quantity.Second)
		data, _ = traffic(w.Store().Snapshot(), 0, c.silent, record.Tap, 0)
		assert.NotEmpty(t, data, "%+v", c)
		assert.NotContains(t, codes(diagnose.Link(w.Store().Snapshot(), b.Links[0])), "held-back", "%+v", c)
	}

	// A 13 among the data stops an end that obeys it.
	h := base
	h.mcu, h.dev, h.wires = "none", "xon-xoff", 2
	b := h.bench(t)
	w := NewHeadless(b)
	require.NoError(t, w.World.Do("wire", link.Send{Data: []byte{'a', uart.XOFF, 'b'}}, nil))
	w.World.RunTo(500 * quantity.Millisecond)
	data, _ := traffic(w.Store().Snapshot(), 0, record.Device, record.Tap, 20*quantity.Millisecond)
	assert.Empty(t, data)
	found := diagnose.Link(w.Store().Snapshot(), b.Links[0])
	require.Contains(t, codes(found), "held-back")
	assert.Contains(t, found[0].Why, "the 13 was data")
	require.NoError(t, w.World.Do("wire", link.Send{Data: []byte{uart.XON}}, nil))
	w.World.RunTo(600 * quantity.Millisecond)
	data, _ = traffic(w.Store().Snapshot(), 0, record.Device, record.Tap, 500*quantity.Millisecond)
	assert.NotEmpty(t, data)
}

// On one wire for both directions an answer that comes before the MCU's driver has let go
// is marked; one that comes later is intact.
func TestOneWireForBothDirections(t *testing.T) {
	h := held{wires: 1, mcu: "none", dev: "none", depth: 8, holds: 64, service: 20 * quantity.Microsecond, each: quantity.Microsecond}
	for _, c := range []struct {
		turn  string
		clash bool
	}{{"0 us", false}, {"900 us", false}, {"1500 us", true}, {"3 ms", true}, {"40 ms", true}} {
		h.extra = ", turn-round: " + c.turn
		b := h.bench(t)
		require.Empty(t, b.Links[0].Lint())
		w := NewHeadless(b)
		w.World.RunTo(8 * quantity.Millisecond) // behind the first burst
		require.NoError(t, w.World.Do("wire", link.Send{Data: []byte("GO\n")}, nil))
		w.World.RunTo(14 * quantity.Millisecond)
		s := w.Store().Snapshot()
		command, flags := traffic(s, 0, record.MCU, record.Device, 8*quantity.Millisecond)
		assert.Equal(t, "GO\n", string(command), c.turn)
		assert.Zero(t, flags)
		answer, flags := traffic(s, 0, record.Device, record.Tap, 8*quantity.Millisecond)
		found := codes(diagnose.Link(s, b.Links[0]))
		if !c.clash {
			assert.Equal(t, "going\n", string(answer), c.turn)
			assert.Zero(t, flags, c.turn)
			heard, flags := traffic(s, 0, record.Device, record.MCU, 8*quantity.Millisecond)
			assert.Equal(t, answer, heard)
			assert.Zero(t, flags)
			assert.Empty(t, found)
			continue
		}
		assert.Equal(t, record.Collision, flags&record.Collision, c.turn)
		heard, _ := traffic(s, 0, record.Device, record.MCU, 8*quantity.Millisecond)
		assert.NotEqual(t, "going\n", string(heard), "its receiver was off at the beginning")
		require.Contains(t, found, "collision")
		f := diagnose.Link(s, b.Links[0])[0]
		assert.Contains(t, f.Why, "after the last stop bit, and the MCU's driver holds the wire")
		require.Len(t, f.Fixes, 1)
		require.NoError(t, b.Apply(f.Fixes[0].Edits...), f.Fixes[0].Label)
		require.NoError(t, w.World.Apply(b))
		w.World.RunTo(23 * quantity.Millisecond)
		require.NoError(t, w.World.Do("wire", link.Send{Data: []byte("GO\n")}, nil))
		w.World.RunTo(29 * quantity.Millisecond)
		heard, flags = traffic(w.Store().Snapshot(), 0, record.Device, record.MCU, 23*quantity.Millisecond)
		assert.Equal(t, "going\n", string(heard))
		assert.Zero(t, flags)
	}
}

// Both directions at once on two wires: 32 characters each way, intact.
func TestBothDirectionsAtOnce(t *testing.T) {
	h := held{wires: 2, mcu: "none", dev: "none", depth: 8, holds: 64, service: 20 * quantity.Microsecond, each: quantity.Microsecond}
	w := NewHeadless(h.bench(t))
	sent := []byte("0123456789abcdefghijklmnopqrstuv")
	w.World.RunTo(3750 * quantity.Microsecond) // the first burst begins
	require.NoError(t, w.World.Do("wire", link.Send{Data: sent}, nil))
	w.World.RunTo(14 * quantity.Millisecond)
	got, flags := traffic(w.Store().Snapshot(), 0, record.MCU, record.Device, 0)
	assert.Equal(t, sent, got)
	assert.Zero(t, flags)
	got, flags = traffic(w.Store().Snapshot(), 0, record.Device, record.MCU, 0)
	assert.Equal(t, strings.Repeat("1234567\n", 3), string(got))
	assert.Zero(t, flags)
}

// TestAWireThatIsHeld: a device that answers when the MCU has sent all, but still holds the wire, is
// not said to begin too early, however long the wire is held.
func TestAWireThatIsHeld(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		b := quiet(t)
		set(t, b, "1", "links", "lower-gauge", "wires")
		set(t, b, "biased", "links", "lower-gauge", "open")
		turn := rapid.Int64Range(1900, 20_000).Draw(r, "turn-round in µs")
		set(t, b, fmt.Sprintf("%d us", turn), "links", "lower-gauge", "mcu", "turn-round")
		l := b.Link("lower-gauge")
		h := NewHeadless(b)
		require.NoError(r, h.World.Do(h.World.names[l.Index], link.Send{Data: []byte("SNAP\n")}, nil))
		h.World.RunTo(100 * quantity.Millisecond)
		found := diagnose.Link(h.Store().Snapshot(), l)
		require.Equal(r, "collision", found[0].Code)
		assert.Contains(r, found[0].Why, "lower-gauge answers 1.80 ms after the last stop bit, and the MCU's driver holds the wire for "+l.Model.(*bench.UART).MCU.TurnRound.String())
	})
}
