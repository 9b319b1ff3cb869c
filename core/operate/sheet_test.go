package operate_test

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
)

// onUART gives a bench with one part on a character link, from the text of its file behind the end.
func onUART(t require.TestingT, file string) *sim.Headless {
	files := fstest.MapFS{
		"part.yaml": {Data: []byte("device: a part\nkind: uart\nend: {rate: 125 kBd, frame: 8N1}\n" + file)},
		"b.yaml": {Data: []byte(`bench: one part
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {u: {kind: uart, clock: core, oversampling: [16], divider: {most: 4096}}}
links:
  bus: {kind: uart, unit: u, mcu: {rate: 125 kBd, frame: 8N1}, device: {file: part.yaml}}
`)},
	}
	b, faults := bench.Load(files, "b.yaml")
	require.Empty(t, faults, file)
	return sim.NewHeadless(b)
}

const weighing = `packet: {begin: A5, length: {bytes: 1}, check: {kind: crc, bits: 8, polynomial: 0x07}}
access:
  get:   {out: "0b01 sequence.2 reg.12", in: "0b01 sequence.2 echo.12 value.16 STATE.8"}
  set:   {out: "0b10 sequence.2 reg.12 value.16", in: "0b10 sequence.2 echo.12 STATE.8"}
  add:   {out: "0b11 sequence.2 skip.12 STEP.8", in: "0b11 sequence.2 skip.12"}
  plate: {out: "0b00 skip.6", in: "MAKER ';' PLACE ';' DATE"}
texts:
  MAKER: {characters: 12, access: read-only, holds: lock works}
  PLACE: {characters: 12, access: read-only, holds: upper gate}
  DATE:  {characters: 8, access: read-only, holds: ""}
registers:
  SUM:   {number: 1, width: 16}
  UNIT:  {number: 2, width: 16, fields: {U: {bits: 0, codes: {0: kN, 1: t}}}}
  STEP:  {access: write-only}
  STATE: {access: read-only, fields: {CHECK: {bits: 0}, EVER: {bits: 1}, LONG: {bits: 2}}}
values:
  load: {bits: SUM, coding: signed, scale: 0.5, unit-by: UNIT.U}
  both: {from: SUM + UNIT.U, unit-by: UNIT.U}
behaviour:
  flags:
    STATE.CHECK: {is: bad-check}
    STATE.EVER:  {set: bad-check}
    STATE.LONG:  {is: bad-length}
`

// TestStateOfTheMessageBefore: a part says with each answer what was wrong with the message before;
// the texts that an answer carries are read each by its name; a number's unit is what a setting says.
func TestStateOfTheMessageBefore(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := onUART(rt, weighing)
		ever := uint64(0)
		last := uint64(0)
		for range rapid.IntRange(1, 2).Draw(rt, "messages") {
			check, long := uint64(0), uint64(0)
			switch rapid.SampledFrom([]string{"good", "damaged", "too long", "text"}).Draw(rt, "message") {
			case "good":
				v := rapid.IntRange(0, 0xffff).Draw(rt, "to")
				last = uint64(v)
				do(rt, h, "bus", fmt.Sprintf("force write SUM 0x%X", v))
			case "damaged":
				do(rt, h, "bus", `force raw A5 02 40 01 00`)
				check, ever = 1, 1
			case "too long":
				do(rt, h, "bus", fmt.Sprintf("force raw % X", packed(0x40, 0x01, 0x00)))
				long = 1
			case "text":
				name := rapid.SampledFrom([]string{"MAKER", "PLACE", "DATE"}).Draw(rt, "text")
				r := do(rt, h, "bus", "read "+name)
				require.Equal(rt, map[string]string{"MAKER": "lock works", "PLACE": "upper gate", "DATE": ""}[name], strings.Trim(r.Values[0].Meaning(), "\""))
			}
			r := do(rt, h, "bus", "read SUM")
			require.Equal(rt, last, r.Values[0].Raw)
			require.Equal(rt, fmt.Sprintf("%03b", long<<2|ever<<1|check), came(h), "with the first answer behind it")
			state := map[string]uint64{}
			s := do(rt, h, "bus", "read STATE")
			for _, v := range s.Values {
				state[v.Name] = v.Raw
			}
			require.Zero(rt, state["STATE.CHECK"], "the message before was good")
			require.Equal(rt, ever, state["STATE.EVER"])
		}
		unit := rapid.SampledFrom([]string{"kN", "t"}).Draw(rt, "unit")
		do(rt, h, "bus", "write UNIT.U "+unit)
		do(rt, h, "bus", "write SUM 0xFFFE")
		r := do(rt, h, "bus", "read load")
		require.Equal(rt, "-1 "+unit, r.Values[0].Meaning())
		r = do(rt, h, "bus", "read both")
		require.Equal(rt, unit, r.Values[0].Unit)
		r = do(rt, h, "bus", "write load 3.5")
		require.Equal(rt, operate.OK, r.Verdict, says(r))
		require.EqualValues(rt, 7, do(rt, h, "bus", "read SUM").Values[0].Raw)
	})
}

