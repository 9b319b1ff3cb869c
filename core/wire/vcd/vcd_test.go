package vcd

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// all reads a file whole: for each line its first level and its toggles.
type lineLevels struct {
	First   bool
	Toggles []quantity.Time
	Unknown []wire.Span
}

func all(text string) (map[string]lineLevels, quantity.Time, error) {
	return allOf(strings.NewReader(text))
}

func allNoted(text string) (map[string]lineLevels, []string, error) {
	r, err := NewReader(strings.NewReader(text))
	if err != nil {
		return nil, nil, err
	}
	out, _, err := drain(r)
	return out, r.Notes(), err
}

func allOf(in io.Reader) (map[string]lineLevels, quantity.Time, error) {
	r, err := NewReader(in)
	if err != nil {
		return nil, 0, err
	}
	return drain(r)
}

func drain(r *Reader) (map[string]lineLevels, quantity.Time, error) {
	var idx []int
	for i := range r.Lines() {
		idx = append(idx, i)
	}
	r.Select(idx...)
	out := map[string]lineLevels{}
	// Several variables may have one name.
	names, count := make([]string, len(idx)), map[string]int{}
	for i, l := range r.Lines() {
		names[i] = l.Name
		if n := count[l.Name]; n > 0 {
			names[i] = fmt.Sprintf("%s (%d)", l.Name, n)
		}
		count[l.Name]++
	}
	first := true
	var to quantity.Time
	for {
		ws, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out, to, nil
		}
		for i, w := range ws {
			l := out[names[i]]
			if first {
				l.First = w.High
			}
			l.Toggles = append(l.Toggles, w.Toggles...)
			l.Unknown = append(l.Unknown, w.Unknown...)
			out[names[i]] = l
			to = w.To
		}
		first = false
		if err != nil {
			return out, to, err
		}
	}
}

const head = "$date today $end $timescale 1 ns $end $scope module top $end $var wire 1 ! a $end $var reg 4 \" bus [3:0] $end $var real 64 # r $end $upscope $end $var string 0 $ s $end $enddefinitions $end\n"

func TestReadsWhatTheStandardAllows(t *testing.T) {
	text := head + "$comment 0! is no value $end\n$dumpvars 1! b0 \" r0.5 # $end\n#10 0!\n#20 b11 \" r1e9 # sIdle $\n#25\n1! bz1 \"\n#30 $dumpoff x! bx \" $end\n#40 $dumpon 0! b1010 \" $end\n#50"
	got, to, err := all(text)
	require.NoError(t, err)
	ns := quantity.Nanosecond
	assert.Equal(t, lineLevels{true, []quantity.Time{10 * ns, 25 * ns, 40 * ns}, []wire.Span{{From: 30 * ns, To: 40 * ns}}}, got["top.a"])
	assert.Equal(t, []quantity.Time{25 * ns}, got["top.bus[3]"].Toggles, "z reads as high")
	assert.Equal(t, []quantity.Time{20 * ns, 40 * ns}, got["top.bus[0]"].Toggles)
	assert.Equal(t, 50*ns+1, to)
	assert.Len(t, got, 5)
}

// TestBitsAreNamedAsDeclared writes vectors of random ranges, each under two names, and
// compares each bit with the value that the text gives it.
func TestBitsAreNamedAsDeclared(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var b strings.Builder
		left, right := rapid.IntRange(0, 70).Draw(rt, "left"), rapid.IntRange(0, 70).Draw(rt, "right")
		width := max(left, right) - min(left, right) + 1
		if width == 1 {
			right, width = left+1, 2
		}
		other := rapid.IntRange(0, 40).Draw(rt, "right of the second name")
		fmt.Fprintf(&b, "$timescale 1 ps $end $var wire %d ! data [%d:%d] $end $var wire %d ! again[%d:%d] $end $enddefinitions $end\n", width, left, right, width, other, other+width-1)
		values := make([]string, rapid.IntRange(2, 6).Draw(rt, "values"))
		for i := range values {
			values[i] = rapid.StringMatching(fmt.Sprintf("[01]{%d}", width)).Draw(rt, "value")
			fmt.Fprintf(&b, "#%d b%s !\n", 10*i, values[i])
		}
		got, _, err := all(b.String())
		require.NoError(rt, err)
		require.Len(rt, got, 2*width)
		for i := range width {
			index := left - i
			if right > left {
				index = left + i
			}
			want := lineLevels{First: values[0][i] == '1'}
			for k := 1; k < len(values); k++ {
				if values[k][i] != values[k-1][i] {
					want.Toggles = append(want.Toggles, quantity.Time(10*k))
				}
			}
			require.Equal(rt, want, got[fmt.Sprintf("data[%d]", index)])
			require.Equal(rt, want, got[fmt.Sprintf("again[%d]", other+i)])
		}
	})
}

