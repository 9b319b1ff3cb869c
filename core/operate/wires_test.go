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
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// wired is a bench with a part on one data line, one on two, and parts on other buses; the
// MCU's settings for the first two are given.
func wired(t require.TestingT, one, two string) *sim.Headless {
	registers := "registers:\n  ID: {number: 1, access: read-only, reset: 0x5A}\n  A: {number: 2}\n  B: {number: 3}\nidentity: {read: ID, expect: 0x5A}\n"
	spi := "access:\n  read: {out: 1 reg.7 | skip.8, in: skip.8 | value.8}\n  write: {out: 0 reg.7 | value.8}\n"
	files := fstest.MapFS{
		"one.yaml": {Data: []byte("device: one\nkind: spi\nend: {mode: 3, most: 4 MHz, valid: 40 ns, wires: 1, turn: 8, turn-if: 1.......}\n" + spi + registers)},
		"two.yaml": {Data: []byte("device: two\nkind: spi\nend: {mode: 3, most: 4 MHz, valid: 40 ns}\n" + spi + registers)},
		"i2c.yaml": {Data: []byte("device: i2c\nkind: i2c\nend: {address: 0x31, most: 400 kbit/s}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8}\n  write: {out: reg.8 | value.8}\n" + registers)},
		"b.yaml": {Data: []byte(fmt.Sprintf(`bench: wired
mcu:
  name: M
  clocks: {crystal: {source: 16 MHz}}
  units:
    s: {kind: spi, clock: crystal, prescaler: {values: [8, 16]}}
    i: {kind: i2c, clock: crystal, counters: {most: 255}}
links:
  spi: {kind: spi, unit: s, mcu: {}, devices: {one: {file: one.yaml, mcu: {%s}}, two: {file: two.yaml, mcu: {%s}}}}
  i2c: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7 kΩ, capacitance: 30 pF, devices: {i2c: {file: i2c.yaml}}}
`, one, two))},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), 2*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h
}

// found gives the codes of what is wrong with a link: by its description, and by what was
// seen on it.
func found(h *sim.Headless, name string) (lint, traffic []string) {
	l := h.Bench.Link(name)
	for _, f := range h.Bench.Lint() {
		if f.Where.Link == name || f.Where.Link == "" {
			lint = append(lint, f.Code)
		}
	}
	for _, f := range diagnose.Link(h.Store().Snapshot(), l) {
		traffic = append(traffic, f.Code)
	}
	return lint, traffic
}

// TestOneDataLine: what is written to a part whose one data line serves both directions is
// read back, beside a part with two; nobody fights for a wire meanwhile.
func TestOneDataLine(t *testing.T) {
	h := wired(t, "", "")
	model := map[string]byte{"one.A": 0, "one.B": 0, "two.A": 0, "two.B": 0}
	rapid.Check(t, func(t *rapid.T) {
		where := rapid.SampledFrom([]string{"one.A", "one.B", "two.A", "two.B"}).Draw(t, "where")
		if rapid.Bool().Draw(t, "write") {
			v := rapid.Byte().Draw(t, "value")
			model[where] = v
			r := do(t, h, "spi", fmt.Sprintf("write %s 0x%02X", where, v))
			require.Contains(t, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, says(r))
		}
		r := do(t, h, "spi", "read "+where)
		require.Equal(t, uint64(model[where]), r.Values[0].Raw)
	})
	_, traffic := found(h, "spi")
	assert.Empty(t, traffic)
}

// TestDataLinesThatDontFit: a unit set up for two data lines drives against a part with one,
// and reads a line that nobody drives; the other way round it hears nothing.
func TestDataLinesThatDontFit(t *testing.T) {
	h := wired(t, "wires: 2", "")
	assert.NotEqual(t, operate.OK, do(t, h, "spi", "prove one").Verdict)
	lint, traffic := found(h, "spi")
	assert.Contains(t, lint, "wires-differ")
	assert.Contains(t, traffic, "unit-reads-otherwise")

	h = wired(t, "", "wires: 1")
	assert.NotEqual(t, operate.OK, do(t, h, "spi", "prove two").Verdict)
	assert.Equal(t, operate.OK, do(t, h, "spi", "prove one").Verdict)
	lint, traffic = found(h, "spi")
	assert.Contains(t, lint, "wires-differ")
	assert.Contains(t, traffic, "unit-reads-otherwise")
}

