// Package architecture holds the packages to the table of who may import
// whom. docs/architecture.md explains the layers.
package architecture

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// allowed lists, for each package of the module, the module's packages that
// it may import itself. A package that is missing here fails the test.
var allowed = map[string]string{
	"core/quantity":          "",
	"core/safe":              "",
	"core/guard":             "",
	"core/regular":           "",
	"core/fault":             "",
	"core/finding":           "core/quantity core/safe",
	"core/record":            "core/quantity",
	"core/wire":              "core/quantity",
	"core/doc":               "core/quantity core/finding",
	"core/wire/vcd":          "core/quantity core/wire",
	"core/wire/csv":          "core/fault core/quantity core/wire",
	"core/wire/wiretest":     "core/quantity core/wire",
	"core/bus":               "core/quantity core/record core/wire core/doc",
	"core/bus/uart":          "core/bus core/quantity core/finding core/record core/safe core/wire core/doc",
	"core/bus/spi":           "core/bus core/quantity core/finding core/record core/wire core/doc",
	"core/bus/i2c":           "core/bus core/quantity core/finding core/record core/wire core/doc",
	"core/bus/can":           "core/bus core/quantity core/finding core/record core/wire core/doc",
	"core/bus/pulse":         "core/bus core/quantity core/finding core/record core/wire core/doc",
	"core/bus/shared":        "core/bus core/quantity core/wire",
	"core/bus/all":           "core/bus core/bus/uart core/bus/spi core/bus/i2c core/bus/can core/bus/pulse",
	"core/recognise":         "core/bus core/bus/uart core/bus/pulse core/bus/spi core/bus/i2c core/bus/can core/quantity core/record core/wire",
	"core/recognise/samples": "core/bus/uart core/bus/spi core/bus/i2c core/bus/can core/quantity core/recognise core/wire",
	"core/stats":             "core/quantity core/record core/wire",
	"core/comb":              "core/capture core/quantity core/record core/records core/stats",
	"core/register":          "core/fault",
	"core/intent":            "core/bus core/quantity core/record core/wire",
	"core/decode":            "core/bench core/bus core/bus/all core/capture core/doc core/quantity core/recognise core/record core/wire core/wire/vcd core/wire/csv",
	"core/formula":           "",
	"core/clock":             "core/quantity core/finding core/doc core/formula",
	"core/agenda":            "core/quantity",
	"core/machine":           "core/agenda core/quantity",
	"core/transfer":          "core/doc core/finding core/formula core/machine core/quantity",
	"core/scene":             "core/quantity",
	"core/check":             "core/quantity core/record core/safe",
	"core/coding":            "",
	"core/layout":            "core/coding core/safe",
	"core/values":            "core/bench core/capture core/coding core/device core/doc core/follow core/operation core/quantity core/record core/records core/safe",
	"core/setpoint":          "core/bench core/bus/i2c core/capture core/coding core/device core/finding core/layout core/link core/operation core/record core/values",
	"core/sending":           "core/bench core/bus/i2c core/bus/uart core/capture core/check core/filter core/link core/operate core/operation core/quantity core/record core/records core/setpoint core/values core/wire",
	"core/filter":            "core/bench core/capture core/coding core/doc core/quantity core/record core/records core/safe core/values",
	"core/access":            "",
	"core/image":             "",
	"core/packet":            "",
	"core/objects":           "",
	"core/constants":         "core/device core/operation",
	"core/operation":         "core/layout core/safe core/image core/access core/bus/i2c core/bus/spi core/bus/uart core/device core/doc core/objects core/packet core/quantity core/record core/register",
	"core/ledger":            "core/bench core/capture core/device core/operation core/quantity core/record core/records",
	"core/operate":           "core/image core/access core/bench core/capture core/coding core/device core/ledger core/link core/operation core/quantity core/record core/records core/register core/safe core/regular",
	"core/device":            "core/layout core/bus/pulse core/access core/bus/can core/bus/i2c core/bus/spi core/objects core/packet core/coding core/register core/bus core/bus/all core/bus/uart core/doc core/finding core/quantity core/formula",
	"core/startup":           "core/register",
	"core/bench":             "core/bus core/bus/all core/bus/can core/bus/i2c core/bus/pulse core/bus/spi core/bus/uart core/check core/clock core/device core/doc core/finding core/machine core/operation core/transfer core/quantity core/record core/records core/register core/startup core/regular",
	"core/capture":           "core/quantity core/record core/records core/wire",
	"core/capture/jsonl":     "core/bus/all core/capture core/record core/safe",
	"core/capture/pcapng":    "core/bus core/bus/all core/capture core/quantity core/record core/records core/regular core/wire",
	"core/records":           "core/quantity core/record",
	"core/textlog":           "core/bench core/bus/all core/capture core/record core/records core/safe",
	"core/dialogue":          "core/capture core/quantity core/record core/records",
	"core/link":              "core/bench core/capture core/finding core/quantity core/record",
	"core/link/tty":          "core/bench core/bus/uart core/capture core/finding core/guard core/link core/quantity core/record",
	"core/sim":               "core/agenda core/transfer core/bench core/bus core/bus/can core/bus/i2c core/bus/pulse core/bus/spi core/bus/shared core/bus/uart core/capture core/device core/link core/machine core/quantity core/record core/register core/safe core/startup core/wire",
	"core/session":           "core/bench core/capture core/guard core/link core/link/tty core/quantity core/sim",
	"core/firmware":          "core/access core/bench core/constants core/device core/operation core/register core/transfer core/safe",
	"core/follow":            "core/bench core/bus/pulse core/capture core/quantity core/record core/records core/transfer",
	"core/picture":           "core/values core/machine core/transfer core/register core/startup core/bench core/bus core/bus/can core/bus/i2c core/bus/pulse core/bus/spi core/bus/uart core/capture core/intent core/quantity core/record core/records core/safe core/scene core/wire",
	"core/prove":             "core/bench core/capture core/check core/intent core/link core/quantity core/record core/records",
	"core/diagnose":          "core/bench core/bus/i2c core/bus/uart core/capture core/finding core/quantity core/recognise core/record core/records core/safe core/bus/spi core/wire",
	"demo":                   "",
	"draw/cells":             "core/quantity core/safe core/scene",
	"draw/paper":             "core/quantity core/safe core/scene",
	"draw/svg":               "core/safe core/scene draw/paper",
	"draw/pdf":               "core/scene draw/paper",
}

