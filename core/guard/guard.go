// Package guard starts goroutines so that a panic in any of them ends the
// program in order: what must be saved is saved, the terminal is given back,
// and the reason is printed.
package guard

import (
	"fmt"
	"os"
	"runtime/debug"
	"sync"
)

var (
	mu     sync.Mutex
	rescue []func()
	exit   = os.Exit
	errOut = os.Stderr
)

// OnPanic registers what is to be done before the program ends after a panic:
// the last registered first. The returned function takes it back.
func OnPanic(f func()) (remove func()) {
	mu.Lock()
	defer mu.Unlock()
	rescue = append(rescue, f)
	i := len(rescue) - 1
	return func() {
		mu.Lock()
		defer mu.Unlock()
		rescue[i] = nil
	}
}

// Go runs f in a goroutine of its own.
func Go(f func()) {
	go func() {
		defer Recover()
		f()
	}()
}

// Recover must be deferred at the top of a goroutine that Go did not start.
func Recover() {
	p := recover()
	if p == nil {
		return
	}
	stack := debug.Stack()
	mu.Lock()
	fs := append([]func(){}, rescue...)
	mu.Unlock()
	for i := len(fs) - 1; i >= 0; i-- {
		if fs[i] != nil {
			safely(fs[i])
		}
	}
	fmt.Fprintf(errOut, "gavrix: a fault inside the program: %v\n\n%s\nThe capture was saved as far as it went. Please report this text.\n", p, stack)
	exit(2)
}

func safely(f func()) {
	defer func() { _ = recover() }()
	f()
}
