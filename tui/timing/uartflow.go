package timing

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// wiring says how many wires there are and what keeps the ends from sending too much,
// where that is not the usual.
func wiring(a cells.Area, y int, l *bench.UART) int {
	if l.Wires == 2 && l.MCU.Flow == uart.NoFlow && l.DeviceEnd.Flow == uart.NoFlow {
		return y
	}
	a.Text(0, y, cells.Head, "WIRES")
	x := a.Text(nameAt, y, cells.Strong, fmt.Sprint(l.Wires))
	text := map[int]string{1: "for both directions", 2: "one each way", 4: "one each way, and a ready line of each end"}[l.Wires]
	end := func(name string, s uart.Settings, depth int) string {
		switch {
		case l.Wires == 1:
			return fmt.Sprintf("; %s releases the line after %s", name, s.TurnRound.Round(3))
		case s.Flow == uart.NoFlow:
			return fmt.Sprintf("; %s: no flow control", name)
		case depth == 0:
			return fmt.Sprintf("; %s: %s, never says stop", name, s.Flow)
		}
		return fmt.Sprintf("; %s: %s, says stop at %d of %d", name, s.Flow, s.StopAt(depth), depth)
	}
	text += end("MCU", l.MCU, l.Unit.Depth) + end(l.Device.Name, l.DeviceEnd.Settings, l.DeviceEnd.Holds)
	style := cells.Plain
	if l.MCU.Flow != l.DeviceEnd.Flow {
		style = cells.Bad
	}
	return a.Part(x+1, y, a.W-x-1, a.H-y).Paragraph(0, 0, style, text, 0) + y
}

// nextFlow goes to the next flow control of the end that the keys change.
func (v *View) nextFlow(h ui.Host, l *bench.UART) func(string) tea.Cmd {
	return func(word string) tea.Cmd {
		end, now := "mcu", l.MCU.Flow
		if v.editDevice {
			end, now = "device", l.DeviceEnd.Flow
		}
		next := (now + 1) % uart.Flows
		if word != "" {
			if next = uart.FlowNamed(word); next.String() != word {
				h.Warn("%q is no flow control: write none, rts-cts or xon-xoff", word)
				return nil
			}
		}
		h.Edit(finding.Edit{Path: []string{"links", l.Name, end, "flow"}, Value: next.String()})
		return nil
	}
}
