package device

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/register"
)

const askedPump = `device: doser
kind: uart
end: {rate: 9600 Bd, frame: 8N1}
packet:
  begin: 7C
  length: {bytes: 1, least: 1, greatest: 40, order: low-first}
  escape: {byte: E3, of: 7C E3, xor: 0x11}
  check: {kind: crc, bits: 16, polynomial: 0x1021, start: 0xFFFF}
within: 20 ms
refusals:
  in: 1 echo.7 why.8
  codes: {1: unknown, 2: too long}
  when: {unknown: 1, length: 2, number: 3, read-only: 4, write-only: 5, range: 6, busy: 7}
access:
  level: {out: "11", in: "1 echo.7 00 LEVEL[7:0] LEVEL[15:8]", after: 2 ms}
  dose:  {out: 21 DOSE, in: 1 echo.7 00}
  plate: {out: "31", in: 1 echo.7 00 PLATE}
  name:  {out: 32 NAME, in: 1 echo.7 00}
  dump:  {out: 41 reg.16 count.8, in: "1 echo.7 00 | value.8 ...", most: 8}
  reset: {out: "51", in: 1 echo.7 00}
registers:
  LEVEL: {width: 16, access: read-only, coding: signed, scale: 0.1 mm}
  DOSE:  {least: 1, greatest: 90}
  LOCK:  {number: 0x100}
  KEY:   {number: 0x101, access: write-only}
texts:
  PLATE: {characters: 12, access: read-only, holds: doser 3}
  NAME:  {characters: 4, access: write-only}
memory: {size: 256}
behaviour:
  values: {LEVEL: -12.5}
  refuses: {DOSE: LOCK == 1}
`

// TestAnAskedPart: each request has the answer that the file says.
func TestAnAskedPart(t *testing.T) {
	d, faults := Parse("p.yaml", []byte(askedPump))
	require.Empty(t, faults)
	r, part := d.Start(0, rand.New(rand.NewPCG(1, 1)), nil)
	now := quantity.Time(0)
	ask := func(content string, spoilt bool) string {
		raw, err := d.Map.Dialogue.Packet.Wrap([]byte(content))
		require.NoError(t, err)
		for i, b := range raw {
			now += quantity.Millisecond
			c := uart.Char{Value: uint16(b), End: now}
			if spoilt && i == 2 {
				c.Flags = 1
			}
			r.Receive(c)
		}
		at := r.Wake()
		if at == quantity.Forever {
			return ""
		}
		if content == "\x11" {
			assert.Equal(t, now+2*quantity.Millisecond, at)
		}
		now = at
		out := r.Step(at)
		n := len(out) - 2 - d.Map.Dialogue.Packet.Check.Size()
		return fmt.Sprintf("% X", out[2:2+n])
	}
	assert.Equal(t, "91 00 83 FF", ask("\x11", false))
	assert.Equal(t, "", ask("\x11", true), "a damaged request is not answered")
	assert.Equal(t, "A1 00", ask("\x21\x10", false))
	assert.Equal(t, "A1 06", ask("\x21\x5B", false), "out of range")
	assert.Equal(t, "A1 02", ask("\x21", false))
	assert.Equal(t, "B1 00 64 6F 73 65 72 20 33", ask("\x31", false))
	assert.Equal(t, "B2 00", ask("\x32ab", false))
	assert.Equal(t, "B2 02", ask("\x32abcde", false))
	assert.Equal(t, "ab", part.texts[d.Map.TextNamed("name")])
	assert.Equal(t, "C1 00 FF FF", ask("\x41\x00\x05\x02", false))
	assert.Equal(t, "C1 06", ask("\x41\x00\x05\x09", false), "more than it takes in one go")
	assert.Equal(t, "C1 00 00", ask("\x41\x01\x00\x01", false))
	assert.Equal(t, "C1 05", ask("\x41\x01\x01\x01", false))
	assert.Equal(t, "C1 03", ask("\x41\x01\x02\x01", false))
	assert.Equal(t, "D1 00", ask("\x51", false))
	assert.Equal(t, "FF 01", ask("\x7F", false))
	require.NoError(t, part.Preset("LOCK", 1))
	assert.Equal(t, "A1 07", ask("\x21\x10", false))
	require.NoError(t, part.PresetBytes("0x05", []byte{1, 2}))
	assert.Equal(t, "C1 00 01 02", ask("\x41\x00\x05\x02", false))
	require.NoError(t, part.PresetBytes("PLATE", []byte("x")))
	assert.Equal(t, "B1 00 78", ask("\x31", false))
	assert.Error(t, part.PresetBytes("0xFF", []byte{1, 2}))
	assert.Error(t, part.PresetBytes("NAME", []byte("abcde")))
	assert.Error(t, part.PresetBytes("nothing", []byte{1}))
}

