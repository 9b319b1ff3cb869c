package operate_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

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

// onI2C gives a bench with one part at address 0x51 of an I2C bus, from the text of its file
// behind the end, with more keys of it in the bench.
func onI2C(t require.TestingT, file, more string) *sim.Headless {
	files := fstest.MapFS{
		"part.yaml": {Data: []byte("device: a part\nkind: i2c\nend: {address: 0x51, most: 400 kbit/s}\n" + file)},
		"b.yaml": {Data: []byte(`bench: one part
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {i: {kind: i2c, clock: core, counters: {most: 4095}}}
links:
  bus: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7k, capacitance: 50 pF, devices: {probe: {file: part.yaml` + more + `}}}
`)},
	}
	b, faults := bench.Load(files, "b.yaml")
	require.Empty(t, faults, file)
	return sim.NewHeadless(b)
}

const byNumber = `access:
  read:  {out: "reg.8 | restart", in: "_ | restart | value.8 ..."}
  write: {out: "reg.8 | value.8 ..."}
`

func until(t require.TestingT, h *sim.Headless, at quantity.Time) {
	require.NoError(t, h.Wait(context.Background(), at, func(*capture.Snapshot) bool { return false }))
}

// TestAClockGoesOn: a clock that was set counts on from there, over all its digits, as the
// calendar of the language's own library does.
func TestAClockGoesOn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := onI2C(t, byNumber+`registers:
  SEC:  {number: 0, fields: {S: {bits: 6:0, coding: bcd}}}
  MIN:  {number: 1, fields: {M: {bits: 6:0, coding: bcd}}}
  HOUR: {number: 2, fields: {H: {bits: 5:0, coding: bcd}}}
  DAY:  {number: 3, reset: 1, fields: {D: {bits: 5:0, coding: bcd}}}
behaviour:
  counts: {time: {every: 1 s, digits: "SEC.S 60, MIN.M 60, HOUR.H 24, DAY.D 1..31"}}
`, "")
		set := time.Date(2001, 1, rapid.IntRange(1, 31).Draw(t, "day"), rapid.IntRange(22, 23).Draw(t, "hour"), rapid.IntRange(58, 59).Draw(t, "minute"), rapid.IntRange(45, 59).Draw(t, "second"), 0, time.UTC)
		until(t, h, quantity.Time(rapid.IntRange(1, 2500).Draw(t, "later"))*quantity.Millisecond)
		begin := h.Now()/quantity.Second + 1
		until(t, h, begin*quantity.Second+quantity.Millisecond)
		do(t, h, "bus", fmt.Sprintf("write SEC.S %d", set.Second()), fmt.Sprintf("write MIN.M %d", set.Minute()), fmt.Sprintf("write HOUR.H %d", set.Hour()), fmt.Sprintf("write DAY.D %d", set.Day()))
		passed := quantity.Time(rapid.IntRange(0, 20).Draw(t, "seconds"))
		until(t, h, (begin+passed)*quantity.Second+500*quantity.Millisecond)
		r := do(t, h, "bus", "read SEC.S MIN.M HOUR.H DAY.D")
		now := set.Add(time.Duration(passed) * time.Second)
		var got []string
		for _, v := range r.Values[:4] {
			got = append(got, v.Meaning())
		}
		require.Equal(t, fmt.Sprintf("%d %d %d %d", now.Second(), now.Minute(), now.Hour(), now.Day()), strings.Join(got, " "))
	})
}

// TestSettingACalculatedValue: what is written is the content with which the calculation
// comes nearest.
func TestSettingACalculatedValue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		scale, offset := rapid.IntRange(1, 40).Draw(t, "scale"), rapid.IntRange(-500, 500).Draw(t, "offset")
		h := onI2C(t, byNumber+fmt.Sprintf("registers:\n  CAL-A: {number: 4}\nvalues:\n  trim: {from: CAL-A * %d / 8 + %d, unit: ppm}\n", scale, offset), "")
		want := rapid.IntRange(-600, 2000).Draw(t, "wanted")
		best := 0
		for raw := range 256 {
			off := func(r int) int { return max(r*scale+8*(offset-want), -(r*scale + 8*(offset-want))) }
			if off(raw) < off(best) {
				best = raw
			}
		}
		r := do(t, h, "bus", fmt.Sprintf("write trim %d ppm", want))
		require.Equal(t, uint64(best), r.Changes[0].Wrote)
		if best*scale+8*(offset-want) != 0 {
			require.Contains(t, says(r), "exactly")
		}
	})
}

// TestUndescribedFlagsStay: writing one flag that 1 clears writes 0 to all bits that the
// file says nothing of.
func TestUndescribedFlagsStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		holds, bit := rapid.Byte().Draw(t, "holds"), rapid.IntRange(0, 7).Draw(t, "bit")
		h := onI2C(t, byNumber+fmt.Sprintf("registers:\n  F: {number: 3, access: write-1-to-clear, reset: %d, fields: {X: {bits: %d}}}\n", holds, bit), "")
		do(t, h, "bus", "write F.X 1")
		require.Equal(t, uint64(holds&^(1<<bit)), do(t, h, "bus", "read F").Values[0].Raw)
	})
}

