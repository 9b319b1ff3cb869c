package operate_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/quantity"
)

const sluice = byNumber + `registers:
  CTRL:   {number: 0, fields: {GO: {bits: 0, access: write-1-to-start}, RATE: {bits: 3:2}, WATCH: {bits: 4}}}
  STATUS:
    number: 1
    access: read-only
    fields: {BUSY: {bits: 7}, DONE: {bits: 6}, HIGH: {bits: 2, access: clear-on-read}, WARM: {bits: 1}, COLD: {bits: 0}}
  ERRORS: {number: 2, access: write-1-to-clear, fields: {TWICE: {bits: 0}}}
  LEVEL:  {number: 3, access: read-only}
  LIMIT:  {number: 4, reset: 100}
  HEAT:   {number: 5}
  ON:     {number: 6, reset: 40}
  OFF:    {number: 7, reset: 30}
jobs:
  measure: {start: CTRL.GO, lasts: 3 ms, times: 2 ^ CTRL.RATE, busy: STATUS.BUSY, ready: [STATUS.DONE], clash: ERRORS.TWICE, gives: [LEVEL]}
behaviour:
  flags:
    STATUS.HIGH: {set: CTRL.WATCH == 1 and LEVEL > LIMIT, after: measure}
    STATUS.WARM: {set: HEAT > ON, clear: HEAT < OFF}
    STATUS.COLD: {is: HEAT < 10}
`

// TestFlagsFollowValues: flags with two limits stay between them, those that show a condition
// follow it at once, and one that a job raises comes up at its end alone and goes by being read.
func TestFlagsFollowValues(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := onI2C(rt, sluice, "")
		warm, high := false, false
		on, off := 40, 30
		bit := func(r *operate.Result, name string) bool {
			i := slices.IndexFunc(r.Values, func(v operate.Named) bool { return v.Name == "STATUS."+name })
			return r.Values[i].Raw == 1
		}
		for range rapid.IntRange(1, 8).Draw(rt, "steps") {
			switch rapid.SampledFrom([]string{"heat", "measure", "limits"}).Draw(rt, "step") {
			case "heat":
				heat := rapid.IntRange(0, 60).Draw(rt, "heat")
				do(rt, h, "bus", fmt.Sprintf("force write HEAT %d", heat))
				if heat > on {
					warm = true
				} else if heat < off {
					warm = false
				}
				r := do(rt, h, "bus", "read STATUS")
				require.Equal(rt, warm, bit(r, "WARM"), "heat %d", heat)
				require.Equal(rt, heat < 10, bit(r, "COLD"))
				require.Equal(rt, high, bit(r, "HIGH"))
				high = false
			case "limits":
				limit, watch := rapid.IntRange(0, 255).Draw(rt, "limit"), rapid.IntRange(0, 1).Draw(rt, "watch")
				do(rt, h, "bus", fmt.Sprintf("force write LIMIT %d", limit), fmt.Sprintf("force write CTRL.WATCH %d", watch))
			case "measure":
				level := rapid.IntRange(0, 255).Draw(rt, "level")
				plant(rt, h, "bus", link.Preset{Device: "probe", Value: "LEVEL", Bits: uint64(level)})
				l := do(rt, h, "bus", "read LIMIT").Values[0].Raw
				w := do(rt, h, "bus", "read CTRL.WATCH").Values[0].Raw
				do(rt, h, "bus", "read STATUS") // what was up is cleared
				r := do(rt, h, "bus", "do measure")
				require.Equal(rt, w == 1 && uint64(level) > l, bit(r, "HIGH"), "level %d limit %d", level, l)
				high = false
			}
		}
	})
}

// TestJobsTakeTheirTime: settings decide how long a job takes; in the bench one very part may take
// otherwise, or never come to an end, and that is said with what its file states.
func TestJobsTakeTheirTime(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		rate := rapid.IntRange(0, 3).Draw(rt, "rate")
		really := rapid.SampledFrom([]string{"", "never", "2 ms", "300 ms"}).Draw(rt, "really")
		more := ""
		if really != "" {
			more = ", jobs: {measure: " + really + "}"
		}
		h := onI2C(rt, sluice, more)
		do(rt, h, "bus", fmt.Sprintf("force write CTRL.RATE %d", rate))
		began := h.Now()
		r := do(rt, h, "bus", "do measure")
		took, states := h.Now()-began, 3*quantity.Millisecond<<rate
		switch really {
		case "":
			require.Equal(rt, operate.OK, r.Verdict, says(r))
			require.GreaterOrEqual(rt, took, states)
			require.Less(rt, took, states+states/4+4*quantity.Millisecond)
		case "2 ms":
			require.Equal(rt, operate.OK, r.Verdict, says(r))
			require.Less(rt, took, states/4+6*quantity.Millisecond)
		default:
			require.Equal(rt, operate.Fault, r.Verdict, says(r))
			require.Contains(rt, says(r), "it lasts "+states.Round(3)+" at most")
			again := do(rt, h, "bus", "force write CTRL 0x01")
			require.Contains(rt, says(again), "is not started again")
			require.NotContains(rt, says(again), "writing 1 started")
			require.EqualValues(rt, 1, do(rt, h, "bus", "read ERRORS.TWICE").Values[0].Raw)
		}
	})
}

