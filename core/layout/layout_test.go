package layout

import (
	"fmt"
	"math/big"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/coding"
)

// drawing is a random one, with the model's own idea of where each bit of a letter stands:
// as a list of (word, bit) from the most significant on.
type drawing struct {
	bits   int
	rows   []Row
	fields []*Field
	places map[rune][][2]int
}

func draw(rt *rapid.T) drawing {
	d := drawing{bits: rapid.SampledFrom([]int{4, 8, 12, 16}).Draw(rt, "bits"), places: map[rune][][2]int{}}
	letters := []rune("abcdef")[:rapid.IntRange(1, 6).Draw(rt, "letters")]
	words := rapid.IntRange(1, 9).Draw(rt, "words")
	grid := make([][]rune, words)
	for w := range grid {
		for range d.bits {
			c := '.'
			if rapid.IntRange(0, 3).Draw(rt, "dot") > 0 {
				c = rapid.SampledFrom(letters).Draw(rt, "letter")
			}
			if len(d.places[c]) < 64 {
				grid[w] = append(grid[w], c)
				if c != '.' {
					d.places[c] = append(d.places[c], [2]int{w, d.bits - len(grid[w])})
				}
			} else {
				grid[w] = append(grid[w], '.')
			}
		}
		d.rows = append(d.rows, Row{w, w, string(grid[w])})
	}
	for _, c := range letters {
		if len(d.places[c]) == 0 {
			continue
		}
		f := &Field{Name: "value " + string(c), Letter: c, LowFirst: rapid.Bool().Draw(rt, "low first")}
		d.fields = append(d.fields, f)
		if f.LowFirst {
			// The last word's bits in front, each word's own order kept.
			var turned [][2]int
			for w := words - 1; w >= 0; w-- {
				for _, p := range d.places[c] {
					if p[0] == w {
						turned = append(turned, p)
					}
				}
			}
			d.places[c] = turned
		}
	}
	return d
}

// What a drawing takes out of a message are the bits that the model finds there, and what is
// put in comes out again and changes nothing else.
func TestDrawings(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		d := draw(rt)
		if len(d.fields) == 0 {
			return
		}
		rows := rapid.Permutation(d.rows).Draw(rt, "order of rows")
		l, fault := Draw(d.bits, rows, d.fields)
		require.Nil(rt, fault)
		message := make([]uint64, rapid.IntRange(0, len(d.rows)+2).Draw(rt, "length"))
		for i := range message {
			message[i] = rapid.Uint64Range(0, 1<<d.bits-1).Draw(rt, "word")
		}
		for _, v := range l.Decode(message) {
			var text strings.Builder
			for _, p := range d.places[v.Letter] {
				if p[0] >= len(message) {
					text.Reset()
					break
				}
				fmt.Fprint(&text, message[p[0]]>>p[1]&1)
			}
			require.Equal(rt, text.Len() == 0, v.Missing)
			if !v.Missing {
				want, _ := new(big.Int).SetString(text.String(), 2)
				require.Equal(rt, want.Uint64(), v.Raw, v.Field.Name)
				require.Equal(rt, len(d.places[v.Letter]), v.Bits)
			}
		}
		// Encode is the inverse.
		f := rapid.SampledFrom(d.fields).Draw(rt, "field")
		raw := rapid.Uint64().Draw(rt, "raw") & (1<<f.Bits - 1)
		if f.Bits == 64 {
			raw = rapid.Uint64().Draw(rt, "raw64")
		}
		full := make([]uint64, len(d.rows))
		copy(full, message)
		out, err := l.Encode(full, map[string]string{f.Name: fmt.Sprintf("0x%X", raw)})
		require.NoError(rt, err)
		got, whole := f.Of(out)
		require.True(rt, whole)
		require.Equal(rt, raw, got)
		for _, o := range d.fields {
			if o != f {
				a, _ := o.Of(full)
				b, _ := o.Of(out)
				require.Equal(rt, a, b)
			}
		}
	})
}

// A number over the border of two bytes, in both orders of bytes.
func TestOverAByteBorder(t *testing.T) {
	for _, c := range []struct {
		low  bool
		rows []Row
		want uint64
	}{
		{false, []Row{{0, 0, "....aaaa"}, {1, 1, "aaaaaaaa"}}, 0x234},
		{true, []Row{{0, 0, "aaaaaaaa"}, {1, 1, "....aaaa"}}, 0x412},
	} {
		f := &Field{Name: "a", Letter: 'a', LowFirst: c.low, Format: coding.Format{Coding: coding.Signed}}
		l, fault := Draw(8, c.rows, []*Field{f})
		require.Nil(t, fault)
		v := l.Decode([]uint64{0x12, 0x34})[0]
		assert.Equal(t, c.want, v.Raw)
		assert.Equal(t, 12, v.Bits)
	}
}

