package terminal

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Something is noted about a line and found again, the time between lines of two links is
// read, the other views stand at the line that was chosen, and combs say what comes again.
func TestMomentsByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " demo\n")
	s.wait("upper-gauge", "TRAFFIC", "5.2")
	s.keys("a")
	s.wait("all links", "leaf-tilt.tilt read")
	s.keys("h", "Up", "Up", "m")
	s.wait("FROM A", "A is here")
	s.keys("Up", "Up", "Up")
	s.wait("began ", "ended ", "before")
	s.keys("*")
	s.text("the odd one")
	s.keys("Enter")
	s.wait("noted at", "note: the odd one")

	// Registers as they were then.
	s.keys("J", "J", "J", "J", "J", "3")
	s.wait("REGISTERS", "registers as at", "Ctrl+G now")
	s.keys("C-g")
	s.gone("registers as at")

	// It is found again from the present.
	s.keys("5", "End")
	s.wait("following")
	s.keys("h", "\"")
	s.wait("paused", "note: the odd one")
	s.keys("'")
	s.wait("no note further on any link")

	s.keys("End", "K", "K", "K", "a", "o")
	s.wait("WHAT COMES AGAIN", "1A5", "pump status", "10.0 ms", "[")
	s.keys("Enter")
	s.wait("FILTER", "identifier 0A5", "pump fault")
	s.keys("q", "q")
	s.clean()
}

// While traffic comes as fast as it can, the held list stays as it is, and nothing is lost.
func TestPauseUnderLoadByKeys(t *testing.T) {
	s := start(t, 160, 47)
	file := filepath.Join(t.TempDir(), "x.pcapng")
	s.text(binary + " demo --record " + file + "\n")
	s.wait("upper-gauge", "TRAFFIC", "5.2")
	s.keys("]", "]", "a")
	s.wait("×100", "all links")
	s.keys("h")
	lines := regexp.MustCompile(`(?m)╎ +[0-9.]+ [0-9]{3}  [UCSIP] .*$`)
	var held []string
	// Two looks that are alike: the picture may be on its way at the first.
	s.until(func(screen string) bool {
		was := held
		held = lines.FindAllString(screen, -1)
		return strings.Contains(screen, "paused") && len(held) > 0 && slices.Equal(was, held)
	}, "a list that is held")
	recorded := regexp.MustCompile(`recording, ([0-9]+)`)
	count := func(screen string) int {
		m := recorded.FindStringSubmatch(screen)
		if m == nil {
			return 0
		}
		n, _ := strconv.Atoi(m[1])
		return n
	}
	before := count(s.screen())
	screen := s.until(func(screen string) bool { return count(screen) > before+5000 }, "5000 records more")
	assert.Equal(t, held, lines.FindAllString(screen, -1))
	s.keys("End")
	s.wait("following")
	s.keys("q", "q")
	s.clean()
	n, err := readable(t, file)
	assert.NoError(t, err)
	assert.Greater(t, n, 0)
}

// What is waited for is answered by a command, and stops the time; mistakes are said.
func TestReactionsByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " demo\n")
	s.wait("upper-gauge", "TRAFFIC", "5.2")
	say := func(command string) {
		s.keys(":")
		s.text(command)
		s.keys("Enter")
	}
	say("on errors do nothing-such")
	s.wait(`there is no command "nothing-such"`)
	say("on leaf-tilt.tilt crosses 1.7 ° do note over")
	s.wait("from now on")
	say("on")
	s.wait("met")
	s.keys("J", "J", "J", "J", "J")
	s.wait("note: over")
	say("on off")
	s.wait("1 reaction ended")
	say("stop-at rises hull.nothing")
	s.wait("there is no line", "hull.clock")
	say("stop-at low over 1 us on hull.clock")
	s.wait("stopped at")
	s.keys("q", "q")
	s.clean()
}

// In a capture of more than a million records a page of what fits is there at once; the search
// through all of it is stopped by Esc, and its end is reached by one key.
func TestLargeCaptureByKeys(t *testing.T) {
	file := filepath.Join(t.TempDir(), "large.pcapng")
	make := exec.Command("go", "run", "gavrix.org/gavrix/bench/large", "-records", "1500000", "-file", file, "-step", "record")
	out, err := make.CombinedOutput()
	require.NoError(t, err, "%s", out)
	s := start(t, 160, 47)
	s.text(binary + " open " + file + "\n")
	s.wait("CAPTURE large.pcapng", "TRAFFIC")
	s.keys("a", "/")
	s.text("lower-gauge answers later than 1 ms")
	s.keys("Enter")
	s.wait("FILTER", "to go, Esc stops", "LEVEL read")
	s.keys("Escape")
	s.wait("not looked at")
	s.gone("to go, Esc stops")
	s.keys("Home")
	s.wait("paused")
	s.keys("q")
	s.clean()

	// Without its index it is read meanwhile.
	require.NoError(t, os.Remove(file+".index"))
	s.keys("Escape")
	s.text("clear; " + binary + " open " + file + "\n")
	s.wait("CAPTURE large.pcapng", "TRAFFIC", "read to")
	s.gone("read to")
	s.keys("q")
	s.clean()
	assert.FileExists(t, file+".index")
}
