package operate_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/sim"
)

// barred is a part of which some can't be written while it is locked.
const barred = `registers:
  LOCK:  {number: 1, fields: {ON: {bits: 0}}}
  LIMIT: {number: 2, reset: 0x11}
  CTRL:  {number: 3, reset: 0x30, fields: {GATE: {bits: 7:4}, LAMP: {bits: 3:0}}}
behaviour:
  refuses: {LIMIT: LOCK.ON == 1, CTRL.GATE: LOCK.ON == 1}
`

// barredOnSPI gives a bench with that part behind a select.
func barredOnSPI(t require.TestingT) *sim.Headless {
	files := fstest.MapFS{
		"part.yaml": {Data: []byte("device: probe\nkind: spi\nend: {mode: 0, most: 4 MHz, valid: 40 ns}\naccess:\n  read: {out: 1 reg.7 | skip.8 ..., in: skip.8 | value.8 ...}\n  write: {out: 0 reg.7 | value.8 ...}\n" + barred)},
		"b.yaml": {Data: []byte(`bench: one part
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units: {u: {kind: spi, clock: core, prescaler: {values: [4, 8]}}}
links:
  bus: {kind: spi, unit: u, mcu: {}, devices: {probe: {file: part.yaml}}}
`)},
	}
	b, faults := bench.Load(files, "b.yaml")
	require.Empty(t, faults)
	return sim.NewHeadless(b)
}

// TestBarredRegisters: what a part does not take for the time being is not acknowledged on I2C, and
// stays as it is on SPI; a barred field keeps its bits while the others are written; what the file
// says of it is said.
func TestBarredRegisters(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		spi := rapid.Bool().Draw(rt, "spi")
		var h *sim.Headless
		if spi {
			h = barredOnSPI(rt)
		} else {
			h = onI2C(rt, "access:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8}\n  write: {out: reg.8 | value.8}\n"+barred, "")
		}
		holds := map[string]uint64{"LIMIT": 0x11, "CTRL.GATE": 3, "CTRL.LAMP": 0}
		locked := false
		for range rapid.IntRange(1, 6).Draw(rt, "steps") {
			what := rapid.SampledFrom([]string{"LOCK.ON", "LIMIT", "CTRL.GATE", "CTRL.LAMP"}).Draw(rt, "what")
			if what == "LOCK.ON" {
				locked = rapid.Bool().Draw(rt, "locked")
				n := 0
				if locked {
					n = 1
				}
				do(rt, h, "bus", fmt.Sprintf("write LOCK.ON %d", n))
				continue
			}
			v := rapid.Uint64Range(0, 15).Draw(rt, "to")
			r := do(rt, h, "bus", fmt.Sprintf("write %s 0x%X", what, v))
			switch bars := locked && what != "CTRL.LAMP"; {
			case bars && v != holds[what]:
				require.Equal(rt, operate.Fault, r.Verdict, says(r))
				require.Contains(rt, strings.ToLower(says(r)), strings.ToLower(what)+" is not written while lock.on == 1", says(r))
			case !bars:
				require.NotEqual(rt, operate.Fault, r.Verdict, says(r))
				holds[what] = v
			}
			for name, want := range holds {
				require.Equal(rt, want, do(rt, h, "bus", "read "+name).Values[0].Raw, name)
			}
		}
	})
}

// TestBarredInABurst: of registers that are written in one go, those that can't be written keep what
// they hold; on I2C the part says so at the first of them, and takes none behind it.
func TestBarredInABurst(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := onI2C(rt, "access:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8 ...}\n  write: {out: reg.8 | value.8 ...}\n"+barred, "")
		from := rapid.IntRange(1, 2).Draw(rt, "from")
		lock := rapid.Uint64Range(0, 1).Draw(rt, "lock")
		limit := rapid.Uint64Range(0x40, 0x7f).Draw(rt, "limit")
		lamp := rapid.Uint64Range(1, 15).Draw(rt, "lamp")
		words := fmt.Sprintf("%02X ack %02X ack", limit, 0x30|lamp)
		if from == 1 {
			words = fmt.Sprintf("%02X ack ", lock) + words
		} else {
			do(rt, h, "bus", fmt.Sprintf("write LOCK.ON %d", lock))
		}
		r := do(rt, h, "bus", fmt.Sprintf("force raw start A2 ack %02X ack %s stop", from, words))
		read := func(name string) uint64 { return do(rt, h, "bus", "read "+name).Values[0].Raw }
		require.Equal(rt, lock, read("LOCK.ON"))
		if lock == 1 {
			require.Equal(rt, operate.Fault, r.Verdict, says(r))
			require.Equal(rt, []uint64{0x11, 0}, []uint64{read("LIMIT"), read("CTRL.LAMP")})
			return
		}
		require.NotEqual(rt, operate.Fault, r.Verdict, says(r))
		require.Equal(rt, []uint64{limit, lamp}, []uint64{read("LIMIT"), read("CTRL.LAMP")})
	})
	// On SPI what comes behind is taken.
	rapid.Check(t, func(rt *rapid.T) {
		h := barredOnSPI(rt)
		lamp := rapid.Uint64Range(1, 15).Draw(rt, "lamp")
		do(rt, h, "bus", "write LOCK.ON 1", fmt.Sprintf("force raw select 1 out 02 77 %02X", lamp))
		require.EqualValues(rt, 0x11, do(rt, h, "bus", "read LIMIT").Values[0].Raw)
		require.EqualValues(rt, 3, do(rt, h, "bus", "read CTRL.GATE").Values[0].Raw)
		require.Equal(rt, lamp, do(rt, h, "bus", "read CTRL.LAMP").Values[0].Raw)
	})
}
