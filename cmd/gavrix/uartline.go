package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/uart"
)

// uartLine: a word is a character.
var uartLine = lineKind{
	name: uart.Kind.Name, own: []string{"frame"},
	add: func(f *lineFlags, c *cobra.Command) { f.s.add(c, "frame", "8N1", "UART: frame") },
	read: func(f *lineFlags) (float64, int, bool, error) {
		fr, err := uart.ParseFrame(f.s.get("frame"))
		if err != nil {
			return 0, 0, false, fmt.Errorf("--frame: %w", err)
		}
		return fr.Bits(), (fr.Data + 7) / 8, false, nil
	},
}
