package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/safe"
)

// opened are the captures that a command reads from: of what an index tells of, damage is met only
// when it is read.
var opened struct {
	mu  sync.Mutex
	all []*pcapng.Opening
}

// sayDamage says what of captures that were opened could not be read back since.
func sayDamage() {
	opened.mu.Lock()
	defer opened.mu.Unlock()
	for _, o := range opened.all {
		if err := o.Damage(); err != nil {
			fmt.Fprintf(os.Stderr, "gavrix: %s: %s\n", safe.Text(o.Path()), safe.Text(err.Error()))
		}
	}
	opened.all = nil
}

// readCapture loads a capture; what is damaged at its end is said.
func readCapture(ctx context.Context, path string) (*capture.Store, error) {
	began := time.Now()
	o, err := pcapng.Open(path)
	if err != nil {
		return nil, err
	}
	// The file stays open: records that take too much memory are read from it again.
	if o.Why != nil {
		fmt.Fprintf(os.Stderr, "gavrix: the index is made anew: %s\n", safe.Text(o.Why.Error()))
	}
	tell := percent("reading", func(quantity.Time) float64 { return o.Share() })
	err = o.Load(ctx, func() {
		if tell != nil {
			tell(0)
		}
	})
	slog.Info("capture read", "file", path, "whole", err == nil, "index", o.Known, "took", time.Since(began))
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if o.Known && err == nil {
		opened.mu.Lock()
		opened.all = append(opened.all, o)
		opened.mu.Unlock()
	}
	var damage *pcapng.Damage
	switch {
	case err == nil:
	case errors.As(err, &damage):
		fmt.Fprintf(os.Stderr, "gavrix: %s: %s\n", safe.Text(path), safe.Text(err.Error()))
	default:
		fmt.Fprintf(os.Stderr, "gavrix: %s: %s\nWhat comes before is taken.\n", safe.Text(path), safe.Text(err.Error()))
	}
	return o.Store, nil
}
