package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/register"
)

const part = `device: sluice
kind: spi
end: {mode: 1, most: 4 MHz, valid: 40 ns}
access:
  read:
    out: reg.7 1 | skip.8 ...
    in:  skip.8  | value.8
  write:
    out: reg.7 0 | value.8
  stop: {out: FF}
identity: {read: ID, expect: 0xB7}
registers:
  ID:    {number: 1, access: read-only, reset: 0xB7}
  CTRL:
    number: 0x10
    reset: 0x40
    fields:
      RATE: {bits: 7:6, codes: {0: 10 Hz, 1: 25 Hz}}
      FLAG: {bits: 5, access: write-1-to-clear}
      SEEN: {bits: 4, access: clear-on-read, warn: {0: it was seen before}}
      GO:   {bits: 0, access: write-1-to-start}
  LEVEL_1: {number: 0x20, access: read-only}
  LEVEL_0: {number: 0x21, access: read-only}
  KEY:     {number: 0x22, access: write-only}
values:
  level: {bits: "LEVEL_1 LEVEL_0[7:4]", coding: signed, scale: 0.25 Pa}
  twice: {from: 2 * level, unit: Pa}
jobs:
  measure: {start: CTRL.GO, lasts: 5 ms, busy: CTRL.FLAG, gives: [level]}
behaviour:
  values:
    level: 100 + t
`

func TestADescribedPart(t *testing.T) {
	d, faults := Parse("p.yaml", []byte(part))
	require.Empty(t, faults)
	m := d.Map
	require.NotNil(t, m)
	assert.Equal(t, uint64(0x10), m.Named("ctrl").Address)
	assert.Equal(t, "LEVEL_1", m.At(0x20).Name)
	assert.Nil(t, m.At(0x30))
	assert.Equal(t, []string{"stop", "measure"}, m.Commands())
	assert.Equal(t, 12, m.Value("level").Bits)
	p := d.NewPart(nil)
	// Each kind of access does what it says.
	ctrl := m.Named("CTRL")
	p.holds[ctrl] = 0x70
	assert.Equal(t, uint64(0x70), p.Read(0x10))
	assert.Equal(t, uint64(0x60), p.Read(0x10), "reading cleared SEEN")
	p.Write(0x10, 0xa0)
	assert.Equal(t, uint64(0x80), p.Read(0x10), "RATE is written, FLAG cleared by its 1")
	p.Write(1, 0)
	assert.Equal(t, uint64(0xb7), p.Read(1))
	p.Write(0x22, 0x5a)
	assert.Zero(t, p.Read(0x22))
	assert.Equal(t, uint64(0x5a), p.holds[m.Named("KEY")])
	// A value that a job gives stands still until it is over.
	assert.Zero(t, p.Read(0x20))
	p.Freeze(1e12)
	p.Write(0x10, 1)
	assert.Equal(t, uint64(0x21), p.Read(0x10), "it runs, and says so")
	p.Freeze(1e12 + 4e9)
	assert.Zero(t, p.Read(0x20))
	p.Freeze(1e12 + 6e9)
	assert.Equal(t, uint64(0x19), p.Read(0x20)) // 101 Pa are 404 counts
	assert.Zero(t, p.Read(0x10))
	twice := m.Value("twice").Decode(func(r *Register) uint64 { return p.holds[r] })
	assert.Equal(t, "202 Pa", twice.Meaning())
	require.Error(t, p.Preset("twice", 1))
	require.Error(t, p.Preset("CTRL.RATE", 4))
	require.NoError(t, p.Preset("level", 0x800))
	p.Freeze(9e12)
	assert.Equal(t, uint64(0x80), p.Read(0x20), "what was preset stands")
}

