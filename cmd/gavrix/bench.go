package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/demo"
)

// applySets makes edits given as PATH=VALUE.
func applySets(b *bench.Bench, sets []string) error {
	for _, s := range sets {
		edits, err := bench.ParseSet(s, '=')
		if err != nil {
			return fmt.Errorf("--set %s: %w; write PATH=VALUE, as links.lower-gauge.mcu.frame=8N1", s, err)
		}
		if err := b.Apply(edits...); err != nil {
			return fmt.Errorf("--set %s: %w", s, err)
		}
	}
	return nil
}

// linkNamed gives the link with a name.
func linkNamed(b *bench.Bench, name string) (*bench.Link, error) {
	if l := b.Link(name); l != nil {
		return l, nil
	}
	var names []string
	for _, l := range b.Links {
		names = append(names, l.Name)
	}
	if m := doc.Nearest(name, names); m != "" {
		return nil, fmt.Errorf("the bench has no link %q; did you mean %s?", name, m)
	}
	return nil, fmt.Errorf("the bench has no link %q; it has %s", name, strings.Join(names, ", "))
}

func schemaCommand() *cobra.Command {
	var dev bool
	c := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of bench files, or of device files",
		Long:  "Editors that know JSON Schema complete and check bench files with it.",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			t, title := bench.Schema, "Gavrix bench file"
			if dev {
				t, title = device.Schema, "Gavrix device file"
			}
			s := t.JSONSchema()
			s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
			s["title"] = title
			return printJSON(s)
		},
	}
	c.Flags().BoolVar(&dev, "device", false, "of device files")
	return c
}

func newCommand() *cobra.Command {
	empty := false
	c := &cobra.Command{
		Use:   "new FOLDER",
		Short: "Write a bench to start from: the demo's files, or a short one with notes",
		Long: `Writes the bench and the device files of the demo into a new folder; with --empty a
short bench with notes, to be filled in: an MCU, a part on a UART and one on I2C.
What belongs to your board (clock, units, rates, pins) is to be confirmed by you.`,
		Example: `  gavrix new lock
  gavrix new mine --empty && gavrix mine/bench.yaml`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var files fs.FS = demo.Files
			name := demo.Bench
			if empty {
				name = "bench.yaml"
				var err error
				if files, err = fs.Sub(demo.Template, "template"); err != nil {
					return err
				}
			}
			if _, err := os.Stat(args[0]); err == nil {
				return fmt.Errorf("%s is there already; name a new folder", args[0])
			}
			// All of it or nothing.
			if err := os.MkdirAll(filepath.Dir(args[0]), 0o755); err != nil {
				return err
			}
			made, err := os.MkdirTemp(filepath.Dir(args[0]), ".new-")
			if err != nil {
				return fmt.Errorf("%s can't be made: %w", args[0], err)
			}
			defer os.RemoveAll(made)
			if err := os.Chmod(made, 0o755); err != nil {
				return err
			}
			err = fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
				if err != nil {
					return err
				}
				for _, other := range demo.Others {
					if path == other {
						return nil
					}
				}
				to := filepath.Join(made, filepath.FromSlash(path))
				if d.IsDir() {
					return os.MkdirAll(to, 0o755)
				}
				text, err := fs.ReadFile(files, path)
				if err != nil {
					return err
				}
				return os.WriteFile(to, text, 0o644)
			})
			if err == nil {
				err = os.Rename(made, args[0])
			}
			if err != nil {
				if at := (*fs.PathError)(nil); errors.As(err, &at) {
					err = at.Err // its path is one that is gone
				}
				return fmt.Errorf("%s is not written: %w", args[0], err)
			}
			fmt.Fprintf(stdout, "wrote %s; to confirm for your board: mcu.clocks, mcu.units, and each link's unit, rate and frame\nopen it: gavrix %s\n",
				args[0], filepath.Join(args[0], name))
			return nil
		},
	}
	c.Flags().BoolVar(&empty, "empty", false, "a short bench with notes, in place of the demo")
	return c
}
