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
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
)

// TestWhatComesOfAsking: parts that are asked and answer, each by verdict, words and value.
func TestWhatComesOfAsking(t *testing.T) {
	for _, c := range []struct {
		link    string
		ops     []string
		verdict operate.Verdict
		says    string
		value   string
	}{
		{"lower-gauge", []string{"prove lower-gauge"}, operate.OK, "is what its file describes: TYPE holds 0x075", "0x075"},
		{"lower-gauge", []string{"read LEVEL WARMTH"}, operate.OK, "", "3.417 m; 11.4 °C"},
		{"lower-gauge", []string{"write BEAT 16"}, operate.OK, "BEAT is 0x10", ""},
		{"lower-gauge", []string{"write BEAT 8"}, operate.Warn, "was there already", ""},
		{"lower-gauge", []string{"write BEAT 65"}, operate.Refused, "outside 1 to 64", ""},
		{"lower-gauge", []string{"write LEVEL 2 m"}, operate.Refused, "read-only", ""},
		{"lower-gauge", []string{`raw "TEMP\n"`}, operate.OK, "WARMTH read 11.4 °C", ""},
		{"lower-gauge", []string{`raw "FLOOD\n"`}, operate.Fault, `refuses the message "FLOOD"`, ""},
		{"lower-gauge", []string{`raw "FLO`}, operate.Refused, "quote is not closed", ""},
		{"upper-gauge", []string{"raw 41 42"}, operate.OK, "2 characters sent", ""},
		{"pump", []string{"prove pump-drive"}, operate.OK, "TYPE holds 0x0001B207", ""},
		{"pump", []string{"read PRESSURE HOURS"}, operate.OK, "", "bar; 482 h"},
		{"pump", []string{"write TARGET 150 bar"}, operate.OK, "TARGET is 150 bar", ""},
		{"pump", []string{"write TARGET 181 bar"}, operate.Refused, "outside 0 bar to 180 bar", ""},
		{"pump", []string{"write MODE raise", "write RAMP 4 s"}, operate.Fault, "refuses: not in the present state; nothing is changed", ""},
		{"pump", []string{"read PLATE"}, operate.OK, "", `"hydraulic pump drive C"`},
		{"pump", []string{"write LABEL 'gate 2'"}, operate.OK, `LABEL is "gate 2"; before it was "lower gate"`, ""},
		{"pump", []string{"write LABEL 'lower gate'"}, operate.Warn, "proves nothing", ""},
		{"pump", []string{"write LABEL ''"}, operate.OK, `LABEL is ""`, ""},
		{"pump", []string{"write PLATE x"}, operate.Refused, "read-only", ""},
		{"pump", []string{"force write PLATE x"}, operate.Fault, "refuses: the object is read-only", ""},
		{"pump", []string{"force write HOURS 0x1"}, operate.Fault, "refuses: the object is read-only", ""},
		{"pump", []string{"read 0x2345 sub 1"}, operate.Fault, "the object does not exist", ""},
		{"pump", []string{"read 0x2100 sub 9"}, operate.Fault, "the sub-index does not exist", ""},
		{"pump", []string{"read 0x1008 sub 0"}, operate.OK, "", "hydraulic"},
		{"pump", []string{"raw 605 23 00 21 02 10 00 00 00"}, operate.Fault, "the length does not fit", ""},
		{"pump", []string{"raw 605 40 00 21 02 00 00 00 00"}, operate.OK, "pump-drive.TARGET read 120 bar", ""},
		{"pump", []string{"raw 605 70 00 00 00 00 00 00 00"}, operate.Fault, "it belongs to no transfer", ""},
		{"winch", []string{"prove winch-drive"}, operate.OK, "TYPE holds 0x0731", ""},
		{"winch", []string{"write LIMIT 100 rpm"}, operate.OK, "LIMIT is 100 rpm", ""},
		{"winch", []string{"force write SPEED 2 rpm"}, operate.Fault, "refuses: it can't be written", ""},
		{"winch", []string{"read 0x33"}, operate.Fault, "refuses: no such number", ""},
		{"winch", []string{"raw 620 99"}, operate.Fault, "refuses the message 99: unknown request", ""},
	} {
		r := do(t, session(t), c.link, c.ops...)
		assert.Equal(t, c.verdict, r.Verdict, "%s: %s", c.ops, says(r))
		assert.Contains(t, says(r), c.says, "%s", c.ops)
		meanings := ""
		for _, v := range r.Values {
			meanings += v.Meaning() + "; "
		}
		assert.Contains(t, meanings, c.value, "%s", c.ops)
	}
}