// TestBadRegisters: each fault has one message, with its place.
func TestBadRegisters(t *testing.T) {
	for _, c := range []struct{ from, to, says string }{
		{"ID:    {number: 1,", "ID:    {number: 1.5,", "whole number"},
		{"ID:    {number: 1,", "ID:    {number: -1,", "whole number"},
		{"ID:    {number: 1,", "ID:    {number: 0x10,", "have the number 0x10"},
		{"ID:    {number: 1,", "ID:    {number: 0x80,", "does not fit the 7 bits"},
		{"ID:    {number: 1,", "ID:    {", "no pattern names it"},
		{"ID:    {number: 1,", "ID:    {number: 1, width: 16,", "16 bits; no pattern"},
		{"ID:    {number: 1,", "ID:    {number: 1, width: 65,", "1 to 64"},
		{"access: read-only, reset: 0xB7", "access: readonly, reset: 0xB7", "did you mean read-only"},
		{"reset: 0xB7", "reset: 0x1B7", "does not fit 8 bits"},
		{"reset: 0xB7", "resets: 0xB7", `did you mean "reset"?`},
		{"  ID:    {", "  I D:   {", "can't be named"},
		{"  KEY:     {", "  value:   {", "meaning of its own"},
		{"  KEY:     {number: 0x22,", "  id:      {number: 0x22,", "two registers are called id"},
		{"RATE: {bits: 7:6,", "RATE: {bits: 8:6,", "outside the register's 8"},
		{"RATE: {bits: 7:6,", "RATE: {bits: 6:7,", "write the bits as"},
		{"RATE: {bits: 7:6,", "RATE: {bits: 7:5,", "overlap"},
		{"RATE: {bits: 7:6,", "RATE: {", "has no \"bits\""},
		{"FLAG: {bits: 5,", "rate: {bits: 5,", "two fields rate"},
		{"codes: {0: 10 Hz, 1: 25 Hz}", "codes: {0: 10 Hz, 4: 25 Hz}", "does not fit 2 bits"},
		{"codes: {0: 10 Hz, 1: 25 Hz}", "codes: {0: 10 Hz, 1: 10 hz}", "appears twice"},
		{"codes: {0: 10 Hz, 1: 25 Hz}", "codes: {0: 10 Hz, x: 25 Hz}", "is no code"},
		{"codes: {0: 10 Hz, 1: 25 Hz}", "codes: {0: 10 Hz, 1: ''}", "has no word"},
		{"codes: {0: 10 Hz, 1: 25 Hz}", "codes: 10 Hz", "expected a map"},
		{"warn: {0: it was seen before}", "warn: {2: it was seen before}", "a number of its bits"},
		{"coding: signed, scale", "coding: twos, scale", "expected one of unsigned, signed"},
		{"coding: signed, scale", "coding: float, scale", "16, 32 or 64 bits"},
		{"coding: signed, scale: 0.25 Pa", "coding: signed, scale: Pa", "a number or a fraction"},
		{"coding: signed, scale: 0.25 Pa", "coding: signed, scale: 0 Pa", "a scale of 0"},
		{"coding: signed, scale: 0.25 Pa", "coding: signed, scale: 1/0 Pa", "no number"},
		{"scale: 0.25 Pa}", "scale: 0.25 Pa, offset: 3 °C}", "different units"},
		{"scale: 0.25 Pa}", "scale: 0.25 Pa, unit: Pa}", "after their scale"},
		{"LEVEL_1 LEVEL_0[7:4]", "LEVEL_1 LEVEL_0[8:4]", "LEVEL_0 has 8 bits"},
		{"LEVEL_1 LEVEL_0[7:4]", "LEVEL_1 LEVEL_2", "did you mean LEVEL_0?"},
		{"LEVEL_1 LEVEL_0[7:4]", "LEVEL_1 LEVEL_1[7:4]", "stand there twice"},
		{"LEVEL_1 LEVEL_0[7:4]", "LEVEL_1, LEVEL_0", "blanks between several"},
		{"LEVEL_1 LEVEL_0[7:4]", " ", "no register is named"},
		{"  level: {bits", "  CTRL: {bits", "is the name of a register"},
		{"  level: {bits", "  le vel: {bits", "can't be named"},
		{"twice: {from: 2 * level, unit: Pa}", "twice: {unit: Pa}", "give the bits that make it up"},
		{"twice: {from: 2 * level, unit: Pa}", "twice: {from: 2 * levle, unit: Pa}", "levle"},
		{"twice: {from: 2 * level, unit: Pa}", "twice: {from: 2 *, unit: Pa}", "twice"},
		{"twice: {from: 2 * level, unit: Pa}", "twice: {from: 2 * level, scale: 2 Pa}", "scale has no effect"},
		{"read: ID, expect: 0xB7", "read: IDD, expect: 0xB7", "did you mean ID?"},
		{"read: ID, expect: 0xB7", "read: ID, expect: 0x1B7", "no content of ID"},
		{"read: ID, expect: 0xB7", "read: ID", `no "expect"`},
		{"out: reg.7 1 | skip.8 ...", "out: reg.6 1 | skip.8 ...", "column 1: 7 bits are sent and 8 come back"},
		{"out: reg.7 1 | skip.8 ...", "out: reg.7 0 | skip.8 ...", "can't be told from another operation"},
		{"out: reg.7 1 | skip.8 ...", "out: reg.7 1 | skp.8 ...", "neither reg, value"},
		{"in:  skip.8  | value.8", "in:  value.8 | skip.8", "before the register's number is known"},
		{"in:  skip.8  | value.8", "in:  skip.8  | value.4 skip.4", "for registers of 4 bits"},
		{"stop: {out: FF}", "stop: {out: FFF}", "no whole number of words"},
		{"stop: {out: FF}", "stop: {}", "no bits"},
		{"stop: {out: FF}", "st op: {out: FF}", "can't be named"},
		{"stop: {out: FF}", "stop: {out: FF, outs: 00}", `did you mean "out"?`},
		{"start: CTRL.GO,", "start: CTRL.G,", "did you mean CTRL.GO?"},
		{"start: CTRL.GO,", "start: CTRL,", "has 8 bits"},
		{"start: CTRL.GO,", "start: twice,", "no value \"twice\" that bits hold"},
		{"lasts: 5 ms", "lasts: 5", "5 ms|unit"},
		{"measure: {start", "level: {start", "is the name of something else"},
		{"gives: [level]", "gives: [levels]", "did you mean level?"},
		{"    level: 100 + t", "    levels: 100 + t", "did you mean level?"},
		{"    level: 100 + t", "    level: 100 + x", "x"},
		{"    level: 100 + t", "    level: 1 / (t - 1)", "has no value at t = 1 s"},
		{"device: sluice", "device: ''", "name is empty"},
		{"kind: spi", "kind: sip", "did you mean spi?"},
		{"mode: 1,", "mode: 4,", "one of 0, 1, 2, 3"},
	} {
		require.Contains(t, part, c.from)
		d, faults := Parse("p.yaml", []byte(strings.Replace(part, c.from, c.to, 1)))
		assert.Nil(t, d, c.to)
		if !assert.NotEmpty(t, faults, c.to) {
			continue
		}
		ok := false
		for _, want := range strings.Split(c.says, "|") {
			ok = ok || strings.Contains(faults[0].String(), want)
		}
		assert.True(t, ok, "%s: %s", c.to, faults[0].String())
		assert.Len(t, faults, 1, c.to)
		assert.Positive(t, faults[0].Where.Line, c.to)
		assert.Positive(t, faults[0].Where.Column, c.to)
	}
	_, faults := Parse("p.yaml", []byte("device: x\nkind: spi\nend: {mode: 0, most: 1 MHz}\nvalues:\n  a: {bits: B}\n"))
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].String(), "values without registers")
	_, faults = Parse("p.yaml", []byte("device: x\nkind: spi\nend: {mode: 0, most: 1 MHz}\nbehaviour: {values: {a: t}}\n"))
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].String(), "must stand in registers")
}

