package access

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// shelf are the registers and texts of a part that is asked.
type shelf struct {
	store
	texts  map[string][]byte
	denies Reason
}

func (s *shelf) Text(name string, number uint64) []byte { return s.texts[fmt.Sprint(name, number)] }
func (s *shelf) WriteText(name string, number uint64, chars []byte) {
	s.texts[fmt.Sprint(name, number)] = chars
}
func (s *shelf) Fits(p *Pattern, number uint64) bool {
	if p.Text != nil {
		_, has := s.texts[fmt.Sprint("", number)]
		return has
	}
	return s.Size(number) == p.ValueBits
}
func (s *shelf) Grants(*Pattern, *Use) Reason { return s.denies }

func messages() Rules {
	return Rules{
		Register: func(name string) (int, bool) {
			b, has := map[string]int{"LEVEL": 16, "RATE": 12, "COUNT": 32, "FLAG": 4}[name]
			return b, has
		},
		Signed: func(name string) bool { return name == "LEVEL" },
		Text: func(name string) (int, bool) {
			if name == "PLATE" {
				return 20, true
			}
			return 0, false
		},
	}
}

func message(t require.TestingT, out, in string) *Pattern {
	p, err := ParseMessage("p", out, in, messages())
	require.NoError(t, err, "%s / %s", out, in)
	return p
}

func TestRequestsInCharacters(t *testing.T) {
	s := &shelf{store: store{names: []string{"LEVEL", "RATE", "COUNT"}, held: map[string]uint64{"LEVEL": 0xFFFF - 41, "RATE": 0x0A5, "COUNT": 70041}}, texts: map[string][]byte{"PLATE0": []byte("gate 2")}}
	for _, c := range []struct {
		out, in, request, answer string
		use                      Use
	}{
		{"'L?'", "'L=' LEVEL.point3 'm'", "L?", "L=-0.042m", Use{}},
		{"'L?'", "LEVEL.dec", "L?", "-42", Use{}},
		{"'R' 'x y'", "RATE.dec5 COUNT.hex5", "Rx y", "0016511199", Use{}},
		{"'C'", "COUNT.dec ',' RATE.hex8", "C", "70041,000000A5", Use{}},
		{"'P'", "PLATE", "P", "gate 2", Use{}},
		{"'P'", "'[' PLATE ']'", "P", "[gate 2]", Use{}},
		{"'R=' RATE.hex3", "'ok'", "R=01F", "ok", Use{Held: map[string]uint64{"RATE": 0x1F}}},
		{"'L=' LEVEL.point2 ';'", "echo.16 'ok'", "L=-1.05;", "L=ok", Use{Held: map[string]uint64{"LEVEL": 0x10000 - 105}}},
		{"'N=' PLATE", "", "N=sill", "", Use{Chars: []byte("sill")}},
	} {
		p := message(t, c.out, c.in)
		pl, err := p.Plan(c.use)
		require.NoError(t, err)
		assert.Equal(t, c.request, string(pl.Request()), "%s", c.out)
		answer, which, answers := (&Responder{Patterns: []*Pattern{p}, Part: s}).Respond(pl.Request())
		assert.Equal(t, p, which)
		assert.Equal(t, c.answer != "", answers)
		assert.Equal(t, c.answer, string(answer), "%s", c.in)
		if answers {
			a, good := pl.Reply(answer, nil)
			assert.True(t, good)
			for name, v := range a.Held {
				n, _ := s.Named(name)
				assert.Equal(t, s.Read(n), v, "%s", name)
			}
		}
	}
	assert.Equal(t, "sill", string(s.texts["PLATE0"]))
}

// piece is a register in a random message, in a form that fits it.
func piece(t *rapid.T, k int, name string, bits int) string {
	label := fmt.Sprintf("form of %s %d", name, k)
	switch rapid.IntRange(0, 4).Draw(t, label) {
	case 0:
		return fmt.Sprintf("'%c' %s.dec ';'", 'a'+k, name)
	case 1:
		return fmt.Sprintf("'%c' %s.point%d ' '", 'a'+k, name, 1+k%4)
	case 2:
		if name != "LEVEL" {
			return fmt.Sprintf("%s.dec%d", name, 10)
		}
		return fmt.Sprintf("%s.hex4", name)
	case 3:
		return fmt.Sprintf("%s.hex%d", name, (bits+3)/4)
	}
	pad := (8 - bits%8) % 8
	if pad > 0 {
		return fmt.Sprintf("skip.%d %s", pad, split(t, name, bits))
	}
	if bits >= 16 && rapid.Bool().Draw(t, label+" low first") {
		return fmt.Sprintf("%s[7:0] %s[%d:8]", name, name, bits-1)
	}
	return split(t, name, bits)
}