const askedDrive = `device: drive
kind: can
end: {clock: 16 MHz, rate: 250 kbit/s, timing: "4, 1+13+2, 1"}
objects: {request: 0x605, response: 0x585, within: 50 ms, after: 600 us}
registers:
  SPEED: {number: 0x2100 sub 1, width: 16, coding: signed}
  FAULT: {number: 0x2100 sub 2, access: read-only}
texts:
  PLATE: {number: 0x1008 sub 0, characters: 8, holds: drive}
power-up: 10 ms
`

func TestADriveOnCAN(t *testing.T) {
	d, faults := Parse("d.yaml", []byte(askedDrive))
	require.Empty(t, faults)
	node, part := d.OnCAN(0, nil)
	frame := func(id uint32, data ...byte) can.Frame { return can.Frame{ID: id, Data: data} }
	early, _ := node.Take(quantity.Millisecond, frame(0x605, 0x40, 0, 0x21, 1, 0, 0, 0, 0))
	assert.Empty(t, early, "it is not up yet")
	now := 20 * quantity.Millisecond
	for _, f := range []can.Frame{
		frame(0x606, 0x40, 0, 0x21, 1, 0, 0, 0, 0), frame(0x605, 0x40, 0, 0x21, 1),
		{ID: 0x605, Extended: true, Data: make([]byte, 8)}, {ID: 0x605, Remote: true, DLC: 8},
	} {
		answers, _ := node.Take(now, f)
		assert.Empty(t, answers, "%+v", f)
	}
	require.NoError(t, part.Preset("SPEED", 0xFFFE))
	answers, after := node.Take(now, frame(0x605, 0x40, 0, 0x21, 1, 0, 0, 0, 0))
	require.Len(t, answers, 1)
	assert.Equal(t, 600*quantity.Microsecond, after)
	assert.Equal(t, frame(0x585, 0x4B, 0, 0x21, 1, 0xFE, 0xFF, 0, 0), answers[0])
	answers, _ = node.Take(now, frame(0x605, 0x2F, 0, 0x21, 2, 1, 0, 0, 0))
	assert.Equal(t, byte(0x80), answers[0].Data[0])
	answers, _ = node.Take(now, frame(0x605, 0x21, 8, 0x10, 0, 9, 0, 0, 0))
	assert.Equal(t, []byte{0x80, 8, 0x10, 0, 0x10, 0, 7, 6}, answers[0].Data, "it has 8 characters")
}