// packed gives a packet with a content.
func packed(content ...byte) []byte {
	out := append([]byte{0xA5, byte(len(content))}, content...)
	crc := byte(0)
	for _, b := range out[1:] {
		crc ^= b
		for range 8 {
			top := crc & 0x80
			if crc <<= 1; top != 0 {
				crc ^= 0x07
			}
		}
	}
	return append(out, crc)
}

// came gives the last bits of the state that came with the answer to the last read of SUM.
func came(h *sim.Headless) string {
	snap := h.Store().Snapshot()
	for i := snap.Len() - 1; i >= 0; i-- {
		r := snap.At(i)
		if r.Kind == record.Chars && r.From == record.Device && r.Len() == 8 && r.Data[2]&0xcf == 0x40 && r.Data[3] == 1 {
			return fmt.Sprintf("%03b", r.Data[6])
		}
	}
	return ""
}

// TestSequenceNumbers: each request has the number behind that of the one before, whoever sent that;
// the same one again is answered again, and done once; an answer with another number is none.
func TestSequenceNumbers(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := onUART(rt, weighing)
		want, next := uint64(0), uint64(0)
		for range rapid.IntRange(1, 4).Draw(rt, "requests") {
			before := h.Store().Snapshot().Len()
			switch rapid.SampledFrom([]string{"read", "write", "by hand", "again"}).Draw(rt, "request") {
			case "read":
				require.Equal(rt, want, do(rt, h, "bus", "read SUM").Values[0].Raw)
			case "write":
				want = uint64(rapid.IntRange(0, 0xffff).Draw(rt, "to"))
				do(rt, h, "bus", fmt.Sprintf("force write SUM 0x%X", want))
			case "by hand":
				want = uint64(rapid.IntRange(0, 0xffff).Draw(rt, "to"))
				do(rt, h, "bus", fmt.Sprintf("raw % X", packed(0x80|byte(next&3)<<4, 1, byte(want>>8), byte(want))))
			case "again":
				// The number that was used last: nothing is done any more.
				if next == 0 {
					continue
				}
				to := uint64(rapid.IntRange(0, 0xffff).Draw(rt, "to"))
				r := do(rt, h, "bus", fmt.Sprintf("raw % X", packed(0x80|byte((next-1)&3)<<4, 1, byte(to>>8), byte(to))))
				if written(h, before) { // of another kind than the last one
					want = to
				}
				_ = r
				continue
			}
			snap := h.Store().Snapshot()
			for i := before; i < snap.Len(); i++ {
				r := snap.At(i)
				if r.Kind != record.Chars || r.From != record.MCU || r.Seen != record.Device {
					continue
				}
				require.EqualValues(rt, next&3, r.Data[2]>>4&3, "% X", r.Data)
				next++
			}
		}
		require.Equal(rt, want, do(rt, h, "bus", "read SUM").Values[0].Raw)
	})
}

