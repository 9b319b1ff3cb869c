//go:build forcedfault

package guard

import (
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
)

var (
	faultAt = os.Getenv("GAVRIX_FAULT")
	armed   atomic.Bool
)

// From SIGUSR1 on, the place that GAVRIX_FAULT names panics, without a name a goroutine
// of its own, for the test that holds the terminal and the capture against it.
func init() {
	armed.Store(faultAt == "init")
	c := make(chan os.Signal, 1)
	signal.Notify(c, syscall.SIGUSR1)
	Go(func() {
		<-c
		armed.Store(true)
		Fault("")
	})
}

// Fault panics if this is the place.
func Fault(at string) {
	if at == faultAt && armed.Load() {
		panic("forced")
	}
}
