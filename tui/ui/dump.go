package ui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/sim"
)

// Dump is what the MCU's registers were seen to hold, and where that comes from; nil Seen:
// nothing was seen.
type Dump struct {
	Seen   []register.Seen
	Source string
}

// LoadDump reads a dump of registers from a file, or takes that of the simulated MCU where
// name is ""; then, which may be nil, is called when there is one. "-" forgets it.
func LoadDump(h Host, name string, then func()) tea.Cmd {
	b := h.Bench()
	took := func(h Host, d Dump) {
		*h.Dump() = d
		if then != nil && d.Seen != nil {
			then()
		}
	}
	switch {
	case undescribed(b):
		h.Warn("the bench describes no registers; name a .csv table or a .svd below mcu.registers")
		return nil
	case name == "-":
		took(h, Dump{})
		return nil
	case name == "":
		took(h, Dump{sim.Dump(b), "the registers of the simulated MCU"})
		return nil
	}
	registers := b.MCU.Registers
	return func() tea.Msg {
		f, err := regular.Open(name)
		if err != nil {
			return Done(func(h Host) tea.Cmd {
				h.Warn("the dump can't be read: %v", err)
				return nil
			})
		}
		defer f.Close()
		seen, err := registers.ReadDump(f)
		return Done(func(h Host) tea.Cmd {
			if err != nil {
				h.Warn("%s: %v", name, err)
				return nil
			}
			took(h, Dump{seen, "the dump " + name})
			return nil
		})
	}
}

func undescribed(b *bench.Bench) bool { return b == nil || b.MCU.Registers == nil }

// PasteDump takes a pasted text as a dump of registers, and says whether it is one.
func PasteDump(h Host, text string) bool {
	b := h.Bench()
	if undescribed(b) {
		h.Warn("the bench describes no registers, so the pasted text can't be read as a dump")
		return false
	}
	seen, err := b.MCU.Registers.ReadDump(strings.NewReader(strings.ReplaceAll(text, "\r", "\n")))
	if err != nil || len(seen) == 0 {
		why := "no line has an address and a value"
		if err != nil {
			why = err.Error()
		}
		h.Warn("what was pasted is no dump of registers: %s", why)
		return false
	}
	lines := "1 line"
	if len(seen) != 1 {
		lines = fmt.Sprintf("%d lines", len(seen))
	}
	*h.Dump() = Dump{seen, "the pasted dump, " + lines}
	return true
}
