//go:build forcedfault

package main

import (
	"os"
	"os/signal"
	"syscall"

	"gavrix/core/guard"
)

// forceFault panics in a goroutine of its own on SIGUSR1, for the test that
// holds the terminal and the capture against it.
func forceFault() {
	c := make(chan os.Signal, 1)
	signal.Notify(c, syscall.SIGUSR1)
	guard.Go(func() {
		<-c
		panic("forced")
	})
}
