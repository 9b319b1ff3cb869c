package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/quantity"
)

// command types a command line.
func command(a *App, text string) {
	press(a, ":")
	for _, r := range text {
		press(a, string(r))
	}
	press(a, "enter")
}

// Each bus is worked on directly in its picture: every key edits the bench, and the
// numbers follow.
func TestBusesAreWorkedOnByKeys(t *testing.T) {
	a := shown(t, demoBench(t), 500*quantity.Millisecond)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press(a, "2")
	before := string(a.bench.Text())
	for _, c := range []struct {
		link string
		keys []string
		text string // in the bench
		seen []string
	}{
		{"gate", []string{"+"}, "divider: 16", []string{"÷ 16", "2.5 MHz", "153 ns"}},
		{"gate", []string{"n", "m"}, `mode: 1`, []string{"▸ valve-bank", "valve-bank: mode: MCU 1", "✗"}},
		{"gate", []string{">"}, "word: 9", []string{"word: MCU 9 bits"}},
		{"gate", []string{"O"}, "order: lsb", []string{"bit order"}},
		{"hull", []string{"+"}, "pull-up: 2.7 kΩ", []string{"2.7 kΩ, lines of 96 pF rise in 220 ns"}},
		{"hull", []string{"right"}, "low: 58", []string{"low 58, chosen"}},
		{"hull", []string{"<"}, "rate: 200 kBd", []string{"class fast"}},
		{"pump", []string{"left"}, "timing: 10, 1+12+3, 2", []string{"81.25 %"}},
		{"pump", []string{"-"}, "timing: ", []string{"chosen"}},
		{"winch", []string{"d", "right"}, "data-timing: 1, 1+30+9, 9", []string{"a bit of the data phase", "77.50 %"}},
	} {
		command(a, "link "+c.link)
		press(a, c.keys...)
		assert.Contains(t, string(a.bench.Text()), c.text, "%s %v", c.link, c.keys)
		for _, want := range c.seen {
			assert.Contains(t, screenText(a), want, "%s %v", c.link, c.keys)
		}
		for string(a.bench.Text()) != before {
			press(a, "u")
		}
		if c.link == "winch" {
			press(a, "d")
		}
		if c.link == "gate" && c.keys[0] == "n" {
			press(a, "n", "n")
		}
	}
	command(a, "link pump")
	press(a, "d")
	assert.Contains(t, screenText(a), "pump has no data phase of its own")
	// What can't be is refused, and nothing is changed.
	for range 12 {
		press(a, "right")
	}
	assert.Contains(t, screenText(a), "not changed")
}

// The start-up is taken apart by keys, and follows a dump that is pasted.
func TestStartupByKeys(t *testing.T) {
	a := shown(t, demoBench(t), 500*quantity.Millisecond)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press(a, "2", "s", "down", "down", "x")
	assert.Contains(t, string(a.bench.Text()), "startup: clock, port-clock, receive-pin, rate")
	assert.Contains(t, screenText(a), "✗ transmit pin")
	press(a, "x")
	assert.NotContains(t, string(a.bench.Text()), "startup:")
	press(a, "<", "<")
	assert.Contains(t, string(a.bench.Text()), "startup: transmit-pin, clock, port-clock")
	assert.Contains(t, screenText(a), "⇅ transmit pin")
	press(a, "f")
	assert.NotContains(t, screenText(a), "⇅")
	require.Contains(t, screenText(a), "✓ set up    ✓ enabled    ✓ started")

	a.Update(tea.PasteMsg{Content: "S1CTL 0741\rCLKON=10000008\n"})
	assert.Contains(t, screenText(a), "judged from the pasted dump, 2 lines")
	assert.Contains(t, screenText(a), "✗ unit on")
	press(a, "r")
	assert.Contains(t, screenText(a), "seen or typed: 0x0741")
	a.Update(tea.PasteMsg{Content: "\x1b[2Jnot a dump at all"})
	assert.Contains(t, screenText(a), "what was pasted is no dump of registers")
	assert.NotContains(t, a.frame, "\x1b[2J")
	command(a, "dump -")
	command(a, "value 0x1ffffffff")
	assert.Contains(t, screenText(a), "write a number of 32 bits")
	press(a, "down", "down", "down")
	command(a, "value 0x0783")
	command(a, "value")
	for _, link := range []string{"gate", "hull", "pump"} {
		command(a, "link "+link)
		assert.Contains(t, screenText(a), "REGISTERS  "+link)
	}
	assert.True(t, strings.Contains(screenText(a), "C1BIT"))
}
