//go:build !forcedfault

package guard

// Fault is a place at which the tests' build can panic.
func Fault(string) {}
