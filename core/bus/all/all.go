// Package all lists the kinds of buses. A new bus is one more line here.
package all

import (
	"gavrix/core/bus"
	"gavrix/core/bus/can"
	"gavrix/core/bus/i2c"
	"gavrix/core/bus/pulse"
	"gavrix/core/bus/spi"
	"gavrix/core/bus/uart"
)

// Kinds are the known kinds, in the order in which lists show them.
var Kinds = []*bus.Kind{
	uart.Kind,
	spi.Kind,
	i2c.Kind,
	can.Kind,
	pulse.Kind,
}

// Names gives their names.
func Names() []string {
	var out []string
	for _, k := range Kinds {
		out = append(out, k.Name)
	}
	return out
}

// ByName gives the kind with a name, or nil.
func ByName(name string) *bus.Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}
