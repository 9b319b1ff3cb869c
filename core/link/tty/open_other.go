//go:build !linux

package tty

import (
	"errors"
	"fmt"
	"math"

	"go.bug.st/serial"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
)

// markKinds says which error marks the system's ports can tell.
const markKinds = "none on this operating system"

type port struct{ serial.Port }

func (port) counts() counts { return counts{} }

func open(cfg Config) (handle, []finding.Finding, error) {
	mode := &serial.Mode{BaudRate: int(math.Round(cfg.Rate.Bd())), DataBits: cfg.Frame.Data}
	switch cfg.Frame.Parity {
	case uart.Even:
		mode.Parity = serial.EvenParity
	case uart.Odd:
		mode.Parity = serial.OddParity
	case uart.Mark:
		mode.Parity = serial.MarkParity
	case uart.Space:
		mode.Parity = serial.SpaceParity
	}
	if cfg.Frame.Stop == 2 {
		mode.StopBits = serial.TwoStopBits
	}
	if cfg.Flow != "" && cfg.Flow != "none" {
		return nil, nil, &Problem{"flow-not-there", "flow control " + cfg.Flow + " can't be set on this operating system", "write `flow: none`"}
	}
	p, err := serial.Open(cfg.Path, mode)
	if err != nil {
		var pe *serial.PortError
		if errors.As(err, &pe) {
			switch pe.Code() {
			case serial.PortNotFound:
				return nil, nil, &Problem{"port-absent", cfg.Path + " is not there", "plug the adapter in; it is opened when it appears"}
			case serial.PortBusy:
				return nil, nil, &Problem{"port-busy", cfg.Path + " is held by another program", "close that program; the port is opened when it is free"}
			case serial.PermissionDenied:
				return nil, nil, &Problem{"port-not-permitted", "you may not open " + cfg.Path, "ask for access to it"}
			}
		}
		return nil, nil, &Problem{"port-unusable", fmt.Sprintf("%s can't be opened: %v", cfg.Path, err), ""}
	}
	findings := []finding.Finding{{
		Severity: finding.Note, Code: "errors-not-marked", Where: finding.Place{Link: cfg.Path},
		Seen: "this operating system does not mark parity and framing errors in what it delivers",
	}}
	for _, m := range []struct {
		want string
		set  func(bool) error
	}{{cfg.DTR, p.SetDTR}, {cfg.RTS, p.SetRTS}} {
		if m.want == "on" || m.want == "off" {
			if err := m.set(m.want == "on"); err != nil {
				p.Close()
				return nil, nil, &Problem{"modem-lines-not-set", fmt.Sprintf("%s: %v", cfg.Path, err), "write `leave`"}
			}
		}
	}
	return port{p}, findings, nil
}