// TestSecondNames: each name of a code is a line of its own; the brackets of an escaped
// name belong to it.
func TestSecondNames(t *testing.T) {
	got, _, err := all("$timescale 1 ps $end $scope module a $end $var wire 1 ! x $end $upscope $end $scope module b $end $var wire 1 ! y $end $var wire 2 \" \\q[7:0] $end $upscope $end $enddefinitions $end #0 0! b00 \" #5 x! #7 1! #9")
	require.NoError(t, err)
	require.Equal(t, lineLevels{false, []quantity.Time{7}, []wire.Span{{From: 5, To: 7}}}, got["a.x"])
	require.Equal(t, got["a.x"], got["b.y"])
	require.Contains(t, got, "b.\\q[7:0][1]")
}

func TestTimescales(t *testing.T) {
	for scale, want := range map[string]quantity.Time{
		"1 fs": 1, "10fs": 10, "100 fs": 100, "1 ps": 1000, "100ps": 100_000, "1 us": 1000 * quantity.Microsecond, "10 ms": 10 * quantity.Second, "100 s": 100_000 * quantity.Second,
	} {
		text := fmt.Sprintf("$timescale %s $end $var wire 1 ! a $end $enddefinitions $end #0 0! #1000 1!", scale)
		got, _, err := all(text)
		require.NoError(t, err, scale)
		assert.Equal(t, []quantity.Time{want}, got["a"].Toggles, scale)
	}
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "line 1: the file ends before $enddefinitions",
		"\x00\x01\x02 binary":    "no value change dump",
		"$var wire 1 ! a":        "$end is missing",
		"$timescale 3 ns $end":   "line 1: timescale",
		"$timescale 1 h $end":    "timescale",
		"\n$var wire x ! a $end": "line 2: $var: \"x\" is no width",
		"$var wire 1 $end":       "needs a type",
		"$var wire 2147483648 ! a $end $enddefinitions $end": "2147483648 bits; at most 1024",
		strings.Repeat("a", 1<<18):                           "more than 65536 bytes",
		head + "#10 1!\n#5 0!\n":                             "line 3: time 5 ns after 10 ns: times must not go back",
		head + "yellow":                                      "neither a time nor a value",
		head + "#x":                                          "no time that fits",
		head + "# ":                                          "without a time",
		head + "#99999999999999999999":                       "fits",
		head + "#9999999999999999":                           "does not fit",
		head + "#1 b11111 \"":                                "a value of 5 bits for a vector of 4",
		head + "#1 b12 \"":                                   "no vector of 0, 1, x and z",
		head + "#1 $var":                                     "among the values",
		"$timescale 1 fs $end $var wire 1 ! a $end $enddefinitions $end #0 0! #1000 1! #1400 0!": "within a picosecond",
	} {
		_, _, err := all(text)
		require.Error(t, err, text[max(len(text)-40, 0):])
		assert.Contains(t, err.Error(), want)
		assert.Contains(t, err.Error(), "line ")
	}
	// A file that is cut off is read up to there, and that is said.
	for _, cut := range []string{"#", "#1", "b1", "$", "$com", "$comment", "$comment more", "r1.5", "x"} {
		got, notes, err := allNoted(head + "#10 1!\n#25 0!\n" + cut)
		require.NoError(t, err, cut)
		assert.Equal(t, []quantity.Time{25 * quantity.Nanosecond}, got["top.a"].Toggles, cut)
		if cut != "x" {
			assert.Contains(t, strings.Join(notes, ";"), "cut off", cut)
		}
	}
	// What stood before the fault is kept.
	got, _, err := all(head + "#0 1!\n#10 0!\n#20 1!\n#15 0!")
	require.Error(t, err)
	assert.Len(t, got["top.a"].Toggles, 2)
	_, err = NewReader(io.MultiReader(strings.NewReader("$date "), broken{}))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestWrittenAndReadIsTheSame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(1, 5).Draw(rt, "lines")
		var names []string
		tog := make([][]quantity.Time, n)
		high := make([]bool, n)
		end := quantity.Time(rapid.Int64Range(1, 1e9).Draw(rt, "end"))
		for i := range n {
			names = append(names, fmt.Sprintf("line %d", i))
			high[i] = rapid.Bool().Draw(rt, "high")
			at := quantity.Time(0)
			for {
				at += quantity.Time(rapid.Int64Range(1, int64(end)/4+2).Draw(rt, "step"))
				if at >= end {
					break
				}
				tog[i] = append(tog[i], at)
			}
		}
		var b bytes.Buffer
		w, err := NewWriter(&b, names)
		require.NoError(rt, err)
		wiretest.Feed(tog, high, end, wiretest.AtRandom(rt, end, 4), func(ws []wire.Window) { require.NoError(rt, w.Write(ws)) })
		require.NoError(rt, w.Close(end))
		got, to, err := all(b.String())
		require.NoError(rt, err)
		require.Equal(rt, end+1, to)
		for i := range n {
			l := got["capture."+strings.ReplaceAll(names[i], " ", "_")]
			require.Equal(rt, high[i], l.First)
			require.Equal(rt, tog[i], l.Toggles)
		}
	})
}

