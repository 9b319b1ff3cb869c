package bench

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/demo"
)

const good = `bench: Test
mcu:
  name: M
  clocks:
    crystal: {source: 10 MHz}
    core: {from: crystal, times: 8}
    bus: {from: core, divide: 2}
  units:
    s1: {kind: uart, clock: bus, divider: {most: 4096, plus-one: yes}}
    s2: {kind: uart, clock: bus, divider: {most: 4096}}
links:
  gauge:
    kind: uart
    unit: s1
    mcu: {rate: 28.8 kBd, frame: 7E1}
    device: {file: g.yaml}
    checks:
      one: {send: "A\n", expect: "B\n", within: 20 ms}
`

const gauge = "device: g\nkind: uart\nend: {rate: 28.8 kBd, frame: 7E1, tolerance: 1 %}\n"

func files(text string) fs.FS {
	return fstest.MapFS{"b.yaml": {Data: []byte(text)}, "g.yaml": {Data: []byte(gauge)}, "bad.yaml": {Data: []byte("device: g\nknd: uart\nend: {rate: 9600}\n")}}
}

func parse(t *testing.T, text string) *Bench {
	b, faults := Load(files(text), "b.yaml")
	require.Empty(t, faults)
	return b
}

func TestBadBenches(t *testing.T) {
	swap := func(from, to string) string {
		require.Contains(t, good, from)
		return strings.Replace(good, from, to, 1)
	}
	for _, c := range []struct{ text, where, what, mend string }{
		{"", "b.yaml:1:1", "empty", "new"},
		{"bench: [", "b.yaml:", "not YAML", "brackets"},
		{swap("bench: Test", "bench: [x]"), "b.yaml:1:8", "is a list; expected a name", "plain value"},
		{swap("bench: Test", "bensh: Test"), "b.yaml:1:1", `unknown key "bensh"`, `did you mean "bench"?`},
		{swap("name: M", "name: {a: b}"), "b.yaml:3:9", "name is a map; expected a name", "plain"},
		{swap("source: 10 MHz", "source: 10"), "b.yaml:5:23", "unit is missing", "clock frequency"},
		{swap("source: 10 MHz", "source: 10 Hz"), "b.yaml:5:23", "did you mean 10 kHz?", ""},
		{swap("source: 10 MHz", "source: 10 MHz, times: 2"), "b.yaml:5:5", "can't multiply", "second clock"},
		{swap("{source: 10 MHz}", "{}"), "b.yaml:5:5", "needs either source or from", ""},
		{swap("from: crystal", "from: cristal"), "b.yaml:6:18", `no clock "cristal"`, "did you mean crystal?"},
		{swap("from: crystal", "from: bus"), "b.yaml:", "made from itself", "source"},
		{swap("times: 8", "times: 8, divide: 2"), "b.yaml:6:5", "both multiplies and divides", "two clocks"},
		{swap("times: 8", "times: 0"), "b.yaml:6:34", "0 is outside 1 to 1024", ""},
		{swap("clock: bus", "clock: buss"), "b.yaml:9:29", `no clock "buss"`, "did you mean bus?"},
		{swap("kind: uart, clock", "kind: urat, clock"), "b.yaml:9:16", `"urat"`, "did you mean uart?"},
		{swap("most: 4096, plus", "most: 4096, least: 5000, plus"), "b.yaml:9:43", "not above the largest", "least and most"},
		{swap("divider: {most: 4096, plus-one: yes}", "source: p. 3"), "b.yaml:9:5", "has 0 rate generators", "one of divider, fractional, reload, chain, formula"},
		{swap("plus-one: yes}", "plus-one: yes}, chain: {factors: [16], most: 9}"), "b.yaml:9:5", "has 2 rate generators", "one of"},
		{swap("divider: {most: 4096, plus-one: yes}", "formula: {rate: clock / (k + 1), variables: {n: {most: 9}}}"), "b.yaml:9:", "there is no k", "correct the expression"},
		{swap("divider: {most: 4096, plus-one: yes}", "chain: {factors: [0], most: 9}"), "b.yaml:9:", "0 is outside 1 to 256", ""},
		{swap("divider: {most: 4096, plus-one: yes}", "fractional: {most: 9, least: 12, bits: 4}"), "b.yaml:9:", "not above the largest", "least and most"},
		{swap("times: 8", "times: 8, most: 60 MHz"), "b.yaml:6:5", "runs at 80 MHz; at most 60 MHz", "factor before"},
		{swap("frame: 7E1}\n    device", "frame: 7E1, divisor: 21 + 22}\n    device"), "b.yaml:15:48", "no divisor", "21 + 22/32"},
		{swap("frame: 7E1}\n    device", "frame: 7E1, divisor: 21 + 22/32}\n    device"), "b.yaml:15:48", "no whole number", ""},
		{swap("most: 4096, plus-one: yes", "plus-one: yes"), "b.yaml:9:34", `no "most"`, "add"},
		{swap("plus-one: yes", "plus-one: maybe"), "b.yaml:9:66", "maybe", "one of yes, no"},
		{swap("unit: s1", "unit: s7"), "b.yaml:14:11", `no unit "s7"`, "did you mean s1?"},
		{swap("rate: 28.8 kBd, frame: 7E1}\n    device", "rate: 28800 kBd, frame: 7E1}\n    device"), "b.yaml:15:17", "did you mean 28800 Bd?", ""},
		{swap("frame: 7E1}\n    device", "frame: 7X1}\n    device"), "b.yaml:15:34", "parity is N", "a frame"},
		{swap("frame: 7E1}\n    device", "frame: 7E1, oversampling: 8}\n    device"), "b.yaml:15:53", "can't take 8 samples", "[16]"},
		{swap("frame: 7E1}\n    device", "frame: 7E1, divisor: 5000}\n    device"), "b.yaml:15:48", "outside 1 to 4096", "one that unit s1 has"},
		{swap("file: g.yaml", "file: none.yaml"), "b.yaml:16:20", "can't be read", "name"},
		{swap("file: g.yaml", "file: ../g.yaml"), "b.yaml:16:20", "leaves the bench's folder", ""},
		{swap("file: g.yaml", "file: bad.yaml"), "bad.yaml:2:1", `unknown key "knd"`, `"kind"`},
		{swap("file: g.yaml", "file: g.yaml, clock-off: 5"), "b.yaml:16:39", "unit is missing; did you mean 5 ppm?", ""},
		{swap("file: g.yaml", "file: g.yaml, clock-off: 400 %"), "b.yaml:16:39", "another clock", ""},
		{swap("within: 20 ms", "within: 20"), "b.yaml:18:49", "did you mean 20 ms?", ""},
		{swap(`expect: "B\n", `, ""), "b.yaml:18:7", "expects nothing", "expect"},
		{swap(`send: "A\n"`, `send: "A\n", send-hex: 41`), "b.yaml:18:26", "both send and send-hex", "keep"},
		{swap(`send: "A\n"`, `send-hex: 4G`), "b.yaml:18:23", "no byte in hex", "bytes in hex"},
		{good + "  second:\n    kind: uart\n    unit: s1\n    mcu: {rate: 9600}\n    device: {file: g.yaml}\n", "b.yaml:21:11", "already used by link gauge", "own"},
		{good + "extra: 1\n", "b.yaml:19:1", `unknown key "extra"`, "the keys here are bench"},
		{strings.Split(good, "links:")[0] + "links: {}\n", "b.yaml:11:8", "no links", "add"},
	} {
		b, faults := Load(files(c.text), "b.yaml")
		require.Nil(t, b, c.text)
		if !assert.Len(t, faults, 1, "%s", c.where) {
			continue
		}
		text := faults[0].String()
		assert.True(t, strings.HasPrefix(text, c.where), "%s should stand at %s", text, c.where)
		assert.Contains(t, text, c.what)
		assert.Contains(t, text, c.mend)
	}
	// Two faults give two.
	_, faults := Load(files(strings.Replace(swap("unit: s1", "unit: s7"), "frame: 7E1}\n    device", "frame: 7X1}\n    device", 1)), "b.yaml")
	require.Len(t, faults, 1, "a value is fixed before names are looked up")
	_, faults = Load(files(strings.Replace(swap("source: 10 MHz", "source: 10"), "frame: 7E1}\n    device", "frame: 7X1}\n    device", 1)), "b.yaml")
	require.Len(t, faults, 2)
	_, faults = Load(files(good), "none.yaml")
	assert.Contains(t, faults[0].String(), "can't be read")
}

