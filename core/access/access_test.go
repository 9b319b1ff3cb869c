package access

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// store are registers of one size.
type store struct {
	bits     int
	values   map[uint64]uint64
	held     map[string]uint64
	names    []string
	commands []string
}

const heldFrom = 1 << 40

func (s *store) Size(n uint64) int {
	if _, has := s.values[n]; has {
		return s.bits
	}
	return 0
}
func (s *store) Read(n uint64) uint64 {
	if n >= heldFrom {
		return s.held[s.names[n-heldFrom]]
	}
	return s.values[n]
}
func (s *store) Write(n, v uint64) {
	if n >= heldFrom {
		s.held[s.names[n-heldFrom]] = v
		return
	}
	s.values[n] = v
}
func (s *store) Named(name string) (uint64, bool) {
	for i, n := range s.names {
		if n == name {
			return heldFrom + uint64(i), true
		}
	}
	return 0, false
}
func (s *store) Command(name string)          { s.commands = append(s.commands, name) }
func (s *store) Next(n uint64, _ bool) uint64 { return n + 1 }
func sizes(name string) (int, bool) {
	b, has := map[string]int{"STATUS": 8, "FLAG": 4}[name]
	return b, has
}
func duplex(word int) Rules {
	return Rules{Duplex: true, Break: "release", Word: word, Register: sizes}
}
func turns() Rules { return Rules{Break: "restart", Word: 8, Register: sizes} }
func bitsOf(v uint64, n int) (o []bool) { // the most significant first
	for i := n - 1; i >= 0; i-- {
		o = append(o, v>>i&1 == 1)
	}
	return o
}

// split writes a whole of some bits in one or two cells.
func split(rt *rapid.T, name string, bits int) string {
	if bits < 4 || rapid.Bool().Draw(rt, name+" whole") {
		return fmt.Sprintf("%s.%d", name, bits)
	}
	at := rapid.IntRange(1, bits-1).Draw(rt, name+" cut")
	parts := []string{fmt.Sprintf("%s[%d:%d]", name, bits-1, at), fmt.Sprintf("%s[%d:0]", name, at-1)}
	if rapid.Bool().Draw(rt, name+" low first") {
		parts[0], parts[1] = parts[1], parts[0]
	}
	return strings.Join(parts, " ")
}

// layout is a random way to reach registers on a bus with two lines.
type layout struct {
	number, value         int
	read, write           [2]string
	repeats, more, status bool
}

func drawLayout(rt *rapid.T) layout {
	l := layout{number: rapid.IntRange(1, 12).Draw(rt, "number"), value: rapid.IntRange(1, 32).Draw(rt, "value")}
	l.repeats = rapid.Bool().Draw(rt, "repeats")
	l.more = l.repeats && rapid.Bool().Draw(rt, "more")
	flag := []string{split(rt, "reg", l.number)}
	if l.more {
		flag = append(flag, "more")
	}
	at := rapid.IntRange(0, len(flag)).Draw(rt, "flag at")
	head := func(bit string) string {
		f := append(append(append([]string{}, flag[:at]...), bit), flag[at:]...)
		return strings.Join(f, " ")
	}
	bits := l.number + 1
	if l.more {
		bits++
	}
	in := fmt.Sprintf("skip.%d", bits)
	if bits >= 8 && rapid.Bool().Draw(rt, "status") {
		l.status = true
		in = "STATUS.8"
		if bits > 8 {
			in += fmt.Sprintf(" skip.%d", bits-8)
		}
	}
	gap, tail := "", ""
	if n := rapid.IntRange(0, 9).Draw(rt, "dummy"); n > 0 {
		gap = fmt.Sprintf(" | skip.%d", n)
	}
	if l.repeats {
		tail = " ..."
	}
	value := split(rt, "value", l.value)
	idle := fmt.Sprintf("skip.%d", l.value)
	l.read = [2]string{head("1") + gap + " | " + idle + tail, in + gap + " | " + value}
	l.write = [2]string{head("0") + " | " + value + tail, in + " | " + idle}
	return l
}

