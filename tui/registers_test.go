package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/quantity"
)

func (l *live) screen() string {
	l.look()
	l.draw()
	return screenTextAfter(l.App)
}

// rowOf moves the cursor to a register or field.
func (l *live) rowOf(name string) {
	for range 40 {
		l.hit(tea.KeyPressMsg{Code: tea.KeyUp})
	}
	for range 40 {
		if strings.Contains(markedLine(l.screen()), " "+name+" ") {
			return
		}
		l.hit(tea.KeyPressMsg{Code: tea.KeyDown})
	}
	l.t.Fatalf("no row %s on\n%s", name, l.screen())
}

// markedLine gives the row of the list that the cursor is on.
func markedLine(screen string) string {
	for line := range strings.Lines(screen) {
		for column := range strings.SplitSeq(line, "╎") {
			if strings.Contains(column, "▸") {
				return column
			}
		}
	}
	return ""
}

// TestRegistersByKeys: a part is proved, a field of it changed and read back, in the view,
// by keys; a wrong mode is seen and mended.
func TestRegistersByKeys(t *testing.T) {
	l := running(t)
	l.says("link gate")
	l.until(func(s *capture.Snapshot) bool { return s.Now > 20*quantity.Millisecond })
	l.typed("3")
	assert.Contains(t, l.screen(), "REGISTERS  gate  leaf-angle  part 1 of 3")
	l.typed("p")
	assert.Contains(t, l.screen(), "leaf-angle is what its file describes: ID holds 0xA6")
	assert.Contains(t, l.screen(), "identity proved")

	l.says("set links.gate.devices.leaf-angle.mcu.mode 0")
	l.typed("p")
	assert.Contains(t, l.screen(), "prove leaf-angle: fault")
	require.True(t, l.bench.Undo())
	l.applied("")
	// What the encoder made of words in the wrong mode may have written its registers.
	l.says("power-off leaf-angle")
	l.says("power-on leaf-angle")
	on := l.session.Now()
	l.until(func(s *capture.Snapshot) bool { return s.Now > on+50*quantity.Millisecond })
	l.typed("p")
	assert.Contains(t, l.screen(), "ID holds 0xA6")

	l.typed("R")
	l.rowOf("AVERAGE")
	assert.Contains(t, markedLine(l.screen()), "16 readings")
	l.typed("m")
	l.typed("e")
	require.True(t, l.current().Typing())
	assert.Contains(t, l.screen(), "none, 4 readings, 16 readings, 64 readings")
	l.typed("fast")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.message, `"fast" is no value; known are none`)
	for range 4 {
		l.hit(tea.KeyPressMsg{Code: tea.KeyBackspace})
	}
	l.typed("4 readings")
	assert.Contains(t, l.screen(), "4 readings, bits 0x1")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	require.False(t, l.current().Typing())
	assert.Contains(t, l.screen(), "staged  leaf-angle.MODE.AVERAGE 4 readings   MODE 0x02 → 0x01")
	assert.Contains(t, l.screen(), "to be written: 0x01")
	l.typed("x")
	screen := l.screen()
	assert.Contains(t, screen, "MODE: before 0x02, wrote 0x01, after 0x01, changed bits 1:0")
	assert.Contains(t, screen, "0x01 ≠ 0x02")
	assert.NotContains(t, screen, "staged")

	// Several at once, one taken back; what is written to another part goes with them.
	assert.Contains(t, l.says("write leaf-angle.zero 3 °"), "staged")
	assert.Contains(t, l.says("write trim.POSITION 50 %"), "staged")
	assert.Contains(t, l.says("write MODE 0x04"), "staged")
	l.typed("X")
	l.typed("x")
	assert.Contains(t, l.screen(), "POSITION can't be read back: nothing proves that it arrived")
	l.typed("x")
	assert.Contains(t, l.message, "nothing is staged")

	// Without supply it is silent, whatever it was.
	l.says("power-off leaf-angle")
	l.typed("p")
	assert.Contains(t, l.screen(), "nobody drives the line while ID should come back")
	assert.Equal(t, ledger.Silent, l.Ledger().Part(l.LinkIndex(), 0).Presence())

	// The other parts, and other links.
	l.typed("n")
	assert.Contains(t, l.screen(), "valve-bank  part 2 of 3")
	l.says("link hull")
	assert.Contains(t, l.screen(), "leaf-tilt  part 1 of 3")
	assert.Empty(t, l.says("do leaf-tilt.measure"))
	assert.Contains(t, l.screen(), "measure is over after")
	l.rowOf("tilt")
	assert.Contains(t, l.says("watch 50 ms"), "is read every 50 ms")
	assert.Contains(t, l.says("watch 1 ms"), "at least 10 ms")
	assert.Contains(t, l.says("watch"), "tilt is not watched any more")
	assert.Contains(t, l.says("watch 50 ms"), "is read every 50 ms")
	l.rowOf("STATUS")
	assert.Contains(t, l.says("watch 80 ms"), "STATUS is read every 80 ms")
	assert.Equal(t, 2, strings.Count(l.screen(), "◦"))
	l.rowOf("ID")
	assert.Contains(t, l.says("watch"), "nothing is watched")
	l.typed("N")
	assert.Contains(t, l.screen(), "REGISTERS  hull  Marlow 40  values to write")
	assert.Contains(t, l.screen(), "I1CTL")
	l.typed("N")
	assert.Contains(t, l.screen(), "log-memory  part 3 of 3")
	l.hit(tea.KeyPressMsg{Code: tea.KeyDown})
	l.typed("e")
	l.typed("01 02 03 0")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.message, "write bytes in hex")
	l.typed("4")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	l.typed("x")
	assert.Contains(t, l.screen(), "4 bytes in 1 page written and read back")
	l.typed("r")
	assert.Contains(t, l.screen(), "0010  01 02 03 04 FF FF")
	assert.Contains(t, l.screen(), "written 1×")
	l.typed("m")
	assert.Regexp(t, "[0-9]+ bytes of log-memory are remembered", l.message)
	l.says("do write log-memory 0x0012 33")
	assert.Contains(t, l.screen(), "1 byte ≠ what was remembered, from 0x0012 on")
	assert.Contains(t, l.screen(), "header 0x0000 never written")
	l.says("do write log-memory.header default")
	assert.Contains(t, l.screen(), "header 0x0000 written")
	l.says("do write log-memory.header 00")
	assert.Contains(t, l.screen(), "header 0x0000 damaged")
	l.says("link upper-gauge")
	assert.Contains(t, l.screen(), "no part")
	assert.Contains(t, l.screen(), "REGISTERS  upper-gauge  Marlow 40")
	assert.Contains(t, l.screen(), "S1CTL")
	l.says("link pump")
	assert.Contains(t, l.screen(), "pump-drive")
}

// TestOperationsWaitTheirTurn: what is asked for while an operation is on its way is done
// behind it, in order.
func TestOperationsWaitTheirTurn(t *testing.T) {
	l := running(t)
	l.says("link gate")
	l.typed("3")
	first := l.runCommand("prove")
	for range 3 {
		assert.Nil(t, l.runCommand("do read leaf-angle.MODE"))
		assert.Contains(t, l.message, "queued after what is on its way")
	}
	assert.Contains(t, l.screen(), "on its way; Esc stops it; 3 more wait")
	l.after(first)
	assert.NotContains(t, l.screen(), "Esc stops it")
	var asked []byte
	snap := l.Snapshot()
	for i := range snap.Len() {
		if r := snap.At(i); r.Link == l.LinkIndex() && len(r.Data) == 3 {
			asked = append(asked, r.Data[0])
		}
	}
	assert.Equal(t, []byte{0x01, 0x21, 0x21, 0x21}, asked, "ID, and MODE three times")
	l.runCommand("prove")
	for range 30 {
		l.runCommand("prove")
	}
	assert.Contains(t, l.message, "20 operations wait already")
}
