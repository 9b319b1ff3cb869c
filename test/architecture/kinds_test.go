package architecture

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The kinds of bus: the packages below core/bus, and the models of core/bench.
var (
	kindNames = []string{"uart", "spi", "i2c", "can", "pulse"}
	models    = []string{"UART", "SPI", "I2C", "CAN", "Pulse"}
)

// kindTables are the tables by kind, one for each layer that has to know kinds.
var kindTables = []string{
	"core/bench/link.go", "core/device/device.go", "core/operation/wire.go", "core/sim/world.go", "core/picture/timing.go",
	"core/diagnose/diagnose.go", "core/setpoint/kinds.go", "core/sending/kinds.go", "tui/timing/timing.go", "cmd/gavrix/calcframe.go",
}

// ownFiles belong to one kind although their names don't start with its name: each
// may speak of that kind alone.
var ownFiles = map[string]string{
	"core/device/talker.go":       "uart",
	"core/operation/chain.go":     "spi", // chains of shift registers
	"cmd/gavrix/calcreading.go":   "uart",
	"cmd/gavrix/calcsync.go":      "uart",
	"core/link/tty/tty.go":        "uart", // the ports of operating systems are serial ports
	"core/link/tty/open_linux.go": "uart",
	"core/link/tty/open_other.go": "uart",
}

// TestQuestionsAboutKinds lists what depends on a kind of bus outside core/bus,
// core/recognise, the tables by kind and the files that are one kind's row: at most
// eight lines, each with its reason.
func TestQuestionsAboutKinds(t *testing.T) {
	reasons := map[string]string{}
	var found []string
	for _, root := range []string{"core", "tui", "cmd"} {
		require.NoError(t, filepath.WalkDir("../../"+root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file := filepath.ToSlash(strings.TrimPrefix(path, "../../"))
			if strings.HasPrefix(file, "core/bus/") || strings.HasPrefix(file, "core/recognise/") || slices.Contains(kindTables, file) {
				return nil
			}
			own := ownFiles[file]
			for _, k := range kindNames {
				base := strings.TrimPrefix(strings.TrimPrefix(filepath.Base(file), "calc"), "draw")
				if strings.HasPrefix(base, k) {
					own = k
				}
			}
			for _, line := range questions(t, path) {
				if line.kind != own {
					found = append(found, fmt.Sprintf("%s:%d: %s", file, line.at, line.says))
				}
			}
			return nil
		}))
	}
	for _, f := range found {
		at, _, _ := strings.Cut(f, ":")
		assert.NotEmpty(t, reasons[at], "%s: give it to a table by kind, or a reason here", f)
	}
	assert.LessOrEqual(t, len(found), 8)
}

type question struct {
	at         int
	kind, says string
}

// questions gives the lines of a file that name a kind: of its package, of its model,
// or by its name, one each.
func questions(t *testing.T, path string) []question {
	t.Helper()
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
	require.NoError(t, err)
	packages := map[string]string{}
	for _, i := range f.Imports {
		p, _ := strconv.Unquote(i.Path.Value)
		if k, ok := strings.CutPrefix(p, "gavrix.org/gavrix/core/bus/"); ok && slices.Contains(kindNames, k) {
			packages[k] = k
		}
	}
	var out []question
	add := func(n ast.Node, kind, says string) {
		at := set.Position(n.Pos()).Line
		if len(out) == 0 || out[len(out)-1].at != at {
			out = append(out, question{at, kind, says})
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ImportSpec:
			return false
		case *ast.SelectorExpr:
			if x, ok := n.X.(*ast.Ident); ok {
				if k := packages[x.Name]; k != "" {
					add(n, k, x.Name+"."+n.Sel.Name)
				}
				if i := slices.Index(models, n.Sel.Name); i >= 0 && x.Name == "bench" {
					add(n, kindNames[i], "bench."+n.Sel.Name)
				}
			}
		case *ast.StarExpr:
			if x, ok := n.X.(*ast.Ident); ok && f.Name.Name == "bench" {
				if i := slices.Index(models, x.Name); i >= 0 {
					add(n, kindNames[i], "*"+x.Name)
				}
			}
		case *ast.BasicLit:
			if s, err := strconv.Unquote(n.Value); err == nil && n.Kind == token.STRING && slices.Contains(kindNames, s) {
				add(n, s, n.Value)
			}
		}
		return true
	})
	return out
}
