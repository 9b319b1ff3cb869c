package main

import (
	"bytes"
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
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
	reference(newRoot(), &b)
	const path = "../../docs/cli.md"
	if *update {
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "run: go test ./cmd/gavrix -update")
}
