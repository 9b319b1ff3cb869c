//go:build !forcedfault

package main

func forceFault() {}
