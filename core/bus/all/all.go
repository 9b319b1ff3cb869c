// Package all lists the kinds of buses. A new bus is one more line here.
package all

import (
	"slices"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
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

// Undescribed is the kind of lines that nobody has described: they have levels,
// and no records. The roles are the lines' names.
func Undescribed(lines []string) *bus.Kind {
	k := &bus.Kind{Name: UndescribedName, Mark: "?"}
	for _, l := range lines {
		k.Lines = append(k.Lines, bus.Role{Name: l, Optional: true})
	}
	return k
}

// UndescribedName is the name of the kind that Undescribed gives.
const UndescribedName = "undescribed"

// Of gives the kind of a link in a capture on which lines play these roles; nil where
// it is not known.
func Of(name string, roles []string) *bus.Kind {
	if name == UndescribedName {
		return Undescribed(roles)
	}
	k := ByName(name)
	if k == nil || k.Roles == nil || len(roles) == 0 || sameRoles(k.Lines, roles) {
		return k
	}
	own := *k
	own.Lines = nil
	for _, r := range roles {
		line := bus.Role{Name: r, Optional: true, High: true}
		for _, l := range k.Lines {
			if l.Name == r {
				line = l
			}
		}
		own.Lines = append(own.Lines, line)
	}
	return &own
}

func sameRoles(lines []bus.Role, roles []string) bool {
	return slices.EqualFunc(lines, roles, func(l bus.Role, r string) bool { return l.Name == r })
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