// run puts a plan through a part, with nobody driving where the part does not.
func run(s *Server, p *Plan) (in [][]Bit, seen []Seen) {
	for _, span := range p.Spans {
		s.Begin(span.Reads)
		x := Seen{Reads: span.Reads}
		for at, out := range span.Out {
			high, driven := s.Give(at)
			bit := Unknown
			if driven {
				bit = BitOf(high)
			}
			x.In = append(x.In, bit)
			if !span.Reads {
				x.Out = append(x.Out, BitOf(out))
				s.Take(at, out)
			}
		}
		s.End()
		in, seen = append(in, x.In), append(seen, x)
	}
	return in, seen
}

// TestRandomPatterns: over random patterns, what is written to a part that follows them
// is read back from it, and the bits on the bus say which operation it was.
func TestRandomPatterns(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		l := drawLayout(rt)
		read, err := Parse("read", l.read[0], l.read[1], duplex(0))
		require.NoError(rt, err, "%q", l.read)
		write, err := Parse("write", l.write[0], l.write[1], duplex(0))
		require.NoError(rt, err, "%q", l.write)
		all := []*Pattern{read, write}
		_, _, err = Distinct(all)
		require.NoError(rt, err)
		n := 1
		if l.repeats {
			n = rapid.IntRange(1, 4).Draw(rt, "registers")
		}
		most := uint64(1)<<l.number - 1
		first := rapid.Uint64Range(0, most).Draw(rt, "first")
		if first+uint64(n) > most {
			first, n = most, 1
		}
		regs := &store{bits: l.value, values: map[uint64]uint64{}, held: map[string]uint64{"STATUS": 0xa5}, names: []string{"STATUS", "FLAG"}}
		for i := uint64(0); i <= min(most, 4096); i++ {
			regs.values[i] = i & ones(l.value)
		}
		part := NewServer(all, regs)
		var values []uint64
		for range n {
			values = append(values, rapid.Uint64().Draw(rt, "content")&ones(l.value))
		}
		fits := func(p *Pattern, number uint64) bool { return regs.Size(number) == p.ValueBits }

		w, err := write.Plan(Use{Number: first, Units: n, Values: values})
		require.NoError(rt, err)
		_, seen := run(part, w)
		got, extra, found := Match(all, seen, fits)
		require.True(rt, found)
		require.Zero(rt, extra)
		require.Same(rt, write, got.Pattern)
		require.Equal(rt, first, got.Number)
		require.Equal(rt, values, got.Values)
		for i, v := range values {
			require.Equal(rt, v, regs.values[first+uint64(i)])
		}

		r, err := read.Plan(Use{Number: first, Units: n})
		require.NoError(rt, err)
		in, seen := run(part, r)
		a := r.Answer(in)
		require.Equal(rt, values, a.Values, "%q", l.read)
		require.NotContains(rt, a.Known, false)
		require.False(rt, a.Cut)
		if l.status {
			require.Equal(rt, uint64(0xa5), a.Held["STATUS"])
		}
		got, _, found = Match(all, seen, fits)
		require.True(rt, found)
		require.Same(rt, read, got.Pattern)
		require.Equal(rt, []any{first, n}, []any{got.Number, got.Units})

		// Without the part nothing is known, and bits that are missing are said.
		none := make([][]Bit, len(in))
		for k := range in {
			for range in[k] {
				none[k] = append(none[k], Unknown)
			}
		}
		a = r.Answer(none)
		require.NotContains(rt, a.Known, true)
		for i := range n {
			require.Zero(rt, a.Driven(i))
		}
		a = r.Answer([][]Bit{in[0][:len(in[0])-1]})
		require.True(rt, a.Cut)
		require.False(rt, a.Known[n-1])
	})
}

// TestBitsStandWhereTheScoreSays holds plans to scores worked out by hand.
func TestBitsStandWhereTheScoreSays(t *testing.T) {
	for _, c := range []struct {
		out, in string
		use     Use
		want    string
	}{
		{"reg.7 1 | skip.8 | skip.8 ...", "skip.8 | skip.8 | value.8", Use{Number: 8, Units: 2}, "00010001 00000000 00000000 00000000"},
		{"reg[7:4] 1 more reg[3:0] | value[3:0] value[7:4]", "", Use{Number: 0xa5, Units: 1, Values: []uint64{0xc3}}, "1010100101 00111100"},
		{"9F | reg.8 | 0b01 value.6 ...", "", Use{Number: 2, Units: 2, Values: []uint64{0x2a, 0x15}}, "10011111 00000010 01101010 01010101"},
	} {
		rules := duplex(0)
		if strings.Contains(c.out, "more") {
			c.out += " ..."
		}
		p, err := Parse("x", c.out, c.in, rules)
		require.NoError(t, err, c.out)
		pl, err := p.Plan(c.use)
		require.NoError(t, err, c.out)
		got := ""
		for _, b := range pl.Spans[0].Out {
			got += map[bool]string{false: "0", true: "1"}[b]
		}
		assert.Equal(t, strings.ReplaceAll(c.want, " ", ""), got, c.out)
	}
}

