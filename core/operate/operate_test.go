package operate_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

// session gives the demo, without what its firmware does by itself, after all parts are
// up, and with edits.
func session(t require.TestingT, edits ...finding.Edit) *sim.Headless {
	text, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	b, faults := bench.Parse(demo.Files, demo.Bench, text)
	require.Empty(t, faults)
	for _, l := range []string{"gate", "hull"} {
		edits = append(edits, finding.Edit{Op: finding.Delete, Path: []string{"links", l, "mcu", "asks"}})
	}
	require.NoError(t, b.Apply(edits...))
	h := sim.NewHeadless(b)
	require.NoError(t, h.Wait(context.Background(), 10*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	return h
}

// do does operations one after the other, on one link, and gives the last result.
func do(t require.TestingT, h *sim.Headless, name string, texts ...string) *operate.Result {
	l := h.Bench.Link(name)
	on := operate.On(h, h.Bench, l)
	var r *operate.Result
	for _, text := range texts {
		op, err := operation.Parse(text, l.Parts())
		require.NoError(t, err, text)
		r, err = on.Do(context.Background(), text, op)
		require.NoError(t, err, text)
	}
	return r
}

func plant(t require.TestingT, h *sim.Headless, name string, i link.Intent) {
	_, err := h.Do(context.Background(), h.Bench.Link(name).Index, i)
	require.NoError(t, err)
}

func says(r *operate.Result) string { return strings.Join(r.Says, "; ") }

// TestWhatComesOfOperations: on a healthy bench, each by its verdict, what it says, and
// what was read.
func TestWhatComesOfOperations(t *testing.T) {
	for _, c := range []struct {
		link    string
		ops     []string
		verdict operate.Verdict
		says    string
		value   string
	}{
		{"gate", []string{"prove leaf-angle"}, operate.OK, "is what its file describes: ID holds 0xA6", "0xA6"},
		{"gate", []string{"read leaf-angle.angle"}, operate.OK, "", "°"},
		{"gate", []string{"read leaf-angle 0x00 count 2"}, operate.OK, "", "0xA6"},
		{"gate", []string{"read leaf-angle.REV MODE"}, operate.OK, "", "0x21"},
		{"gate", []string{"write leaf-angle.MODE.AVERAGE none"}, operate.OK, "AVERAGE is none", ""},
		{"gate", []string{"write leaf-angle.MODE.AVERAGE 16 readings"}, operate.Warn, "was there already: reading it back proves nothing", ""},
		{"gate", []string{"write leaf-angle.zero -1.5 °"}, operate.Warn, "can't be -1.5 ° exactly", ""},
		{"gate", []string{"write leaf-angle.ID 0"}, operate.Refused, "read-only", ""},
		{"gate", []string{"write leaf-angle.MODE 0x04"}, operate.Refused, "reserved bits 2 of MODE", ""},
		{"gate", []string{"force write leaf-angle.MODE 0x04"}, operate.OK, "MODE is 0x04", ""},
		{"gate", []string{"write leaf-angle.MODE.AVERAGE 3 readings"}, operate.Refused, "known are none, 4 readings", ""},
		{"gate", []string{"write trim.POSITION 100 %"}, operate.OK, "can't be read back: nothing proves", ""},
		{"gate", []string{"write trim.POSITION 101 %"}, operate.Refused, "0 % to 100 %", ""},
		{"gate", []string{"do trim.store"}, operate.OK, "store was sent", ""},
		{"gate", []string{"read valve-bank.LOADS"}, operate.Refused, "writes VALVES too", ""},
		{"gate", []string{"write valve-bank.VALVES 0x0F0", "read valve-bank.LOADS"}, operate.OK, "", "0x0000"},
		{"gate", []string{"write valve-bank.VALVES.UPPER 0x3F"}, operate.Refused, "write the whole register", ""},
		{"gate", []string{"write valve-bank.VALVES 0x0F0", "write valve-bank.VALVES.UPPER 0x3F"}, operate.OK, "VALVES.UPPER written: 0x3F", ""},
		{"gate", []string{"raw select 1 out 01 00 00"}, operate.OK, "leaf-angle.ID read 0xA6", ""},
		{"hull", []string{"prove leaf-tilt"}, operate.OK, "ID holds 0xC5", "0xC5"},
		{"hull", []string{"do leaf-tilt.measure"}, operate.OK, "measure is over after", "new reading"},
		{"hull", []string{"write leaf-tilt.CTRL.RANGE 45°"}, operate.OK, "RANGE is 45°", ""},
		{"hull", []string{"read boat-lamps.FLOATS"}, operate.OK, "", "0xF00F"},
		{"hull", []string{"write boat-lamps.LAMPS 0x0000"}, operate.OK, "can't be read back", ""},
		{"hull", []string{"raw start 5A ack 00 ack stop"}, operate.Fault, "the address was not acknowledged", ""},
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

// TestWhatIsWrong: each fault of wire, part and settings has its own outcome and
// sentence, where the wire shows a difference.
func TestWhatIsWrong(t *testing.T) {
	mcu := func(key, value string) []finding.Edit {
		return []finding.Edit{{Path: []string{"links", "gate", "devices", "leaf-angle", "mcu", key}, Value: value}}
	}
	for _, c := range []struct {
		name  string
		link  string
		edits []finding.Edit
		plant link.Intent
		op    string
		says  string
	}{
		{"mode 0", "gate", mcu("mode", "0"), nil, "prove leaf-angle", "shifted by one bit"},
		{"mode 0", "gate", mcu("mode", "0"), nil, "read leaf-angle.REV", "nobody drives the line at bits 7 of REV: one side samples at the wrong edge"},
		{"order", "gate", mcu("order", "lsb"), nil, "prove leaf-angle", "leaf-angle answers, but nothing comes where ID should stand"},
		{"in cut", "gate", nil, link.Cut{End: "in"}, "prove leaf-angle", "nobody drives the line while ID should come back"},
		{"in held", "gate", nil, link.Hold{Role: "in"}, "prove leaf-angle", "all zeros"},
		{"no supply", "gate", nil, link.Power{Device: "leaf-angle"}, "read leaf-angle.angle", "without supply"},
		{"another part", "gate", nil, link.Preset{Device: "leaf-angle", Value: "ID", Bits: 0x5a}, "prove leaf-angle", "another part"},
		{"out cut", "gate", nil, link.Cut{End: "out"}, "prove leaf-angle", "answers, but nothing comes where ID should stand: what is sent does not reach it"},
		{"out cut", "gate", nil, link.Cut{End: "out"}, "write leaf-angle.MODE 0", "answers, but nothing comes where MODE should stand"},
		{"no supply", "hull", nil, link.Power{Device: "leaf-tilt"}, "prove leaf-tilt", "the address was not acknowledged"},
		{"data held", "hull", nil, link.Hold{Role: "data"}, "prove leaf-tilt", "held low"},
		{"another part", "hull", nil, link.Preset{Device: "leaf-tilt", Value: "ID", Bits: 0x3a}, "prove leaf-tilt", "all bits are inverted"},
	} {
		edits := c.edits
		if c.name == "data held" {
			edits = append(edits, finding.Edit{Path: []string{"links", "hull", "mcu", "stuck"}, Value: "5 ms"})
		}
		h := session(t, edits...)
		if c.plant != nil {
			plant(t, h, c.link, c.plant)
		}
		r := do(t, h, c.link, c.op)
		assert.Equal(t, operate.Fault, r.Verdict, "%s, %s: %s", c.name, c.op, says(r))
		assert.Contains(t, says(r), c.says, "%s, %s", c.name, c.op)
	}
}

// TestAfterAFailureTheNextWorks: what failed leaves the bus idle.
func TestAfterAFailureTheNextWorks(t *testing.T) {
	h := session(t)
	for name, device := range map[string]string{"gate": "leaf-angle", "hull": "leaf-tilt"} {
		plant(t, h, name, link.Power{Device: device})
		require.Equal(t, operate.Fault, do(t, h, name, "prove "+device).Verdict)
		plant(t, h, name, link.Power{Device: device, On: true})
		require.NoError(t, h.Wait(context.Background(), h.Now()+10*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
		require.Equal(t, operate.OK, do(t, h, name, "prove "+device).Verdict)
	}
}

// TestFieldsAreWrittenAlone: random contents and fields: only the field's bits change.
func TestFieldsAreWrittenAlone(t *testing.T) {
	h := session(t)
	part := h.Bench.Link("gate").Parts()[0]
	mode := part.Map.Named("MODE")
	rapid.Check(t, func(rt *rapid.T) {
		before := rapid.Uint64().Draw(rt, "before") & ^mode.Reserved() & 0xff
		plant(rt, h, "gate", link.Preset{Device: "leaf-angle", Value: "MODE", Bits: before})
		f := &mode.Fields[rapid.IntRange(0, len(mode.Fields)-1).Draw(rt, "field")]
		to := rapid.Uint64().Draw(rt, "to") & (1<<f.Bits - 1)
		r := do(rt, h, "gate", "write leaf-angle.MODE."+f.Name+" "+f.Meaning(to))
		require.Len(rt, r.Changes, 1)
		ch := r.Changes[0]
		require.Equal(rt, before, ch.Before)
		require.Equal(rt, before&^f.Mask()|to<<f.Low, ch.After)
		want := operate.OK
		if ch.After == before {
			want = operate.Warn
		}
		require.Equal(rt, want, r.Verdict, says(r))
	})
}

// TestReasonsOfAnotherIdentity: each way in which an identity may be spoilt is told from
// the others.
func TestReasonsOfAnotherIdentity(t *testing.T) {
	for _, c := range []struct {
		got, driven uint64
		says        string
	}{
		{0xff, 0xff, "all ones"}, {0x00, 0xff, "all zeros"}, {0x53, 0xff, "shifted"}, {0x4c, 0xff, "shifted"}, {0xd3, 0xff, "shifted"},
		{0x65, 0xff, "opposite order"}, {0x59, 0xff, "inverted"}, {0xb7, 0xff, "another part"}, {0x53, 0x7f, "shifted by one bit: one side samples at the wrong edge (mode), or an edge is lost or added; at bits 7 nobody drove"},
	} {
		assert.Contains(t, operate.Unlike(c.got, c.driven, 0xa6, 8, true), c.says, "%02X", c.got)
		assert.NotContains(t, operate.Unlike(c.got, c.driven, 0xa6, 8, false), "mode", "a bus without selects has none")
	}
}

// TestBadOperations: each has one message that says how to mend it.
func TestBadOperations(t *testing.T) {
	h := session(t)
	for _, c := range []struct{ link, text, says string }{
		{"gate", "", "say what to do: read, write"},
		{"gate", "force", "say what to do"},
		{"gate", "wirte leaf-angle.ID", "did you mean write?"},
		{"gate", "read", "say which part: leaf-angle, valve-bank, trim"},
		{"gate", "read leaf-angel.ID", "did you mean leaf-angle?"},
		{"gate", "read leaf-angle", "say what of leaf-angle"},
		{"gate", "read leaf-angle.IDD", "did you mean ID?"},
		{"gate", "read leaf-angle 0x80", "no register 0x80"},
		{"gate", "read leaf-angle 0x01 count 0", "from 1 to 4096"},
		{"gate", "read leaf-angle 0x01 2", "nothing follows"},
		{"gate", "write leaf-angle.MODE", "say what is written"},
		{"gate", "write leaf-angle 0x33 5", "no register 0x33 in its file"},
		{"gate", "prove trim", "names no identity"},
		{"gate", "prove leaf-angle.ID", "alone"},
		{"gate", "do trim.stor", "did you mean store?"},
		{"gate", "do trim.store 5", "nothing follows"},
		{"gate", "raw", "write the words"},
		{"hull", "raw start 4B ack .. nack stop", "4B on the wire is address 25, where no part is; did you mean leaf-tilt at 4B (96 on the wire to write, 97 to read)?"},
		{"hull", "raw start 96 ack 10 ack restart 21 ack .. nack stop", "did you mean boat-lamps at 21"},
		{"hull", "read log-memory.x", "say which bytes of log-memory, as 0x40"},
		{"hull", "read log-memory 0x2000", "8192 bytes, 0x0 to 0x1FFF"},
		{"hull", "read log-memory 0x1FFF count 2", "reach beyond the last"},
		{"hull", "read log-memory 0x10 count x", "write a number from 1"},
		{"hull", "write log-memory 0x10", "write bytes in hex"},
		{"hull", "write log-memory 0x10 5", "write bytes in hex"},
		{"hull", "write log-memory 0x10 count 2 05 06", "no meaning beside bytes"},
		{"hull", "fill log-memory 0x10 count 4 05 06", "fill takes one byte"},
		{"hull", "compare leaf-tilt 0x10 05", "name bytes of a memory"},
	} {
		_, err := operation.Parse(c.text, h.Bench.Link(c.link).Parts())
		assert.ErrorContains(t, err, c.says, c.text)
	}
	for _, text := range []string{"force raw start 4B ack .. nack stop", "raw start 96 ack 4B ack stop", "raw start 5A ack stop"} {
		_, err := operation.Parse(text, h.Bench.Link("hull").Parts())
		assert.NoError(t, err, text)
	}
	_, err := operation.Parse("read x", nil)
	assert.ErrorContains(t, err, "no parts with registers")
}

// TestScans: expected parts first, a part with wrong straps as a stranger near the one that
// is missing, and a held bus.
func TestScans(t *testing.T) {
	for _, text := range []string{"scan", "scan reading"} {
		r := do(t, session(t), "hull", text)
		assert.Equal(t, operate.OK, r.Verdict)
		assert.Len(t, r.Found, 3)
		assert.Contains(t, says(r), "the other 109 addresses are silent")

		h := session(t, finding.Edit{Path: []string{"links", "hull", "devices", "boat-lamps", "strapped"}, Value: "0x23"})
		require.Equal(t, "strap-differs", h.Bench.Link("hull").Lint()[0].Code)
		r = do(t, h, "hull", text)
		assert.Equal(t, operate.Fault, r.Verdict)
		assert.Contains(t, says(r), "boat-lamps does not answer at 21")
		assert.Contains(t, says(r), "a stranger answers at 23 (46, 47 on the wire), one strap away from boat-lamps, which is missing")
		plant(t, h, "hull", link.Power{Device: "boat-lamps"})
		assert.NotContains(t, says(do(t, h, "hull", text)), "stranger")
	}
	h := session(t, finding.Edit{Path: []string{"links", "hull", "mcu", "stuck"}, Value: "5 ms"})
	plant(t, h, "hull", link.Hold{Role: "data"})
	r := do(t, h, "hull", "scan")
	assert.Equal(t, operate.Fault, r.Verdict)
	assert.Contains(t, says(r), "the scan was ended")
	assert.Contains(t, says(do(t, h, "hull", "free")), "still low after 9 pulses")
	plant(t, h, "hull", link.Hold{Role: "data", Release: true})
	assert.Contains(t, says(do(t, h, "hull", "free")), "nobody held it")
	plant(t, h, "hull", link.Hold{Role: "clock"})
	assert.Contains(t, says(do(t, h, "hull", "free")), "the clock is held low")
	plant(t, h, "hull", link.Hold{Role: "clock", Release: true})
	require.NoError(t, h.Wait(context.Background(), h.Now()+quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
	r = do(t, h, "hull", "prove leaf-tilt")
	assert.Equal(t, operate.OK, r.Verdict, says(r))
	_, err := operation.Parse("free", h.Bench.Link("gate").Parts())
	assert.ErrorContains(t, err, "only an I2C bus can be freed")
	_, err = operation.Parse("free it", h.Bench.Link("hull").Parts())
	assert.ErrorContains(t, err, "nothing follows free")
	_, err = operation.Parse("scan", h.Bench.Link("gate").Parts())
	assert.ErrorContains(t, err, "parts on SPI have no addresses")
	_, err = operation.Parse("scan all", h.Bench.Link("hull").Parts())
	assert.ErrorContains(t, err, "write scan, or scan reading")
}

// TestMemories: random writings, over pages, arrive as a model of the memory has them, also
// after the supply was gone; what is torn by losing it is told.
func TestMemories(t *testing.T) {
	h := session(t)
	model := make([]byte, 8192)
	for i := range model {
		model[i] = 0xff
	}
	rapid.Check(t, func(rt *rapid.T) {
		from := rapid.IntRange(0, 8191).Draw(rt, "from")
		data := rapid.SliceOfN(rapid.Byte(), 1, min(200, 8192-from)).Draw(rt, "data")
		r := do(rt, h, "hull", fmt.Sprintf("write log-memory 0x%X % X", from, data))
		require.Contains(rt, []operate.Verdict{operate.OK, operate.Warn}, r.Verdict, says(r))
		copy(model[from:], data)
		if rapid.IntRange(0, 9).Draw(rt, "supply") == 0 {
			require.NoError(rt, h.Wait(context.Background(), h.Now()+20*quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
			plant(rt, h, "hull", link.Power{Device: "log-memory"})
			require.Equal(rt, operate.Fault, do(rt, h, "hull", "read log-memory 0x0").Verdict)
			plant(rt, h, "hull", link.Power{Device: "log-memory", On: true})
		}
		at := rapid.IntRange(max(from-20, 0), from).Draw(rt, "read from")
		n := min(len(data)+40, 8192-at)
		r = do(rt, h, "hull", fmt.Sprintf("read log-memory 0x%X count %d", at, n))
		require.NotEqual(rt, operate.Fault, r.Verdict, says(r))
		require.Equal(rt, model[at:at+n], r.Bytes)
		require.Equal(rt, operate.OK, do(rt, h, "hull", fmt.Sprintf("compare log-memory 0x%X % X", from, data)).Verdict)
		other := append([]byte(nil), data...)
		other[len(other)-1] ^= 1
		require.Equal(rt, operate.Fault, do(rt, h, "hull", fmt.Sprintf("compare log-memory 0x%X % X", from, other)).Verdict)
	})
}

// TestPages: pieces of a writing never cross a page, and cover it exactly.
func TestPages(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		page := rapid.IntRange(1, 300).Draw(rt, "page")
		m := device.Memory{Page: page, Size: page * rapid.IntRange(1, 50).Draw(rt, "pages")}
		from := rapid.IntRange(0, m.Size-1).Draw(rt, "from")
		n := rapid.IntRange(1, m.Size-from).Draw(rt, "bytes")
		at := uint64(from)
		for _, u := range m.Pages(uint64(from), n) {
			require.Equal(rt, at, u.Number)
			require.Positive(rt, u.Units)
			require.Equal(rt, at/uint64(page), (at+uint64(u.Units)-1)/uint64(page))
			at += uint64(u.Units)
		}
		require.Equal(rt, uint64(from+n), at)
	})
}

// TestImages: what was saved is loaded again; a file that is bad, too large or there
// already is refused.
func TestImages(t *testing.T) {
	h := session(t)
	for _, name := range []string{"a.hex", "a.s19"} {
		file := filepath.Join(t.TempDir(), name)
		do(t, h, "hull", "write log-memory 0x3E 01 02 03 04")
		require.Equal(t, operate.OK, do(t, h, "hull", "save log-memory 0x30 count 40 "+file).Verdict)
		assert.Contains(t, says(do(t, h, "hull", "save log-memory 0x30 count 40 "+file)), "can't be written: it is there already")
		do(t, h, "hull", "fill log-memory 0x30 count 40 00")
		r := do(t, h, "hull", "load log-memory "+file)
		require.Equal(t, operate.OK, r.Verdict, says(r))
		require.Equal(t, operate.OK, do(t, h, "hull", "compare log-memory 0x3E 01 02 03 04").Verdict)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		text[12] ^= 1
		require.NoError(t, os.WriteFile(file, text, 0o600))
		r = do(t, h, "hull", "load log-memory "+file)
		assert.Equal(t, operate.Refused, r.Verdict)
		assert.Contains(t, says(r), "line 1: ")
	}
	big := filepath.Join(t.TempDir(), "big.bin")
	require.NoError(t, os.WriteFile(big, make([]byte, 8193), 0o600))
	assert.Contains(t, says(do(t, h, "hull", "load log-memory "+big)), "log-memory has 0x0 to 0x1FFF")
	assert.Contains(t, says(do(t, h, "hull", "load log-memory /nowhere.bin")), "can't be read")
}