func TestTheDividerOfTheDemo(t *testing.T) {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	assert.Empty(t, b.Lint())
	l := ModelOf[*UART](b, "lower-gauge")
	assert.Equal(t, 87, l.Setting.N)
	assert.Equal(t, 86, l.Setting.Register)
	assert.Equal(t, "28 735.6", l.MCU.Rate.Grouped())
	assert.Equal(t, 40*quantity.Megahertz, l.Unit.Clock.Freq())
	d := l.Directions()
	assert.InDelta(t, -0.0022, d[0].Mismatch, 0.0001)
	assert.InDelta(t, 0.0122, d[1].Worst, 0.0001)
}

func codes(fs []finding.Finding) []string {
	var out []string
	for _, f := range fs {
		out = append(out, f.Code)
	}
	return out
}

func TestLint(t *testing.T) {
	b := parse(t, good)
	require.Empty(t, b.Lint())
	set := func(value string, path ...string) {
		require.NoError(t, b.Apply(finding.Edit{Path: path, Value: value}))
	}
	undo := func() { require.True(t, b.Undo()) }

	set("8N1", "links", "gauge", "mcu", "frame")
	f := b.Lint()
	assert.Equal(t, []string{"data-bits-differ"}, codes(f))
	assert.Equal(t, "b.yaml:15:34", f[0].Where.String())
	for _, fix := range f[0].Fixes {
		require.NoError(t, b.Apply(fix.Edits...))
		assert.Empty(t, b.Lint(), fix.Label)
		undo()
	}
	undo()

	set("7E2", "links", "gauge", "mcu", "frame")
	f = b.Lint()
	assert.Equal(t, []string{"stop-bits-differ"}, codes(f))
	assert.Equal(t, finding.Note, f[0].Severity)
	undo()

	set("19200", "links", "gauge", "mcu", "rate")
	f = b.Lint()
	assert.Equal(t, []string{"rates-disagree"}, codes(f))
	assert.Len(t, f[0].Fixes, 2)
	undo()

	set("40000 ppm", "links", "gauge", "device", "clock-off")
	assert.Equal(t, []string{"rate-depends-on-phase"}, codes(b.Lint()))
	undo()

	set("3 MBd", "links", "gauge", "mcu", "rate")
	set("3 MBd", "links", "gauge", "device", "rate")
	assert.Contains(t, codes(b.Lint()), "rate-not-reached")
	undo()
	undo()

	set("88", "links", "gauge", "mcu", "divisor")
	f = b.Lint()
	assert.Contains(t, codes(f), "divisor-no-longer-best")
	undo()

	// Too far off, it is one fault, with its fix.
	set("90", "links", "gauge", "mcu", "divisor")
	f = b.Lint()
	assert.Equal(t, []string{"rate-not-reached", "rate-depends-on-phase"}, codes(f))
	require.NoError(t, b.Apply(f[0].Fixes[0].Edits...))
	assert.Empty(t, b.Lint())
	undo()
	undo()

	set("yes", "mcu", "clocks", "bus", "unproven")
	assert.Equal(t, []string{"clock-unproven"}, codes(b.Lint()))
	undo()

	set("400 us", "links", "gauge", "mcu", "service")
	assert.Equal(t, []string{"handler-too-slow"}, codes(b.Lint()))
	undo()

	set("500 us", "links", "gauge", "checks", "one", "within")
	f = b.Lint()
	assert.Equal(t, []string{"time-out-too-short"}, codes(f))
	undo()
	assert.Equal(t, good, string(b.Text()))
}