func TestMessagesComeBack(t *testing.T) {
	sizes := map[string]int{"LEVEL": 16, "RATE": 12, "COUNT": 32, "FLAG": 4}
	names := []string{"LEVEL", "RATE", "COUNT", "FLAG"}
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.Permutation(names).Draw(t, "names")[:rapid.IntRange(1, 4).Draw(t, "how many")]
		writes := rapid.Bool().Draw(t, "writes")
		line := []string{fmt.Sprintf("%02X", rapid.Byte().Draw(t, "head"))}
		held := map[string]uint64{}
		for k, name := range some {
			line = append(line, piece(t, k, name, sizes[name]))
			held[name] = rapid.Uint64Range(0, 1<<sizes[name]-1).Draw(t, name)
		}
		out, in := strings.Join(line, " "), "echo.8 00"
		s := &shelf{store: store{names: names, held: map[string]uint64{}}}
		u := Use{Held: held}
		if !writes {
			out, in, u = line[0], "echo.8 "+strings.Join(line[1:], " "), Use{}
			for n, v := range held {
				s.held[n] = v
			}
		}
		p := message(t, out, in)
		pl, err := p.Plan(u)
		require.NoError(t, err)
		seen, _, found := Match([]*Pattern{p}, []Seen{{Out: Bits(pl.Request())}}, nil)
		require.True(t, found, "%s", out)
		assert.Equal(t, pl.Request(), seen.Request())
		answer, _, answers := (&Responder{Patterns: []*Pattern{p}, Part: s}).Respond(pl.Request())
		require.True(t, answers)
		a, good := seen.Reply(answer, nil)
		require.True(t, good, "%s: % X", in, answer)
		if writes {
			assert.Equal(t, held, s.held)
		} else {
			assert.Equal(t, held, a.Held)
		}
	})
}

// TestNumberedRequests asks for registers by number, several at a time, with a mark
// that says how many.
func TestNumberedRequests(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bits := rapid.SampledFrom([]int{8, 16, 24}).Draw(t, "bits")
		read := message(t, "52 reg.16 count.8", fmt.Sprintf("echo.8 | %s ...", split(t, "value", bits)))
		write := message(t, fmt.Sprintf("57 reg.16 count.8 | %s ...", split(t, "value", bits)), "06")
		_, _, err := Distinct([]*Pattern{read, write})
		require.NoError(t, err)
		s := &shelf{store: store{bits: bits, values: map[uint64]uint64{}}}
		from := rapid.Uint64Range(0, 0xFF00).Draw(t, "from")
		n := rapid.IntRange(1, 20).Draw(t, "n")
		u := Use{Number: from, Units: n}
		for i := range n {
			s.values[from+uint64(i)] = 0
			u.Values = append(u.Values, rapid.Uint64Range(0, 1<<bits-1).Draw(t, "value"))
		}
		r := &Responder{Patterns: []*Pattern{read, write}, Part: s}
		pl, err := write.Plan(u)
		require.NoError(t, err)
		_, which, _ := r.Respond(pl.Request())
		require.Equal(t, write, which)
		pl, err = read.Plan(Use{Number: from, Units: n})
		require.NoError(t, err)
		answer, _, _ := r.Respond(pl.Request())
		a, good := pl.Reply(answer, nil)
		require.True(t, good)
		assert.Equal(t, u.Values, a.Values)
		for i := range n {
			assert.Equal(t, u.Values[i], s.values[from+uint64(i)])
		}
		// A byte more or fewer is no answer.
		_, good = pl.Reply(append(answer, 0), nil)
		assert.False(t, good)
		_, good = pl.Reply(answer[:len(answer)-1], nil)
		assert.False(t, good)
	})
}

func TestRefusalsOfRequests(t *testing.T) {
	read := message(t, "40 reg.8", "1 echo.7 00 value.8")
	rate := message(t, "21 RATE.hex3", "1 echo.7 00")
	refusal, err := ParseRefusal("1 echo.7 why.8", messages())
	require.NoError(t, err)
	refusal.Codes = map[uint64]string{1: "no such request"}
	s := &shelf{store: store{bits: 8, values: map[uint64]uint64{5: 9}, names: []string{"RATE"}, held: map[string]uint64{}}}
	r := &Responder{Patterns: []*Pattern{read, rate}, Refusal: refusal, When: map[Reason]uint64{NotKnown: 1, BadLength: 2, NoSuch: 3, OutOfRange: 4}, Part: s}
	ask := func(content string) string {
		answer, _, answers := r.Respond([]byte(content))
		if !answers {
			return ""
		}
		return fmt.Sprintf("% X", answer)
	}
	assert.Equal(t, "C0 00 09", ask("\x40\x05"))
	assert.Equal(t, "C0 03", ask("\x40\x06"))
	assert.Equal(t, "C0 02", ask("\x40"))
	assert.Equal(t, "A1 02", ask("\x2112"))
	assert.Equal(t, "D5 01", ask("\x55"))
	s.denies = OutOfRange
	assert.Equal(t, "A1 04", ask("\x21123"))
	s.denies = NotNow
	assert.Equal(t, "", ask("\x21123"), "no number says that")
	pl, err := read.Plan(Use{Number: 5})
	require.NoError(t, err)
	a, good := pl.Reply([]byte{0xC0, 1}, refusal)
	assert.True(t, good && a.Refused)
	assert.Equal(t, "no such request", refusal.Because(a.Why))
	assert.Contains(t, refusal.Because(7), "0x07")
	_, good = pl.Reply([]byte{0xA1, 1}, refusal)
	assert.False(t, good, "it is the refusal of something else")
}

