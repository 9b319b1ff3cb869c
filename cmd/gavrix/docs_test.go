package main

import (
	"bytes"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
