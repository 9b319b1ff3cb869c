package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/textlog"
)

func replayCommand() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "replay FILE",
		Short: "Make a recorded simulation again, and compare it with the record",
		Long: `A capture (.pcapng) that was recorded from simulated links carries its bench, its
device files, its seed and all that was put in: what was sent, cut, held or changed,
each with its time. From these the simulation runs again; what it yields must be
what the capture holds, record by record. Links with a real port are left out.
Exit status 1 if they part.`,
		Example: `  gavrix replay lock7.pcapng
  gavrix replay lock7.pcapng --out again.pcapng`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
			defer stop()
			return replay(ctx, args[0], out)
		},
	}
	c.Flags().StringVar(&out, "out", "", "record the replay to this new pcapng file")
	return c
}

func replay(ctx context.Context, path, out string) error {
	store, err := readCapture(ctx, path)
	if err != nil {
		return err
	}
	if store.Meta.Part > 1 {
		return fmt.Errorf("%s is file %d of a recording that was cut: what was put in before is not in it; a replay begins with file 1", path, store.Meta.Part)
	}
	snap := store.Snapshot()
	b, err := sim.BenchOf(&store.Meta)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	inputs, err := sim.Inputs(snap)
	if err != nil {
		return fmt.Errorf("%s: an input: %w", path, err)
	}
	var last quantity.Time
	for i := snap.First(); i < snap.Len(); i++ {
		last = max(last, snap.Head(i).End)
	}
	// What was still under way at the end is to be whole.
	again, err := sim.Replay(ctx, b, inputs, last+quantity.Second, percent("replaying", func(at quantity.Time) float64 { return float64(at) / float64(last+quantity.Second) }))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if out != "" {
		rec, err := pcapng.Record(again, out)
		if err != nil {
			return err
		}
		if err := rec.Close(); err != nil {
			return err
		}
	}
	alike, parted := sim.Compare(snap, again.Snapshot())
	if parted == nil {
		fmt.Fprintf(stdout, "%s: %d records of the simulation in %s, %d inputs: the replay is the same\n", safe.Text(path), alike, last.Round(4), len(inputs))
		return nil
	}
	fmt.Fprintf(stdout, "%s: %d records are alike; then they part\n", safe.Text(path), alike)
	for _, x := range []struct {
		name string
		r    *record.Record
	}{{"capture", parted.Was}, {"replay ", parted.Is}} {
		text := "has no such record\n"
		if x.r != nil {
			text = textlog.Line(&store.Meta, b.Meanings(), x.r)
		}
		fmt.Fprintf(stdout, "  %s  %s", x.name, text)
	}
	return exitStatus(found)
}
