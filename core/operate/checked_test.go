package operate_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// crc8 is the check of the files below, bit by bit.
func crc8(start byte, data ...byte) byte {
	for _, b := range data {
		start ^= b
		for range 8 {
			if start&0x80 != 0 {
				start = start<<1 ^ 0x07
			} else {
				start <<= 1
			}
		}
	}
	return start
}

// checked is a bench with parts that check what passes: all of a transaction, or word by
// word.
func checked(t require.TestingT) *sim.Headless {
	registers := "registers:\n  ID: {number: 1, width: 16, access: read-only, reset: 0x5A3C}\n  A: {number: 0x20, width: 16}\n  B: {number: 0x21, width: 16}\nidentity: {read: ID, expect: 0x5A3C}\n"
	files := fstest.MapFS{
		"all.yaml":   {Data: []byte("device: all\nkind: i2c\nend: {address: 0x31, most: 400 kbit/s}\ncheck: {bits: 8, polynomial: 0x07}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.16 check}\n  write: {out: reg.8 | value.16 check.8}\n" + registers)},
		"words.yaml": {Data: []byte("device: words\nkind: i2c\nend: {address: 0x32, most: 400 kbit/s}\ncheck: {bits: 8, polynomial: 0x07, start: 0xFF, over: word}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.16 check ...}\n  write: {out: reg.8 check | value.16 check ...}\n" + registers)},
		"spi.yaml":   {Data: []byte("device: spi\nkind: spi\nend: {mode: 0, most: 4 MHz, valid: 40 ns}\ncheck: {bits: 8, polynomial: 0x07}\naccess:\n  read: {out: reg.7 1 check | skip.24, in: skip.16 | value.16 check}\n  write: {out: reg.7 0 check | value.16 check}\n" + registers)},
		"b.yaml": {Data: []byte(`bench: checked
mcu:
  name: M
  clocks: {crystal: {source: 16 MHz}}
  units:
    s: {kind: spi, clock: crystal, prescaler: {values: [8, 16]}}
    i: {kind: i2c, clock: crystal, counters: {most: 255}}
links:
  spi: {kind: spi, unit: s, mcu: {}, devices: {spi: {file: spi.yaml}}}
  i2c: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7 kΩ, capacitance: 30 pF, devices: {all: {file: all.yaml}, words: {file: words.yaml}}}
`)},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), 2*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h
}

// TestChecksOnTheBus: contents go both ways with their checks, worked out here by hand; a
// writing with a wrong check is as if it never came, and Traffic says so.
func TestChecksOnTheBus(t *testing.T) {
	h := checked(t)
	model := map[string][2]uint16{}
	rapid.Check(t, func(t *rapid.T) {
		part := rapid.SampledFrom([]string{"all", "words", "spi"}).Draw(t, "part")
		link := "i2c"
		if part == "spi" {
			link = part
		}
		which := rapid.IntRange(0, 1).Draw(t, "register")
		v := rapid.Uint16().Draw(t, "value")
		hi, lo, reg := byte(v>>8), byte(v), byte(0x20+which)
		ok := rapid.Bool().Draw(t, "fits")
		spoil := byte(0)
		if !ok {
			spoil = 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		}
		var raw string
		switch part {
		case "all":
			raw = fmt.Sprintf("raw start 62 ack %02X ack %02X ack %02X ack %02X ack stop", reg, hi, lo, crc8(0, 0x62, reg, hi, lo)^spoil)
		case "words":
			raw = fmt.Sprintf("raw start 64 ack %02X ack %02X ack %02X ack %02X ack %02X ack stop", reg, crc8(0xFF, reg), hi, lo, crc8(0xFF, hi, lo)^spoil)
		default:
			raw = fmt.Sprintf("raw select 1 out %02X %02X %02X %02X %02X", reg<<1, crc8(0, reg<<1), hi, lo, crc8(0, hi, lo)^spoil)
		}
		r := do(t, h, link, raw)
		assert.Equal(t, !ok, strings.Contains(says(r), "the check does not fit"), "%s: %s", raw, says(r))
		m := model[part]
		if ok {
			m[which] = v
			model[part] = m
		}
		r = do(t, h, link, "read "+part+".A B")
		require.Equal(t, operate.OK, r.Verdict, says(r))
		require.Equal(t, []uint64{uint64(m[0]), uint64(m[1])}, []uint64{r.Values[0].Raw, r.Values[1].Raw})
		r = do(t, h, link, fmt.Sprintf("write %s.A 0x%X", part, v))
		require.Contains(t, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, says(r))
		model[part] = [2]uint16{v, m[1]}
		require.Equal(t, operate.OK, do(t, h, link, "prove "+part).Verdict)
	})
}

// TestLoopBack: with a jumper the MCU's unit reads what it sends, while no device drives;
// one that does fights it, which is told.
func TestLoopBack(t *testing.T) {
	h := session(t)
	plant(t, h, "gate", link.Loop{On: true})
	r := do(t, h, "gate", "raw select 1 out 02 5A A5")
	assert.Equal(t, operate.OK, r.Verdict)
	assert.Contains(t, r.Exchanges[0].Outcome, "collision", "leaf-angle drives against the jumper")
	r = do(t, h, "gate", "prove leaf-angle")
	assert.Equal(t, operate.Fault, r.Verdict)
	assert.Contains(t, says(r), "contention")
	assert.NotContains(t, says(r), "nobody drives")
	plant(t, h, "gate", link.Power{Device: "leaf-angle"})
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOfN(rapid.Byte(), 1, 12).Draw(t, "data")
		r := do(t, h, "gate", fmt.Sprintf("raw select 1 out % X", data))
		assert.Equal(t, data, r.Exchanges[0].Record.Back, "%s", r.Exchanges[0].Outcome)
	})
	plant(t, h, "gate", link.Loop{})
	r = do(t, h, "gate", "raw select 1 out 5A")
	assert.NotEqual(t, []byte{0x5A}, r.Exchanges[0].Record.Back)
	for _, name := range []string{"hull", "pump", "lower-gauge", "depth-strip"} {
		l := h.Bench.Link(name)
		_, err := h.Do(context.Background(), l.Index, link.Loop{On: true})
		assert.Error(t, err, name)
	}
	in, err := link.ParseIntent("loop on")
	require.NoError(t, err)
	assert.Equal(t, link.Loop{On: true}, in)
	_, err = link.ParseIntent("loop maybe")
	assert.Error(t, err)
}
