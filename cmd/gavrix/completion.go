package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/demo"
)

// completes gives every command what the shell may complete: benches, the links of the one
// that is named, and paths of its settings.
func completes(c *cobra.Command) {
	for _, below := range c.Commands() {
		completes(below)
	}
	words := strings.Fields(strings.NewReplacer("[", "", "]", "").Replace(c.Use))
	at := slices.IndexFunc(words, func(w string) bool { return strings.HasSuffix(w, "BENCH") })
	if at == 1 && c.ValidArgsFunction == nil {
		c.ValidArgsFunction = func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			switch {
			case len(args) == 0:
				return benches(typed)
			case len(args) < len(words)-1 && words[len(args)+1] == "LINK":
				return linksOf(args[0]), cobra.ShellCompDirectiveNoFileComp
			case len(args) >= 2 && strings.HasPrefix(words[min(len(args)+1, len(words)-1)], "OPERATION"):
				return operationsOf(args[0], args[1]), cobra.ShellCompDirectiveNoFileComp
			}
			return nil, cobra.ShellCompDirectiveDefault
		}
	}
	if c.Flags().Lookup("set") != nil {
		_ = c.RegisterFlagCompletionFunc("set", func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			return settablesOf(args), cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
		})
	}
	if f := c.Flags().Lookup("link"); f != nil && at == 1 {
		_ = c.RegisterFlagCompletionFunc("link", func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return linksOf(args[0]), cobra.ShellCompDirectiveNoFileComp
		})
	}
	if c.Flags().Lookup("bench") != nil {
		_ = c.RegisterFlagCompletionFunc("bench", func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
			return benches(typed)
		})
	}
}

// benches are the demo's, and the bench files and folders that begin as typed.
func benches(typed string) ([]string, cobra.ShellCompDirective) {
	out := []string{"demo"}
	for name := range demo.Others {
		out = append(out, "demo:"+name)
	}
	slices.Sort(out)
	found, err := filepath.Glob(typed + "*")
	if err != nil {
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	directive := cobra.ShellCompDirectiveNoFileComp
	for _, f := range found {
		info, err := os.Stat(f)
		switch {
		case err != nil:
		case info.IsDir():
			out = append(out, f+string(filepath.Separator))
			directive |= cobra.ShellCompDirectiveNoSpace
		case strings.HasSuffix(f, ".yaml") || strings.HasSuffix(f, ".yml"):
			out = append(out, f)
		}
	}
	return out, directive
}

// quietly loads a bench without a word about what is wrong with it.
func quietly(path string) *bench.Bench {
	b, _, err := readBench(path)
	if err != nil {
		return nil
	}
	return b
}

func linksOf(path string) []string {
	b := quietly(path)
	if b == nil {
		return nil
	}
	var out []string
	for _, l := range b.Links {
		out = append(out, l.Name)
	}
	return out
}

func operationsOf(path, link string) []string {
	b := quietly(path)
	if b == nil || b.Link(link) == nil {
		return nil
	}
	var out []string
	for _, p := range b.Link(link).Parts() {
		out = append(out, "prove "+p.Name)
		if p.Map == nil {
			continue
		}
		for _, n := range p.Map.Names() {
			verb := "read "
			if p.Map.Value(n) == nil && p.Map.TextNamed(n) == nil && p.Map.Memory.Area(n) == nil {
				verb = "do "
			}
			out = append(out, verb+p.Name+"."+n)
		}
	}
	return append(out, "scan")
}

func settablesOf(args []string) []string {
	path := "demo"
	if len(args) > 0 {
		path = args[0]
	}
	b := quietly(path)
	if b == nil {
		return nil
	}
	var out []string
	for _, l := range b.Links {
		for _, p := range l.Settable() {
			out = append(out, p+"=")
		}
	}
	return out
}