// TestWhatIsWrongWithAsking: each fault has its own sentence, no value is taken, and the
// next request works once it is mended.
func TestWhatIsWrongWithAsking(t *testing.T) {
	edit := func(value string, path ...string) []finding.Edit {
		return []finding.Edit{{Path: append([]string{"links"}, path...), Value: value}}
	}
	for _, c := range []struct {
		name, link   string
		edits        []finding.Edit
		plant, mends link.Intent
		op, says     string
	}{
		{"no supply", "lower-gauge", nil, link.Power{Device: "lower-gauge"}, link.Power{Device: "lower-gauge", On: true}, "prove lower-gauge", "does not answer within 30 ms: it is absent, without supply"},
		{"the MCU's wire cut", "lower-gauge", nil, link.Cut{End: "mcu"}, link.Cut{End: "mcu", Joined: true}, "read LEVEL", "does not answer within 30 ms"},
		{"the part's wire cut", "lower-gauge", nil, link.Cut{End: "device"}, link.Cut{End: "device", Joined: true}, "read LEVEL", "does not answer within 30 ms"},
		{"another frame", "lower-gauge", edit("8N1", "lower-gauge", "mcu", "frame"), nil, nil, "read LEVEL", "does not answer"},
		{"another rate at the part's end", "lower-gauge", edit("19.2 kBd", "lower-gauge", "device", "rate"), nil, nil, "read LEVEL", "does not answer"},
		{"no supply", "pump", nil, link.Power{Device: "pump-drive"}, link.Power{Device: "pump-drive", On: true}, "read PRESSURE", "nobody acknowledges it"},
		{"line held", "pump", nil, link.Hold{Role: "line"}, link.Hold{Role: "line", Release: true}, "read PRESSURE", ""},
		{"no supply", "winch", nil, link.Power{Device: "winch-drive"}, link.Power{Device: "winch-drive", On: true}, "read SPEED", "nobody acknowledges it"},
	} {
		h := session(t, c.edits...)
		if c.plant != nil {
			plant(t, h, c.link, c.plant)
		}
		l := h.Bench.Link(c.link)
		op, err := operation.Parse(c.op, l.Parts())
		require.NoError(t, err)
		r, err := operate.On(h, h.Bench, l).Do(context.Background(), c.op, op)
		if err == nil {
			assert.Equal(t, operate.Fault, r.Verdict, "%s, %s: %s", c.name, c.link, says(r))
			assert.Contains(t, says(r), c.says, "%s, %s", c.name, c.link)
			assert.Empty(t, r.Values)
		}
		if c.mends == nil {
			continue
		}
		plant(t, h, c.link, c.mends)
		require.NoError(t, h.Wait(context.Background(), h.Now()+200*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
		assert.Equal(t, operate.OK, do(t, h, c.link, c.op).Verdict, "%s, %s, fixed", c.name, c.link)
	}
}

// anyBench draws a bench with a part on a character link in random packets, and one on a
// can bus, as objects or in frames of its own; all hold the same registers.
func anyBench(t *rapid.T) (*sim.Headless, map[string][]string) {
	sizes := []int{8, 16, 24, 32}
	regs := map[string]int{}
	var names []string
	for i := range rapid.IntRange(1, 5).Draw(t, "registers") {
		name := fmt.Sprintf("R%d", i)
		names = append(names, name)
		regs[name] = rapid.SampledFrom(sizes).Draw(t, name)
	}
	described := "registers:\n"
	for i, n := range names {
		described += fmt.Sprintf("  %s: {number: %d, width: %d}\n", n, 0x200100+i*3, regs[n])
	}
	// A pattern of a size moves its bytes in any order.
	access := "access:\n"
	for _, bits := range sizes {
		if !strings.Contains(described, fmt.Sprintf("width: %d}", bits)) {
			continue
		}
		var cells []string
		for at := 0; at < bits; at += 8 {
			cells = append(cells, fmt.Sprintf("value[%d:%d]", at+7, at))
		}
		value := strings.Join(rapid.Permutation(cells).Draw(t, "order"), " ")
		access += fmt.Sprintf("  read%d: {out: %02X reg.24, in: 'echo.32 00 %s'}\n", bits, bits, value)
		access += fmt.Sprintf("  write%d: {out: '%02X reg.24 %s', in: echo.32 00}\n", bits, 0x80|bits, value)
	}
	access += "refusals: {in: echo.32 why.8, codes: {9: no}, when: {number: 9}}\n"
	framing := "packet:\n  begin: 7C\n  length: {bytes: 1, greatest: 60}\n"
	if rapid.Bool().Draw(t, "checked") {
		framing += fmt.Sprintf("  check: {bits: 16, polynomial: 0x1021, reflected: %s, start: 0x%X, order: %s}\n", rapid.SampledFrom([]string{"yes", "no"}).Draw(t, "reflected"), rapid.Uint16().Draw(t, "start"), rapid.SampledFrom([]string{"low-first", "high-first"}).Draw(t, "first"))
	}
	if rapid.Bool().Draw(t, "escaped") {
		framing += "  escape: {byte: 7D, of: 7C 7D, xor: 0x20}\n"
	}
	if rapid.Bool().Draw(t, "ended") {
		framing += "  end: 0D\n"
	}
	ways := "objects: {request: 0x612, response: 0x592}\n" + described
	if rapid.Bool().Draw(t, "frames") && !strings.Contains(described, "width: 32}") {
		ways = "frames: {request: 0x00012345, response: 0x592}\n" + described + access
	}
	files := fstest.MapFS{
		"serial.yaml": {Data: []byte("device: serial\nkind: uart\nend: {rate: 115.2 kBd, frame: 8N1}\n" + framing + described + access)},
		"node.yaml":   {Data: []byte("device: node\nkind: can\nend: {clock: 16 MHz, rate: 250 kbit/s, timing: '4, 1+13+2, 1', delay: 200 ns}\n" + ways)},
		"b.yaml": {Data: []byte(`bench: any
mcu:
  name: M
  clocks: {crystal: {source: 16 MHz}}
  units:
    u: {kind: uart, clock: crystal, oversampling: [8], fractional: {bits: 5, most: 4095}}
    c: {kind: can, clock: crystal, quanta: {prescaler: 64, seg1: 16, seg2: 8, jump: 4}}
links:
  serial: {kind: uart, unit: u, mcu: {rate: 115.2 kBd, frame: 8N1}, device: {file: serial.yaml}}
  node: {kind: can, unit: c, mcu: {rate: 250 kbit/s}, devices: {node: {file: node.yaml}}}
`)},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults, "%s", files["serial.yaml"].Data)
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), 2*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h, map[string][]string{"serial": names, "node": names}
}

// TestRegistersOfRandomParts: what is written to random registers of random parts is read
// back, what the MCU drives is what was planned, and the ledger has it.
func TestRegistersOfRandomParts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h, links := anyBench(t)
		for name, registers := range links {
			l := h.Bench.Link(name)
			part := l.Parts()[0]
			reg := part.Map.Named(rapid.SampledFrom(registers).Draw(t, "register"))
			to := rapid.Uint64().Draw(t, "to") & reg.Mask()
			text := fmt.Sprintf("write %s 0x%X", reg.Name, to)
			r := do(t, h, name, text)
			require.Contains(t, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, "%s: %s", text, says(r))
			require.Len(t, r.Changes, 1)
			require.Equal(t, to, r.Changes[0].After)
			r = do(t, h, name, "read "+reg.Name)
			require.Equal(t, to, r.Values[0].Raw)
			assert.Equal(t, operate.Fault, do(t, h, name, "raw "+missing(part)).Verdict)

			op, err := operation.Parse(text, l.Parts())
			require.NoError(t, err)
			steps, err := op.Fixed()
			require.NoError(t, err)
			snap := h.Store().Snapshot()
			plan, err := intent.New(l.Kind, l.Model.Tap(), steps[0].Texts[0], l.BitWith(0))
			require.NoError(t, err)
			met := false
			for i := snap.First(); i < snap.Len() && !met; i++ {
				if rec := snap.At(i); rec.From == record.MCU && rec.Link == l.Index {
					_, ds, meant := plan.Against(snap, rec, l.Model.Tap())
					met = meant && len(ds) == 0
				}
			}
			assert.True(t, met, "%s: nothing on the wire is as planned: %s", name, steps[0].Texts)

			led := ledger.New(h.Bench)
			led.Update(snap)
			k := led.Part(l.Index, 0)
			assert.Equal(t, to, k.Entries[reg].Content)
			assert.Equal(t, 1, k.Entries[reg].Writes)
			assert.Equal(t, 3, k.Entries[reg].Reads)
			assert.Equal(t, ledger.Answered, k.Presence())
		}
	})
}

