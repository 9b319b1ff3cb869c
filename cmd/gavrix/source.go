package main

import (
	"context"
	"fmt"
	"math"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// sourceFlags say where traffic comes from: a capture of any kind, or a bench that is simulated.
type sourceFlags struct {
	bench, length, rate string
	sets                []string
}

func (o *sourceFlags) add(c *cobra.Command) {
	fl := c.Flags()
	fl.StringVar(&o.bench, "bench", "", "of a file: the bench whose device files say what its traffic means; a recorded capture carries its own")
	fl.StringVar(&o.length, "for", "2s", "of a bench: time that is simulated")
	fl.StringVar(&o.rate, "sample-rate", "", "rate of the samples of a .csv file without times")
	fl.StringArrayVar(&o.sets, "set", nil, "of a bench: change a value first, as PATH=VALUE (repeatable)")
}

// sourceHelp says what a SOURCE is.
const sourceHelp = `SOURCE is a bench, which is simulated for the time of --for, a recorded capture
(.pcapng), or a file of levels (.vcd, .csv), which is decoded with --bench.`

// open gives the traffic, and the bench that tells what it means; nil where there is none.
func (o *sourceFlags) open(cmd *cobra.Command, path string) (*bench.Bench, *capture.Snapshot, error) {
	ext := strings.ToLower(filepath.Ext(path))
	if ext != ".pcapng" && !levels(path) {
		if err := idle(cmd, "on a bench", "bench", "sample-rate"); err != nil {
			return nil, nil, err
		}
		return o.simulated(path)
	}
	if err := idle(cmd, "on a file", "for", "set"); err != nil {
		return nil, nil, err
	}
	var b *bench.Bench
	var err error
	if o.bench != "" {
		if b, err = loadBench(o.bench); err != nil {
			return nil, nil, err
		}
	}
	if ext == ".pcapng" {
		if err := idle(cmd, "on a recorded capture", "sample-rate"); err != nil {
			return nil, nil, err
		}
		store, err := readCapture(cmd.Context(), path)
		if err != nil {
			return nil, nil, err
		}
		if b == nil {
			if own, err := sim.BenchOf(&store.Meta); err == nil {
				b = own
			}
		}
		return b, store.Snapshot(), nil
	}
	if b == nil {
		return nil, nil, fmt.Errorf("%s holds levels: say with --bench which lines are which bus", path)
	}
	src, f, err := openLevels(path, o.rate)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	links, _ := decode.FromBench(b, src.Names())
	if !decode.Any(links) {
		return nil, nil, fmt.Errorf("%s has no line of a link of the bench; its lines are %s", path, decode.List(src.Names()))
	}
	store, err := allRecords(cmd.Context(), src, links, decode.Meta(links))
	if err != nil {
		return nil, nil, err
	}
	return b, store.Snapshot(), nil
}

// allRecords decodes levels, and keeps every record however many there are.
func allRecords(ctx context.Context, src decode.Source, links []decode.Link, meta capture.Meta) (*capture.Store, error) {
	store := capture.NewStore(meta)
	store.Bound(math.MaxInt)
	return store, decode.Run(ctx, src, links, decode.Options{Progress: store.Advance}, store)
}

func (o *sourceFlags) simulated(path string) (*bench.Bench, *capture.Snapshot, error) {
	b, err := loadBench(path, o.sets...)
	if err != nil {
		return nil, nil, err
	}
	d, err := quantity.ParseSpan(o.length)
	if err != nil {
		return nil, nil, fmt.Errorf("--for: %w", err)
	}
	if d <= 0 || d > 1000*quantity.Second {
		return nil, nil, fmt.Errorf("--for %s: write a time up to 1000 s", o.length)
	}
	for _, l := range b.Links {
		if l.Port != nil {
			return nil, nil, fmt.Errorf("link %s is a real port: record it with gavrix watch --save FILE, and give that file", l.Name)
		}
	}
	h := sim.NewHeadless(b)
	h.World.RunTo(d)
	return b, h.Store().Snapshot(), nil
}

// stretch reads --from and --to; to is the end of the traffic where it is not given.
func stretch(from, to string, snap *capture.Snapshot) (a, b quantity.Time, err error) {
	b = snap.Now
	if n := snap.First(); snap.Meta().Part > 1 && n < snap.Len() {
		a = snap.Head(n).Start // what was before is in other files
	}
	for _, x := range []struct {
		name, text string
		to         *quantity.Time
	}{{"--from", from, &a}, {"--to", to, &b}} {
		if x.text == "" {
			continue
		}
		if *x.to, err = quantity.ParseTime(x.text); err != nil {
			return 0, 0, fmt.Errorf("%s: %w", x.name, err)
		}
		if *x.to < 0 {
			return 0, 0, fmt.Errorf("%s %s: a capture begins at 0 s", x.name, x.text)
		}
	}
	if b <= a {
		return 0, 0, fmt.Errorf("the stretch from %s to %s is empty", a, b)
	}
	return a, b, nil
}
