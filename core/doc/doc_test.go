package doc

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
)

const sample = `# Lower gate
bench: Lock 7   # the name
std: &std {rate: 28.8 kBd, frame: 7E1}   # shared

links:
  lower-gauge:            # asked
    kind:   uart
    mcu:
      rate:  28.8 kBd     # aligned
      frame: "8N1"
      note: 'it''s: # quoted'

    device: *std
    extra:
      <<: *std
      gap: 3 ms
  upper-gauge: {kind: uart, mcu: {rate: 57600, frame: 8N1}, empty: {}, lists: [1, "a, b", {x: µ}]}
steps:
  - name: one
    wait: 5 ms
  - name: two
  - plain
text: |
  kept
    as it is

last: end`

func paths(n *Node, out *[]*Node) {
	if len(n.Path) > 0 {
		*out = append(*out, n)
	}
	for _, c := range n.Entries {
		paths(c, out)
	}
}

// lines splits a text so that joining gives it back.
func lines(b []byte) []string { return strings.SplitAfter(string(b), "\n") }

// TestRandomEdits makes random edits; each either is refused and changes
// nothing, or changes just its value. Undoing all gives the file back.
func TestRandomEdits(t *testing.T) {
	for _, variant := range []struct{ name, text string }{
		{"unix", sample}, {"last line ended", sample + "\n"},
		{"dos", strings.ReplaceAll(sample, "\n", "\r\n")},
	} {
		t.Run(variant.name, func(t *testing.T) {
			made := 0
			for seed := range uint64(60) {
				rng := rand.New(rand.NewPCG(seed, 7))
				f, faults := Parse("x.yaml", []byte(variant.text))
				require.Empty(t, faults)
				for range 12 {
					made += randomEdit(t, rng, f)
				}
				final := f.Text()
				for f.Undo() {
				}
				require.Equal(t, variant.text, string(f.Text()), "seed %d", seed)
				for f.Redo() {
				}
				require.Equal(t, string(final), string(f.Text()))
			}
			assert.Greater(t, made, 400, "most edits are possible")
		})
	}
}

func randomEdit(t *testing.T, rng *rand.Rand, f *File) int {
	var all []*Node
	paths(f.Root, &all)
	if len(all) == 0 {
		return 0
	}
	n := all[rng.IntN(len(all))]
	values := []string{"7E1", "19.2 kBd", "a: b", "x, y", "- dash", "", "yes # no", "\"", "ünï", "*star", "&and", "null", " pad ", "{", "two\nlines", "0x1F"}
	e := finding.Edit{Path: n.Path, Value: values[rng.IntN(len(values))]}
	switch rng.IntN(4) {
	case 0:
		e.Op = finding.Delete
	case 1:
		if n.Kind == Mapping {
			e.Path = join(n.Path, fmt.Sprintf("new%d", rng.IntN(5)))
			if rng.IntN(2) == 0 {
				e.Path = join(e.Path, "deep")
			}
		} else if n.Kind == Sequence {
			e.Path = join(n.Path, fmt.Sprint(len(n.Entries)))
		}
	}
	before := f.Text()
	wantTree, wantErr := edited(plain(f.Root), e)
	if err := f.Apply(e); err != nil {
		require.Equal(t, string(before), string(f.Text()), "a refused edit changes nothing")
		require.ErrorIs(t, err, ErrRefused)
		return 0
	}
	require.NoError(t, wantErr)
	require.Equal(t, wantTree, plain(f.Root))
	// The lines in front of and behind the touched ones stay to the byte.
	a, b := lines(before), lines(f.Text())
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	touched := len(a) - head - tail
	if e.Op == finding.Set {
		require.LessOrEqual(t, touched, 3+strings.Count(flowOrLiteral(n, before), "\n"), "%+v\n%s", e, f.Text())
	}
	if bytes.Contains(before, []byte("\r\n")) {
		require.Equal(t, bytes.Count(f.Text(), []byte("\n")), bytes.Count(f.Text(), []byte("\r\n")))
	}
	return 1
}