// views may import the core, the renderers and what views share, never each
// other nor the shell.
var views = []string{"tui/plots", "tui/registers", "tui/timing", "tui/traffic", "tui/transfers", "tui/waves"}

type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func list(t *testing.T) map[string]pkg {
	cmd := exec.Command("go", "list", "-deps", "-json=ImportPath,Imports,Deps", "gavrix.org/gavrix/...")
	out, err := cmd.Output()
	require.NoError(t, err)
	all := map[string]pkg{}
	dec := json.NewDecoder(bytes.NewReader(out))
	for {
		var p pkg
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else {
			require.NoError(t, err)
		}
		if name, ok := strings.CutPrefix(p.ImportPath, "gavrix.org/gavrix/"); ok {
			all[name] = p
		}
	}
}

func TestImports(t *testing.T) {
	all := list(t)
	for name, p := range all {
		var own []string
		for _, i := range p.Imports {
			if n, ok := strings.CutPrefix(i, "gavrix.org/gavrix/"); ok {
				own = append(own, n)
			}
		}
		switch {
		case strings.HasPrefix(name, "core/"), strings.HasPrefix(name, "draw/"), name == "demo":
			may, known := allowed[name]
			assert.True(t, known, "%s stands in no row of the table", name)
			for _, i := range own {
				assert.Contains(t, strings.Fields(may), i, "%s imports %s", name, i)
			}
		case strings.HasPrefix(name, "tui/"):
			for _, i := range own {
				assert.NotEqual(t, "tui", i, "%s imports the shell", name)
				for _, v := range views {
					assert.NotEqual(t, v, i, "%s imports a view", name)
				}
			}
		}
	}
	for name := range allowed {
		assert.Contains(t, all, name, "the table names a package that is gone")
	}
}

func TestTheCoreKnowsNoInterface(t *testing.T) {
	for name, p := range list(t) {
		if !strings.HasPrefix(name, "core/") {
			continue
		}
		for _, d := range p.Deps {
			assert.False(t, strings.HasPrefix(d, "charm.land/") || strings.HasPrefix(d, "gavrix.org/gavrix/tui") || strings.HasPrefix(d, "gavrix.org/gavrix/draw") || strings.Contains(d, "spf13/cobra"),
				"%s depends on %s", name, d)
		}
	}
}

// TestDiagnosisSeesNoSimulation: what an engineer could not see, lint, checks
// and diagnosis do not see either.
func TestDiagnosisSeesNoSimulation(t *testing.T) {
	all := list(t)
	for _, name := range []string{"core/diagnose", "core/prove", "core/bench", "core/check", "core/dialogue"} {
		require.Contains(t, all, name)
		assert.NotContains(t, all[name].Deps, "gavrix.org/gavrix/core/sim", name)
	}
}
