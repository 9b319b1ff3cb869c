package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/spi"
)

// spiLine: a word and the pause behind it.
var spiLine = lineKind{
	name: spi.Kind.Name, own: []string{"word", "gap"},
	add: func(f *lineFlags, c *cobra.Command) {
		c.Flags().IntVar(&f.bits, "word", 8, "SPI: bits of a word")
		c.Flags().IntVar(&f.gap, "gap", 0, "SPI: bits of the pause between words")
	},
	read: func(f *lineFlags) (float64, int, bool, error) {
		if f.bits < 1 || f.bits > 64 || f.gap < 0 {
			return 0, 0, false, fmt.Errorf("--word %d, --gap %d: a word has 1 to 64 bits, and a pause no fewer than 0", f.bits, f.gap)
		}
		return float64(f.bits + f.gap), (f.bits + 7) / 8, false, nil
	},
}
