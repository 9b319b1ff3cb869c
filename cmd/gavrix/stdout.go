package main

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"syscall"
)

// stdout is the standard output. It remembers the first error, so that a command whose
// output was lost does not end as if it had not been.
var stdout = &output{}

type output struct {
	mu  sync.Mutex
	err error
}

// Write implements io.Writer.
func (o *output) Write(p []byte) (int, error) {
	n, err := os.Stdout.Write(p)
	if err != nil {
		o.mu.Lock()
		if o.err == nil {
			o.err = err
		}
		o.mu.Unlock()
	}
	return n, err
}

// lost says that output was lost; nil when the reader just had enough.
func (o *output) lost() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case o.err == nil || errors.Is(o.err, syscall.EPIPE):
		return nil
	case errors.Is(o.err, syscall.ENOSPC):
		return errors.New("the output is not complete: no space is left where it goes")
	}
	return fmt.Errorf("the output is not complete: %w", o.err)
}
