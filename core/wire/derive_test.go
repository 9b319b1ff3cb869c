package wire

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
)

// tree is a random expression with its text and what it means.
type tree struct {
	text string
	of   func(levels map[string]bool) bool
}

func anyTree(rt *rapid.T, depth int) tree {
	if depth == 0 || rapid.IntRange(0, 3).Draw(rt, "leaf") == 0 {
		n := rapid.SampledFrom([]string{"a", "top.b", "c[3]", `"or"`, `"two words"`}).Draw(rt, "line")
		name := n
		if n[0] == '"' {
			name = n[1 : len(n)-1]
		}
		return tree{n, func(l map[string]bool) bool { return l[name] }}
	}
	x := anyTree(rt, depth-1)
	switch op := rapid.SampledFrom([]string{"not", "and", "or", "xor"}).Draw(rt, "op"); op {
	case "not":
		return tree{"not (" + x.text + ")", func(l map[string]bool) bool { return !x.of(l) }}
	default:
		y := anyTree(rt, depth-1)
		return tree{"(" + x.text + ") " + op + " (" + y.text + ")", func(l map[string]bool) bool {
			a, b := x.of(l), y.of(l)
			return map[string]bool{"and": a && b, "or": a || b, "xor": a != b}[op]
		}}
	}
}

// TestDerivedLines: at every time the derived line has the level that the
// expression gives for the levels of the others, however they are cut.
func TestDerivedLines(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		e := anyTree(rt, 3)
		d, err := ParseExpression(e.text)
		require.NoError(rt, err, e.text)
		const end = 200
		lines := make([][]bool, len(d.Inputs))
		for i := range lines {
			lines[i] = rapid.SliceOfN(rapid.Bool(), end, end).Draw(rt, "levels")
		}
		window := func(levels []bool, from, to int) Window {
			w := Window{From: quantity.Time(from), To: quantity.Time(to), High: levels[max(from-1, 0)]}
			for t := max(from, 1); t < to; t++ {
				if levels[t] != levels[t-1] {
					w.Toggles = append(w.Toggles, quantity.Time(t))
				}
			}
			return w
		}
		for from := 0; from < end; {
			to := min(end, from+1+rapid.IntRange(0, 90).Draw(rt, "cut"))
			var ws []Window
			for i := range lines {
				ws = append(ws, window(lines[i], from, to))
			}
			w := d.Window(ws)
			level, k := w.High, 0
			for t := from; t < to; t++ {
				if k < len(w.Toggles) && w.Toggles[k] == quantity.Time(t) {
					level = !level
					k++
				}
				levels := map[string]bool{}
				for i, n := range d.Inputs {
					levels[n] = lines[i][t]
				}
				require.Equal(rt, e.of(levels), level, "%s at %d", e.text, t)
			}
			from = to
		}
	})
}

func TestBinding(t *testing.T) {
	same := func(a, b string) {
		x, err := ParseExpression(a)
		require.NoError(t, err)
		y, err := ParseExpression(b)
		require.NoError(t, err)
		assert.Equal(t, x.Inputs, y.Inputs)
		assert.Equal(t, x.table, y.table, "%s, %s", a, b)
	}
	same("a or b and c", "a or (b and c)")
	same("a xor b and c", "a xor (b and c)")
	same("a or b xor c", "a or (b xor c)")
	same("not a and b", "(not a) and b")
	same("not not a", "a")
}

func TestBadExpressions(t *testing.T) {
	for text, want := range map[string]string{
		"":         "missing at the end",
		"a and":    "missing at the end",
		"a b":      `column 3 of "a b": an operator is missing before "b"`,
		"(a":       "a ) is missing",
		"a)":       "an operator is missing",
		"or a":     `missing before "or"`,
		`"a`:       "a quote is not closed",
		"a & b":    "an operator is missing",
		"a and %b": `missing before "%"`,
		"a or b or c or d or e or f or g or h or i": "more than 8 lines",
	} {
		_, err := ParseExpression(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
	assert.True(t, IsExpression("not a"))
	assert.True(t, IsExpression("(a)"))
	assert.False(t, IsExpression("nota.and"))
}

func FuzzExpression(f *testing.F) {
	f.Add(`not (a and "b c") xor d`)
	f.Fuzz(func(t *testing.T, text string) {
		d, err := ParseExpression(text)
		if err != nil {
			return
		}
		ws := make([]Window, len(d.Inputs))
		for i := range ws {
			ws[i].To = 10
		}
		_ = fmt.Sprint(d.Window(ws))
	})
}
