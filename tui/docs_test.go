package tui

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/tui/ui"
)

var update = flag.Bool("update", false, "write docs/screen.md anew")

// TestTheKeysAreCurrent holds docs/screen.md against the commands of all views, on each kind of link.
func TestTheKeysAreCurrent(t *testing.T) {
	alone(t)
	a := running(t).App
	var b bytes.Buffer
	b.WriteString("# Keys and commands of the screen\n\nEach has a name that is typed behind `:`, where Tab completes. `?` shows those of the view that is\nopen. Keys of your own: `gavrix preferences key NAME KEY`. Where a link's kind decides, it stands behind the meaning.\n")
	table := func(title string, cs []ui.Command, of func(name, help string) string) {
		fmt.Fprintf(&b, "\n## %s\n\n| key | command | |\n|---|---|---|\n", title)
		for _, c := range cs {
			var keys []string
			for _, k := range c.Keys {
				keys = append(keys, "`"+keyName(k)+"`")
			}
			fmt.Fprintf(&b, "| %s | `:%s` | %s |\n", strings.ReplaceAll(strings.Join(keys, " "), "|", "\\|"), strings.TrimSpace(c.Name+" "+strings.ReplaceAll(c.Args, "|", "\\|")), c.Help+of(c.Name, c.Help))
		}
	}
	none := func(string, string) string { return "" }
	table("Everywhere", a.commands(), none)
	table("In the list of links", a.paneCommands(), none)
	table("In the notes", a.notesCommands(), none)
	table("With a file of levels", a.proposeCommands(), none)
	kinds := map[string]int{} // the first link of each
	var order []string
	for i, l := range a.bench.Links {
		if _, has := kinds[l.Kind.Title]; !has {
			kinds[l.Kind.Title], order = i, append(order, l.Kind.Title)
		}
	}
	for v := range a.views {
		a.view = v
		var all []ui.Command
		with := map[string][]string{}
		for _, k := range order {
			a.link = kinds[k]
			for _, c := range a.current().Commands(a) {
				id := c.Name + "\x00" + c.Help
				if !slices.Contains(with[id], k) {
					with[id] = append(with[id], k)
				}
				if len(with[id]) == 1 {
					all = append(all, c)
				}
			}
		}
		table(a.current().Name(), all, func(name, help string) string {
			if of := with[name+"\x00"+help]; len(of) < len(order) {
				return " (" + strings.Join(of, ", ") + ")"
			}
			return ""
		})
	}
	const path = "../docs/screen.md"
	if *update {
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, b.String(), string(have), "run: go test ./tui -run Current -update")
}