// TestAWrongCheckIsNotAcknowledged: the part refuses the check byte, and holds what it held.
func TestAWrongCheckIsNotAcknowledged(t *testing.T) {
	h := onI2C(t, `check: {over: all, bits: 8, polynomial: 0x07}
access:
  read:  {out: "reg.8 | restart", in: "_ | restart | value.8 check.8"}
  write: {out: "reg.8 value.8 check.8"}
registers:
  A: {number: 0, reset: 0x11}
`, "")
	r := do(t, h, "bus", "write A 0x22")
	require.Equal(t, operate.OK, r.Verdict, says(r))
	right := r.Exchanges[1].Text
	r = do(t, h, "bus", "raw "+strings.Replace(right, " 22 ", " 23 ", 1))
	assert.Equal(t, operate.Fault, r.Verdict)
	assert.Contains(t, says(r), "byte 4, ")
	assert.Contains(t, says(r), "was not acknowledged")
	assert.Equal(t, uint64(0x22), do(t, h, "bus", "read A").Values[0].Raw)
}

// TestWhatAJobGives: what the part held before is what its job gives, and a start while it
// runs waits for its end, or is refused where none comes.
func TestWhatAJobGives(t *testing.T) {
	h := onI2C(t, byNumber+`registers:
  CTRL: {number: 0, fields: {GO: {bits: 0}, BUSY: {bits: 7, access: read-only}}}
  DATA: {number: 1, access: read-only}
jobs:
  measure: {start: CTRL.GO, busy: CTRL.BUSY, lasts: 40 ms, gives: [DATA]}
`, "")
	plant(t, h, "bus", link.Preset{Device: "probe", Value: "DATA", Bits: 0x5A})
	r := do(t, h, "bus", "do measure")
	require.Equal(t, operate.OK, r.Verdict, says(r))
	assert.Equal(t, uint64(0x5A), r.Values[len(r.Values)-1].Raw)
	do(t, h, "bus", "raw start A2 ack 00 ack 01 ack stop")
	began := h.Now()
	r = do(t, h, "bus", "do measure")
	assert.Equal(t, operate.OK, r.Verdict, says(r))
	assert.GreaterOrEqual(t, h.Now()-began, 75*quantity.Millisecond, "two of 40 ms, one behind the other")
	plant(t, h, "bus", link.Preset{Device: "probe", Value: "CTRL", Bits: 0x80})
	r = do(t, h, "bus", "do measure")
	assert.Equal(t, operate.Refused, r.Verdict, says(r))
	assert.Contains(t, says(r), "does not end")
}

// TestASupplyThatEndsInsideAWriting: what is left keeps to the rule of the file, or to that
// of the bench, and it is said.
func TestASupplyThatEndsInsideAWriting(t *testing.T) {
	for _, rule := range []string{"old", "new", "mixed", "garbled"} {
		for _, inBench := range []bool{false, true} {
			file, more := ", power-cut: "+rule, ""
			if inBench {
				file, more = "", ", power-cut: "+rule
			}
			h := onI2C(t, `access:
  read:  {out: "reg.8 | restart", in: "_ | restart | value.8 ..."}
  write: {out: "reg.8 | value.8 ..."}
memory: {size: 64, page: 16, write: 20 ms`+file+"}\n", more)
			do(t, h, "bus", "write 0x10 01 02 03 04 05 06 07 08")
			until(t, h, h.Now()+100*quantity.Millisecond)
			do(t, h, "bus", "raw start A2 ack 10 ack F1 ack F2 ack F3 ack F4 ack F5 ack F6 ack F7 ack F8 ack stop")
			plant(t, h, "bus", link.Power{Device: "probe"})
			plant(t, h, "bus", link.Power{Device: "probe", On: true})
			until(t, h, h.Now()+100*quantity.Millisecond)
			got := do(t, h, "bus", "read 0x10 count 16").Bytes
			old, fresh, other := 0, 0, 0
			for i, b := range got {
				switch {
				case i < 8 && b == byte(i+1), i >= 8 && b == 0xFF:
					old++
				case i < 8 && b == byte(0xF1+i):
					fresh++
				default:
					other++
				}
			}
			switch rule {
			case "old":
				assert.Equal(t, 16, old)
			case "new":
				assert.Equal(t, []int{8, 8}, []int{old, fresh})
			case "mixed":
				assert.Zero(t, other)
				assert.Positive(t, fresh)
				assert.Greater(t, old, 8)
			default:
				assert.Positive(t, other)
			}
			said := false
			for i := range h.Store().Snapshot().Len() {
				said = said || strings.Contains(h.Store().Snapshot().At(i).Text, "the supply went while the page from 0x10 on was written")
			}
			assert.True(t, said, rule)
		}
	}
}
