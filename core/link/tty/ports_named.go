//go:build darwin && !cgo

package tty

import (
	"fmt"

	"go.bug.st/serial"
)

// PortsLack says what the list of ports can't tell in this build; "" for nothing.
const PortsLack = "this build can't tell which adapter is behind a port; one built on the machine itself can"

// Ports lists the ports that are there now.
func Ports() ([]Found, error) {
	list, err := serial.GetPortsList()
	if err != nil {
		return nil, fmt.Errorf("the ports can't be listed: %w", err)
	}
	var out []Found
	for _, p := range list {
		out = append(out, Found{Path: p})
	}
	return out, nil
}
