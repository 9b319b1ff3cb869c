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
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// paged is a bench with parts whose registers stand on pages, on three buses.
func paged(t require.TestingT) *sim.Headless {
	described := `pages: BANK.PAGE
registers:
  ID:   {number: 0x01, access: read-only, reset: 0x5A}
  BANK: {number: 0x02, fields: {LAMP: {bits: 0}, PAGE: {bits: 6:4}}}
  A1:   {number: 0x20, page: 0}
  A2:   {number: 0x21, page: 0}
  B1:   {number: 0x20, page: 3}
  B2:   {number: 0x21, page: 3}
  C1:   {number: 0x20, page: 5}
  LONG: {number: 0x40, width: 24, in-turn: low-first}
  HIGH: {number: 0x41, width: 16, in-turn: high-first, page: 3}
  STATE: {number: 0x30, access: read-only, reset: 0x81}
  ORDER: {number: 0x30, access: write-only}
identity: {read: ID, expect: 0x5A}
values:
  wide: {bits: B1 B2, coding: signed, scale: 0.5 mm}
  both: {bits: A1 C1}
`
	files := fstest.MapFS{
		"s.yaml": {Data: []byte("device: s\nkind: spi\nend: {mode: 0, most: 4 MHz, valid: 40 ns}\naccess:\n  read: {out: reg.7 1 | skip.8 ..., in: skip.8 | value.8 ...}\n  write: {out: reg.7 0 | value.8 ...}\n" + described)},
		"i.yaml": {Data: []byte("device: i\nkind: i2c\nend: {address: 0x31, most: 400 kbit/s}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8 ...}\n  write: {out: reg.8 | value.8 ...}\n" + described)},
		"t.yaml": {Data: []byte("device: t\nkind: i2c\nend: {address: 10-bit 0x1A3, most: 400 kbit/s}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8 ...}\n  write: {out: reg.8 | value.8 ...}\n" + described)},
		"u.yaml": {Data: []byte("device: u\nkind: uart\nend: {rate: 57.6 kBd, frame: 8N1}\naccess:\n  read: {out: \"'r' reg.hex2\", in: value.hex2}\n  write: {out: \"'w' reg.hex2 value.hex2\", in: \"'ok'\"}\n" + described)},
		"b.yaml": {Data: []byte(`bench: paged
mcu:
  name: M
  clocks: {crystal: {source: 16 MHz}}
  units:
    s: {kind: spi, clock: crystal, prescaler: {values: [8, 16]}}
    i: {kind: i2c, clock: crystal, counters: {most: 255}}
    i2: {kind: i2c, clock: crystal, counters: {most: 255}}
    u: {kind: uart, clock: crystal, oversampling: [8], fractional: {bits: 5, most: 4095}}
links:
  spi: {kind: spi, unit: s, mcu: {}, devices: {s: {file: s.yaml}}}
  i2c: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7 kΩ, capacitance: 30 pF, devices: {i: {file: i.yaml}}}
  ten: {kind: i2c, unit: i2, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7 kΩ, capacitance: 30 pF, devices: {t: {file: t.yaml}}}
  uart: {kind: uart, unit: u, mcu: {rate: 57.6 kBd, frame: 8N1}, device: {file: u.yaml}}
`)},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), 2*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h
}

