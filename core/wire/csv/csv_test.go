package csv

import (
	"errors"
	"io"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/quantity"
)

func read(text string, rate quantity.Freq) ([][]quantity.Time, []bool, error) {
	r, err := NewReader(strings.NewReader(text), rate)
	if err != nil {
		return nil, nil, err
	}
	var all []int
	for i := range r.Names() {
		all = append(all, i)
	}
	r.Select(all...)
	tog := make([][]quantity.Time, len(all))
	var high []bool
	for {
		ws, err := r.Next()
		if errors.Is(err, io.EOF) {
			return tog, high, nil
		}
		for i, w := range ws {
			if len(high) < len(all) {
				high = append(high, w.High)
			}
			for _, t := range w.Toggles {
				if t < w.From || t >= w.To {
					return nil, nil, errors.New("a toggle outside of its window")
				}
			}
			tog[i] = append(tog[i], w.Toggles...)
		}
		if err != nil {
			return tog, high, err
		}
	}
}

func TestTimesAndSamples(t *testing.T) {
	ns := quantity.Nanosecond
	tog, high, err := read("time [ns], a, b\n0,1,0\n10,0,0\n25,0,1\n", 0)
	require.NoError(t, err)
	assert.Equal(t, [][]quantity.Time{{10 * ns}, {25 * ns}}, tog)
	assert.Equal(t, []bool{true, false}, high)
	tog, _, err = read("Time,a\n1e-6,H\n2e-6,L\n", 0)
	require.NoError(t, err)
	assert.Equal(t, 2*quantity.Microsecond, tog[0][0])
	tog, _, err = read("a\n1\n0\n0\n1\n", 4*quantity.Megahertz)
	require.NoError(t, err)
	assert.Equal(t, []quantity.Time{250 * ns, 750 * ns}, tog[0])
	// Many stretches.
	var b strings.Builder
	b.WriteString("a\n")
	for i := range 3*stretch + 7 {
		b.WriteString([]string{"0\n", "1\n"}[i%2])
	}
	tog, _, err = read(b.String(), quantity.Megahertz)
	require.NoError(t, err)
	assert.Len(t, tog[0], 3*stretch+6)
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]string{
		"":                            "line 1: the file is empty",
		"time\n":                      "line 1: there are no lines",
		"time [h],a\n":                "line 1: times in \"h\"",
		"a,b\n":                       "give the rate",
		"time,0.5\n":                  "must name the lines",
		"time,a\n0,1\nx,0\n":          "line 3: \"x\" is no time",
		"time,a\n0,1\n1,2\n":          "line 3: \"2\" is no level",
		"time,a\n2,1\n1,0\n":          "line 3: time 1 s after 2 s: times must not go back",
		"time,a\n0,1\n1,3.3\n":        "line 3: \"3.3\" is a voltage",
		"time,a\n0,1\n1,0,1\n":        "line 3",
		"time,a\n0,1\n1e300,0\n":      "no time that fits",
		"time,a\n0,1\n1,\"0\n":        "line",
		"time,a\n0,1\n-1,0\n":         "must not go back",
		"# one\n\ntime,a\n0,1\n1,q\n": "line 5: \"q\" is no level",
		"time,a\n0,1\nNaN,0\n":        "no time that fits",
	} {
		_, _, err := read(text, 0)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
	tog, _, err := read("time,a\n0,1\n1,0\n2,1\nx,0\n", 0)
	require.Error(t, err)
	assert.Len(t, tog[0], 2, "what stood before is kept")
}

func FuzzReader(f *testing.F) {
	f.Add("time [us],a,b\n0,1,0\n3,0,1\n")
	f.Fuzz(func(_ *testing.T, text string) { _, _, _ = read(text, quantity.Kilohertz) })
}

// utf16Of is a text in UTF-16, the low byte first.
func utf16Of(s string) string {
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return string(out)
}

// TestDialects: the same levels as other programs write them.
func TestDialects(t *testing.T) {
	const us = quantity.Microsecond
	for name, text := range map[string]string{
		"commas":            "time [us],a,b\n0,1,0\n2,0,0\n5,0,1\n",
		"semicolons":        "time [us];a;b\n0;1;0\n2;0;0\n5;0;1\n",
		"decimal commas":    "time [ms];a;b\n0;1;0\n0,002;0;0\n0,005;0;1,0\n",
		"tabs":              "time/us\ta\tb\n0\t1\t0\n2\t0\t0\n5\t0\t1\n",
		"remarks":           "; a program\n# 24 MHz\n% more\n// again\nTime (us), a, b\n0,1,0\n# between\n2,0,0\n5,0,1\n",
		"a separator named": "sep=;\nt [us];a;b\n0;1;0\n2;0;0\n5;0;1\n",
		"t":                 "t,a,b\n0,1,0\n2e-6,0,0\n5e-6,0,1\n",
		"Timestamp":         "Timestamp (us),a,b\n0,1,0\n2,0,0\n5,0,1\n",
		"an index":          "Index,Time[us],a,b\n0,0,1,0\n1,2,0,0\n2,5,0,1\n",
		"negative times":    "time_us,a,b\n-3,1,0\n-1,0,0\n2,0,1\n",
		"equal times":       "time_us,a,b\n0,1,0\n2,0,0\n5,0,0\n5,0,1\n",
		"there and back":    "time_us,a,b\n0,1,0\n2,0,0\n5,0,1\n6,0,0\n6,0,1\n",
		"words":             "time_us,a,b\n0,High,false\n2,low,FALSE\n5,Low,true\n",
		"decimals":          "time_us,a,b\n0,1.0,0.0\n2,0.000,0\n5,0,1.00\n",
		"empty cells":       "time_us,a,b\n0,1,0\n2,0,\n5,,1\n",
		"a last separator":  "time_us,a,b,\n0,1,0,\n2,0,0,\n5,0,1,\n",
		"a mark":            "\xef\xbb\xbftime_us,a,b\n0,1,0\n2,0,0\n5,0,1\n",
		"UTF-16":            utf16Of("time [µs],a,b\n0,1,0\n2,0,0\n5,0,1\n"),
		"other line ends":   "time_us,a,b\r\n0,1,0\r\n2,0,0\r\n5,0,1\r\n",
		"cut off":           "time_us,a,b\n0,1,0\n2,0,0\n5,0,1\n7,1",
		"unknown at first":  "time_us,a,b\n0,x,0\n1,1,0\n2,0,0\n5,0,1\n",
	} {
		tog, high, err := read(text, 0)
		require.NoError(t, err, name)
		assert.Equal(t, [][]quantity.Time{{2 * us}, {5 * us}}, tog, name)
		assert.Equal(t, []bool{true, false}, high, name)
	}
	tog, high, err := read("sample;a\n0;1\n1;0\n2;0\n", quantity.Megahertz)
	require.NoError(t, err)
	assert.Equal(t, [][]quantity.Time{{us}}, tog)
	assert.Equal(t, []bool{true}, high)
}
