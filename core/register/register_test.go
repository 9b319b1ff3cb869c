package register

import (
	"fmt"
	"math/bits"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawn gives a random register whose fields do not overlap.
func drawn(rt *rapid.T) *Register {
	r := &Register{Name: "R", Bits: rapid.SampledFrom([]int{8, 16, 24, 32, 64}).Draw(rt, "width")}
	r.Reset = rapid.Uint64().Draw(rt, "reset") & mask(r.Bits)
	for at, i := 0, 0; at < r.Bits; i++ {
		n := min(rapid.IntRange(1, 9).Draw(rt, "bits"), r.Bits-at)
		if rapid.IntRange(0, 3).Draw(rt, "reserved") > 0 {
			f := Field{Name: fmt.Sprintf("F%d", i), Low: at, Bits: n, Meanings: map[uint64]string{}}
			if rapid.Bool().Draw(rt, "meaning") {
				f.Meanings[rapid.Uint64Range(0, mask(n)).Draw(rt, "of")] = "word"
			}
			r.Fields = append(r.Fields, f)
		}
		at += n
	}
	require.NoError(rt, r.Check())
	return r
}

// A value taken apart and put together again is the same, whatever the bits in
// between were; changing one choice changes only its field.
func TestApartAndTogether(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		r := drawn(rt)
		value, base := rapid.Uint64().Draw(rt, "value")&mask(r.Bits), rapid.Uint64().Draw(rt, "base")&mask(r.Bits)
		var choices []Choice
		covered := uint64(0)
		for _, p := range r.Apart(value) {
			require.Equal(rt, value>>p.Low&mask(p.Bits), p.Value)
			require.Equal(rt, p.Value == r.Reset>>p.Low&mask(p.Bits), p.AtReset)
			choices = append(choices, Choice{strings.ToLower(p.Name), p.Meaning})
			require.Zero(rt, covered&p.Mask())
			covered |= p.Mask()
		}
		require.Equal(rt, mask(r.Bits)&^covered, r.Reserved())
		got, err := r.Compose(base, choices...)
		require.NoError(rt, err)
		require.Equal(rt, value&covered|base&^covered, got)
		if len(r.Fields) == 0 {
			return
		}
		f := &r.Fields[rapid.IntRange(0, len(r.Fields)-1).Draw(rt, "field")]
		v := rapid.Uint64Range(0, mask(f.Bits)).Draw(rt, "choice")
		other, err := r.Compose(value, Choice{f.Name, fmt.Sprintf("0x%X", v)})
		require.NoError(rt, err)
		changes, reserved := r.Compare(value, other)
		require.Zero(rt, reserved)
		if v == f.Of(value) {
			require.Empty(rt, changes)
			return
		}
		require.Len(rt, changes, 1)
		require.Equal(rt, f.Name, changes[0].Name)
		require.Equal(rt, v, changes[0].Is)
		require.Equal(rt, f.Of(value), changes[0].Was)
	})
}

const table = `register, address, width, reset, field, bits, access, meanings, about
S1CTL, 0x7C001000, 16, 0x0300, , , , , control of serial unit 1
S1CTL, 0x7C001000, , , ENABLE, 0, , 0=off 1=on, takes part at all
S1CTL, 0x7C001000, , , LENGTH, 2:1, , "0=""7 bits"" 1=""8 bits"" 2=""9 bits""", data bits
S1CTL, 0x7C001000, , , PARITY, 4:3, , 0=none 2=even 3=odd,
S1CTL, 0x7C001000, , , STOP, 5, , 0=1 1=2,
S1CTL, 0x7C001000, , , START, 7, write-1-to-start, ,
S1CTL, 0x7C001000, , , LEVEL, 9:8, , ,
S1CTL, 0x7C001000, , , READY, 12, read-only, ,
# flags
S1FLG, 0x7C001004, 16, 0, OVERRUN, 3, write-1-to-clear, ,
S1FLG, 0x7C001004, , , FRAMING, 1, write-1-to-clear, ,
`