func TestBadMessages(t *testing.T) {
	for _, c := range []struct{ out, in, want string }{
		{"", "LEVEL.dec", "empty"},
		{"'L", "", "quotes"},
		{"skip.3 'L'", "", "no whole number of bytes"},
		{"skip.3 LEVEL.dec", "", "3 bits in front"},
		{"40 skip.4", "", "no whole number of bytes"},
		{"'L'", "LEVEL.dec RATE.dec", "constant character must follow"},
		{"'L'", "LEVEL.dec '5'", "may belong to a number"},
		{"'L'", "PLATE LEVEL.dec", "constant character must follow"},
		{"'L'", "PLATE ';' PLATE", "appears twice"},
		{"'L'", "LEVEL.dec5", "sign"},
		{"'L'", "RATE.hex", "how many digits"},
		{"'L'", "RATE.point0", "point0"},
		{"'L'", "RATE.point12", "digits"},
		{"'L'", "DEPTH.dec", "no register"},
		{"'L'", "DEPTH", "DEPTH"},
		{"'L'", "RATE[3:0] skip.4", "4 of them stand"},
		{"'L' reg.8", "00", "reg has no value"},
		{"'L'", "value.8", "value has no reg"},
		{"'L'", "reg.8", "bus controller"},
		{"echo.8", "", "answers"},
		{"'L' why.8", "", "refusals"},
		{"'L' more skip.7", "", "more"},
		{"'L'", "count.8", "asked for"},
		{"'L' reg.8 count.8", "value.8", "nothing is repeated"},
		{"'L' reg.8", "value.8 ...", "how often"},
		{"'L' reg.8 count.8", "| value.8 ... 00", "nothing follows"},
		{"...", "", "in front of"},
		{"count.x", "", "number of bits"},
		{"value.dec", "", "can't stand"},
	} {
		_, err := ParseMessage("p", c.out, c.in, messages())
		require.Error(t, err, "%s / %s", c.out, c.in)
		assert.Contains(t, err.Error(), c.want, "%s / %s", c.out, c.in)
	}
	for _, in := range []string{"value.8", "LEVEL.dec", "", "why.8 skip.3", "why[7:4] skip.4"} {
		_, err := ParseRefusal(in, messages())
		assert.Error(t, err, in)
	}
}

func TestRequestsThatCantBeToldApart(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		alike bool
	}{
		{"'SN'", "'ST'", false},
		{"'SN'", "'SNAP'", false},
		{"'S' RATE.dec", "'ST'", false},
		{"'S' RATE.dec", "'S'", false},
		{"'S' RATE.dec", "'S1'", true},
		{"'S' RATE.dec", "'S' PLATE", true},
		{"'S' PLATE", "'ST'", true},
		{"RATE.hex3", "'12A'", true},
		{"10 skip.8", "10 01", true},
		{"10 0 skip.7", "10 1 skip.7", false},
		{"PLATE", "'S'", true},
	} {
		a, b := message(t, c.a, ""), message(t, c.b, "")
		_, _, err := Distinct([]*Pattern{a, b})
		assert.Equal(t, c.alike, err != nil, "%s / %s", c.a, c.b)
	}
}

func FuzzMessage(f *testing.F) {
	f.Add("'L?' reg.hex2 | RATE.dec ';'", "'L=' LEVEL.point3 PLATE", "L?05")
	f.Fuzz(func(t *testing.T, out, in, content string) {
		p, err := ParseMessage("p", out, in, messages())
		if err != nil {
			return
		}
		s := &shelf{store: store{bits: 8, values: map[uint64]uint64{}, held: map[string]uint64{}, names: []string{"LEVEL", "RATE", "COUNT", "FLAG"}}, texts: map[string][]byte{}}
		r := &Responder{Patterns: []*Pattern{p}, Part: s}
		r.Respond([]byte(content))
		if pl, _, found := Match([]*Pattern{p}, []Seen{{Out: Bits([]byte(content))}}, nil); found {
			pl.Reply([]byte(content), nil)
			if len(pl.Chars) == 0 || p.Text != nil {
				again, _, found := Match([]*Pattern{p}, []Seen{{Out: Bits(pl.Request())}}, nil)
				assert.True(t, found)
				assert.Equal(t, pl.Request(), again.Request())
			}
		}
	})
}
