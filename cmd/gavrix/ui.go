package main

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
	"gavrix.org/gavrix/tui"
)

type uiOptions struct {
	sets   []string
	record recordFlags
	memory memoryFlag
}

func (o *uiOptions) flags(fl *pflag.FlagSet) {
	fl.StringArrayVar(&o.sets, "set", nil, "change a value of the bench first, as PATH=VALUE (repeatable)")
	o.record.add(fl, "record")
	o.memory.add(fl)
}

func openBench(path string, o *uiOptions) error {
	memory, err := o.memory.bytes()
	if err != nil {
		return err
	}
	limits, err := o.record.limits("record")
	if err != nil {
		return err
	}
	b, err := loadBench(path, o.sets...)
	if err != nil {
		return err
	}
	save := path
	if path == "demo" || strings.HasPrefix(path, "demo:") {
		save = ""
	}
	return tui.Run(tui.Options{Bench: b, Path: save, Record: o.record.path, Limits: limits, Memory: memory})
}

func demoCommand() *cobra.Command {
	o := &uiOptions{}
	c := &cobra.Command{
		Use:   "demo [culvert|weir]",
		Short: "Open Lock 7, the bench that ships with Gavrix, or one of two smaller boards",
		Long: `Opens Lock 7. Two smaller boards show other rate generators: culvert a timer with a
reload value, weir a counter whose clock was measured. Other commands take them as
demo, demo:culvert and demo:weir.`,
		Example: `  gavrix demo
  gavrix demo weir
  gavrix demo --set links.lower-gauge.mcu.frame=8N1     with a typical mistake in it`,
		Args:      cobra.MaximumNArgs(1),
		ValidArgs: []string{"culvert", "weir"},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				return openBench("demo:"+args[0], o)
			}
			return openBench("demo", o)
		},
	}
	o.flags(c.Flags())
	return c
}

func openCommand() *cobra.Command {
	o := &decodeOptions{}
	c := &cobra.Command{
		Use:   "open FILE",
		Short: "Show a capture: recorded (.pcapng), or levels (.vcd, .csv)",
		Long: `Opens a capture on the screen. Of a file of levels --bench or --link say which
lines are which bus, as for decode; what the others may be, Gavrix proposes (key P
in Waves). With --bench all views know the links, their parts and transfers, and a
setting that is changed reads the file anew. It is shown while it is read. FILE may
be demo, the capture that ships with Gavrix.`,
		Example: `  gavrix open lock7.pcapng
  gavrix open demo
  gavrix open lock.vcd --bench demo
  gavrix open lock.vcd --link 'angle spi clock=sck out=mosi in=miso select=cs mode=1'`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			ext := strings.ToLower(filepath.Ext(args[0]))
			if args[0] == "demo" || ext == ".vcd" || ext == ".csv" {
				return o.open(args[0])
			}
			return o.openRecorded(args[0])
		},
	}
	fl := c.Flags()
	fl.StringArrayVar(&o.links, "link", nil, "of a file of levels: which lines are which bus (repeatable)")
	fl.StringVar(&o.bench, "bench", "", "the links of this bench; of a recorded capture, instead of the bench that it carries")
	fl.StringVar(&o.rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	return c
}

// openRecorded shows a recorded capture, with the bench that it carries or another one.
func (o *decodeOptions) openRecorded(path string) error {
	if len(o.links) > 0 || o.rate != "" {
		return fmt.Errorf("%s holds records, not levels: --link and --sample-rate are for .vcd and .csv files", path)
	}
	file, err := pcapng.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	meta := &file.Store.Meta
	if o.bench != "" {
		b, err := loadBench(o.bench)
		if err != nil {
			return err
		}
		if err := sim.Suits(b, meta); err != nil {
			return fmt.Errorf("%s is not the bench of %s: %w", o.bench, path, err)
		}
		return tui.Show(file, b, filepath.Base(path), "")
	}
	b, err := sim.BenchOf(meta)
	without := ""
	if err != nil {
		without = err.Error()
	}
	return tui.Show(file, b, filepath.Base(path), without)
}

// open shows a file of levels.
func (o *decodeOptions) open(path string) error {
	begin := func() (*tui.File, error) {
		src, f, err := openLevels(path, o.rate)
		if err != nil {
			return nil, err
		}
		// The screen says itself what was passed over.
		return &tui.File{Source: src, Share: f.Share, Close: func() { _ = f.levelFile.(noted).levelFile.Close() }}, nil
	}
	first, err := begin()
	if err != nil {
		return err
	}
	links, err := o.wanted(first.Names())
	first.Close()
	if err != nil {
		return err
	}
	return tui.ShowLevels(&tui.Levels{Name: shownName(path), Open: begin, Links: links, Bench: o.known})
}

func shownName(path string) string {
	if path == "demo" {
		return demo.CaptureName
	}
	return filepath.Base(path)
}