func TestTable(t *testing.T) {
	m, err := ReadCSV(strings.NewReader(table))
	require.NoError(t, err)
	require.Len(t, m.Registers, 2)
	r := m.Named("s1ctl")
	require.NotNil(t, r)
	require.Len(t, r.Fields, 7)
	assert.Same(t, r, m.At(0x7C001000))
	v, err := r.Compose(r.Reset, Choice{"ENABLE", "on"}, Choice{"length", "8 bits"}, Choice{"PARITY", "even"})
	require.NoError(t, err)
	assert.Equal(t, uint64(0x0313), v)
	assert.Equal(t, "0x0313", r.Hex(v))
	text := ""
	for _, p := range r.Apart(v) {
		text += fmt.Sprintf("%s[%s]=%s ", p.Name, p.Range(), p.Meaning)
	}
	assert.Equal(t, "READY[12]=0 LEVEL[9:8]=3 START[7]=0 STOP[5]=1 PARITY[4:3]=even LENGTH[2:1]=8 bits ENABLE[0]=on ", text)
	codes := func(old, value uint64, r *Register) (out []string) {
		for _, c := range r.Write(old, value) {
			out = append(out, c.Code)
		}
		return out
	}
	assert.Empty(t, codes(r.Reset, v, r))
	assert.Equal(t, []string{"reserved-bits-touched", "read-only-written", "started"}, codes(r.Reset, v|1<<15|1<<12|1<<7, r))
	assert.Equal(t, []string{"value-too-wide"}, codes(r.Reset, v|1<<20, r)[:1])
	flags := m.Named("S1FLG")
	assert.Equal(t, []string{"flags-cleared", "flags-stay"}, codes(0b1010, 0b1000, flags))
	flags.Note = "written twice within 4 clocks"
	assert.Equal(t, []string{"written-how"}, codes(0, 0, flags))
	for _, c := range []Choice{{"NONE", "1"}, {"LENGTH", "4"}, {"PARITY", "maybe"}, {"ENABLE", "-1"}} {
		_, err := r.Compose(0, c)
		assert.Error(t, err, c.Field)
	}
	_, reserved := r.Compare(0, 1<<15)
	assert.Equal(t, "15", Bits(reserved))
}

func TestBadTables(t *testing.T) {
	for text, want := range map[string]string{
		"":                                                           "the table is empty",
		"register\nX":                                                `no column "address"`,
		"register,address\n,1":                                       "line 2: the register's name is missing",
		"register,address\nX,y":                                      "line 2: address of X",
		"register,address,width\nX,1,q":                              "width",
		"register,address,width\nX,1,99\n":                           "1 to 64 bits",
		"register,address,reset\nX,1,zz":                             "reset",
		"register,address,field,bits\nX,1,F,q":                       "11:0",
		"register,address,field,bits\nX,1,F,3:5":                     "11:0",
		"register,address,width,field,bits\nX,1,8,F,9":               "outside the register's 8",
		"register,address,field,bits\nX,1,F,3:0\nX,1,G,4:3":          "line 3: X.G: bits 4:3 overlap with F",
		"register,address,field,bits\nX,1,F,3\nX,1,F,4":              "two fields F",
		"register,address,field,bits,access\nX,1,F,3,sometimes":      "no access",
		"register,address,field,bits,meanings\nX,1,F,3,on":           "0=off",
		"register,address,field,bits,meanings\nX,1,F,3,2=on":         "does not fit",
		"register,address,field,bits,meanings\nX,1,F,3,\"1=\"\"on\"": "not closed",
	} {
		_, err := ReadCSV(strings.NewReader(text))
		require.ErrorContains(t, err, want, text)
	}
}

const view = `<?xml version="1.0"?>
<device><name>Marlow</name><size>32</size><resetValue>0</resetValue><peripherals>
 <peripheral><name>SERIAL1</name><baseAddress>0x7C001000</baseAddress><registers>
  <register><name>CTL</name><description>control
     of the unit</description><addressOffset>0x0</addressOffset><size>16</size><resetValue>0x0300</resetValue><fields>
   <field><name>ENABLE</name><bitOffset>0</bitOffset><bitWidth>1</bitWidth><enumeratedValues><enumeratedValue><name>on</name><value>1</value></enumeratedValue></enumeratedValues></field>
   <field><name>LENGTH</name><bitRange>[2:1]</bitRange></field>
   <field><name>PARITY</name><lsb>3</lsb><msb>4</msb></field>
   <field><name>FLAG</name><bitOffset>7</bitOffset><modifiedWriteValues>oneToClear</modifiedWriteValues></field>
   <field><name>SEEN</name><bitOffset>8</bitOffset><readAction>clear</readAction></field>
   <field><name>READY</name><bitOffset>9</bitOffset><access>read-only</access></field>
  </fields></register>
  <register><name>SLOT%s</name><dim>3</dim><dimIncrement>4</dimIncrement><addressOffset>0x10</addressOffset></register>
 </registers></peripheral>
 <peripheral derivedFrom="SERIAL1"><name>SERIAL2</name><baseAddress>0x7C002000</baseAddress></peripheral>
</peripherals></device>`