// TestOneLine: on a bus where one party sends at a time a pointer is written, then read
// from, in one transaction, in two, or going on without a pointer.
func TestOneLine(t *testing.T) {
	read, err := Parse("read", "more reg.7 | restart | _", "_ | restart | value.8 ...", turns())
	require.NoError(t, err)
	write, err := Parse("write", "more reg.7 | value.8 ...", "", turns())
	require.NoError(t, err)
	all := []*Pattern{read, write}
	_, _, err = Distinct(all)
	require.NoError(t, err)
	regs := &store{bits: 8, values: map[uint64]uint64{4: 0x44, 5: 0x55, 6: 0x66, 7: 0x77}}
	part := NewServer(all, regs)
	pl, err := read.Plan(Use{Number: 4, Units: 2})
	require.NoError(t, err)
	in, seen := run(part, pl)
	assert.Equal(t, []uint64{0x44, 0x55}, pl.Answer(in).Values)
	assert.Equal(t, bitsOf(0x84, 8), pl.Spans[0].Out)
	got, _, found := Match(all, seen, nil)
	require.True(t, found)
	assert.Same(t, read, got.Pattern)

	// It goes on where it stood.
	part.Begin(true)
	next := []Bit{}
	for at := range 8 {
		high, driven := part.Give(at)
		require.True(t, driven)
		next = append(next, BitOf(high))
	}
	part.End()
	v, _ := word(next, 0, 8)
	assert.Equal(t, uint64(0x66), v)

	// Without the mark the number stays.
	stays, err := read.Plan(Use{Number: 4, Units: 3, Stays: true})
	require.NoError(t, err)
	in, seen = run(part, stays)
	assert.Equal(t, []uint64{0x44, 0x44, 0x44}, stays.Answer(in).Values)
	got, _, found = Match(all, seen, nil)
	require.True(t, found)
	assert.True(t, got.Stays)

	// Numbers of no register are known as such.
	part.Begin(false)
	for at, b := range bitsOf(0x0c, 8) {
		part.Take(at, b)
	}
	assert.False(t, part.Known())
	part.End()

	w, err := write.Plan(Use{Number: 6, Units: 2, Values: []uint64{1, 2}})
	require.NoError(t, err)
	run(part, w)
	assert.Equal(t, map[uint64]uint64{4: 0x44, 5: 0x55, 6: 1, 7: 2}, regs.values)
}

// TestAnswersInTheNextSpan: a command in one select, its answer in the next, while the
// next command goes out.
func TestAnswersInTheNextSpan(t *testing.T) {
	read, err := Parse("read", "1 reg.7 skip.8 | release | skip.16", "skip.16 | release | value.16", duplex(16))
	require.NoError(t, err)
	stop, err := Parse("stop", "00 FF", "", duplex(16))
	require.NoError(t, err)
	all := []*Pattern{read, stop}
	_, _, err = Distinct(all)
	require.NoError(t, err)
	regs := &store{bits: 16, values: map[uint64]uint64{3: 0x1234, 9: 0xbeef}}
	part := NewServer(all, regs)
	ask := func(out uint64) (got uint64, driven bool) {
		part.Begin(false)
		for at, b := range bitsOf(out, 16) {
			high, d := part.Give(at)
			driven = driven || d
			got <<= 1
			if high && d {
				got |= 1
			}
			part.Take(at, b)
		}
		part.End()
		return got, driven
	}
	_, driven := ask(0x8300)
	assert.False(t, driven)
	got, _ := ask(0x8900)
	assert.Equal(t, uint64(0x1234), got)
	got, _ = ask(0x00ff)
	assert.Equal(t, uint64(0xbeef), got)
	assert.Equal(t, []string{"stop"}, regs.commands)
	_, driven = ask(0x0000)
	assert.False(t, driven)
}

