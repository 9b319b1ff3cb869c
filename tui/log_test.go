package tui

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/tui/ui"
)

// A log holds the dialogue of the link that is shown, and only that; a file that is there is
// left as it is.
func TestLog(t *testing.T) {
	l := running(t)
	t.Chdir(t.TempDir())
	l.says("traffic")
	l.says("link lower-gauge")
	assert.Contains(t, l.says("log"), "name a file")
	assert.Contains(t, l.says("end-log"), "nothing is logged")
	l.says("log talk.txt")
	from := l.store.Snapshot().Mark()
	l.says(`send TEMP\n`)
	answered := func(s *capture.Snapshot) bool {
		asked := false
		for _, i := range s.Since(from) {
			r := s.At(i)
			if r.Link != l.LinkIndex() || r.Kind != record.Chars || r.Seen == record.Tap {
				continue
			}
			asked = asked || r.From == record.MCU && strings.Contains(string(r.Data), "TEMP")
			if asked && r.From == record.Device {
				return true
			}
		}
		return false
	}
	l.until(answered)
	assert.Contains(t, l.says("log other.txt"), "talk.txt is being written")
	l.says("end-log")
	l.current().(ui.Closer).Close() // as on leaving
	assert.Contains(t, l.screen(), "LOG  lower-gauge to talk.txt  closed: ")
	raw, err := os.ReadFile("talk.txt")
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(raw)), "\n")
	assert.GreaterOrEqual(t, len(lines), 2)
	for _, line := range lines {
		assert.Contains(t, line, "lower-gauge ")
	}
	assert.Contains(t, string(raw), "54 45 4D 50 0A")
	assert.Contains(t, l.says("log talk.txt"), "nothing is logged")
	again, err := os.ReadFile("talk.txt")
	require.NoError(t, err)
	assert.Equal(t, raw, again)
}

// A message by its name, and an operation again and again, from Traffic.
func TestSendingByName(t *testing.T) {
	l := running(t)
	l.says("traffic")
	l.says("link pump")
	from := l.store.Snapshot().Mark()
	l.says("message pump-command mode = raise, wanted = 44 bar")
	l.until(func(s *capture.Snapshot) bool {
		for _, i := range s.Since(from) {
			if r := s.At(i); r.ID == 0x2a5 && string(r.Data) == "\x02\x2c" {
				return true
			}
		}
		return false
	})
	assert.Contains(t, l.says("message pump-status"), "not sent: the part sends pump-status")
	l.says("link gate")
	l.says("repeat 3 5ms do read leaf-angle.angle")
	assert.Contains(t, l.screen(), "all done: 3 sent")
}