// missing gives a request for a register that is not there, in the words of the bus.
func missing(p *operation.Part) string {
	reg := p.Map.Registers[0]
	steps, _ := p.ReadSteps(p.Map.Registers[:1], nil)
	u := steps[0].Plan.Use
	u.Number = reg.Address + 1
	plan, _ := steps[0].Plan.Pattern.Plan(u)
	text, _ := p.Ask(plan).Next()
	return text
}

// TestMeaningsAtAnyPlace: looking back from any record tells the same as reading all of
// them in order.
func TestMeaningsAtAnyPlace(t *testing.T) {
	h := session(t)
	for _, x := range [][2]string{{"lower-gauge", "prove lower-gauge"}, {"pump", "read PLATE"}, {"lower-gauge", "write BEAT 12"}, {"pump", "write LABEL north"}, {"winch", "read 0x33"}, {"winch", "write LIMIT 30 rpm"}} {
		do(t, h, x[0], x[1])
	}
	snap := h.Store().Snapshot()
	inOrder, within := h.Bench.Meanings(), h.Bench.Meanings().Within(&snap.Reader)
	said := 0
	var all []string
	for i := snap.First(); i < snap.Len(); i++ {
		r := snap.At(i)
		name := snap.Meta().Links[r.Link].Name
		all = append(all, inOrder.Text(name, r))
	}
	for i := snap.Len() - 1; i >= snap.First(); i-- {
		r := snap.At(i)
		text := within.Text(snap.Meta().Links[r.Link].Name, r)
		assert.Equal(t, all[i-snap.First()], text, "record %d", i)
		if text != "" {
			said++
		}
	}
	assert.Greater(t, said, 40)
	joined := strings.Join(all, "\n")
	for _, want := range []string{"asks for lower-gauge.TYPE", "lower-gauge.TYPE read 0x075", "writes lower-gauge.BEAT 0x0C", "lower-gauge.BEAT written 0x0C",
		`pump-drive.PLATE read "hydraulic pump drive C"`, "pump-drive.PLATE, a part of it", `writes pump-drive.LABEL ""`, `pump-drive.LABEL written "north"`,
		"winch-drive refuses 0x33: no such number", "winch-drive.LIMIT written 30 rpm"} {
		assert.Contains(t, joined, want)
	}
}

