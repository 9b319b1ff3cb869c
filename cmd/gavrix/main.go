// Command gavrix brings up serial bus links: see `gavrix help`.
package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/demo"
)

// Exit statuses.
const (
	fine   = 0
	found  = 1 // a finding or a failed check
	cannot = 2 // could not run
)

// exitStatus is an error that only carries a status: the message is out.
type exitStatus int

func (e exitStatus) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

func main() {
	defer guard.Recover()
	log := &logging{}
	root := newRoot(log)
	err := root.Execute()
	sayDamage()
	if lost := stdout.lost(); lost != nil {
		err = lost
	}
	status := exitStatus(cannot)
	switch {
	case err == nil:
		status = fine
	case errors.As(err, &status):
	default:
		for line := range strings.SplitSeq(err.Error(), "\n") {
			fmt.Fprintln(os.Stderr, "gavrix: "+safe.Text(safe.Brief(line)))
		}
		var placed interface{ lines() []string }
		if errors.As(err, &placed) {
			for _, l := range placed.lines() {
				fmt.Fprintln(os.Stderr, "    "+l)
			}
		}
	}
	if err := log.stop(int(status), err); err != nil {
		fmt.Fprintln(os.Stderr, "gavrix: "+safe.Text(err.Error()))
		status = cannot
	}
	os.Exit(int(status))
}

func newRoot(log *logging) *cobra.Command {
	ui := &uiOptions{}
	root := &cobra.Command{
		Use:   "gavrix [BENCH]",
		Short: "Bring up serial bus links: work them out, watch them, prove them",
		Long: `Gavrix reads a bench file (an MCU with its clocks, the links and the settings
of both their ends, the devices, the checks), works out dividers and margins,
runs the whole on a simulated bench or over real ports, shows the traffic and
says what is wrong.

With a BENCH it opens the screen; the commands below work without one.
Exit status: 0 fine, 1 an error found or a check failed, 2 could not run.`,
		Example: `  gavrix demo                      the bench that ships with Gavrix
  gavrix lock.yaml                 a bench of your own
  gavrix lint lock.yaml            what the description shows to be wrong
  gavrix calc baud --clock 40MHz --rate 28800 --explain`,
		Args:          cobra.ArbitraryArgs,
		SilenceErrors: true, SilenceUsage: true,
		Version:           versionText(),
		PersistentPreRunE: log.start,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			if _, err := os.Stat(args[0]); err != nil && !strings.ContainsAny(args[0], "/.:") {
				return unknownCommand(cmd, args[0])
			}
			if len(args) > 1 {
				return fmt.Errorf("%q: one bench at a time", args[1])
			}
			return openBench(args[0], ui)
		},
	}
	root.SetOut(stdout)
	root.SetFlagErrorFunc(flagError)
	ui.flags(root.Flags())
	root.AddCommand(demoCommand(), openCommand(), lintCommand(), proveCommand(), compareCommand(), doCommand(), sendCommand(), watchCommand(), valuesCommand(), statsCommand(), replayCommand(), decodeCommand(), convertCommand(), calcCommand(), drawCommand(), exportCommand(), sourcesCommand(), portsCommand(), newCommand(), schemaCommand(), preferencesCommand(), manCommand(), filtersHelp())
	root.SetVersionTemplate("gavrix {{.Version}}\n")
	log.flags(root.PersistentFlags())
	completes(root)
	return root
}

// unknownCommand says that there is no such command, and which one is like it.
func unknownCommand(in *cobra.Command, word string) error {
	var names []string
	for _, c := range in.Commands() {
		names = append(names, c.Name())
	}
	where := in.CommandPath()
	if near := doc.Nearest(word, names); near != "" {
		return fmt.Errorf("%s has no command %s; did you mean %s?", where, word, near)
	}
	if in.HasParent() {
		return fmt.Errorf("%s has no command %s; it has %s", where, word, strings.Join(names, ", "))
	}
	return fmt.Errorf("there is no command and no bench file %q; gavrix help lists the commands", word)
}

// group makes a command of those below it: alone it lists them.
func group(use, short string, below ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			return unknownCommand(cmd, args[0])
		},
	}
	c.AddCommand(below...)
	return c
}

// loadBench loads a bench from disk, or the demo for the word `demo`, and makes
// the edits given as PATH=VALUE. Faults are printed, and give status 2.
func loadBench(path string, sets ...string) (*bench.Bench, error) {
	began := time.Now()
	b, faults, err := readBench(path)
	if err != nil {
		return nil, err
	}
	if b == nil {
		slog.Error("bench refused", "path", path, "faults", len(faults))
		printFindings(os.Stderr, faults)
		return nil, exitStatus(cannot)
	}
	slog.Info("bench read", "path", path, "name", b.Name, "links", len(b.Links), "took", time.Since(began))
	return b, applySets(b, sets)
}

// readBench reads a bench from disk, or a demo; the bench is nil where there are faults.
func readBench(path string) (*bench.Bench, []finding.Finding, error) {
	var dir fs.FS
	name := filepath.Base(path)
	if path == "demo" {
		dir, name = demo.Files, demo.Bench
	} else if other, ok := strings.CutPrefix(path, "demo:"); ok {
		if name = demo.Others[other]; name == "" {
			return nil, nil, fmt.Errorf("there is no demo %q; there are culvert and weir", other)
		}
		dir = demo.Files
	} else {
		// A root keeps device files inside the bench's folder tree, links too.
		root, err := os.OpenRoot(filepath.Dir(path))
		if err != nil {
			return nil, nil, fmt.Errorf("the bench can't be read: %w", err)
		}
		dir = root.FS()
	}
	b, faults := bench.Load(dir, name)
	return b, faults, nil
}

func printFindings(w io.Writer, fs []finding.Finding) {
	for _, f := range fs {
		fmt.Fprintln(w, safeLines(f.String()))
	}
}

// safeLines makes a text of several lines showable.
func safeLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = safe.Text(lines[i])
	}
	return strings.Join(lines, "\n")
}
