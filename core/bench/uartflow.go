package bench

import (
	"bytes"
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
)

// lintFlow finds flow control that does not work, and wires that it lacks.
func (l *UART) lintFlow() []finding.Finding {
	var out []finding.Finding
	add := func(sev finding.Severity, code, seen, why, change string, fixes ...finding.Fix) {
		where := l.node.Get("mcu", "flow").Place()
		if where.Line == 0 {
			where = l.node.Get("mcu").KeyPlace()
		}
		out = append(out, finding.Finding{Severity: sev, Code: code, Where: where, Seen: seen, Why: why, Change: change, Fixes: fixes})
	}
	set := func(label, value string, path ...string) finding.Fix {
		return finding.Fix{Label: label, Edits: []finding.Edit{{Path: l.path(path...), Value: value}}}
	}
	mcu, dev := l.MCU.Flow, l.DeviceEnd.Flow
	for _, d := range uart.CompareFlow(l.MCU, l.DeviceEnd.Settings, "MCU", l.Device.Name) {
		add(finding.Error, d.Code, d.What, strings.Join(d.Effects, "; "), "give both ends one flow control",
			set("MCU to "+dev.String(), dev.String(), "mcu", "flow"), set(l.Device.Name+" to "+mcu.String(), mcu.String(), "device", "flow"))
	}
	if (mcu == uart.Hardware || dev == uart.Hardware) && l.Wires != 4 {
		add(finding.Error, "ready-lines-missing", fmt.Sprintf("flow control rts-cts over %d wires: no ready line is connected", l.Wires),
			"an end that waits for the other's ready line sends nothing", "connect the ready lines, or send without flow control",
			set("4 wires", "4", "wires"), set("no flow control", "none", "mcu", "flow"))
	}
	if l.Wires == 4 && mcu != uart.Hardware && dev != uart.Hardware {
		add(finding.Note, "ready-lines-unused", "4 wires, but neither end uses the ready lines", "", "set `flow: rts-cts` at both ends, or write `wires: 2`")
	}
	if mcu == uart.Software && l.Ask != nil && bytes.ContainsAny(l.Ask.Text, "\x11\x13") {
		add(finding.Error, "flow-character-in-data", "the MCU sends 11 or 13 as data", "the other end takes them for XON and XOFF: 13 stops it until 11 comes", "use rts-cts, or escape these characters")
	}
	if mcu == uart.Software && l.Wires == 1 {
		add(finding.Error, "flow-on-one-wire", "flow control xon-xoff on one wire for both directions", "an end that listens can't say stop while the other sends", "send without flow control",
			set("no flow control", "none", "mcu", "flow"))
	}
	// On its way are the character that goes out, its own XOFF, and the one that the other
	// end has begun meanwhile.
	const onTheWay = 3
	if room := l.Unit.Depth - l.MCU.StopAt(l.Unit.Depth); mcu == uart.Software && room < onTheWay && !l.receives() {
		add(finding.Warning, "xoff-too-late", fmt.Sprintf("the MCU sends XOFF when %d of %d characters wait", l.MCU.StopAt(l.Unit.Depth), l.Unit.Depth),
			fmt.Sprintf("up to %d more come before the other end stops, and there is room for %d", onTheWay, room), fmt.Sprintf("use rts-cts, or a queue of %d and more", 2*onTheWay))
	}
	if l.Wires == 1 && !l.Biased {
		out = append(out, finding.Finding{Severity: finding.Error, Code: "shared-wire-floats", Where: l.node.Get("wires").Place(),
			Seen: "one wire serves both directions, and floats while neither end sends", Why: "a floating wire reads as anything: start bits that nobody sent",
			Change: "fit a resistor that pulls it high", Fixes: []finding.Fix{set("biased high", "biased", "open")}})
	}
	for _, x := range []struct {
		name string
		s    uart.Settings
		path string
	}{{"the MCU", l.MCU, "mcu"}, {l.Device.Name, l.DeviceEnd.Settings, "device"}} {
		if x.s.TurnRound > 0 && l.Wires != 1 {
			out = append(out, finding.Finding{Severity: finding.Note, Code: "turn-round-without-effect", Where: l.node.Get(x.path).KeyPlace(),
				Seen: "a turn-round time of " + x.name + ", but each direction has a wire of its own", Change: "remove it, or write `wires: 1`"})
		}
		if x.s.Stop > 0 && x.s.Flow == uart.NoFlow {
			out = append(out, finding.Finding{Severity: finding.Note, Code: "stop-at-without-effect", Where: l.node.Get(x.path).KeyPlace(),
				Seen: "`stop-at` of " + x.name + ", which has no flow control", Change: "remove it, or set `flow:`"})
		}
	}
	if l.Port != nil && l.Port.Flow != "" && l.Port.Flow != mcu.String() {
		add(finding.Warning, "port-flow-differs", fmt.Sprintf("the port's flow control is %s, the MCU's %s", l.Port.Flow, mcu), "on the port the link goes on otherwise than in the simulation", "remove `port.flow` to take the MCU's")
	}
	return out
}