// written says whether the message before the last request was another one than a write.
func written(h *sim.Headless, before int) bool {
	snap := h.Store().Snapshot()
	for i := before - 1; i >= 0; i-- {
		if r := snap.At(i); r.Kind == record.Chars && r.From == record.MCU && r.Seen == record.Device {
			return r.Data[2]>>6 != 2
		}
	}
	return true
}

// TestALostAnswerIsAskedForAgain: who repeats a request with the same number gets the same answer.
func TestALostAnswerIsAskedForAgain(t *testing.T) {
	h := onUART(t, weighing)
	ask := func(data []byte) []byte {
		mark := h.Store().Snapshot().Len()
		do(t, h, "bus", fmt.Sprintf("raw % X", data))
		snap := h.Store().Snapshot()
		for i := mark; i < snap.Len(); i++ {
			if r := snap.At(i); r.Kind == record.Chars && r.From == record.Device && r.Seen == record.MCU {
				return bytes.Clone(r.Data)
			}
		}
		return nil
	}
	first := ask(packed(0x80, 1, 0x12, 0x34))
	require.NotEmpty(t, first)
	require.Equal(t, first, ask(packed(0x80, 1, 0x99, 0x99)), "it is taken for the same request")
	require.EqualValues(t, 0x1234, do(t, h, "bus", "read SUM").Values[0].Raw)
	r := do(t, h, "bus", "raw "+fmt.Sprintf("% X", packed(0x80, 1, 0x99, 0x99)))
	require.NotEmpty(t, r.Exchanges)
}

// TestChains: the parts of a chain are counted, whatever they hold, and hold that behind it; one that
// takes over behind whole multiples alone takes nothing else; a select without clocks moves nothing.
func TestChains(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		parts, there := rapid.IntRange(1, 4).Draw(rt, "parts"), rapid.IntRange(1, 10).Draw(rt, "there")
		latch := rapid.SampledFrom([]int{0, 1, 8, 16}).Draw(rt, "latch")
		if latch == 16 && parts%2 == 1 {
			latch = 8
		}
		var names []string
		registers := ""
		for i := range parts {
			names = append(names, fmt.Sprintf("OUT%d.8", i))
			registers += fmt.Sprintf("  OUT%d: {access: write-only}\n", i)
		}
		file := fmt.Sprintf("device: lamps\nkind: spi\nend: {mode: 0, most: 2 MHz, valid: 50 ns}\nchain: %d\n", parts)
		if latch > 0 {
			file += fmt.Sprintf("latch: %d\n", latch)
		}
		files := fstest.MapFS{
			"part.yaml": {Data: []byte(file + "access:\n  all: {out: " + strings.Join(names, " ") + "}\nregisters:\n" + registers)},
			"b.yaml": {Data: []byte(fmt.Sprintf(`bench: one part
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {s: {kind: spi, clock: core, prescaler: {values: [8, 16]}}}
links:
  bus: {kind: spi, unit: s, mcu: {}, devices: {lamps: {file: part.yaml, chain: %d}}}
`, there))},
		}
		b, faults := bench.Load(files, "b.yaml")
		require.Empty(rt, faults, file)
		h := sim.NewHeadless(b)
		require.Equal(rt, operate.Refused, do(rt, h, "bus", "prove lamps").Verdict, "what the parts hold is not known")
		content := rapid.SliceOfN(rapid.Byte(), parts, parts).Draw(rt, "content")
		for i, c := range content {
			do(rt, h, "bus", fmt.Sprintf("force write OUT%d 0x%02X", i, c))
		}
		r := do(rt, h, "bus", "prove lamps")
		switch {
		case there == parts:
			require.Equal(rt, operate.OK, r.Verdict, says(r))
		case there <= 2*parts:
			require.Equal(rt, operate.Fault, r.Verdict, says(r))
			require.Contains(rt, says(r), fmt.Sprintf("%d clocks later", 8*there))
			require.Contains(rt, says(r), fmt.Sprintf("its file describes %d", parts))
		default:
			require.Equal(rt, operate.Fault, r.Verdict, says(r))
		}
		// What stands in the chain comes out of it when more goes in, as a list would give it.
		empty := rapid.Bool().Draw(rt, "empty")
		if empty {
			do(rt, h, "bus", "raw select 1 without clocks")
		}
		out, err := h.Do(context.Background(), 0, link.Transact{Text: "select 1 out" + strings.Repeat(" 00", there)})
		require.NoError(rt, err)
		list := make([]byte, there)
		copy(list[max(there-parts, 0):], content[max(parts-there, 0):])
		got := out.Record.Back[max(there-parts, 0):]
		require.Equal(rt, list[max(there-parts, 0):], got)
	})
}