func TestUnknownStretchesAreKept(t *testing.T) {
	var b bytes.Buffer
	w, err := NewWriter(&b, []string{"a"})
	require.NoError(t, err)
	spans := []wire.Span{{From: 20, To: 40}}
	require.NoError(t, w.Write([]wire.Window{{To: 100, High: true, Toggles: []quantity.Time{10, 50}, Unknown: spans}}))
	require.NoError(t, w.Close(100))
	got, _, err := all(b.String())
	require.NoError(t, err)
	assert.Equal(t, []quantity.Time{10, 50}, got["capture.a"].Toggles)
	assert.Equal(t, spans, got["capture.a"].Unknown)
	assert.Error(t, w.Write(nil))
}

func TestCodesAreUnlike(t *testing.T) {
	seen := map[string]bool{}
	for i := range 20_000 {
		c := code(i)
		require.False(t, seen[c], c)
		seen[c] = true
	}
}

func FuzzReader(f *testing.F) {
	f.Add([]byte(head + "#0 1! #10 0! b101 \" #20 x!"))
	f.Add([]byte("$timescale 1 fs $end $var wire 1 abcd a $end $enddefinitions $end #5 1abcd"))
	f.Add([]byte("$timescale 1 ns $end $var wire 1 ! a $end $var wire 1 \" b $end $enddefinitions $end\n#0\n1!\n0\"\n#12345678\n0!\n#12345679\n1!\n#12345680\n0!\n1\"\n#123456789\n1!\n#123456799\n0!\n#123456809\n1!\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		got, to, err := all(string(raw))
		// Byte by byte nothing is taken eight digits at once: the same must come
		// out.
		slow, slowTo, slowErr := allOf(iotest.OneByteReader(bytes.NewReader(raw)))
		require.Equal(t, slow, got)
		require.Equal(t, slowTo, to)
		require.Equal(t, slowErr, err)
		for _, l := range got {
			last := quantity.Time(-1)
			for _, x := range l.Toggles {
				require.Greater(t, x, last)
				require.Less(t, x, to)
				last = x
			}
		}
	})
}

func benchmarkText(signals int) []byte {
	var b bytes.Buffer
	b.WriteString("$timescale 1 ns $end\n")
	var codes []string
	for i := range signals {
		c := code(i + 8930) // three characters
		if signals == 1 {
			c = "!"
		}
		codes = append(codes, c)
		fmt.Fprintf(&b, "$var wire 1 %s s%d $end\n", c, i)
	}
	b.WriteString("$enddefinitions $end\n#0\n")
	rng := rand.New(rand.NewPCG(1, 2))
	level := make([]int, signals)
	at := 0
	for b.Len() < 20<<20 {
		at += 1 + rng.IntN(2000)
		fmt.Fprintf(&b, "#%d\n", at)
		i := rng.IntN(signals)
		level[i] ^= 1
		fmt.Fprintf(&b, "%d%s\n", level[i], codes[i])
	}
	return b.Bytes()
}

func benchmarkRead(b *testing.B, signals int) {
	text := benchmarkText(signals)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		r, err := NewReader(bytes.NewReader(text))
		if err != nil {
			b.Fatal(err)
		}
		r.Select(0)
		for {
			if _, err := r.Next(); err != nil {
				break
			}
		}
	}
}

func BenchmarkReadOneSignal(b *testing.B)  { benchmarkRead(b, 1) }
func BenchmarkRead200Signals(b *testing.B) { benchmarkRead(b, 200) }