// TestBadPatterns: each has its one message.
func TestBadPatterns(t *testing.T) {
	for _, c := range []struct{ out, in, says string }{
		{"", "", "no bits"},
		{"reg.7 1 | skip.8", "skip.8 | value.7", "8 bits are sent and 7 come back"},
		{"reg.7 | skip.8", "skip.7 | value.8", "no whole number of words"},
		{"reg.8 | skip.8", "skip.8 | valeu.8", "neither reg, value"},
		{"reg.8 | skip.8", "value.8 | skip.8", "before the register's number is known"},
		{"value.8", "", "value has no reg"},
		{"reg.8", "", "reg has no value"},
		{"skip.8", "reg.8", "reg is sent by the bus controller"},
		{"reg.8 | value.8", "skip.8 | value.8", "value stands in both lines"},
		{"reg[7:4] reg[4:1]", "", "bits of reg stand there twice"},
		{"reg[7:4] 0b0000 | value.8", "", "some bits between"},
		{"reg.8 | value.8 ... | 00", "", "nothing follows what is repeated"},
		{"reg.8 | value.8 | 00 ...", "", "what is repeated holds 0 of the 8 bits"},
		{"reg.7 more | value.8", "", "nothing is repeated"},
		{"reg.8 | value", "", "say how many bits"},
		{"reg.8 | value.0", "", "number of bits after the dot"},
		{"reg.8 | value.65", "", "at most 64 bits"},
		{"reg.8 | value[0:7]", "", "write the bits as value[7:0]"},
		{"reg.8 | more.2", "", "more has one bit"},
		{"skip.8", "more skip.7", "more is sent by the bus controller"},
		{"STATUS.9", "", "register has 8 bits"},
		{"STATUS.4 0b0000", "", "4 of them stand in the pattern"},
		{"reg.8 release | value.8", "", "neither reg, value"},
		{"release | value.8", "", "no bits"},
		{"reg.8 | | value.8", "", "column 2: it is empty"},
		{"skip.4097", "", "number of bits after the dot"},
		{"00 ...", "", "what is repeated holds no value"},
	} {
		_, err := Parse("x", c.out, c.in, duplex(8))
		if assert.Error(t, err, c.out) {
			assert.ErrorContains(t, err, c.says, c.out)
		}
	}
	_, err := Parse("x", "reg.8 | skip.8", "_ | value.8", turns())
	assert.ErrorContains(t, err, "both sides send in one go: write restart")
	// Patterns that a part could not tell apart in time.
	for _, c := range [][2][2]string{
		{{"reg.8 | skip.8", "skip.8 | value.8"}, {"reg.8 | value.8", ""}},
		{{"reg.8 | skip.8 | 1 skip.7", "skip.8 | value.8 | skip.8"}, {"reg.8 | value.8 | 0 skip.7", ""}},
		{{"1 reg.7 | value.8", ""}, {"skip.8 | STATUS.8", ""}},
	} {
		var ps []*Pattern
		for i, s := range c {
			p, err := Parse(fmt.Sprint(i), s[0], s[1], duplex(8))
			require.NoError(t, err, s)
			ps = append(ps, p)
		}
		_, _, err := Distinct(ps)
		assert.Error(t, err, "%q", c)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("reg.7 1 | skip.8 | skip.8 ...", "STATUS.8 | skip.8 | value.8 ...", true)
	f.Add("more reg.7 | restart | _", "_ | restart | value.8 ...", false)
	f.Add("0b0011 value[9:2] | value[1:0] 00", "", true)
	f.Fuzz(func(t *testing.T, out, in string, both bool) {
		rules := turns()
		if both {
			rules = duplex(0)
		}
		p, err := Parse("x", out, in, rules)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		u := Use{Held: map[string]uint64{"STATUS": 0x5a, "FLAG": 3}, Units: 1}
		if p.Repeats() {
			u.Units = 3
		}
		if p.Writes {
			u.Values = make([]uint64, u.Units)
		}
		pl, err := p.Plan(u)
		require.NoError(t, err)
		part := NewServer([]*Pattern{p}, &store{bits: p.ValueBits, values: map[uint64]uint64{0: 0, 1: 1, 2: 2}, names: []string{"STATUS", "FLAG"}, held: map[string]uint64{}})
		_, seen := run(part, pl)
		got, extra, found := Match([]*Pattern{p}, seen, nil)
		require.True(t, found)
		require.Zero(t, extra)
		require.Equal(t, u.Units, max(got.Units, 1))
	})
}
