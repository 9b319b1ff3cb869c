package operate_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/sim"
)

// answering is a bench of parts of every kind that are asked, and what is wrong with the answers
// of one of them. The registers of all hold the same.
func answering(part, fault string) (*bench.Bench, []finding.Finding) {
	const holds = "registers:\n  SUM: {number: 1, width: 16, reset: 0x1234}\n  STEP: {number: 2, width: 16, reset: 0x5678}\n"
	const objects = "registers:\n  SUM: {number: 0x2001 sub 1, width: 16, reset: 0x1234}\n  STEP: {number: 0x2001 sub 2, width: 16, reset: 0x5678}\n" +
		"texts:\n  NAME: {number: 0x2002 sub 0, characters: 20, holds: gate of the lock}\n"
	files := map[string]string{
		"uart": "kind: uart\nend: {rate: 125 kBd, frame: 8N1}\npacket: {begin: A5, length: {bytes: 1}, check: {kind: crc, bits: 8, polynomial: 0x07}}\n" +
			"access:\n  get: {out: 10 reg.8, in: 20 echo.8 value.16}\n" + holds,
		"line": "kind: uart\nend: {rate: 125 kBd, frame: 8N1}\naccess:\n  get: {out: \"'?' reg.hex2\", in: \"'=' value.hex4\"}\n" + holds,
		"spi": "kind: spi\nend: {mode: 0, most: 4 MHz, valid: 40 ns}\ncheck: {bits: 8, polynomial: 0x07}\n" +
			"access:\n  read: {out: reg.7 1 check | skip.24, in: skip.16 | value.16 check}\n" + holds,
		"bare":  "kind: spi\nend: {mode: 0, most: 4 MHz, valid: 40 ns}\naccess:\n  read: {out: reg.7 1 | skip.16, in: skip.8 | value.16}\n" + holds,
		"i2c":   "kind: i2c\nend: {address: 0x31, most: 400 kbit/s}\ncheck: {bits: 8, polynomial: 0x07}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.16 check}\n" + holds,
		"can":   "kind: can\nend: {clock: 16 MHz, rate: 250 kbit/s, timing: \"4, 1+12+3, 1\"}\nobjects: {request: 0x60A, response: 0x58A, within: 20 ms}\n" + objects,
		"frame": "kind: can\nend: {clock: 16 MHz, rate: 250 kbit/s, timing: \"4, 1+12+3, 1\"}\nframes: {request: 0x30A, response: 0x38A, within: 20 ms}\naccess:\n  get: {out: 10 sequence.8 reg.8, in: 20 sequence.8 echo.8 value.16}\n" + holds,
	}
	text := `bench: asked
mcu:
  name: M
  clocks: {core: {source: 16 MHz}}
  units:
    u1: {kind: uart, clock: core, oversampling: [16], divider: {most: 4096}}
    u2: {kind: uart, clock: core, oversampling: [16], divider: {most: 4096}}
    s: {kind: spi, clock: core, prescaler: {values: [4, 8, 16]}}
    i: {kind: i2c, clock: core, counters: {most: 1023}}
    c: {kind: can, clock: core, quanta: {prescaler: 512, seg1: 16, seg2: 8, jump: 4}}
links:
  uart: {kind: uart, unit: u1, mcu: {rate: 125 kBd, frame: 8N1}, device: {file: uart.yaml}}
  line: {kind: uart, unit: u2, mcu: {rate: 125 kBd, frame: 8N1}, device: {file: line.yaml}}
  words: {kind: spi, unit: s, mcu: {}, devices: {spi: {file: spi.yaml}, bare: {file: bare.yaml}}}
  pair: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 2.2 kΩ, capacitance: 60 pF, devices: {i2c: {file: i2c.yaml}}}
  bus: {kind: can, unit: c, mcu: {rate: 250 kbit/s}, devices: {can: {file: can.yaml}, frame: {file: frame.yaml}}}
`
	if fault != "" {
		text = strings.Replace(text, "file: "+part+".yaml", "file: "+part+".yaml, answers: "+fault, 1)
	}
	fs := fstest.MapFS{"b.yaml": {Data: []byte(text)}}
	for name, f := range files {
		fs[name+".yaml"] = &fstest.MapFile{Data: []byte("device: " + name + "\n" + f)}
	}
	return bench.Load(fs, "b.yaml")
}

// TestAnswersThatAreWrong: no value is taken of a part that says nothing, whose check does not fit
// or that lost count; an answer that comes once more is not taken for another; and what a part
// can't do is refused with the bench.
func TestAnswersThatAreWrong(t *testing.T) {
	links := map[string]string{"uart": "uart", "line": "line", "spi": "words", "bare": "words", "i2c": "pair", "can": "bus", "frame": "bus"}
	can := map[string][]string{
		"none": {"uart", "line", "spi", "bare", "i2c", "can", "frame"}, "damaged": {"uart", "spi", "i2c"},
		"repeated": {"uart", "line", "can", "frame"}, "unturned": {"can", "frame"},
	}
	rapid.Check(t, func(rt *rapid.T) {
		part := rapid.SampledFrom([]string{"uart", "line", "spi", "bare", "i2c", "can", "frame"}).Draw(rt, "part")
		fault := rapid.SampledFrom([]string{"", "none", "damaged", "repeated", "unturned"}).Draw(rt, "answers")
		b, faults := answering(part, fault)
		if fault != "" && !slices.Contains(can[fault], part) {
			require.Len(rt, faults, 1, "%s %s", part, fault)
			require.Equal(rt, "answers-without-effect", faults[0].Code)
			require.Positive(rt, faults[0].Where.Line)
			return
		}
		require.Empty(rt, faults, "%s %s", part, fault)
		h := sim.NewHeadless(b)
		asked := rapid.SliceOfN(rapid.SampledFrom([]string{"SUM", "STEP"}), 1, 5).Draw(rt, "asked")
		holds := map[string]uint64{"SUM": 0x1234, "STEP": 0x5678}
		for i, name := range asked {
			r := do(rt, h, links[part], fmt.Sprintf("read %s.%s", part, name))
			wrong := fault == "none" || fault == "damaged" || fault == "unturned" && part == "frame" && i > 0
			if wrong {
				require.Equal(rt, operate.Fault, r.Verdict, "%s %s: %s", part, fault, says(r))
				require.Empty(rt, r.Values)
				continue
			}
			require.NotEmpty(rt, r.Values, "%s %s: %s", part, fault, says(r))
			if part == "line" && fault == "repeated" && i > 0 {
				name = asked[i-1] // nothing in it says what it answers
			}
			require.Equal(rt, holds[name], r.Values[0].Raw)
		}
		if part == "can" {
			r := do(rt, h, "bus", "read can.NAME")
			// A segment that comes once more has the toggle bit of the one before.
			require.Equal(rt, fault != "", r.Verdict == operate.Fault, says(r))
		}
	})
}