// TestInsertAndExtract: over random layouts, what is put into the bits of a value comes out
// of them, and no other bit changes.
func TestInsertAndExtract(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		v := &Value{}
		var regs []*Register
		total := 0
		for i := range rapid.IntRange(1, 5).Draw(rt, "registers") {
			r := &Register{Register: register.Register{Name: fmt.Sprint("R", i), Bits: rapid.IntRange(1, 64).Draw(rt, "width")}}
			regs = append(regs, r)
			for at := r.Bits; at > 0; {
				n := rapid.IntRange(1, at).Draw(rt, "bits")
				if rapid.Bool().Draw(rt, "taken") && total+n <= 64 {
					v.Pieces = append(v.Pieces, Piece{r, at - n, n})
					total += n
				}
				at -= n
			}
		}
		if total == 0 {
			return
		}
		order := rapid.Permutation(v.Pieces).Draw(rt, "order")
		v.Pieces, v.Bits = order, total
		raw := rapid.Uint64().Draw(rt, "raw") & ones(total)
		was, is := map[*Register]uint64{}, map[*Register]uint64{}
		// Another way: the bits of the value, one by one from the most significant.
		text, k := fmt.Sprintf("%0*b", total, raw), 0
		want := map[*Register]uint64{}
		for _, r := range regs {
			was[r] = rapid.Uint64().Draw(rt, "content") & ones(r.Bits)
			want[r] = was[r]
		}
		for _, p := range v.Pieces {
			for b := p.Low + p.Bits - 1; b >= p.Low; b-- {
				want[p.Register] &^= 1 << b
				if text[k] == '1' {
					want[p.Register] |= 1 << b
				}
				k++
			}
		}
		for _, r := range regs {
			is[r], _ = v.Into(r, was[r], raw)
			require.Equal(rt, want[r], is[r])
		}
		require.Equal(rt, raw, v.Of(func(r *Register) uint64 { return is[r] }))
	})
}

func BenchmarkDecodeRegisters(b *testing.B) {
	d, faults := Parse("p.yaml", []byte(part))
	require.Empty(b, faults)
	level := d.Map.Value("level")
	for i := range b.N {
		raw := level.Of(func(r *Register) uint64 { return uint64(i) & 0xff })
		v := level.Format.Decode(raw)
		if v.Number == nil {
			b.Fatal("no number")
		}
	}
}
