package terminal

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A filter is typed live, with a mistake on the way; a match is gone to; a set-point is stepped
// and its answer seen; the list of values shows what was set.
func TestValuesByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " demo\n")
	s.wait("upper-gauge", "TRAFFIC")
	s.keys("J", "J")
	s.keys("/")
	s.text("pump-status.presure ch")
	s.wait("did you mean")
	s.keys("C-u")
	s.text("pump-status.pressure ch")
	s.wait("may be: changes")
	s.keys("Tab", "Enter")
	s.wait("FILTER", "pump-status.pressure changes", "pressure 118.1 bar")
	screen := s.wait("v shows the rest too")
	assert.NotContains(t, screen, "pump command")
	s.keys("v", "N")
	s.wait("pump command", "paused")
	s.keys("/", "C-u")
	s.text("identifier 7FF")
	s.keys("Enter", "v")
	s.wait("identifier 7FF 0", "Nothing fits the filter so far")
	s.keys(":")
	s.text("no-filter")
	s.keys("Enter")
	s.gone("FILTER")

	s.keys("7")
	s.wait("PLOTS", "pump-drive.pump-status.pressure", "effective bits")
	s.keys(":")
	s.text("plot pump-command.wanted+pump-status.aim")
	s.keys("Enter")
	s.wait("pump-drive.wanted  90 bar", "pump-status.aim  90 bar")
	s.keys(">")
	s.wait("pump-drive.wanted  91 bar", "pump-status.aim  91 bar", "1 of 1 followed, lag")
	s.keys("e")
	s.text("500 bar")
	s.keys("Enter")
	s.wait("pump-drive.wanted  180 bar", "pump-status.aim  180 bar", "2 of 2 followed, lag")
	s.keys(">")
	s.wait("nothing is sent")
	s.keys("l")
	s.wait("value", "changed", "age", "pump-drive.wanted")
	s.keys("l", "x")
	s.wait("against", "one against the other")
	s.keys("x", "g")
	s.wait("how often", "samples")
	s.keys("g", "z")
	assert.Regexp(t, regexp.MustCompile(`held, [0-9.]+ s across`), s.wait("held"))
	s.keys("q", "q")
	s.clean()
}