func TestAnEditThatBreaksTheBenchIsRefused(t *testing.T) {
	b := parse(t, good)
	err := b.Apply(finding.Edit{Path: []string{"links", "gauge", "unit"}, Value: "s9"})
	assert.ErrorContains(t, err, `no unit "s9"`)
	assert.Equal(t, good, string(b.Text()))
	assert.NotNil(t, b.Link("gauge"))
	assert.False(t, b.Dirty())
	assert.ErrorContains(t, b.Apply(finding.Edit{Path: []string{"links", "gauge", "mcu", "rat"}, Value: "9600"}), "unknown key")
}

func TestSaveKeepsWhatOthersWrote(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "b.yaml")
	require.NoError(t, os.WriteFile(path, []byte(good), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "g.yaml"), []byte(gauge), 0o600))
	b, faults := Load(os.DirFS(dir), "b.yaml")
	require.Empty(t, faults)
	edit := func(v string) {
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"seed"}, Value: v}))
	}
	edit("5")
	assert.True(t, b.Dirty())
	written, err := b.Save(path)
	require.NoError(t, err)
	assert.Equal(t, path, written)
	assert.False(t, b.Dirty())

	require.NoError(t, os.WriteFile(path, []byte(good+"# theirs\n"), 0o600))
	edit("6")
	written, err = b.Save(path)
	require.ErrorIs(t, err, ErrChangedOnDisk)
	theirs, _ := os.ReadFile(path)
	mine, _ := os.ReadFile(written)
	assert.Equal(t, good+"# theirs\n", string(theirs))
	assert.Equal(t, string(b.Text()), string(mine))
	_, err = b.Save(filepath.Join(path, "where.yaml"))
	assert.Error(t, err, "the folder is a file")
	_, err = b.Save(filepath.Join(dir, "new", "folder", "where.yaml"))
	assert.NoError(t, err)
}

