//go:build !darwin || cgo

package tty

import (
	"fmt"

	"go.bug.st/serial/enumerator"
)

// PortsLack says what the list of ports can't tell in this build; "" for nothing.
const PortsLack = ""

// Ports lists the ports that are there now.
func Ports() ([]Found, error) {
	list, err := enumerator.GetDetailedPortsList()
	if err != nil {
		return nil, fmt.Errorf("the ports can't be listed: %w", err)
	}
	var out []Found
	for _, p := range list {
		f := Found{Path: p.Name, Serial: p.SerialNumber, What: p.Product}
		if f.What == "" && p.IsUSB {
			f.What = fmt.Sprintf("USB adapter %s:%s", p.VID, p.PID)
		}
		out = append(out, f)
	}
	return out, nil
}