// TestNumbersAtOnce: up to sixteen digits are the number that they say,
// whatever stands behind them and whatever number came before.
func TestNumbersAtOnce(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var last times
		number := func() {
			text := rapid.OneOf(rapid.StringMatching(`[0-9]{0,16}`), rapid.StringMatching(`1234[0-9]{8}`)).Draw(rt, "digits")
			behind := rapid.OneOf(rapid.SampledFrom([]byte("\n :/x!~")), rapid.Byte()).Draw(rt, "behind")
			if behind >= '0' && behind <= '9' {
				behind = ' '
			}
			b := append([]byte(text), behind)
			for len(b) < margin {
				b = append(b, rapid.Byte().Draw(rt, "rest"))
			}
			n, end, ok := last.like(b)
			if !ok {
				n, end = last.read(b)
			}
			require.Equal(rt, len(text), end)
			want, _ := strconv.ParseInt("0"+text, 10, 64)
			require.Equal(rt, want, n)
		}
		for range rapid.IntRange(1, 5).Draw(rt, "numbers") {
			number()
		}
	})
}

// TestDialects: files as other programs write them.
func TestDialects(t *testing.T) {
	const us = quantity.Microsecond
	one := func(decl, values string) string {
		return "$timescale 1 us $end $scope module top $end " + decl + " $upscope $end $enddefinitions $end\n" + values
	}
	for name, c := range map[string]struct {
		text, line string
		high       bool
		toggles    []quantity.Time
	}{
		"x before the first level":          {one("$var wire 1 ! a $end", "$dumpvars x! $end\n#0\n#3 1!\n#5 0!\n"), "top.a", true, []quantity.Time{5 * us}},
		"x, then low":                       {one("$var wire 1 ! a $end", "#0 x!\n#3 0!\n#5 1!\n"), "top.a", false, []quantity.Time{5 * us}},
		"z before a line is driven":         {one("$var wire 1 ! a $end", "#0 z!\n#3 0!\n#5 1!\n#7 0!\n"), "top.a", false, []quantity.Time{5 * us, 7 * us}},
		"z is how an open drain is let go":  {one("$var wire 1 ! a $end", "#0 z!\n#3 0!\n#5 z!\n#7 0!\n"), "top.a", true, []quantity.Time{3 * us, 5 * us, 7 * us}},
		"a driver that is let go and comes": {one("$var wire 1 ! a $end", "#0 z!\n#3 0!\n#5 1!\n#7 z!\n#9 0!\n"), "top.a", true, []quantity.Time{3 * us, 5 * us, 9 * us}},
		"one bit with a range":              {one("$var wire 1 ! a [0:0] $end", "#0 0!\n#5 1!\n"), "top.a", false, []quantity.Time{5 * us}},
		"one bit of a bus":                  {one("$var wire 1 ! a [3:3] $end", "#0 0!\n#5 1!\n"), "top.a[3]", false, []quantity.Time{5 * us}},
		"nine values":                       {one("$var wire 1 ! a $end", "#0 U!\n#1 L!\n#5 H!\n#6 W!\n#7 0!\n#8 -!\n"), "top.a", false, []quantity.Time{5 * us, 7 * us}},
		"a byte order mark":                 {"\xef\xbb\xbf" + one("$var wire 1 ! a $end", "#0 0!\n#5 1!\n"), "top.a", false, []quantity.Time{5 * us}},
		"values of what is not declared":    {one("$var wire 1 ! a $end", "#0 0! 1% b11 &\n#5 1! 0%\n"), "top.a", false, []quantity.Time{5 * us}},
		"closed":                            {one("$var wire 1 ! a $end", "#0 0!\n#5 1!\n$vcdclose #9 $end\n"), "top.a", false, []quantity.Time{5 * us}},
	} {
		got, notes, err := allNoted(c.text)
		require.NoError(t, err, name)
		require.Contains(t, got, c.line, name)
		assert.Equal(t, c.high, got[c.line].First, name)
		assert.Equal(t, c.toggles, got[c.line].Toggles, name)
		if strings.Contains(name, "not declared") {
			assert.Equal(t, []string{"3 values of codes that stand for no variable were skipped: % &"}, notes)
		} else {
			assert.Empty(t, notes, name)
		}
	}
	_, err := NewReader(strings.NewReader("\xff\xfe$\x00d\x00"))
	require.ErrorContains(t, err, "UTF-16")
}
