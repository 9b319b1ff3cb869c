package bench

import (
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/demo"
)

// values are what may stand where something else is wanted.
var values = []string{
	"", "0", "1", "-1", "yes", "no", "null", "~", "[]", "{}", "[1, 2]", "{a: 1}", "1e99", "-1e99", ".nan", "0 Hz", "1 Hz", "900 GHz", "115200 Bd", "1 Bd", "8N1", "7E2", "9O1.5", "16 MHz",
	"0 ns", "1 ps", "1000 h", "0.1 %", "2000000 ppm", "uart", "spi", "i2c", "can", "pulse", "serial1", "can1", "spi1", "devices/trim.yaml", "devices/hull.yaml", "nowhere.yaml",
	"A.B", "PAFUN.PIN4", "S1CTL.LENGTH", "CLKSEL", "FF FF", "2A0", "1FFFFFFF", "0/0", "t/0", "sin(t)", "\"\\x1b[2J\"", "'é'", "*x", "&x 1", "!!binary x", "2^63", "9223372036854775807", "4096 bit", "0 Ω", "1 kΩ", "1 F", "3.3 V",
}

// mutated changes some lines of a text: values, keys, depth, order.
func mutated(rt *rapid.T, text string) string {
	lines := strings.Split(text, "\n")
	for range rapid.IntRange(1, 4).Draw(rt, "changes") {
		i := rapid.IntRange(0, len(lines)-1).Draw(rt, "line")
		l := lines[i]
		switch rapid.IntRange(0, 6).Draw(rt, "how") {
		case 0, 1, 2:
			if key, _, ok := strings.Cut(l, ":"); ok {
				lines[i] = key + ": " + rapid.SampledFrom(values).Draw(rt, "value")
			}
		case 3:
			lines = append(lines[:i:i], lines[i+1:]...)
		case 4:
			j := rapid.IntRange(0, len(lines)-1).Draw(rt, "to")
			lines[i], lines[j] = lines[j], lines[i]
		case 5:
			if open := strings.IndexByte(l, '{'); open >= 0 {
				// One value of those in braces.
				parts := strings.Split(l, ",")
				k := rapid.IntRange(0, len(parts)-1).Draw(rt, "part")
				if key, _, ok := strings.Cut(parts[k], ":"); ok {
					parts[k] = key + ": " + rapid.SampledFrom(values).Draw(rt, "value")
					if k == len(parts)-1 {
						parts[k] += "}"
					}
				}
				lines[i] = strings.Join(parts, ",")
			}
		case 6:
			lines[i] = "  " + l
		}
	}
	return strings.Join(lines, "\n")
}

// use asks a bench all that it can be asked.
func use(b *Bench) {
	b.Lint()
	b.Sources()
	_, _ = b.Words()
	_, _ = b.Wanted()
	for _, l := range b.Links {
		l.Settable()
		l.Roles()
		l.Model.Tap()
		l.Model.Short()
		l.Model.Bit()
		_, _ = l.Chain()
		for d := range max(len(l.Devices()), 1) {
			l.Model.Derivations(d)
			_, _ = l.WordsFor(d)
		}
		for _, f := range l.Lint() {
			for _, fix := range f.Fixes {
				if b.Apply(fix.Edits...) == nil {
					b.Undo()
				}
			}
		}
	}
}

// mustExplain holds faults to what each has to say.
func mustExplain(t require.TestingT, faults []finding.Finding) {
	require.NotEmpty(t, faults)
	for _, f := range faults {
		require.NotEmpty(t, f.Code)
		require.NotEmpty(t, f.Seen, f.Code)
		require.NotEmpty(t, f.Where.File, "%s: %s", f.Code, f.Seen)
		require.NotContains(t, f.String(), "\x1b")
	}
}

// TestMutatedBenches changes the benches and device files that ship: whatever comes
// out is a bench that answers all questions, or faults with their places.
func TestMutatedBenches(t *testing.T) {
	files := map[string]string{}
	require.NoError(t, fs.WalkDir(demo.Files, ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			text, _ := fs.ReadFile(demo.Files, path)
			files[path] = string(text)
		}
		return err
	}))
	names := []string{demo.Bench, demo.Bench, demo.Bench, "culvert.yaml", "weir.yaml"}
	var devices []string
	for n := range files {
		if strings.HasPrefix(n, "devices/") {
			devices = append(devices, n)
		}
	}
	good := 0
	rapid.Check(t, func(rt *rapid.T) {
		dir := fstest.MapFS{}
		for n, text := range files {
			dir[n] = &fstest.MapFile{Data: []byte(text)}
		}
		name := rapid.SampledFrom(names).Draw(rt, "bench")
		at := name
		if rapid.Bool().Draw(rt, "device") {
			at = rapid.SampledFrom(devices).Draw(rt, "file")
		}
		text := mutated(rt, files[at])
		dir[at] = &fstest.MapFile{Data: []byte(text)}
		b, faults := Load(dir, name)
		if b == nil {
			mustExplain(rt, faults)
			return
		}
		good++
		use(b)
	})
	t.Logf("%d could be bound", good)
	require.Positive(t, good)
}

func FuzzParse(f *testing.F) {
	for _, name := range []string{demo.Bench, "culvert.yaml", "weir.yaml"} {
		text, err := fs.ReadFile(demo.Files, name)
		require.NoError(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		b, faults := Parse(demo.Files, "x.yaml", text)
		if b == nil {
			mustExplain(t, faults)
			return
		}
		use(b)
	})
}