func flowOrLiteral(n *Node, text []byte) string {
	if n.literal && n.end > 0 && n.end <= len(text) {
		return string(text[n.off:n.end])
	}
	return ""
}

func TestEditsKeepWhatStandsAround(t *testing.T) {
	f, _ := Parse("x.yaml", []byte(sample))
	set := func(v string, path ...string) {
		require.NoError(t, f.Apply(finding.Edit{Path: path, Value: v}))
	}
	set("7E1", "links", "lower-gauge", "mcu", "frame")
	set("19200", "links", "lower-gauge", "device", "rate")
	set("8E1", "links", "lower-gauge", "extra", "frame")
	text := string(f.Text())
	assert.Contains(t, text, "      rate:  28.8 kBd     # aligned\n      frame: 7E1\n")
	assert.Contains(t, text, "device: {<<: *std, rate: 19200}\n", "an alias is overridden where it stands")
	assert.Contains(t, text, "      gap: 3 ms\n      frame: 8E1\n", "a merged value is overridden where it is merged")
	assert.Contains(t, text, "std: &std {rate: 28.8 kBd, frame: 7E1}   # shared")
	assert.Equal(t, "7E1", f.Root.Text("links", "lower-gauge", "device", "frame"))
	// The anchor's own value feeds others: changing it is refused.
	assert.ErrorIs(t, f.Apply(finding.Edit{Path: []string{"std", "frame"}, Value: "8N1"}), ErrRefused)
	// Two edits are one step.
	require.NoError(t, f.Apply(
		finding.Edit{Path: []string{"last"}, Value: "1"}, finding.Edit{Op: finding.Delete, Path: []string{"text"}}))
	assert.NotContains(t, string(f.Text()), "kept")
	require.True(t, f.Undo())
	assert.Equal(t, text, string(f.Text()))
	// Both or none.
	assert.Error(t, f.Apply(finding.Edit{Path: []string{"last"}, Value: "1"}, finding.Edit{Op: finding.Delete, Path: []string{"nowhere"}}))
	assert.Equal(t, text, string(f.Text()))
}

func TestPositionsAndFaults(t *testing.T) {
	f, _ := Parse("x.yaml", []byte(sample))
	p := f.Root.Get("links", "lower-gauge", "mcu", "frame").Place()
	assert.Equal(t, "x.yaml:10:14", p.String())
	assert.Equal(t, `      frame: "8N1"`, p.Source)
	for text, want := range map[string]string{
		"":                          "x:1:1: error: the file is empty",
		"# only\n":                  "x:1:1: error: the file",
		"a: 1\nb: [1,\n":            "not-yaml",
		"a: 1\n\tb: 2\n":            "x:2:",
		"a: 1\n---\nb: 2\n":         "second document",
		"a: *nope\n":                "nope",
		"a: 1\nb: 2\na: 3\n":        "x:3:1: error: \"a\" stands here a second time; the first is in line 1",
		"a: \xff\n":                 "x:1:4: error: byte FF",
		"a: &a [*a]\n":              "",
		"? [1]\n: 2\n":              "key must be a plain word",
		"a: &a 1\nb:\n  <<: *a\n":   "takes a map",
		"a: &a {b: 1}\nc: {<<: *a}": "",
	} {
		_, faults := Parse("x", []byte(text))
		if want == "" {
			continue
		}
		require.Len(t, faults, 1, text)
		assert.Contains(t, faults[0].String(), want, text)
	}
	// Aliases within aliases must not fill the memory.
	bomb := "a0: &a0 [1,1,1,1,1,1,1,1,1,1]\n"
	for i := 1; i < 12; i++ {
		r := fmt.Sprintf("*a%d", i-1)
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i, i, strings.Join([]string{r, r, r, r, r, r, r, r, r}, ","))
	}
	_, faults := Parse("x", []byte(bomb))
	require.Len(t, faults, 1)
}

