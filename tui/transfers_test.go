package tui

import (
	"regexp"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/tui/ui"
)

// followed lets the view follow what came until its screen holds a text.
func (l *live) followed(text string) {
	l.t.Helper()
	for range 3000 {
		l.look()
		l.after(l.current().(ui.Ticker).Tick(l.App))
		l.draw()
		if strings.Contains(l.screen(), text) {
			return
		}
	}
	assert.Contains(l.t, l.screen(), text)
}

// A receive by the main loop loses bytes; by interrupt and by DMA it does not; a planted
// increment, a taken channel and a masked interrupt are seen, and fixed by key.
func TestTransfersByKeys(t *testing.T) {
	l := running(t)
	l.until(func(s *capture.Snapshot) bool { return s.Len() > 60 })
	l.says("link upper-gauge")
	l.typed("4")
	l.followed("● running")
	assert.Contains(t, l.screen(), "by DMA: at each request of serial1.receive channel 3 takes 8 bits")
	assert.Contains(t, l.screen(), "lost by the unit 0")

	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter}) // dma, then polled
	assert.Contains(t, l.screen(), "polled: every 1.00 ms the main loop")
	l.followed("▲ loses words")
	assert.Contains(t, l.screen(), "a word must be")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.screen(), "by interrupt: at 1 waiting the handler")
	l.followed("● running")
	assert.Contains(t, l.screen(), "lost by the unit 0")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	l.followed("● running")

	for _, c := range []struct{ slot, seen, label string }{
		{"memory-step no", "only the last word is kept", "memory-step: yes"},
		{"channel 4", "nothing moves", "channel: 3"},
		{"line off", "nobody is told", "line: on"},
	} {
		l.says("slot " + c.slot)
		l.followed(c.seen)
		assert.Contains(t, l.screen(), "f  "+c.label)
		l.typed("f")
		l.followed("● running")
		assert.NotContains(t, l.screen(), "seen:")
		assert.Contains(t, l.screen(), "lost in the ring 0")
	}
	// A channel that another link has: its owner is named, and a free one offered.
	l.says("link lower-gauge")
	l.says("slot method dma")
	l.says("slot channel 4")
	l.typed("n")
	l.says("slot channel 4")
	notes := strings.Join(strings.Fields(regexp.MustCompile("(?m)^.*╎").ReplaceAllString(l.screen(), "")), " ")
	assert.Contains(t, notes, "channel 4 is also that of lower-gauge.answers")
	l.typed("N")
	l.typed("o")
	assert.Contains(t, l.screen(), "▲ lower-gauge.answers,")
	l.typed("o")
	l.typed("m")
	l.followed("greatest rate")
	assert.Contains(t, l.screen(), "dma (now)")
	l.typed("m")

	// Slots are typed, refused in words, and taken back.
	l.says("link upper-gauge")
	l.says("slot length many")
	assert.Contains(t, l.message, "whole number")
	l.says("slot lenght 8")
	assert.Contains(t, l.message, "did you mean length?")
	l.says("slot every 3 ms")
	assert.Contains(t, l.message, "no effect")
	l.typed("s")
	assert.Contains(t, l.screen(), "the next free place")
	l.typed("e")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
	l.typed("s")
	l.says("add more receive")
	require.NotNil(t, l.bench.Link("upper-gauge").Transfer("more"))
	l.says("add more receive")
	assert.Contains(t, l.message, "already")
}
