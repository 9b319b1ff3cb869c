// Package formula evaluates the expressions of benches and device files: numbers,
// named variables, operators, and functions of numbers. An expression takes a bounded
// number of steps, and the same values always give the same result.
package formula

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
)

// Bounds of an expression. Its depth is below its length.
const (
	mostLength = 400
	mostNodes  = 200
)

// step gives a value from those of the variables; a truth is 1 or 0.
type step func(values []float64) float64

// Formula is a compiled expression. It may be used by several goroutines.
type Formula struct {
	text string
	run  step
}

// constants and functions, by name; the number of a function's arguments stands with it.
var (
	constants = map[string]float64{"pi": math.Pi}
	functions = map[string]function{
		"abs": one(math.Abs), "floor": one(math.Floor), "ceil": one(math.Ceil), "round": one(math.Round), "trunc": one(math.Trunc),
		"sqrt": one(math.Sqrt), "exp": one(math.Exp), "log": one(math.Log), "log2": one(math.Log2), "log10": one(math.Log10),
		"sin": one(math.Sin), "cos": one(math.Cos), "tan": one(math.Tan), "atan": one(math.Atan),
		"min": two(math.Min), "max": two(math.Max), "mod": two(math.Mod),
	}
)

type function struct {
	arguments int
	call      func(x []float64) float64
}

func one(f func(float64) float64) function {
	return function{1, func(x []float64) float64 { return f(x[0]) }}
}

func two(f func(a, b float64) float64) function {
	return function{2, func(x []float64) float64 { return f(x[0], x[1]) }}
}

var binary = map[string]func(a, b float64) float64{
	"+": func(a, b float64) float64 { return a + b }, "-": func(a, b float64) float64 { return a - b },
	"*": func(a, b float64) float64 { return a * b }, "/": func(a, b float64) float64 { return a / b },
	"%": math.Mod, "**": math.Pow, "^": math.Pow,
	"<": func(a, b float64) float64 { return truth(a < b) }, ">": func(a, b float64) float64 { return truth(a > b) },
	"<=": func(a, b float64) float64 { return truth(a <= b) }, ">=": func(a, b float64) float64 { return truth(a >= b) },
	"==": func(a, b float64) float64 { return truth(a == b) }, "!=": func(a, b float64) float64 { return truth(a != b) },
	"and": func(a, b float64) float64 { return truth(a != 0 && b != 0) }, "or": func(a, b float64) float64 { return truth(a != 0 || b != 0) },
	"&&": func(a, b float64) float64 { return truth(a != 0 && b != 0) }, "||": func(a, b float64) float64 { return truth(a != 0 || b != 0) },
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// New compiles an expression of the variables. The error says what is wrong, and at
// which column of the text.
func New(text string, variables ...string) (*Formula, error) {
	if len(text) > mostLength {
		return nil, fmt.Errorf("the expression has %d characters; at most %d are taken", len(text), mostLength)
	}
	tree, err := parser.Parse(text)
	if err != nil {
		var at *file.Error
		if errors.As(err, &at) {
			return nil, fmt.Errorf("%q can't be read from column %d on", text, at.Column+1)
		}
		return nil, fmt.Errorf("%q is no expression", text)
	}
	c := &compiler{variables: variables}
	run, err := c.compile(tree.Node)
	if err != nil {
		return nil, fmt.Errorf("%q: %w", text, err)
	}
	return &Formula{text, run}, nil
}

// Value gives the value for those of the variables, in the order of New. It may be
// infinite, or not a number.
func (f *Formula) Value(values ...float64) float64 { return f.run(values) }

// String gives the text.
func (f *Formula) String() string { return f.text }

type compiler struct {
	variables []string
	nodes     int
}

func (c *compiler) compile(n ast.Node) (step, error) {
	if c.nodes++; c.nodes > mostNodes {
		return nil, fmt.Errorf("it has more than %d parts", mostNodes)
	}
	switch n := n.(type) {
	case *ast.IntegerNode:
		return constant(float64(n.Value)), nil
	case *ast.FloatNode:
		return constant(n.Value), nil
	case *ast.IdentifierNode:
		return c.name(n)
	case *ast.UnaryNode:
		return c.unary(n)
	case *ast.BinaryNode:
		f, has := binary[n.Operator]
		if !has {
			return nil, unknown(n, fmt.Sprintf("there is no operator %s", n.Operator))
		}
		xs, err := c.all(n.Left, n.Right)
		if err != nil {
			return nil, err
		}
		a, b := xs[0], xs[1]
		return func(v []float64) float64 { return f(a(v), b(v)) }, nil
	case *ast.ConditionalNode:
		xs, err := c.all(n.Cond, n.Exp1, n.Exp2)
		if err != nil {
			return nil, err
		}
		cond, a, b := xs[0], xs[1], xs[2]
		return func(v []float64) float64 {
			if cond(v) != 0 {
				return a(v)
			}
			return b(v)
		}, nil
	case *ast.CallNode:
		if name, ok := n.Callee.(*ast.IdentifierNode); ok {
			return c.call(n, name.Value, n.Arguments)
		}
	case *ast.BuiltinNode:
		return c.call(n, n.Name, n.Arguments)
	}
	return nil, unknown(n, "only numbers, variables, operators and functions of numbers are taken")
}

func constant(x float64) step { return func([]float64) float64 { return x } }

// unknown says what is wrong with a part, and where it stands.
func unknown(n ast.Node, why string) error {
	return fmt.Errorf("%s (column %d)", why, n.Location().From+1)
}

func (c *compiler) all(nodes ...ast.Node) ([]step, error) {
	var out []step
	for _, n := range nodes {
		s, err := c.compile(n)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (c *compiler) name(n *ast.IdentifierNode) (step, error) {
	if i := slices.Index(c.variables, n.Value); i >= 0 {
		return func(v []float64) float64 { return v[i] }, nil
	}
	if x, has := constants[n.Value]; has {
		return constant(x), nil
	}
	return nil, unknown(n, fmt.Sprintf("there is no %s; known are %s", n.Value, strings.Join(append(slices.Clone(c.variables), "pi"), ", ")))
}

func (c *compiler) unary(n *ast.UnaryNode) (step, error) {
	x, err := c.compile(n.Node)
	if err != nil {
		return nil, err
	}
	switch n.Operator {
	case "-":
		return func(v []float64) float64 { return -x(v) }, nil
	case "not", "!":
		return func(v []float64) float64 { return truth(x(v) == 0) }, nil
	}
	return x, nil
}

func (c *compiler) call(n ast.Node, name string, arguments []ast.Node) (step, error) {
	f, has := functions[name]
	if !has {
		var names []string
		for k := range functions {
			names = append(names, k)
		}
		slices.Sort(names)
		return nil, unknown(n, fmt.Sprintf("there is no function %s; known are %s", name, strings.Join(names, ", ")))
	}
	if len(arguments) != f.arguments {
		return nil, unknown(n, fmt.Sprintf("%s takes %d values, not %d", name, f.arguments, len(arguments)))
	}
	xs, err := c.all(arguments...)
	if err != nil {
		return nil, err
	}
	return func(v []float64) float64 {
		var got [2]float64
		for i, x := range xs {
			got[i] = x(v)
		}
		return f.call(got[:len(xs)])
	}, nil
}
