package tui

import (
	"os"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
)

// TestPaste: what is pasted comes into the line that is typed; several lines into the sending
// line go out one after the other, each with its line end, and so do those of a file.
func TestPaste(t *testing.T) {
	l := running(t)
	l.says("link lower-gauge")
	l.typed("5")
	l.typed(":")
	l.put(tea.PasteMsg{Content: "traffic\n"})
	assert.Equal(t, "traffic", l.command.Text())
	l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})

	sent := func(s *capture.Snapshot) (all string) {
		for i := range s.Len() {
			if r := s.At(i); r.Link == l.LinkIndex() && r.From == record.MCU && r.Seen == record.Tap {
				all += string(r.Data)
			}
		}
		return all
	}
	l.typed("i")
	l.put(tea.PasteMsg{Content: "TEM"})
	assert.Contains(t, l.screen(), "MCU sends TEM")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
	l.typed("i")
	l.put(tea.PasteMsg{Content: "TEMP\r\nFLOOD\r\nTEMP\r\n"})
	l.until(func(s *capture.Snapshot) bool {
		all := sent(s)
		return len(all) >= 16 && all[len(all)-16:] == "TEMP\nFLOOD\nTEMP\n"
	})
	l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})

	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("setup.txt", []byte("TEMP\nTEMP\nTEMP"), 0o600))
	assert.Contains(t, l.says("pace nothing"), "1 us to 100 s")
	l.says("pace 30 ms")
	l.says("send-lines setup.txt")
	l.until(func(s *capture.Snapshot) bool {
		all := sent(s)
		return len(all) >= 15 && all[len(all)-15:] == "TEMP\nTEMP\nTEMP\n"
	})
	assert.Contains(t, l.says("send-lines none.txt"), "not sent")
	l.says("link gate")
	assert.Contains(t, l.says("send-lines setup.txt"), "not sent")
}
