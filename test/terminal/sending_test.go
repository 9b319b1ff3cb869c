package terminal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Things are sent by themselves: so often, on a match, from a list; what can't be is refused.
func TestSendingByKeys(t *testing.T) {
	list := filepath.Join(t.TempDir(), "moves.txt")
	require.NoError(t, os.WriteFile(list, []byte("# twice\n0 ms pump 2A6 01\n5 ms lower-gauge SNAP\\n\n"), 0o600))
	s := start(t, 160, 47)
	s.text(binary + " demo\n")
	s.wait("upper-gauge", "TRAFFIC")
	s.keys("x")
	s.wait("nothing is being sent")
	command := func(line string) {
		s.keys(":")
		s.text(line)
		s.keys("Enter")
	}
	command("repeat 20 now SNAP\\n")
	s.wait("not sent", "is no time")
	command("repeat 20 50ms SNAP\\n")
	screen := s.wait("SENDING", "20 times every 50", "all done: 20 sent")
	assert.Regexp(t, "each on time|late by", screen, "which of both is for the machine to say")
	command("repeat 0 50ms SNAP\\n")
	s.wait("every 50", "x ends it")
	s.keys("x")
	s.wait("ended by you")
	command("when pump errors then 2A6 00")
	s.wait("write FILTER send IT")
	command("link pump")
	command("when lower-gauge answers send 2A6 0F")
	s.wait("x ends it", "2A6")
	command("send-file " + list)
	s.wait("moves.txt", "all done: 2 sent")
	command("send-file nowhere.txt")
	s.wait("ended: ", "no such file")
}
