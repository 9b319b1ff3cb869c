package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/spf13/pflag"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/safe"
)

// recordFlags say where a capture is recorded to.
type recordFlags struct {
	path  string
	size  int
	span  time.Duration
	files int
	// levels: those of the lines, too.
	levels bool
}

// add adds the flags; the file is named by the flag name.
func (o *recordFlags) add(fl *pflag.FlagSet, name string) {
	fl.StringVar(&o.path, name, "", "record to this pcapng file")
	fl.IntVar(&o.size, "file-size", 0, "begin a next file (NAME-1, NAME-2 …) when one has this many MB")
	fl.DurationVar(&o.span, "file-time", 0, "begin a next file after this time, as 10m")
	fl.BoolVar(&o.levels, "with-levels", false, "record the levels of the lines too, so that the file shows them when it is opened")
	fl.IntVar(&o.files, "files", 0, "keep this many files: the oldest are removed (0 keeps all)")
}

// limits gives how the recording is cut; an error says what makes no sense.
func (o *recordFlags) limits(name string) (pcapng.Limits, error) {
	l := pcapng.Limits{Bytes: int64(o.size) << 20, Time: o.span, Files: o.files, Levels: o.levels}
	if o.path == "" && l != (pcapng.Limits{}) {
		return l, fmt.Errorf("--file-size, --file-time, --files and --with-levels have no effect without --%s FILE", name)
	}
	if o.size > 1<<20 {
		return l, fmt.Errorf("--file-size %d: give up to %d MB", o.size, 1<<20)
	}
	if err := l.Check(); err != nil {
		return l, fmt.Errorf("--files, --file-size, --file-time: %w", err)
	}
	return l, nil
}

// begin records a store until end is called, which says whether the file has all of it.
// Whole records are written when they end, never before.
func (o *recordFlags) begin(ctx context.Context, store *capture.Store, name string, whole bool) (end func() error, err error) {
	l, err := o.limits(name)
	if err != nil {
		return nil, err
	}
	if o.path == "" {
		ended := unread(ctx, func() string { return "" })
		return func() error { ended(); return nil }, nil
	}
	r, err := pcapng.RecordLimited(store, o.path, l)
	if err != nil {
		return nil, err
	}
	r.Whole = whole
	guard.Go(r.Run)
	remove := guard.OnPanic(func() { _ = r.Close() })
	// A reader that takes nothing more must not cost the file its end.
	ended := unread(ctx, func() string {
		_ = r.Close()
		return "; " + safe.Text(o.path) + " is"
	})
	return func() error {
		ended()
		remove()
		if err := r.Close(); err != nil {
			return fmt.Errorf("%s is not complete: %w", o.path, err)
		}
		return nil
	}, nil
}

// unread ends the program when it is to end and can't, since nobody takes its output; save
// saves what there is, and says so. What it gives is to be called when all is written.
func unread(ctx context.Context, save func() string) (ended func()) {
	over := make(chan struct{})
	context.AfterFunc(ctx, func() {
		select {
		case <-over:
		case <-time.After(time.Second):
			fmt.Fprintln(os.Stderr, "gavrix: the output is not complete: its reader takes nothing more"+save())
			os.Exit(cannot)
		}
	})
	return func() { close(over) }
}