// TestFaultsOfFrames: on buses with selects and addresses too a part says what was wrong with the
// frame before; and a pin that is an output reads what its latch holds.
func TestFaultsOfFrames(t *testing.T) {
	registers := `registers:
  STATE: {number: 0, access: read-only, fields: {CHECK: {bits: 0}, LONG: {bits: 1}}}
  LATCH: {number: 1, fields: {P0: {bits: 0}, P1: {bits: 1}}}
  OUT:   {number: 2, fields: {P0: {bits: 0}, P1: {bits: 1}}}
  PINS:  {number: 3, access: read-only, reset: 0b10, fields: {P0: {bits: 0}, P1: {bits: 1}}}
behaviour:
  flags:
    STATE.CHECK: {is: bad-check}
    STATE.LONG:  {is: bad-length}
    PINS.P0: {is: "OUT.P0 == 1 and LATCH.P0 == 1"}
    PINS.P1: {is: "OUT.P1 == 0 or LATCH.P1 == 1"}
`
	rapid.Check(t, func(rt *rapid.T) {
		var h *sim.Headless
		damaged, long := "", ""
		if rapid.Bool().Draw(rt, "spi") {
			h = onSPI(rt, 8, `check: {bits: 8, polynomial: 0x07, over: line}
access:
  read:  {out: "0 reg.7 | check | skip.8 | skip.8", in: "skip.8 | skip.8 | value.8 | check"}
  write: {out: "1 reg.7 | value.8 | check"}
`+registers)
			damaged, long = "raw select 1 out 81 03 00", "raw select 1 out 81"
		} else {
			h = onI2C(rt, `check: {bits: 8, polynomial: 0x07}
access:
  read:  {out: "0 reg.7 | restart", in: "_ | restart | value.8 | check"}
  write: {out: "1 reg.7 | value.8 | check"}
`+registers, "")
			damaged, long = "force raw start A2 81 03 00 stop", "force raw start A2 81 stop"
		}
		for range rapid.IntRange(1, 3).Draw(rt, "frames") {
			want := map[string]uint64{}
			switch rapid.SampledFrom([]string{"good", "damaged", "long"}).Draw(rt, "frame") {
			case "good":
				latch, out := rapid.IntRange(0, 3).Draw(rt, "latch"), rapid.IntRange(0, 3).Draw(rt, "outputs")
				do(rt, h, "bus", fmt.Sprintf("force write LATCH %d", latch), fmt.Sprintf("force write OUT %d", out))
				pins := do(rt, h, "bus", "read PINS").Values[0].Raw
				require.EqualValues(rt, latch&out&1|(latch|^out)&2, pins)
			case "damaged":
				do(rt, h, "bus", damaged)
				want["STATE.CHECK"] = 1
			case "long":
				do(rt, h, "bus", long)
				want["STATE.LONG"] = 1
			}
			for _, v := range do(rt, h, "bus", "read STATE").Values {
				if v.Name != "STATE" {
					require.Equal(rt, want[v.Name], v.Raw, v.Name)
				}
			}
			require.Zero(rt, do(rt, h, "bus", "read STATE").Values[0].Raw, "the message before was good")
		}
	})
}
