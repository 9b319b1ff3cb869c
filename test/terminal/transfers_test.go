package terminal

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// From a main loop that loses bytes to an interrupt and to DMA, and three planted mistakes
// found and fixed, in the real program.
func TestTransfersByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " demo\n")
	s.wait("upper-gauge", "TRAFFIC")
	s.keys("4")
	s.wait("by DMA: at each request of serial1.receive", "● running", "lost by the unit 0")
	s.keys("Enter")
	s.wait("polled: every 1.00 ms the main loop", "▲ loses words", "characters lost to overrun")
	s.keys("Enter")
	s.wait("by interrupt: at 1 waiting the handler", "● running", "lost by the unit 0")
	s.keys("Enter")
	s.wait("by DMA:", "● running", "lost by the unit 0   ")
	for _, c := range []struct{ slot, seen, fix string }{
		{"memory-step no", "only the last word is kept", "memory-step: yes"},
		{"channel 4", "nothing moves", "channel: 3"},
		{"line off", "nobody is told", "line: on"},
	} {
		s.keys(":")
		s.text("slot " + c.slot)
		s.keys("Enter")
		s.wait(c.seen, "f  "+c.fix)
		s.keys("f")
		s.gone(c.seen)
		s.wait("● running", "lost in the ring 0")
	}
	s.keys("m")
	s.wait("greatest rate", "dma (now)")
	s.keys("m", "o")
	s.wait("CHANNELS", "upper-gauge.readings")
	s.keys("o", "b")
	screen := s.wait("BUFFER", "TAKEN")
	assert.Contains(t, screen, "position")
	s.keys("q", "q")
	s.clean()
}