// TestBadAskedParts changes one thing at a time: each has one message with its place.
func TestBadAskedParts(t *testing.T) {
	for _, c := range []struct{ file, from, to, says string }{
		{askedPump, "begin: 7C", "begin: ''", "1 to 16 bytes"},
		{askedPump, "  begin: 7C\n", "", "nothing says where one begins"},
		{askedPump, "  length: {bytes: 1, least: 1, greatest: 40, order: low-first}\n", "", "nothing says where one ends"},
		{askedPump, "greatest: 40", "greatest: 300", "don't fit a length of 1 bytes"},
		{askedPump, "least: 1,", "least: 50,", "0 to 4096"},
		{askedPump, "packet:\n", "packet:\n  most: 20\n", "most has no effect"},
		{askedPump, "byte: E3", "byte: E3 E4", "an escape is one byte"},
		{askedPump, "of: 7C E3", "of: 7C", "must be hidden too"},
		{askedPump, "xor: 0x11", "xor: 0", "hides nothing"},
		{askedPump, "xor: 0x11", "xor: 0x9F", "which is hidden itself"},
		{askedPump, "bits: 16, polynomial: 0x1021", "bits: 8, polynomial: 0x1021", "have 8 bits"},
		{askedPump, "polynomial: 0x1021", "polynomial: 0x1020", "lowest bit is 1"},
		{askedPump, "kind: crc", "kind: sum", "belongs to a crc"},
		{askedPump, "start: 0xFFFF", "start: 0xFFFF, negated: yes", "belongs to a sum"},
		{askedPump, "kind: crc", "kind: md5", "expected one of crc, sum, xor"},
		{askedPump, "in: 1 echo.7 why.8", "in: 1 echo.7 value.8", "has no place in a refusal"},
		{askedPump, "codes: {1: unknown,", "codes: {300: unknown,", "of the bits that why has"},
		{askedPump, "busy: 7", "busy: 700", "of the bits that why has"},
		{askedPump, "busy: 7", "bussy: 7", `did you mean "busy"?`},
		{askedPump, `out: "11"`, `out: "41 00 00 00"`, "can't be told from another operation"},
		{askedPump, `  level: {out: "11", in: "1 echo.7 00 LEVEL[7:0] LEVEL[15:8]", after: 2 ms}`, `  level: {out: "11", in: "1 echo.7 00 LEVEL[7:0]", after: 2 ms}`, "8 of them stand"},
		{askedPump, "dose:  {out: 21 DOSE,", "dose:  {", `has no "out"`},
		{askedPump, "after: 2 ms", "after: soon", "write a time"},
		{askedPump, "dose:  {out: 21 DOSE,", "dose:  {most: 2, out: 21 DOSE,", "most has no effect"},
		{askedPump, "characters: 12", "characters: 3", "it holds 7"},
		{askedPump, "  NAME:  {characters: 4, access: write-only}", "  LEVEL: {characters: 4}", "name of something else"},
		{askedPump, "  NAME:  {characters: 4, access: write-only}", "  NAME:  {characters: 4}\n  MORE: {characters: 4}", "no pattern reads or writes MORE"},
		{askedPump, "LEVEL: -12.5", "LEVLE: -12.5, LEVEL: 1", "did you mean LEVEL?"},
		{askedPump, "refuses: {DOSE: LOCK == 1}", "refuses: {DOZE: LOCK == 1}", "did you mean DOSE?"},
		{askedPump, "refuses: {DOSE: LOCK == 1}", "refuses: {DOSE: LOK == 1}", "no LOK"},
		{askedPump, "  values: {LEVEL: -12.5}\n", "  otherwise: no\n", "no effect beside registers"},
		{askedPump, "  values: {LEVEL: -12.5}\n", "  line-end: x\n", "line-end has no effect"},
		{askedDrive, "request: 0x605", "request: 0x1605FFFFF", "no identifier"},
		{askedDrive, "response: 0x585", "response: 0x605", "the identifier 605"},
		{askedDrive, "objects: {", "frames: {request: 1, response: 2}\nobjects: {", "by objects or by frames"},
		{askedDrive, "objects: {request: 0x605, response: 0x585, within: 50 ms, after: 600 us}\n", "", "with which identifiers"},
		{askedDrive, "power-up: 10 ms", "access: {x: {out: '01'}}", "no effect: objects are reached as in CiA 301"},
		{askedDrive, "width: 16, coding: signed", "width: 12, coding: signed", "objects have whole bytes"},
		{askedDrive, "{number: 0x2100 sub 2, access", "{access", "as 0x2001 sub 1"},
		{askedDrive, "0x2100 sub 2", "0x2100 sub 1", "have the number 0x210001"},
		{askedDrive, "0x2100 sub 2", "0x2100 sub 300", "write index and sub-index"},
		{askedDrive, "0x1008 sub 0", "0x2100 sub 1", "another has the number"},
		{"device: d\nkind: uart\nend: {rate: 9600 Bd, frame: 8N1}\nEDIT\n", "EDIT", "packet: {end: 0A}", "packet without registers"},
		{"device: d\nkind: uart\nend: {rate: 9600 Bd, frame: 8N1}\nEDIT\n", "EDIT", "behaviour: {refuses: {A: 1}}", "refuses without registers"},
		{"device: d\nkind: can\nend: {clock: 16 MHz, rate: 250 kbit/s, timing: '4, 1+13+2, 1'}\nEDIT\n", "EDIT", "objects: {request: 1, response: 2}", "objects without registers"},
	} {
		text := strings.Replace(c.file, c.from, c.to, 1)
		require.NotEqual(t, c.file, text, c.from)
		_, faults := Parse("p.yaml", []byte(text))
		require.NotEmpty(t, faults, "%s", c.to)
		assert.Contains(t, faults[0].Seen+" "+faults[0].Change, c.says, "%s", c.to)
		assert.Positive(t, faults[0].Where.Line, "%s", c.to)
		assert.NotEmpty(t, faults[0].Change, "%s", c.to)
	}
}

