package main

import (
	"github.com/spf13/cobra"

	"gavrix.org/gavrix/core/bus/i2c"
)

// i2cLine: a byte and its acknowledge bit; the controller holds the clock for a late reader.
var i2cLine = lineKind{
	name: i2c.Kind.Name,
	add:  func(*lineFlags, *cobra.Command) {},
	read: func(*lineFlags) (float64, int, bool, error) { return 9, 1, true, nil },
}
