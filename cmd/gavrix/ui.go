package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gavrix/core/bench"
	"gavrix/core/capture/pcapng"
	"gavrix/core/safe"
	"gavrix/demo"
	"gavrix/tui"
)

type uiOptions struct {
	sets   []string
	record string
}

func (o *uiOptions) flags(fl *pflag.FlagSet) {
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (may be given again)")
	fl.StringVar(&o.record, "record", "", "record the capture to this pcapng file")
}

func openBench(path string, o *uiOptions) error {
	b, err := loadBench(path, o.sets...)
	if err != nil {
		return err
	}
	forceFault()
	save := path
	if path == "demo" {
		save = ""
	}
	return tui.Run(tui.Options{Bench: b, Path: save, Record: o.record})
}

func demoCommand() *cobra.Command {
	o := &uiOptions{}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open Lock 7, the bench that ships with Gavrix",
		Example: `  gavrix demo
  gavrix demo --set links.lower-gauge.mcu.frame=8N1     with a typical mistake in it`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return openBench("demo", o) },
	}
	o.flags(c.Flags())
	return c
}

func openCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "open FILE",
		Short: "Show a capture that was kept or recorded",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the capture can't be read: %w", err)
			}
			defer f.Close()
			store, err := pcapng.Read(f)
			if store == nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if err != nil {
				fmt.Fprintf(os.Stderr, "gavrix: %s: %s\nWhat stands before is shown.\n", safe.Text(args[0]), safe.Text(err.Error()))
			}
			return tui.Show(store, benchOf(store.Meta.Bench), filepath.Base(args[0]))
		},
	}
}

// benchOf gives the bench that a capture carries, if its device files are
// those of the demo. Others are not in the capture, so it is shown without.
func benchOf(text string) *bench.Bench {
	if !bytes.Contains([]byte(text), []byte("links:")) {
		return nil
	}
	b, _ := bench.Parse(demo.Files, demo.Bench, []byte(text))
	return b
}