// TestBytesThatTakeNothing: bytes of protected stretches and bad ones keep what they hold, all
// others take what is written; and what is behind it is said.
func TestBytesThatTakeNothing(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		bad := rapid.IntRange(0, 63).Draw(rt, "bad")
		guarded := rapid.Bool().Draw(rt, "guarded")
		really := rapid.SampledFrom([]string{"", ", write: 1 ms", ", write: 60 ms"}).Draw(rt, "really")
		h := onI2C(rt, `access:
  read:  {out: "reg.8 | restart", in: "_ | restart | value.8 ..."}
  write: {out: "reg.8 | value.8 ..."}
registers:
  GUARD: {number: 0x80}
memory:
  size: 64
  page: 16
  write: 4 ms
  protect:
    boot: {at: 0x00, length: 8}
    log:  {at: 0x20, length: 16, while: GUARD == 1}
`, fmt.Sprintf(", bad-bytes: %d%s", bad, really))
		if guarded {
			do(rt, h, "bus", "force write GUARD 1")
		}
		from := rapid.IntRange(0, 60).Draw(rt, "from")
		n := rapid.IntRange(1, 64-from).Draw(rt, "count")
		var bytes []string
		for i := range n {
			bytes = append(bytes, fmt.Sprintf("%02X", i))
		}
		op := fmt.Sprintf("write probe %d %s", from, strings.Join(bytes, " "))
		r := do(rt, h, "bus", op)
		if from < 8 {
			require.Equal(rt, operate.Refused, r.Verdict)
			require.Contains(rt, says(r), "boot")
			r = do(rt, h, "bus", "force "+op)
		}
		if strings.Contains(really, "60") {
			require.NotEqual(rt, operate.OK, r.Verdict)
			require.Contains(rt, says(r), "does not answer")
			return
		}
		keeps := func(b int) bool { return b < 8 || b == bad || guarded && b >= 0x20 && b < 0x30 }
		held := do(rt, h, "bus", "read probe 0 count 64").Bytes
		harmed := false
		for b := range 64 {
			want := byte(0xff)
			if b >= from && b < from+n && !keeps(b) {
				want = byte(b - from)
			}
			require.Equal(rt, want, held[b], "byte %d", b)
			harmed = harmed || b >= from && b < from+n && keeps(b)
		}
		require.Equal(rt, harmed, r.Verdict == operate.Fault, says(r))
		if harmed && guarded && from >= 0x20 && from+n <= 0x30 && (bad < from || bad >= from+n) {
			require.Contains(rt, says(r), "log, 0x20 to 0x2F, takes no writing while GUARD == 1")
		}
	})
}

// TestOddPartsAreRefused: what a bench says of one very part must have an effect on it.
func TestOddPartsAreRefused(t *testing.T) {
	for more, want := range map[string]string{
		", jobs: {mesure: never}":      "has no job mesure",
		", jobs: {measure: soon}":      "a time, as 20 ms, or never",
		", write: 4 ms":                "no memory in its file",
		", bad-bytes: 0x40":            "no memory in its file",
		", bad-bytes: 0x50..0x4F":      "numbers of bytes",
		", jobs: {measure: \"-3 ms\"}": "time",
	} {
		files := fstest.MapFS{
			"part.yaml": {Data: []byte("device: a part\nkind: i2c\nend: {address: 0x51, most: 400 kbit/s}\n" + sluice)},
			"b.yaml":    {Data: []byte("bench: one part\nmcu:\n  name: M\n  clocks: {core: {source: 16 MHz}}\n  units: {i: {kind: i2c, clock: core, counters: {most: 4095}}}\nlinks:\n  bus: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7k, capacitance: 50 pF, devices: {probe: {file: part.yaml" + more + "}}}\n")},
		}
		_, faults := bench.Load(files, "b.yaml")
		require.NotEmpty(t, faults, more)
		assert.Contains(t, faults[0].String(), want, more)
	}
}
