package main

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/tui/prefs"
)

func preferencesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "preferences [NAME [VALUE]]",
		Short: "Show or change what you prefer: colours, line drawing, keys",
		Long: `Without arguments it lists what holds and where that is written. NAME is theme, colours,
lines, or keys.COMMAND for a further key of a command on the screen; without VALUE it is
taken out again. On the screen :prefer does the same at once.`,
		Example: `  gavrix preferences
  gavrix preferences theme light
  gavrix preferences lines ascii
  gavrix preferences keys.fix ctrl+f`,
		Args: cobra.MaximumNArgs(2),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return []string{"theme", "colours", "lines", "keys."}, cobra.ShellCompDirectiveNoFileComp
			}
			words, _ := prefs.Schema.Choices(nil, strings.Split(args[0], ".")...)
			return words, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				value := ""
				if len(args) == 2 {
					value = args[1]
				}
				if _, err := prefs.Set(args[0], value); err != nil {
					return err
				}
			}
			path, err := prefs.Path()
			if err != nil {
				return err
			}
			p, faults := prefs.Load()
			if len(faults) > 0 {
				return fmt.Errorf("%s", faults[0].String())
			}
			fmt.Fprintf(stdout, "# %s\n", safe.Text(path))
			for _, k := range prefs.Schema.Keys() {
				value := map[string]string{"theme": p.Theme, "colours": p.Colours, "lines": p.Lines}[k.Name]
				if k.Name == "keys" {
					continue
				}
				fmt.Fprintf(stdout, "%-8s %-8s # %s (%s)\n", k.Name, value, k.Doc, strings.TrimPrefix(mayBe(k.Name), "one of "))
			}
			for _, name := range slices.Sorted(maps.Keys(p.Keys)) {
				fmt.Fprintf(stdout, "keys.%s %s\n", safe.Text(name), safe.Text(p.Keys[name]))
			}
			return nil
		},
	}
}

// mayBe says what a preference may be.
func mayBe(name string) string {
	_, what := prefs.Schema.Choices(nil, name)
	return what
}