// TestRateGenerators: each kind gives the link its rate and the values to write.
func TestRateGenerators(t *testing.T) {
	for _, c := range []struct{ unit, rate, divisor, values string }{
		{"fractional: {most: 4095, bits: 5, register: RATE, field: N, fraction-register: RATE, fraction-field: F}", "28 797.7 Bd", "86 + 26/32", "RATE.N=86 RATE.F=26 "},
		{"fractional: {most: 4095, bits: 4, register: RATE}", "28 797.7 Bd", "86 + 13/16", "RATE.=1389 "},
		{"reload: {width: 8, before: 12, factor: [32, 16], register: TH, double-register: PC, double-field: D}", "29 761.9 Bd", "7", "TH.=249 PC.D=1 "},
		{"formula: {rate: clock / (16 * (n + 1)), variables: {n: {most: 255, register: BR, field: N}}}", "28 735.6 Bd", "n = 86", "BR.N=86 "},
		{"chain: {factors: [1, 16, 32], most: 255, register: CNT, factor-register: MODE, factor-field: FAC}", "28 735.6 Bd", "87", "CNT.=87 MODE.FAC=1 "},
	} {
		b, faults := Load(files(strings.Replace(good, "divider: {most: 4096, plus-one: yes}", c.unit, 1)), "b.yaml")
		require.Empty(t, faults, c.unit)
		l := b.Links[0].Model.(*UART)
		assert.Equal(t, c.rate, l.MCU.Rate.Grouped()+" Bd", c.unit)
		assert.Equal(t, c.divisor, l.Setting.Divisor())
		values := ""
		for _, v := range l.Setting.Values {
			values += fmt.Sprintf("%s.%s=%d ", v.Register, v.Field, v.Value)
		}
		assert.Equal(t, c.values, values)
		assert.NotEmpty(t, l.Setting.Derivation().Lines())
	}
	// A clock that was measured carries its uncertainty to the rate.
	b, faults := Load(files(strings.Replace(good, "times: 8", "times: 8, measured: 79 MHz, plus-minus: 0.2 MHz", 1)), "b.yaml")
	require.Empty(t, faults)
	assert.InDelta(t, 0.2/79, b.Links[0].Model.(*UART).Setting.PlusMinus, 1e-4)
	assert.Equal(t, "39.5 MHz", b.Links[0].Unit.Clock.Freq().String())
	assert.Equal(t, 1, b.Links[0].Unit.Clock.Parts())
	fs := b.Links[0].Lint()
	require.NotEmpty(t, fs)
	text := ""
	for _, f := range fs {
		text += f.String()
	}
	assert.Contains(t, text, "clock core was measured at 79 MHz, expected is 80 MHz: -1.25 %")
	b, faults = Load(files(strings.Replace(good, "times: 8", "times: 8, measured: 20 MHz", 1)), "b.yaml")
	require.Empty(t, faults)
	text = ""
	for _, f := range b.Links[0].Lint() {
		text += f.String()
	}
	assert.Contains(t, text, "it is 4 times slower")
}

// TestDemoBoards: the two smaller boards are whole, and their other generators
// give the rates that they are there for.
func TestDemoBoards(t *testing.T) {
	for name, want := range map[string]string{"culvert": "0xF8 0x0", "weir": "0x22 0x1"} {
		b, faults := Load(demo.Files, demo.Others[name])
		require.Empty(t, faults)
		values := ""
		for _, v := range b.Links[0].Model.(*UART).Setting.Values {
			values += fmt.Sprintf(" 0x%X", v.Value)
		}
		assert.Equal(t, want, values[1:])
	}
}

// What was calculated is told as that, not as the default that it took the place of.
func TestSourcesOfTheOversampling(t *testing.T) {
	b := parse(t, strings.Replace(strings.Replace(good, "plus-one: yes}}", "plus-one: yes}, oversampling: [16, 8, 4]}", 1), "source: 10 MHz", "source: 1 MHz", 1))
	l := ModelOf[*UART](b, "gauge")
	seen := 0
	for _, s := range b.Sources() {
		if s.Path == "links.gauge.mcu.oversampling" {
			seen++
			assert.Equal(t, IsDerived, s.Origin)
			assert.Equal(t, fmt.Sprint(l.MCU.Oversampling), s.Value)
		}
	}
	assert.Equal(t, 1, seen)
}
