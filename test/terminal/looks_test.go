package terminal

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sequences are those that change how text looks.
var sequences = regexp.MustCompile(`\x1b\[([0-9;]*)m`)

// looks gives the screen with its sequences, and the numbers in them.
func (s *term) looks() (screen string, numbers []string) {
	screen = s.tmux("capture-pane", "-p", "-e")
	for _, m := range sequences.FindAllStringSubmatch(screen, -1) {
		numbers = append(numbers, m[1])
	}
	return screen, numbers
}

// open opens the demo in an environment and waits for its screen.
func open(t *testing.T, env string) *term {
	s := start(t, 160, 47)
	s.text("clear; " + env + " " + binary + " demo")
	s.keys("Enter")
	s.wait("Lock 7", "upper-gauge", "TRAFFIC")
	return s
}

// TestNoColour: without colours the row under the cursor is in reverse, headings are
// underlined, and nothing else than such marks is sent.
func TestNoColour(t *testing.T) {
	s := open(t, "NO_COLOR=1")
	screen, numbers := s.looks()
	assert.Regexp(t, `\x1b\[[0-9;]*7m[^\n]*upper-gauge`, screen, "the selected link")
	assert.Regexp(t, `\x1b\[[0-9;]*4m[^\n]*TRAFFIC`, screen, "the heading")
	for _, n := range numbers {
		for _, part := range strings.Split(n, ";") {
			assert.Contains(t, []string{"", "0", "1", "4", "7", "22", "24", "27", "39", "49"}, part, n)
		}
	}
	s.keys("q")
	s.clean()
}

// TestSixteenColours: only those are used, the row under the cursor is in reverse, and
// headings don't look like errors.
func TestSixteenColours(t *testing.T) {
	s := open(t, "env -u TMUX TERM=xterm COLORTERM=")
	screen, numbers := s.looks()
	assert.Regexp(t, `\x1b\[[0-9;]*7m[^\n]*upper-gauge`, screen)
	colours := map[string]bool{}
	for _, n := range numbers {
		assert.NotContains(t, n, "38;", "a colour beyond sixteen")
		assert.NotContains(t, n, "48;")
		for _, part := range strings.Split(n, ";") {
			if len(part) == 2 && (part[0] == '3' || part[0] == '9') {
				colours[part] = true
			}
		}
	}
	assert.Greater(t, len(colours), 3)
	head := regexp.MustCompile(`\x1b\[([0-9;]*)mTRAFFIC`).FindStringSubmatch(screen)
	require.NotNil(t, head)
	assert.NotContains(t, head[1], "91", "an error's colour")
	s.keys("q")
	s.clean()
}

// TestOnlyASCII: in a locale that is not of UTF-8 every view is drawn with signs of ASCII.
func TestOnlyASCII(t *testing.T) {
	s := open(t, "LC_ALL=C")
	for _, view := range []string{"2", "3", "5", "6"} {
		s.keys(view)
		screen := s.wait([]string{"TIMING", "REGISTERS", "TRAFFIC", "WAVES"}[strings.Index("2356", view)])
		for _, r := range screen {
			require.Less(t, r, rune(0x7f), "%q in view %s:\n%s", r, view, screen)
		}
	}
	s.keys("?")
	s.wait(":next-edge")
	s.keys("x", "q")
	s.clean()
}

// TestLightByPreference: what is preferred holds, and is changed on the screen at once.
func TestLightByPreference(t *testing.T) {
	s := start(t, 160, 47)
	s.text("clear; " + binary + " preferences theme light; COLORTERM=truecolor " + binary + " demo")
	s.keys("Enter")
	s.wait("Lock 7", "TRAFFIC")
	light, _ := s.looks()
	s.text(":prefer theme dark")
	s.keys("Enter")
	s.wait("theme: dark")
	dark, _ := s.looks()
	colour := regexp.MustCompile(`\x1b\[([0-9;]*)mTRAFFIC`)
	require.Regexp(t, colour, light)
	require.Regexp(t, colour, dark)
	assert.NotEqual(t, colour.FindStringSubmatch(light)[1], colour.FindStringSubmatch(dark)[1])
	s.text(":prefer keys.fix ctrl+f")
	s.keys("Enter")
	s.wait("keys.fix: ctrl+f")
	s.keys("C-f")
	s.wait("nothing here can be fixed by a key")
	s.text(":prefer theme loud")
	s.keys("Enter")
	s.wait("expected one of auto, dark, light")
	s.keys("q")
	s.clean()
}