// One layout of several that share an identifier fits, by the value that tells them apart.
func TestConditions(t *testing.T) {
	of := func(raw ...uint64) *Layout {
		page := &Field{Name: "page", Letter: 'p'}
		l, fault := Draw(8, []Row{{0, 0, "pppp...."}, {1, 1, "vvvvvvvv"}}, []*Field{page, {Name: "v", Letter: 'v'}})
		require.Nil(t, fault)
		l.When = []Condition{{page, raw}}
		return l
	}
	rapid.Check(t, func(rt *rapid.T) {
		a := rapid.SliceOfN(rapid.Uint64Range(0, 15), 1, 4).Draw(rt, "a")
		b := rapid.SliceOfN(rapid.Uint64Range(0, 15), 1, 4).Draw(rt, "b")
		x, y := of(a...), of(b...)
		both := false
		for first := range uint64(256) {
			m := []uint64{first, 0}
			both = both || x.Fits(m) && y.Fits(m)
		}
		require.Equal(rt, !both, x.Apart(y))
		out, err := x.Encode(nil, map[string]string{"v": "7"})
		require.NoError(rt, err)
		require.True(rt, x.Fits(out))
	})
}

func TestTexts(t *testing.T) {
	level := &Field{Name: "level", Format: coding.Format{Scale: big.NewRat(1, 1), Unit: "m"}}
	state := &Field{Name: "state", Form: Word, Format: coding.Format{Bits: 64, Codes: map[uint64]string{0: "OK", 1: "LOW"}}}
	count := &Field{Name: "count", Form: Hex, Format: coding.Format{Bits: 64}}
	l, fault := Write("L={level};{state} #{count}", []*Field{level, state, count})
	require.Nil(t, fault)
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(-99999, 99999).Draw(rt, "level")
		raw := rapid.Uint64Range(0, 1).Draw(rt, "state")
		c := rapid.Uint64Range(0, 1<<40).Draw(rt, "count")
		text, err := l.Say(map[string]string{"level": fmt.Sprintf("%d mm", n), "state": state.Codes[raw], "count": fmt.Sprint(c)})
		require.NoError(rt, err)
		want := strings.TrimRight(strings.TrimRight(fmt.Sprintf("%.3f", float64(n)/1000), "0"), ".")
		if n > -1 && n < 1 {
			want = "0"
		}
		require.Equal(rt, fmt.Sprintf("L=%s;%s #%X", want, state.Codes[raw], c), string(text))
		values, why := l.Read(text)
		require.Empty(rt, why)
		f, ok := values[0].Float()
		require.True(rt, ok)
		require.InDelta(rt, float64(n)/1000, f, 1e-9)
		require.Equal(rt, state.Codes[raw], values[1].Meaning())
		require.Equal(rt, c, values[2].Raw)
	})
	for text, why := range map[string]string{
		"L=7x1;OK #1":  "'x' at character 4 is no digit of level",
		"M=7;OK #1":    `'M' at character 1, where "L=" was expected`,
		"L=7;MAYBE #1": "MAYBE is no word of state",
		"L=7;OK":       `it ends after 6 characters, where " #" was expected`,
		"L=;OK #1":     "level has no digits",
		"L=1.2.3;OK #": "level is no number",
		"L=7;OK #1G":   "'G' at character 10 is no digit of count",
	} {
		_, got := l.Read([]byte(text))
		assert.Contains(t, got, why, text)
	}
}

// Whatever the bytes, reading ends and says why, or gives all values.
func FuzzRead(f *testing.F) {
	f.Add("{a} {b}", []byte("1 2"))
	f.Fuzz(func(t *testing.T, text string, message []byte) {
		fields := []*Field{{Name: "a"}, {Name: "b", Form: Hex, Format: coding.Format{Bits: 64}}}
		l, fault := Write(text, fields)
		if fault != nil {
			require.NotEmpty(t, fault.Text)
			return
		}
		values, why := l.Read(message)
		require.True(t, why != "" || len(values) == 2)
	})
}

func FuzzDraw(f *testing.F) {
	f.Add("aaaabbbb", 0, 1, []byte{1, 2, 3})
	f.Fuzz(func(t *testing.T, letters string, from, to int, message []byte) {
		fields := []*Field{{Name: "a", Letter: 'a'}, {Name: "b", Letter: 'b', LowFirst: true}}
		l, fault := Draw(8, []Row{{from, to, letters}}, fields)
		if fault != nil {
			require.NotEmpty(t, fault.Text)
			return
		}
		require.Len(t, l.Decode(Words(message)), 2)
		l.Unexplained(len(message))
	})
}
