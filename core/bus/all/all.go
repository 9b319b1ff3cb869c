// Package all lists the kinds of buses. A new bus is one more line here.
package all

import (
	"gavrix/core/bus"
	"gavrix/core/bus/uart"
)

// Kinds are the known kinds, in the order in which lists show them.
var Kinds = []*bus.Kind{
	uart.Kind,
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
