// Package startup knows the chain of steps that brings a peripheral to life, in
// the order in which they depend on each other, and judges it: from the list of
// steps that the firmware does, or from a dump of registers.
package startup

import "slices"

// Stage says how far a step brings a peripheral.
type Stage uint8

// The stages. They are three states: what is set up is not yet enabled, and what
// is enabled is not yet started.
const (
	SetUp Stage = iota
	Enabled
	Started
)

func (s Stage) String() string { return [...]string{"set up", "enabled", "started"}[s] }

// Role is what a step is for.
type Role struct {
	Name  string // as it is written in a bench: port-clock
	Title string // clock of the pins' port
	Stage Stage
	// Own: only units of those kinds of bus have it that name it among their steps
	// (bus.Kind.Steps).
	Own bool
	// After are the roles that must be done when this step is, or it has no
	// effect; NotAfter those that must not all be done yet.
	After, NotAfter []string
	// Methods are the ways to receive that want it; empty: all.
	Methods []string
	// Lack is what is seen where the step is missing.
	Lack string
	// Passing: a later step takes back what this one writes, so that it is not
	// seen in a dump.
	Passing bool
}

// The ways in which received words leave the peripheral.
const (
	Polled    = "polled"
	Interrupt = "interrupt"
	DMA       = "dma"
)

// Roles are all roles in the usual order of their steps.
var Roles = []*Role{
	{Name: "clock", Title: "clock of the unit", Lack: "the unit is dead and takes no writes: nothing is sent, nothing is received"},
	{Name: "port-clock", Title: "clock of the pins' port", Lack: "the pins stay inputs: nothing drives the MCU's line, and nothing comes in"},
	{Name: "transmit-pin", Title: "transmit pin", Own: true, After: []string{"port-clock"}, Lack: "nothing drives the MCU's line; receiving works"},
	{Name: "receive-pin", Title: "receive pin", Own: true, After: []string{"port-clock"}, Lack: "the unit receives nothing although there is traffic on the line; sending works"},
	{Name: "clock-pin", Title: "clock pin", Own: true, After: []string{"port-clock"}, Lack: "there is no clock on the bus, so no device answers"},
	{Name: "out-pin", Title: "data-out pin", Own: true, After: []string{"port-clock"}, Lack: "the devices hear no commands: what they read is the level of an open line"},
	{Name: "in-pin", Title: "data-in pin", Own: true, After: []string{"port-clock"}, Lack: "all words read are the same: all zeros or all ones"},
	{Name: "select-pin", Title: "select pin", Own: true, After: []string{"port-clock"}, Lack: "no device is selected: the answers are what an open line gives"},
	{Name: "data-pin", Title: "data pin", Own: true, After: []string{"port-clock"}, Lack: "the data line stays high: every address stays without acknowledge"},
	{Name: "configuration", Title: "enter configuration", Own: true, After: []string{"clock"}, Passing: true, Lack: "bit timing and filters take no writes: they stay as after reset"},
	{Name: "rate-fine", Title: "rate, second register", After: []string{"clock", "configuration"}, NotAfter: []string{"rate"}, Lack: "the rate is off by what this register adds"},
	{Name: "rate", Title: "rate", After: []string{"clock", "configuration"}, Lack: "bits have the length that the reset value gives: garbage at both ends, or silence"},
	{Name: "frame", Title: "frame settings", After: []string{"clock", "configuration"}, Lack: "frames are as after reset: wrong values, or error marks, at one end or both"},
	{Name: "filters", Title: "acceptance filters", Own: true, After: []string{"clock", "configuration"}, Lack: "frames are acknowledged but not stored"},
	{Name: "clear", Title: "old words and flags cleared", After: []string{"clock"}, NotAfter: []string{"interrupt-line", "receive-interrupt", "dma-clock", "dma-channel", "dma-request"}, Lack: "what was left over is handed to the first message"},
	{Name: "interrupt-line", Title: "line in the interrupt controller", Methods: []string{Interrupt}, Lack: "the handler never runs: the first word waits, overrun from the second one on"},
	{Name: "dma-clock", Title: "clock of the DMA unit", Methods: []string{DMA}, Lack: "the channel takes no writes, so nothing empties the receive register: overrun from the second word on"},
	{Name: "dma-channel", Title: "DMA channel", Methods: []string{DMA}, After: []string{"dma-clock"}, Lack: "nothing empties the receive register: the first word waits, overrun from the second one on"},
	{Name: "transmit-enable", Title: "transmitter on", Stage: Enabled, Own: true, After: []string{"clock"}, Lack: "nothing is sent: the line rests; receiving works"},
	{Name: "receive-enable", Title: "receiver on", Stage: Enabled, Own: true, After: []string{"clock"}, Lack: "nothing is received although there is traffic on the line; sending works"},
	{Name: "enable", Title: "unit on", Stage: Enabled, After: []string{"clock"}, Lack: "nothing is sent, nothing is received: the line rests"},
	{Name: "join", Title: "leave configuration", Stage: Enabled, Own: true, After: []string{"clock", "configuration"}, Lack: "the node stays off the bus: it sends nothing and acknowledges nothing"},
	{Name: "receive-interrupt", Title: "receive interrupt of the unit", Stage: Started, Methods: []string{Interrupt}, After: []string{"clock"}, Lack: "the handler never runs: the first word waits, overrun from the second one on"},
	{Name: "dma-request", Title: "DMA request of the unit", Stage: Started, Methods: []string{DMA}, After: []string{"clock", "dma-clock", "dma-channel"}, Lack: "the channel is never asked: the first word waits, overrun from the second one on"},
}

// RoleNamed gives the role with a name, or nil.
func RoleNamed(name string) *Role {
	for _, r := range Roles {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// Has says whether a unit whose kind names steps of its own has the role.
func (r *Role) Has(steps []string) bool { return !r.Own || slices.Contains(steps, r.Name) }

// Suits says whether such a unit has it when it receives by a method.
func (r *Role) Suits(steps []string, method string) bool {
	return r.Has(steps) && (len(r.Methods) == 0 || slices.Contains(r.Methods, method))
}