// TestSelectsMovedByHand: let go in time all is as with the unit's; a word too early the last
// word is lost; never, and two are selected at once.
func TestSelectsMovedByHand(t *testing.T) {
	h := wired(t, "", "select: hand")
	assert.Equal(t, operate.OK, do(t, h, "spi", "prove two", "write two.A 0x3C").Verdict)
	lint, traffic := found(h, "spi")
	assert.Empty(t, lint)
	assert.Empty(t, traffic)

	h = wired(t, "", "select: hand, release: empty")
	assert.NotEqual(t, operate.OK, do(t, h, "spi", "write two.A 0x3C").Verdict)
	lint, traffic = found(h, "spi")
	assert.Contains(t, lint, "select-let-go-early")
	assert.Contains(t, traffic, "select-ends-early")

	h = wired(t, "", "select: hand, release: never")
	do(t, h, "spi", "read two.ID")
	do(t, h, "spi", "read one.A")
	lint, traffic = found(h, "spi")
	assert.Contains(t, lint, "select-never-let-go")
	assert.Contains(t, traffic, "two-selected")
}

// TestExchangedWires: at a part whose wires are exchanged nothing works, the others go on;
// put right again it works.
func TestExchangedWires(t *testing.T) {
	h := wired(t, "", "")
	plant(t, h, "spi", link.Cross{Device: "two"})
	assert.Contains(t, says(do(t, h, "spi", "prove two")), "nobody drives the line")
	_, traffic := found(h, "spi")
	assert.Equal(t, []string{"no-answer"}, traffic, "it drives nothing before it is asked, and it hears nothing")
	assert.Equal(t, operate.OK, do(t, h, "spi", "prove one").Verdict)
	plant(t, h, "spi", link.Cross{Device: "two", Right: true})
	assert.Equal(t, operate.OK, do(t, h, "spi", "prove two").Verdict)
	_, err := h.Do(context.Background(), h.Bench.Link("spi").Index, link.Cross{Device: "one"})
	assert.ErrorContains(t, err, "one data line")

	plant(t, h, "i2c", link.Cross{Device: "i2c"})
	assert.Contains(t, says(do(t, h, "i2c", "prove i2c")), "the address was not acknowledged")
	plant(t, h, "i2c", link.Cross{Device: "i2c", Right: true})
	assert.Equal(t, operate.OK, do(t, h, "i2c", "prove i2c").Verdict)

	h = session(t)
	plant(t, h, "gate", link.Cross{Device: "leaf-angle"})
	do(t, h, "gate", "prove leaf-angle")
	_, traffic = found(h, "gate")
	assert.Contains(t, traffic, "out-driven-twice", "its status goes out against the MCU's bits")
	assert.Equal(t, operate.OK, do(t, h, "lower-gauge", "prove lower-gauge").Verdict)
	plant(t, h, "lower-gauge", link.Cross{Device: "lower-gauge"})
	assert.NotEqual(t, operate.OK, do(t, h, "lower-gauge", "prove lower-gauge").Verdict)
	_, traffic = found(h, "lower-gauge")
	assert.Contains(t, traffic, "out-driven-twice")
	plant(t, h, "lower-gauge", link.Cross{Device: "lower-gauge", Right: true})
	assert.Equal(t, operate.OK, do(t, h, "lower-gauge", "prove lower-gauge").Verdict)
}

// TestFramesThatNobodyAcknowledges: such a frame is taken back, and the next one goes out
// once somebody is there.
func TestFramesThatNobodyAcknowledges(t *testing.T) {
	h := session(t)
	l := h.Bench.Link("pump")
	for _, d := range l.Parts() {
		plant(t, h, "pump", link.Power{Device: d.Name})
	}
	out, err := h.Do(context.Background(), l.Index, link.Transact{Text: "2A0 10 00"})
	require.NoError(t, err)
	assert.False(t, out.OK)
	assert.Contains(t, out.Text, "taken back: nobody acknowledges it")
	for _, d := range l.Parts() {
		plant(t, h, "pump", link.Power{Device: d.Name, On: true})
	}
	require.NoError(t, h.Wait(context.Background(), h.Now()+50*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	assert.Equal(t, operate.OK, do(t, h, "pump", "prove pump-drive").Verdict)
	plant(t, h, "pump", link.Hold{Role: "line"})
	out, err = h.Do(context.Background(), l.Index, link.Transact{Text: "2A0 10 00"})
	require.NoError(t, err)
	assert.Contains(t, out.Text, "taken back")
	plant(t, h, "pump", link.Hold{Role: "line", Release: true})
	assert.Equal(t, operate.OK, do(t, h, "pump", "prove pump-drive").Verdict)
}