const pagedPart = `device: paged
kind: spi
end: {mode: 0, most: 4 MHz, valid: 40 ns}
access:
  read:  {out: reg.7 1 | skip.8, in: skip.8 | value.8}
  write: {out: reg.7 0 | value.8}
pages: BANK
registers:
  BANK: {number: 2, width: 8}
  A:    {number: 0x20, page: 0}
  B:    {number: 0x20, page: 3, reset: 7}
`

func TestPagesOfAPart(t *testing.T) {
	d, faults := Parse("p.yaml", []byte(pagedPart))
	require.Empty(t, faults)
	p := d.NewPart(nil)
	p.Write(0x20, 9)
	assert.Equal(t, uint64(9), p.Read(0x20))
	p.Write(2, 3)
	assert.Equal(t, uint64(7), p.Read(0x20))
	p.Write(2, 1)
	assert.Zero(t, p.Size(0x20), "there is no such register on page 1")
	assert.Nil(t, d.Map.OnPage(0x20, NoPage, false))
	for _, c := range []struct{ from, to, says string }{
		{"pages: BANK\n", "", "nothing says how one gets there"},
		{"pages: BANK", "pages: BANQ", "did you mean BANK?"},
		{"BANK: {number: 2,", "BANK: {number: 2, page: 1,", "is on one itself"},
		{"page: 3,", "page: 300,", "does not fit the 8 bits"},
		{"page: 3,", "page: 0,", "have the number 0x20"},
		{"page: 3,", "", "have the number 0x20"},
		{"BANK: {number: 2, width: 8}", "BANK: {number: 2, width: 12, in-turn: low-first}", "no pattern moves a part of its 12 bits"},
		{"BANK: {number: 2, width: 8}", "BANK: {number: 2, width: 16, in-turn: first}", "one of high-first, low-first"},
		{"page: 3,", "page: three,", "whole number"},
		{"pages: BANK", "check: {bits: 8, polynomial: 6}\npages: BANK", "lowest bit is 1"},
		{"pages: BANK", "check: {bits: 8, polynomial: 7, over: all}\npages: BANK", "one of word, line"},
		{"| value.8}", "| value.8 check}", "below `check:`"},
		{"write: {out: reg.7 0 | value.8}", "write: {out: reg.7 0 | value.8 check.4 skip.4}\ncheck: {bits: 8, polynomial: 7}", "the check has 8 bits"},
		{"write: {out: reg.7 0 | value.8}", "write: {out: check reg.7 0 | value.8}\ncheck: {bits: 8, polynomial: 7}", "nothing in front of it that it covers"},
		{", page: 0}\n  B:    {number: 0x20, page: 3, reset: 7}", "}", "no register is on a page"},
	} {
		_, faults := Parse("p.yaml", []byte(strings.Replace(pagedPart, c.from, c.to, 1)))
		require.NotEmpty(t, faults, c.to)
		assert.Contains(t, faults[0].Seen+" "+faults[0].Change, c.says, c.to)
		assert.Positive(t, faults[0].Where.Line, c.to)
	}
}