// TestPagedRegisters: registers with one number on several pages hold what a model holds,
// whatever was selected before, and other bits of the register that selects stay.
func TestPagedRegisters(t *testing.T) {
	for _, name := range []string{"spi", "i2c", "ten", "uart"} {
		h := paged(t)
		model := map[string]uint64{"A1": 0, "A2": 0, "B1": 0, "B2": 0, "C1": 0}
		do(t, h, name, "write BANK.LAMP 1")
		rapid.Check(t, func(t *rapid.T) {
			reg := rapid.SampledFrom([]string{"A1", "A2", "B1", "B2", "C1"}).Draw(t, "register")
			to := rapid.Uint64Range(0, 255).Draw(t, "to")
			r := do(t, h, name, fmt.Sprintf("write %s 0x%X", reg, to))
			require.Contains(t, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, says(r))
			require.Equal(t, model[reg], r.Changes[0].Before)
			model[reg] = to
			r = do(t, h, name, "read both wide")
			require.Equal(t, model["A1"]<<8|model["C1"], r.Values[0].Raw)
			require.Equal(t, model["B1"]<<8|model["B2"], r.Values[1].Raw)
			require.Equal(t, uint64(1), do(t, h, name, "read BANK.LAMP").Values[0].Raw)
			wide := rapid.Uint64Range(0, 1<<24-1).Draw(t, "wide")
			r = do(t, h, name, fmt.Sprintf("write LONG 0x%X", wide))
			require.Contains(t, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, says(r))
			require.Equal(t, wide, do(t, h, name, "read LONG").Values[0].Raw)
			do(t, h, name, fmt.Sprintf("write HIGH 0x%X", wide&0xFFFF))
			require.Equal(t, wide&0xFFFF, do(t, h, name, "read HIGH").Values[0].Raw)
			r = do(t, h, name, fmt.Sprintf("write ORDER 0x%X", to))
			require.Equal(t, operate.OK, r.Verdict)
			require.False(t, r.Changes[0].KnowsAfter)
			require.Equal(t, uint64(0x81), do(t, h, name, "read STATE").Values[0].Raw)
			require.Equal(t, uint64(0x81), do(t, h, name, "read 0x30").Values[0].Raw)
			require.Equal(t, operate.Refused, do(t, h, name, "read ORDER").Verdict)
			require.Equal(t, operate.Refused, do(t, h, name, "write STATE 1").Verdict)
			require.Equal(t, operate.OK, do(t, h, name, "prove "+h.Bench.Link(name).Parts()[0].Name).Verdict)
		})
		snap := h.Store().Snapshot()
		inOrder, within := h.Bench.Meanings(), h.Bench.Meanings().Within(&snap.Reader)
		last := snap.Len()
		var texts []string
		for i := snap.First(); i < last; i++ {
			texts = append(texts, inOrder.Text(name, snap.At(i)))
		}
		for i := last - 1; i >= max(last-300, 0); i-- {
			assert.Equal(t, texts[i-snap.First()], within.Text(name, snap.At(i)))
		}
		_, err := operation.Parse("read 0x20", h.Bench.Link(name).Parts())
		assert.ErrorContains(t, err, "stands on several pages")
		_, err = operation.Parse("read 0x02", h.Bench.Link(name).Parts())
		assert.NoError(t, err)
	}
}

// TestAddressesOfTenBits: as they stand on the wire, also where nothing is written first.
func TestAddressesOfTenBits(t *testing.T) {
	h := paged(t)
	r := do(t, h, "ten", "write ORDER 0x55")
	assert.Equal(t, "start F2 ack A3 ack 30 ack 55 ack stop", r.Exchanges[0].Text)
	r = do(t, h, "ten", "read ID")
	assert.Equal(t, "start F2 ack A3 ack 01 ack restart F3 ack .. nack stop", r.Exchanges[0].Text)
	assert.Equal(t, uint64(0x5A), r.Values[0].Raw)
	r = do(t, h, "ten", "raw start F2 ack A3 ack restart F3 ack .. ack .. nack stop")
	assert.Equal(t, operate.OK, r.Verdict, says(r))
	for _, text := range []string{"scan", "scan reading"} {
		r = do(t, h, "ten", text)
		assert.Equal(t, operate.OK, r.Verdict, says(r))
		assert.Contains(t, says(r), "t answers at 1A3")
	}
	r = do(t, h, "ten", "raw start F4 ack A3 ack 01 ack stop")
	assert.Equal(t, operate.Fault, r.Verdict)
	for _, c := range []struct{ text, says string }{
		{"raw start F3 ack .. nack stop", "which is written before"},
		{"raw start F2 ack stop", "its second byte follows"},
		{"raw start F2 ack A3 ack restart F5 ack .. nack stop", "which is written before"},
	} {
		l := h.Bench.Link("ten")
		op, err := operation.Parse(c.text, l.Parts())
		require.NoError(t, err)
		_, err = operate.On(h, h.Bench, l).Do(context.Background(), c.text, op)
		assert.ErrorContains(t, err, c.says, c.text)
	}
}

// TestHalfWritten: a register that goes in pieces is told to be half written, and is not
// written on as if it were not.
func TestHalfWritten(t *testing.T) {
	for _, name := range []string{"spi", "i2c", "uart"} {
		h := paged(t)
		l := h.Bench.Link(name)
		op, err := operation.Parse("write LONG 0x123456", l.Parts())
		require.NoError(t, err)
		steps, err := op.Fixed()
		require.NoError(t, err)
		require.Len(t, steps, 3)
		r := do(t, h, name, "raw "+steps[0].Texts[0])
		assert.Contains(t, says(r), "LONG, one of its 3 pieces written 0x56", name)
		r = do(t, h, name, "write LONG 0x9")
		assert.Equal(t, operate.Refused, r.Verdict)
		assert.Contains(t, says(r), "half written, 1 of 3 pieces")
		led := ledger.New(h.Bench)
		led.Update(h.Store().Snapshot())
		assert.Equal(t, 1, led.Part(l.Index, 0).Pending[l.Parts()[0].Map.Named("LONG")].N)
		do(t, h, name, "raw "+steps[1].Texts[0], "raw "+steps[2].Texts[0])
		assert.Equal(t, uint64(0x123456), do(t, h, name, "read LONG").Values[0].Raw, name)
		assert.Equal(t, operate.OK, do(t, h, name, "write LONG 0x9").Verdict)
	}
}
