package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/sim"
	wirecsv "gavrix.org/gavrix/core/wire/csv"
	"gavrix.org/gavrix/core/wire/vcd"
)

// converting is what convert was asked for.
type converting struct {
	decodeOptions
}

func convertCommand() *cobra.Command {
	o := &converting{}
	c := &cobra.Command{
		Use:   "convert IN OUT",
		Short: "Convert captures: levels (.vcd, .csv), records (.pcapng, .jsonl)",
		Long: `Writes a capture in another form, by the ending of OUT. Levels go to .vcd or .csv
picosecond by picosecond. Records go to .pcapng, which Gavrix opens, or to .jsonl, one
object a line; levels are decoded to them: --bench or --link say which lines are which
bus. With records --filter, --from and --to choose what is written.`,
		Example: `  gavrix convert samples.csv lock.vcd --sample-rate 24MHz
  gavrix convert lock.vcd lock.pcapng --bench demo
  gavrix convert lock.pcapng errors.pcapng --filter 'pump errors'
  gavrix convert lock.pcapng lock.jsonl --from 1s --to 2s`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
			defer stop()
			o.cmd = cmd
			return o.run(ctx, args[0], args[1])
		},
	}
	fl := c.Flags()
	fl.StringVar(&o.rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	fl.StringVar(&o.bench, "bench", "", "levels to records: the links of this bench")
	fl.StringArrayVar(&o.links, "link", nil, "levels to records: which lines are which bus, as for decode (repeatable)")
	fl.StringVar(&o.from, "from", "", "of records: beginning of the stretch")
	fl.StringVar(&o.to, "to", "", "of records: end of the stretch")
	fl.StringVar(&o.pick.filter, "filter", "", "of records: only those that fit this (gavrix help filters)")
	return c
}

func (o *converting) run(ctx context.Context, from, to string) error {
	recorded := strings.EqualFold(filepath.Ext(from), ".pcapng")
	switch ext := strings.ToLower(filepath.Ext(to)); {
	case ext == ".pcapng" || ext == ".jsonl":
		if recorded {
			if err := idle(o.cmd, "on a recorded capture", "sample-rate", "bench", "link"); err != nil {
				return err
			}
		}
		return o.records(ctx, from, to, recorded)
	case ext != ".vcd" && ext != ".csv":
		return fmt.Errorf("%s: the name must end in .vcd or .csv for levels, .pcapng or .jsonl for records", to)
	case recorded:
		return fmt.Errorf("%s holds records, no levels: write .pcapng or .jsonl", from)
	}
	if err := idle(o.cmd, "from levels to levels", "bench", "link", "from", "to", "filter"); err != nil {
		return err
	}
	src, in, err := openLevels(from, o.rate)
	if err != nil {
		return err
	}
	defer in.Close()
	return created(to, func(out io.Writer) error { return convert(src, out, from, to) })
}

// created writes a new file.
func created(path string, write func(io.Writer) error) error {
	return regular.Write(path, 0o600, func(f io.Writer) error {
		out := bufio.NewWriterSize(f, 1<<16)
		err := write(out)
		if e := out.Flush(); err == nil { // what fails again fails for the same reason
			err = e
		}
		return err
	})
}

// store gives the records of a file, decoded where it holds levels.
func (o *converting) store(ctx context.Context, from string, recorded bool) (*capture.Store, error) {
	if recorded {
		store, err := readCapture(ctx, from)
		if err == nil {
			if b, err := sim.BenchOf(&store.Meta); err == nil {
				o.known, o.meanings = b, b.Meanings()
			}
		}
		return store, err
	}
	src, f, err := openLevels(from, o.rate)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if o.bench == "" && len(o.links) == 0 {
		return nil, fmt.Errorf("%s holds levels: say with --bench or --link which lines are which bus; its lines are %s", from, decode.List(src.Names()))
	}
	links, err := o.wanted(src.Names())
	if err != nil {
		return nil, err
	}
	meta := decode.Meta(links)
	if o.known != nil {
		withBench(&meta, o.known)
	}
	return allRecords(ctx, src, links, meta)
}

// withBench puts the bench into a capture whose links are all its own.
func withBench(m *capture.Meta, b *bench.Bench) {
	if sim.Suits(b, m) == nil {
		own := sim.MetaOf(b)
		m.Bench, m.Files = own.Bench, own.Files
	}
}

// records writes those that are wanted.
func (o *converting) records(ctx context.Context, from, to string, recorded bool) error {
	store, err := o.store(ctx, from, recorded)
	if err != nil {
		return err
	}
	snap := store.Snapshot()
	begin, end, err := stretch(o.from, o.to, snap)
	if err != nil {
		return err
	}
	p, err := o.pick.picker(o.cmd, o.known, o.meanings, &store.Meta)
	if err != nil {
		return err
	}
	n := 0
	err = created(to, func(out io.Writer) error {
		put := func(r *record.Record) error {
			text, err := jsonl.Marshal(&store.Meta, r, o.meanings.Text(store.Meta.Links[r.Link].Name, r))
			if err == nil {
				_, err = out.Write(text)
			}
			return err
		}
		flush := func() error { return nil }
		if strings.EqualFold(filepath.Ext(to), ".pcapng") {
			w, err := pcapng.NewWriter(out, &store.Meta)
			if err != nil {
				return err
			}
			put, flush = w.Write, w.Flush
		}
		for i := snap.First(); i < snap.Len(); i++ {
			if i%10_000 == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			r := snap.At(i)
			if err := p.take(r, false, func(r *record.Record) error {
				if r.End < begin || r.Start > end || int(r.Link) >= len(store.Meta.Links) {
					return nil
				}
				n++
				return put(r)
			}); err != nil {
				return err
			}
		}
		return flush()
	})
	if err != nil {
		return err
	}
	if n == 0 {
		fmt.Fprintln(os.Stderr, "gavrix: nothing was wanted of it: the file has no records")
	}
	return nil
}

// levelsName refuses names of files that levels are not written to.
func levelsName(path string) error {
	if e := strings.ToLower(filepath.Ext(path)); e != ".vcd" && e != ".csv" {
		return fmt.Errorf("%s: levels are written to .vcd and .csv files", path)
	}
	return nil
}

// convert writes the levels of a source; from and to are the names of both.
func convert(src decode.Source, out io.Writer, from, to string) error {
	var w decode.Sink
	var err error
	switch strings.ToLower(filepath.Ext(to)) {
	case ".vcd":
		w, err = vcd.NewWriter(out, src.Names())
	case ".csv":
		w, err = wirecsv.NewWriter(out, src.Names())
	default:
		return levelsName(to)
	}
	if err != nil {
		return err
	}
	if err := decode.Copy(src, w); err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	return nil
}
