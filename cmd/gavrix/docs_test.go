package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
)

var update = flag.Bool("update", false, "write docs/cli.md anew")

// reference gives the help of all commands as one page.
func reference(c *cobra.Command, b *bytes.Buffer) {
	if c.Name() == "completion" || c.Name() == "help" {
		return
	}
	title := strings.Repeat("#", 1+strings.Count(c.CommandPath(), " "))
	b.WriteString(title + " " + c.CommandPath() + "\n\n")
	help := c.Long
	if help == "" {
		help = c.Short
	}
	b.WriteString(help + "\n\n")
	if c.Runnable() || c.HasSubCommands() {
		b.WriteString("```\n" + strings.TrimRight(c.UsageString(), "\n") + "\n```\n\n")
	}
	for _, s := range c.Commands() {
		reference(s, b)
	}
}

// keys lists the keys of files of a schema as tables, one for each kind and one for all.
func keys(t *doc.Type, b *bytes.Buffer) {
	type row struct {
		path string
		k    doc.Key
	}
	rows, kinds := map[string][]row{}, []string{}
	seen := map[string][]string{} // path, type and text → kinds
	total := map[string]bool{}
	var order []row
	t.Each(func(path []string, kind string, k doc.Key) {
		p := strings.Join(path, ".")
		id := p + "\x00" + k.Type.What() + "\x00" + k.Doc
		if seen[id] == nil {
			order = append(order, row{p, k})
		}
		if !slices.Contains(seen[id], kind) {
			seen[id] = append(seen[id], kind)
		}
		if kind != "" {
			total[kind] = true
		}
	})
	for _, r := range order {
		of := seen[r.path+"\x00"+r.k.Type.What()+"\x00"+r.k.Doc]
		name := ""
		if len(of) < len(total) && of[0] != "" {
			name = strings.Join(of, ", ")
		}
		if rows[name] == nil {
			kinds = append(kinds, name)
		}
		rows[name] = append(rows[name], r)
	}
	for _, name := range kinds {
		if name != "" {
			b.WriteString("### Only with kind: " + name + "\n\n")
		}
		b.WriteString("| key | value | if absent | meaning |\n|---|---|---|---|\n")
		for _, r := range rows[name] {
			absent := r.k.Default
			if r.k.Required {
				absent = "must be given"
			}
			b.WriteString(fmt.Sprintf("| `%s` | %s | %s | %s |\n", r.path, cell(r.k.Type.What()), cell(absent), cell(r.k.Doc)))
		}
		b.WriteString("\n")
	}
}

// cell makes a text one of a table.
func cell(s string) string {
	return strings.NewReplacer("|", "\\|", "<", "&lt;").Replace(s)
}

// TestTheSchemaIsCurrent holds docs/schema.md against the schemas of bench and device files.
func TestTheSchemaIsCurrent(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("# Keys of files\n\nEvery key of bench and device files; `<name>` is a name of your own. The guides:\n[bench-files.md](bench-files.md), [device-files.md](device-files.md).\n\n## Bench files\n\n")
	keys(bench.Schema, &b)
	b.WriteString("## Device files\n\n")
	keys(device.Schema, &b)
	const path = "../../docs/schema.md"
	if *update {
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "run: go test ./cmd/gavrix -update")
}

// TestTheReferenceIsCurrent holds docs/cli.md against the commands. Run with
// -update to write it anew.
func TestTheReferenceIsCurrent(t *testing.T) {
	var b bytes.Buffer
	reference(newRoot(&logging{}), &b)
	const path = "../../docs/cli.md"
	if *update {
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "run: go test ./cmd/gavrix -update")
}

// TestTheTutorialOfDeviceFiles: the part that docs/device-files.md describes is read and
// written as it says there, from at most 30 lines.
func TestTheTutorialOfDeviceFiles(t *testing.T) {
	text, err := os.ReadFile("../../docs/device-files.md")
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(text), "```yaml\n")
	file, _, _ := strings.Cut(rest, "```")
	assert.LessOrEqual(t, strings.Count(file, "\n"), 30)
	dir := filepath.Join(t.TempDir(), "lock")
	_, status := run(t, "new", dir)
	require.Equal(t, fine, status)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "devices", "seal-gauge.yaml"), []byte(file), 0o600))
	path := filepath.Join(dir, "lock7.yaml")
	bench, err := os.ReadFile(path)
	require.NoError(t, err)
	const before = "      trim:       {file: devices/trim.yaml}\n"
	require.Contains(t, string(bench), before)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(bench), before, before+"      seal-gauge: {file: devices/seal-gauge.yaml}\n", 1)), 0o600))
	out, status := run(t, "do", path, "gate", "prove seal-gauge", "read seal-gauge.pressure")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "is what its file describes: ID holds 0x5B")
	assert.Regexp(t, `pressure = 40\d\d(\.\d+)? Pa`, out)
	out, status = run(t, "do", path, "gate", "write seal-gauge.CTRL.RATE 50 Hz")
	require.Equal(t, fine, status, out)
	assert.Contains(t, out, "CTRL: before 0x00, wrote 0x80, after 0x80, changed bits 7")
}

// TestTheGuideWorks: the bench of docs/bench-files.md has no problems with the device files
// that `new --empty` writes, and its checks pass.
func TestTheGuideWorks(t *testing.T) {
	text, err := os.ReadFile("../../docs/bench-files.md")
	require.NoError(t, err)
	_, rest, found := strings.Cut(string(text), "```yaml\n")
	require.True(t, found)
	yaml, _, found := strings.Cut(rest, "```")
	require.True(t, found)
	dir := filepath.Join(t.TempDir(), "guide")
	_, status := run(t, "new", dir, "--empty")
	require.Equal(t, fine, status)
	path := filepath.Join(dir, "sluice.yaml")
	require.NoError(t, os.WriteFile(path, []byte(yaml), 0o600))
	out, status := run(t, "lint", path)
	assert.Equal(t, fine, status, out)
	out, status = run(t, "prove", path)
	assert.Equal(t, fine, status, out)
	checks := `checks={the part answers: {do: start 58 ack 00 ack restart 59 ack .. nack stop, expect: start 58 ack 00 ack restart 59 ack 71 nack stop, within: 20 ms}}`
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(yaml, "    supply: 3.3 V\n", "    checks: "+strings.TrimPrefix(checks, "checks=")+"\n    supply: 3.3 V\n", 1)), 0o600))
	out, status = run(t, "prove", path)
	assert.Equal(t, fine, status, out)
	assert.Contains(t, out, "2 checks, 0 failed")
}

// TestMain keeps what is preferred by whoever runs the tests out of them, and them out of it.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "gavrix-settings")
	if err == nil {
		err = os.Setenv("XDG_CONFIG_HOME", dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// TestExamples runs what docs/examples.md shows, in its order, in an empty folder: each ends as it
// says.
func TestExamples(t *testing.T) {
	text, err := os.ReadFile("../../docs/examples.md")
	require.NoError(t, err)
	t.Chdir(t.TempDir())
	n := 0
	for line := range strings.Lines(string(text)) {
		line, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "    gavrix ")
		if !is {
			continue
		}
		line, remark, _ := strings.Cut(line, "#")
		want := fine
		if strings.Contains(remark, "exits 1") {
			want = 1
		}
		line, to, redirected := strings.Cut(line, ">")
		out, status := run(t, words(line)...)
		require.Equal(t, want, status, "gavrix %s\n%s", line, out)
		if redirected {
			require.NoError(t, os.WriteFile(strings.TrimSpace(to), []byte(out), 0o600))
		}
		n++
	}
	assert.Greater(t, n, 30)
}
