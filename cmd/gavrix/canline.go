package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/can"
)

// canLine: a classic data frame and the space behind it.
var canLine = lineKind{
	name: can.Kind.Name, own: []string{"bytes", "extended", "stuffed"},
	add: func(f *lineFlags, c *cobra.Command) {
		c.Flags().IntVar(&f.bytes, "bytes", 8, "CAN: data bytes of a frame")
		c.Flags().BoolVar(&f.extended, "extended", false, "CAN: 29-bit identifier")
		c.Flags().BoolVar(&f.stuffed, "stuffed", false, "CAN: with as many stuff bits as there can be")
	},
	read: func(f *lineFlags) (float64, int, bool, error) {
		_, padding, ok := can.Code(f.bytes, false)
		if !ok || padding > 0 {
			return 0, 0, false, fmt.Errorf("--bytes %d: a classic frame has 0 to 8", f.bytes)
		}
		frame := can.Frame{Extended: f.extended, Data: make([]byte, f.bytes)}
		bits := can.LeastBits(frame)
		if f.stuffed {
			bits += can.MostStuffBits(frame)
		}
		return float64(bits), f.bytes, false, nil
	},
}
