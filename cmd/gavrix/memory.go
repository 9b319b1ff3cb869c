package main

import (
	"fmt"

	"github.com/spf13/pflag"

	"gavrix.org/gavrix/core/capture"
)

// memoryFlag says what a capture may take in memory.
type memoryFlag struct{ mb int }

func (m *memoryFlag) add(fl *pflag.FlagSet) {
	fl.IntVar(&m.mb, "memory", capture.DefaultMemory>>20, "MB that the capture may take in memory: half for levels, three eighths for records, the rest for what values were; the oldest go, of a recording to its file")
}

// bytes gives the size in bytes; an error says what it may be.
func (m *memoryFlag) bytes() (int, error) {
	if m.mb < 1 || m.mb > 1<<20 {
		return 0, fmt.Errorf("--memory %d: give 1 to %d MB", m.mb, 1<<20)
	}
	return m.mb << 20, nil
}