func TestSchema(t *testing.T) {
	typ := Map(
		Key{Name: "rate", Doc: "the rate", Type: RateType, Required: true},
		Key{Name: "parity", Doc: "the parity", Type: Enum("none", "even", "odd"), Default: "none"},
		Key{Name: "parts", Doc: "parts", Type: MapOf(Map(Key{Name: "n", Type: Int(1, 8)}))},
		Key{Name: "list", Doc: "list", Type: ListOf(TimeType, 1)},
	)
	f, faults := Parse("x", []byte("rte: 9600\nparity: evn\nparts: {a: {n: 0x9}, b: 3}\nlist: [5]\n"))
	require.Empty(t, faults)
	var all []string
	for _, x := range typ.Validate(f.Root) {
		all = append(all, x.Where.String()+" "+x.Code+" "+x.Change)
	}
	assert.Equal(t, []string{
		`x:1:1 unknown-key did you mean "rate"?`,
		"x:2:9 unknown-word did you mean even?",
		"x:3:16 bad-value write a whole number from 1 to 8",
		"x:3:25 wrong-shape write its keys below it, indented",
		"x:4:8 bad-value write a time",
	}, all)
	f, _ = Parse("x", []byte("parity: odd\n"))
	missing := typ.Validate(f.Root)
	require.Len(t, missing, 1)
	assert.Equal(t, "add `rate: …`", missing[0].Change)
	raw, err := json.Marshal(typ.JSONSchema())
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"additionalProperties":false`)
	assert.Empty(t, Nearest("zzz", []string{"rate"}))
}

func FuzzParseAndEdit(f *testing.F) {
	f.Add([]byte(sample), uint64(1))
	f.Add([]byte("a: {b: c}"), uint64(2))
	f.Add([]byte("- 1\n- {x: y}\n"), uint64(3))
	f.Fuzz(func(t *testing.T, text []byte, seed uint64) {
		d, faults := Parse("f", text)
		if len(faults) > 0 {
			require.NotEmpty(t, faults[0].Seen)
			return
		}
		rng := rand.New(rand.NewPCG(seed, 1))
		var all []*Node
		paths(d.Root, &all)
		for range 3 {
			if len(all) == 0 {
				return
			}
			n := all[rng.IntN(len(all))]
			if d.Apply(finding.Edit{Op: finding.Op(rng.IntN(2)), Path: n.Path, Value: "v: 1"}) != nil {
				require.Equal(t, string(text), string(d.Text()))
				return
			}
			require.True(t, d.Undo())
			require.Equal(t, string(text), string(d.Text()))
		}
	})
}

// TestBoundsOfFiles: what would take memory or time without end is refused at its
// place, and long lines are shown in part.
func TestBoundsOfFiles(t *testing.T) {
	for text, want := range map[string]string{
		"a: " + strings.Repeat("[", 9000) + strings.Repeat("]", 9000): "1:54: error: values stand more than 50 deep",
		"a:\n  " + strings.Repeat("- ", 9000) + "1":                   "more than 50 deep",
		"a: " + strings.Repeat("x", MostText):                         "longer than 4 MB",
		"a: " + strings.Repeat("x", 1<<20) + "\nb: }":                 "2:4",
		"a: 1\nb: 2\rc: 3\n":                                          "2:5: error: character U+000D",
		"a: 1\n# x\u2028b: 2\n":                                       "2:4: error: character U+2028",
		"b: \"" + strings.Repeat("y", 1<<20):                          "not YAML",
	} {
		_, faults := Parse("f", []byte(text))
		require.Len(t, faults, 1)
		require.Contains(t, faults[0].String(), want)
		require.Less(t, len(faults[0].String()), 800)
	}
	var many strings.Builder
	for i := range 60_000 {
		fmt.Fprintf(&many, "k%d: %d\n", i, i)
	}
	f, faults := Parse("f", []byte(many.String()))
	require.Empty(t, faults)
	require.Len(t, f.Root.Entries, 60_000)
}

func TestOnlyRegularFilesAreRead(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(folder, "pipe"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "large"), make([]byte, MostText+1), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "folder"), 0o700))
	for name, want := range map[string]string{"pipe": "no regular file", "folder": "no regular file", "large": "longer than", "absent": "no such file", "../x": "leads out"} {
		_, err := ReadFile(os.DirFS(folder), name)
		require.ErrorContains(t, err, want, name)
	}
}

// Deleting a value leaves every comment, wherever it stands, and every other value.
func TestDeletingLeavesComments(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		comment := func(name string) string {
			return rapid.SampledFrom([]string{"", " # why " + name, "   # " + name + ": #2, see page 3"}).Draw(rt, name)
		}
		var keys []string
		text := "top:\n"
		list := rapid.Bool().Draw(rt, "list")
		for i := range rapid.IntRange(2, 6).Draw(rt, "n") {
			k := fmt.Sprintf("k%d", i)
			if above := comment("above " + k); above != "" {
				text += "  " + strings.TrimSpace(above) + "\n"
			}
			value := rapid.SampledFrom([]string{"5", `"a # b"`, "[1, 2]", "{a: 1}"}).Draw(rt, "value")
			if list {
				text += "  - " + value + comment("beside "+k) + "\n"
				keys = append(keys, fmt.Sprint(i))
			} else {
				text += "  " + k + ": " + value + comment("beside "+k) + "\n"
				keys = append(keys, k)
			}
		}
		text += "end: 1\n"
		if rapid.Bool().Draw(rt, "dos") {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		f, faults := Parse("x.yaml", []byte(text))
		require.Empty(rt, faults)
		gone := rapid.SampledFrom(keys).Draw(rt, "gone")
		require.NoError(rt, f.Apply(finding.Edit{Op: finding.Delete, Path: []string{"top", gone}}))
		after := string(f.Text())
		for _, line := range strings.Split(text, "\n") {
			for _, mark := range []string{" # why", "   # ", "# why above", "# above"} {
				if i := strings.Index(line, mark); i >= 0 && !strings.Contains(line[:i], `"`) {
					require.Contains(rt, after, strings.TrimSpace(line[i:]), "%s\n---\n%s", text, after)
				}
			}
		}
		require.Len(rt, f.Root.Get("top").All(), len(keys)-1)
	})
}