func TestView(t *testing.T) {
	m, err := ReadSVD(strings.NewReader(view))
	require.NoError(t, err)
	require.Len(t, m.Registers, 8)
	r := m.Named("SERIAL2.CTL")
	require.NotNil(t, r)
	assert.Equal(t, uint64(0x7C002000), r.Address)
	assert.Equal(t, 16, r.Bits)
	assert.Equal(t, "control of the unit", r.About)
	text := ""
	for _, p := range r.Apart(0x0295) {
		text += fmt.Sprintf("%s %s %s, ", p.Range(), p.Access, p.Meaning)
	}
	assert.Equal(t, "9 read-only 1, 8 clear-on-read 0, 7 write-1-to-clear 1, 4:3 read-write 2, 2:1 read-write 2, 0 read-write on, ", text)
	assert.Equal(t, uint64(0x7C001018), m.Named("SERIAL1.SLOT2").Address)
	for text, want := range map[string]string{
		"":                      "holds no element",
		"<device><peripherals>": "line 1",
		strings.Replace(view, "0x7C001000", "base", 1):      "no number",
		strings.Replace(view, `"SERIAL1"`, `"SERIAL7"`, 1):  "not there",
		strings.Replace(view, "[2:1]", "[1:2]", 1):          "11:0",
		strings.Replace(view, "[2:1]", "[3:1]", 1):          "overlap",
		strings.Replace(view, "<dim>3<", "<dim>99999<", 1):  "1 to 1024",
		strings.Replace(view, "<size>16<", "<size>99<", 1):  "1 to 64 bits",
		strings.Replace(view, "Offset>7<", "Offset>70<", 1): "outside",
	} {
		_, err := ReadSVD(strings.NewReader(text))
		require.ErrorContains(t, err, want)
	}
}

func TestDump(t *testing.T) {
	m, err := ReadCSV(strings.NewReader(table))
	require.NoError(t, err)
	seen, err := m.ReadDump(strings.NewReader("# from the debugger\n7C001000: 0313\nS1FLG = 0x000A   # flags\n\n0x7C00_1008 FFFF\n"))
	require.NoError(t, err)
	require.Len(t, seen, 3)
	assert.Equal(t, "S1CTL", seen[0].Name)
	assert.Equal(t, uint64(0x0A), seen[1].Value)
	assert.Nil(t, seen[2].Register)
	for text, want := range map[string]string{"1 2 3": "line 1", "x 1": "neither", "10 zz": "no value", "S1CTL 12345": "does not fit the 16 bits"} {
		_, err := m.ReadDump(strings.NewReader(text))
		require.ErrorContains(t, err, want)
	}
}

func TestBits(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		m := rapid.Uint64().Draw(rt, "mask")
		back := uint64(0)
		for _, w := range strings.Fields(Bits(m)) {
			low, n, err := ParseBits(w)
			require.NoError(rt, err)
			require.Zero(rt, back&(mask(n)<<low))
			back |= mask(n) << low
		}
		require.Equal(rt, m, back)
		require.LessOrEqual(rt, len(strings.Fields(Bits(m))), bits.OnesCount64(m))
	})
}

func FuzzReadCSV(f *testing.F) {
	f.Add(table)
	f.Fuzz(func(t *testing.T, text string) {
		if m, err := ReadCSV(strings.NewReader(text)); err == nil {
			checkAll(t, m)
		}
	})
}

func FuzzReadSVD(f *testing.F) {
	f.Add(`<device><peripherals><peripheral><name>P</name><registers><register><name>R%s</name><dim>2</dim><fields><field><name>F</name><bitRange>[2:1]</bitRange></field></fields></register></registers></peripheral></peripherals></device>`)
	f.Fuzz(func(t *testing.T, text string) {
		if m, err := ReadSVD(strings.NewReader(text)); err == nil {
			checkAll(t, m)
		}
	})
}

func checkAll(t *testing.T, m *Map) {
	for i := range m.Registers {
		r := &m.Registers[i]
		require.NoError(t, r.Check())
		r.Apart(^uint64(0))
		r.Write(0, ^uint64(0))
	}
}

func FuzzReadDump(f *testing.F) {
	f.Add("7C001000: 0313\nS1FLG = 0x000A")
	m, err := ReadCSV(strings.NewReader(table))
	require.NoError(f, err)
	f.Fuzz(func(_ *testing.T, text string) { _, _ = m.ReadDump(strings.NewReader(text)) })
}
