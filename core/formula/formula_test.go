package formula

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// term is an expression as text, with its value reckoned beside.
type term struct {
	text  string
	value float64
}

func anyTerm(rt *rapid.T, depth int, t, n float64) term {
	if depth == 0 || rapid.IntRange(0, 3).Draw(rt, "leaf") == 0 {
		switch rapid.IntRange(0, 4).Draw(rt, "which") {
		case 0:
			return term{"t", t}
		case 1:
			return term{"n", n}
		case 2:
			return term{"pi", math.Pi}
		case 3:
			x := rapid.Float64Range(0.001, 1000).Draw(rt, "x")
			return term{fmt.Sprint(x), x}
		}
		i := rapid.IntRange(0, 1000).Draw(rt, "i")
		return term{fmt.Sprint(i), float64(i)}
	}
	a, b := anyTerm(rt, depth-1, t, n), anyTerm(rt, depth-1, t, n)
	switch rapid.IntRange(0, 9).Draw(rt, "op") {
	case 0:
		return term{"(" + a.text + " + " + b.text + ")", a.value + b.value}
	case 1:
		return term{"(" + a.text + " - " + b.text + ")", a.value - b.value}
	case 2:
		return term{"(" + a.text + " * " + b.text + ")", a.value * b.value}
	case 3:
		return term{"(" + a.text + " / " + b.text + ")", a.value / b.value}
	case 4:
		return term{"(" + a.text + ") ** 2", math.Pow(a.value, 2)}
	case 5:
		return term{"sin(" + a.text + ")", math.Sin(a.value)}
	case 6:
		return term{"max(" + a.text + ", " + b.text + ")", math.Max(a.value, b.value)}
	case 7:
		return term{"-(" + a.text + ")", -a.value}
	case 8:
		v := b.value
		if a.value < b.value {
			v = a.value
		}
		return term{"(" + a.text + " < " + b.text + " ? " + a.text + " : " + b.text + ")", v}
	}
	return term{"floor(" + a.text + ")", math.Floor(a.value)}
}

func TestValues(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		at, n := rapid.Float64Range(-100, 100).Draw(rt, "t"), float64(rapid.IntRange(0, 100).Draw(rt, "n"))
		want := anyTerm(rt, 3, at, n)
		f, err := New(want.text, "t", "n")
		if len(want.text) > mostLength {
			require.Error(rt, err)
			return
		}
		require.NoError(rt, err)
		got := f.Value(at, n)
		if math.IsNaN(want.value) {
			require.True(rt, math.IsNaN(got))
			return
		}
		require.Equal(rt, want.value, got, want.text)
	})
}

// TestOnlyNumbers: what could loop, allocate, tell the time or make other values than
// numbers is refused, with its place.
func TestOnlyNumbers(t *testing.T) {
	for text, want := range map[string]string{
		"let a = 1..300000; float(count(a, count(a, # > 5) > 100000))": "only numbers",
		`repeat(repeat("x", 900000), 900000)`:                          "no function repeat",
		"now().Unix()":                                                 "only numbers",
		"map(1..9, # * 2)":                                             "no function map",
		"t in [1, 2]":                                                  "no operator in",
		"t + 1..9":                                                     "(column",
		`"a" + "b"`:                                                    "only numbers",
		"x + 1":                                                        "there is no x; known are t, pi (column 1)",
		"2 * x":                                                        "(column 5)",
		"sin(1, 2)":                                                    "sin takes 1 values, not 2",
		"{a: 1}.a":                                                     "only numbers",
		"t ?? 1":                                                       "no operator ??",
		"1 +":                                                          "column",
		"":                                                             "column",
		strings.Repeat("(", 300) + "1" + strings.Repeat(")", 300):             "601 characters",
		strings.Repeat("1+", 199) + "1":                                       "more than 200 parts",
		strings.Repeat("(", 3_000_000) + "1" + strings.Repeat(")", 3_000_000): "6000001 characters",
	} {
		_, err := New(text, "t")
		require.Error(t, err, text[:min(len(text), 40)])
		require.Contains(t, err.Error(), want)
		require.Less(t, len(err.Error()), 700)
	}
}

func FuzzNew(f *testing.F) {
	f.Add("clock / (16 * (n + 1) * 2 ** m)")
	f.Add("t > 3 and not (t < 2) ? sin(t) : 5.236 + 0.041 * cos(t / 9)")
	f.Fuzz(func(t *testing.T, text string) {
		x, err := New(text, "t", "n", "m", "clock")
		if err == nil {
			require.Equal(t, math.Float64bits(x.Value(1, 2, 3, 4)), math.Float64bits(x.Value(1, 2, 3, 4)))
		}
	})
}