// Whatever is wrong with a text, it is said in our words, with a place in the text.
func TestYAMLFaultsInOurWords(t *testing.T) {
	known := map[string]bool{"this is not YAML": true, "this is not YAML: a tab where only blanks may indent": true}
	for _, w := range yamlWords {
		known["this is not YAML: "+w.seen] = true
	}
	named := map[string]bool{}
	check := func(t require.TestingT, text []byte) {
		_, faults := Parse("x.yaml", text)
		for _, f := range faults {
			if f.Code == "not-yaml" {
				require.True(t, known[f.Seen], "%q: %s", text, f.Seen)
				require.NotEmpty(t, f.Change)
				require.LessOrEqual(t, f.Where.Line, bytes.Count(text, []byte("\n"))+1)
				named[f.Seen] = true
			}
		}
	}
	for _, text := range []string{"a: [1, 2", "{a: 1", "a: b: c", "a: 1\n b: 2", "a: \"x", "\ta: 1", "a:\n\tb: 1", "@a: 1", "a: *x", "- a\nb: 1", "a: |\nx", "a: - b", "a: \"\\q\"", "%YAML 3", "a: !<x 1", "a: |9z\n b", "a: &", "a: \x01"} {
		check(t, []byte(text))
	}
	require.Greater(t, len(named), 10)
	rapid.Check(t, func(rt *rapid.T) {
		text := []byte(sample)
		for range rapid.IntRange(1, 4).Draw(rt, "changes") {
			i := rapid.IntRange(0, len(text)-1).Draw(rt, "at")
			c := rapid.SampledFrom([]byte("{}[]:,-\"'|>&*!%@`# \t\n\\?x\x00\xff")).Draw(rt, "byte")
			switch rapid.IntRange(0, 2).Draw(rt, "how") {
			case 0:
				text[i] = c
			case 1:
				text = append(text[:i:i], append([]byte{c}, text[i:]...)...)
			default:
				text = append(text[:i:i], text[i+1:]...)
			}
		}
		check(rt, text)
	})
}