// TestLatePartsAreNamed: an answer behind the time that the file gives counts, and is told.
func TestLatePartsAreNamed(t *testing.T) {
	files := fstest.MapFS{
		"slow.yaml": {Data: []byte("device: slow\nkind: uart\nend: {rate: 9600 Bd, frame: 8N1}\nwithin: 5 ms\npower-up: 300 ms\naccess: {level: {out: \"'L'\", in: LEVEL.dec, after: 7 ms}}\nregisters: {LEVEL: {reset: 42}}\n")},
		"b.yaml": {Data: []byte(`bench: any
mcu:
  name: M
  clocks: {crystal: {source: 16 MHz}}
  units: {u: {kind: uart, clock: crystal, oversampling: [8], fractional: {bits: 5, most: 4095}}}
links:
  slow: {kind: uart, unit: u, mcu: {rate: 9600 Bd, frame: 8N1}, device: {file: slow.yaml}}
`)},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	r := do(t, h, "slow", "read LEVEL")
	assert.Equal(t, operate.Fault, r.Verdict, "it is not up yet")
	require.NoError(t, h.Wait(context.Background(), 400*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	r = do(t, h, "slow", "read LEVEL")
	assert.Equal(t, operate.Warn, r.Verdict)
	assert.Contains(t, says(r), "answered after 7")
	assert.Equal(t, uint64(42), r.Values[0].Raw)
}

func TestBadOperationsOnPartsThatAreAsked(t *testing.T) {
	h := session(t)
	for _, c := range []struct{ link, text, says string }{
		{"pump", "read 0x2100", "write index and sub-index"},
		{"pump", "read 0x2100 sub x", "a sub-index 8"},
		{"pump", "read 0x12100 sub 1", "an index has 16 bits"},
		{"pump", "write LABEL 0123456789012345678901", "at most 20"},
		{"pump", "read LABEL 5", "nothing follows a text"},
		{"pump", "read LABLE", "did you mean LABEL?"},
		{"lower-gauge", "read 0x10", "no register 0x10"},
		{"upper-gauge", "read LEVEL", "describes no registers"},
	} {
		_, err := operation.Parse(c.text, h.Bench.Link(c.link).Parts())
		assert.ErrorContains(t, err, c.says, c.text)
	}
}

// TestTheWireIsAsPlanned: random operations on the buses where both sides share the lines:
// every edge of the MCU's is the planned one.
func TestTheWireIsAsPlanned(t *testing.T) {
	h := session(t)
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.SampledFrom([]string{"gate", "hull"}).Draw(t, "link")
		l := h.Bench.Link(name)
		part := rapid.SampledFrom(l.Parts()).Draw(t, "part")
		var text string
		if m := part.Map.Memory; m != nil && len(part.Map.Registers) == 0 {
			text = fmt.Sprintf("write %s 0x%X %02X", part.Name, rapid.IntRange(0, m.Size-1).Draw(t, "at"), rapid.Byte().Draw(t, "byte"))
		} else {
			r := rapid.SampledFrom(part.Map.Registers).Draw(t, "register")
			text = fmt.Sprintf("force read %s.%s", part.Name, r.Name)
			if rapid.Bool().Draw(t, "writes") || !part.Readable(r) {
				text = fmt.Sprintf("force write %s.%s 0x%X", part.Name, r.Name, rapid.Uint64().Draw(t, "to")&r.Mask())
			}
		}
		r := do(t, h, name, text)
		snap := h.Store().Snapshot()
		for _, x := range r.Exchanges {
			require.NotNil(t, x.Record, text)
			ends := l.Model.Tap()
			plan, err := intent.New(l.Kind, ends, x.Text, l.BitWith(part.Index))
			require.NoError(t, err)
			_, ds, meant := plan.Against(snap, x.Record, ends)
			require.True(t, meant, "%s: %s", text, x.Text)
			for _, d := range ds {
				// A part may not acknowledge; else all is as planned.
				assert.Contains(t, d.String(), "acknowledge", "%s: %s", text, x.Text)
			}
		}
	})
}