// TestRegistersFromATable: a table beside the file gives registers, which the file may say
// more of.
func TestRegistersFromATable(t *testing.T) {
	const file = `device: tabled
kind: spi
end: {mode: 0, most: 4 MHz, valid: 40 ns}
access:
  read:  {out: reg.7 1 | skip.8, in: skip.8 | value.8}
  write: {out: reg.7 0 | value.8}
table: regs.csv
registers:
  LEVEL: {access: read-only, coding: signed, scale: 0.5 mm}
  MORE:  {number: 0x30, reset: 4}
values:
  rate: {bits: "CTRL[7:6]", scale: 10 Hz}
`
	const table = "register,address,width,reset,field,bits,access,meanings,about\nLEVEL,0x10,8,0xFE,,,,,the level\nCTRL,0x11,8,0x41,,,,,\nCTRL,0x11,,,RATE,7:6,,,\nCTRL,0x11,,,ON,0,,0=off 1=on,\n"
	read := func(file, table string) (*Device, []string) {
		d, faults := Load(fstest.MapFS{"devices/p.yaml": {Data: []byte(file)}, "devices/regs.csv": {Data: []byte(table)}}, "devices/p.yaml")
		var out []string
		for _, f := range faults {
			assert.Positive(t, f.Where.Line)
			out = append(out, f.Seen)
		}
		return d, out
	}
	d, faults := read(file, table)
	require.Empty(t, faults)
	m := d.Map
	content := func(r *Register) uint64 { return r.Reset }
	for name, want := range map[string]string{"LEVEL": "-1 mm", "CTRL.ON": "on", "rate": "10 Hz", "MORE": "0x04"} {
		v := m.Value(name).Decode(content)
		assert.Equal(t, want, v.Meaning(), name)
	}
	assert.Equal(t, register.ReadOnly, m.Named("LEVEL").Access)
	assert.Equal(t, "devices/regs.csv", TableOf("devices/p.yaml", []byte(file)))
	for _, c := range []struct{ file, table, says string }{
		{strings.Replace(file, "regs.csv", "none.csv", 1), table, "can't be read"},
		{strings.Replace(file, "regs.csv", "../regs.csv", 1), table, "below the folder"},
		{strings.Replace(file, "access: read-only, coding", "width: 8, coding", 1), table, "its width stands in the table"},
		{strings.Replace(file, "0x30", "0x11", 1), table, "have the number 0x11"},
		{file, strings.Replace(table, "0x11,8", "0x10,8", 1), "have the number 0x10"},
		{file, "register\n", "no column"},
		{file, strings.Replace(table, "RATE,7:6", "RATE,8:6", 1), "line 4"},
		{file, strings.Replace(table, "RATE", "R A", 1), "can't be named"},
	} {
		_, faults := read(c.file, c.table)
		require.NotEmpty(t, faults, c.says)
		assert.Contains(t, faults[0], c.says)
	}
	_, bad := Parse("p.yaml", []byte(file))
	require.NotEmpty(t, bad)
	assert.Contains(t, bad[0].Seen, "can't be read from here")
}
