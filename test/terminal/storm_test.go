package terminal

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	stormKeys = flag.Int("keys", 300, "random keys in a real terminal, at each speed")
	stormSeed = flag.Uint64("keys-seed", 1, "their seed")
	stormRace = flag.Bool("race-detector", false, "build the program of the random keys with the race detector")
)

// pool are the keys that are pressed; those that leave the program are not among them,
// nor is the letter without which no command does.
var pool = append(strings.Split("a b c d e f g h i j k l m n o p r s t u v w x y z A B C D E F G H I J K L M N O P R S T U V W X Y Z 0 1 2 3 4 5 6 7 8 9 + - * / < > = ? : . , [ ] { } ( ) | & % $ # @ ! _ ^ ~", " "),
	"Space", "Up", "Down", "Left", "Right", "PageUp", "PageDown", "Home", "End", "Enter", "Enter", "Escape", "Escape", "Tab", "BTab", "BSpace", "DC", "F1", "F5", "M-d", "M-b", "C-a", "C-e", "C-k", "C-u", "C-w", "C-y", "C-r", "C-l", "S-Up", "S-Down")

// TestRandomKeys presses random keys in a real terminal, with resizes, at three speeds:
// the program stays, answers, and leaves the terminal as it was.
func TestRandomKeys(t *testing.T) {
	program := binary
	if *stormRace {
		program = filepath.Join(t.TempDir(), "gavrix")
		out, err := exec.Command("go", "build", "-race", "-o", program, "gavrix.org/gavrix/cmd/gavrix").CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	for faster, speed := range []string{"×1", "×100", "×10 000"} {
		t.Run(speed, func(t *testing.T) {
			t.Logf("seed %d", *stormSeed)
			rng := rand.New(rand.NewPCG(*stormSeed, 2))
			s := start(t, 120, 40)
			if *stormRace {
				s.limit = 5 * time.Minute // the detector makes a picture many times slower
			}
			dir := t.TempDir()
			races := filepath.Join(dir, "races")
			s.text(fmt.Sprintf("cd %s && GORACE='log_path=%s' %s demo", dir, races, program))
			s.keys("Enter")
			s.wait("Lock 7", "LINKS")
			for range 2 * faster {
				s.keys("]")
			}
			s.wait("▶ " + speed)
			pid := pidOf(s, program)
			// What is typed into the entry line stands on the screen: all keys before it are
			// done. Escape needs a moment of its own, or it makes one key with what follows.
			answers := func(n int) {
				began := time.Now()
				s.tmux("resize-window", "-x", "120", "-y", "40")
				// A program that is behind is given longer each time.
				text, turn, patience := fmt.Sprintf(":zz%dzz", n), 0, 40
				s.until(func(screen string) bool {
					if strings.Contains(screen, text) {
						return true
					}
					switch turn++; turn {
					case 1, 6, 11, 16:
						s.keys("Escape")
					case 21:
						s.text(text)
					case patience:
						turn, patience = 0, 2*patience
					}
					return false
				}, "an answer to %d keys", n)
				s.keys("Escape")
				s.gone(text)
				t.Logf("%d keys, answered after %s, %s", n, time.Since(began).Round(time.Millisecond), memory(pid))
			}
			for n := 0; n < *stormKeys; n += 20 {
				var keys []string
				for range 20 {
					keys = append(keys, pool[rng.IntN(len(pool))])
				}
				s.tmux(append([]string{"send-keys", "--"}, keys...)...)
				if rng.IntN(10) == 0 {
					s.tmux("resize-window", "-x", fmt.Sprint(2+rng.IntN(250)), "-y", fmt.Sprint(2+rng.IntN(100)))
				}
				if n%1000 == 980 || n+20 >= *stormKeys {
					answers(n + 20)
				}
			}
			s.text(":quit")
			s.keys("Enter")
			s.until(func(screen string) bool {
				if strings.HasSuffix(strings.TrimSpace(screen), "ready$") {
					return true
				}
				s.keys("C-c") // edits that are asked about
				return false
			}, "the prompt")
			s.clean()
			found, _ := filepath.Glob(races + "*")
			for _, f := range found {
				text, _ := os.ReadFile(f)
				t.Errorf("%s", text)
			}
		})
	}
}

// memory gives what a process holds.
func memory(pid string) string {
	status, _ := os.ReadFile("/proc/" + pid + "/status")
	return strings.Join(strings.Fields(regexp.MustCompile(`(?m)^VmRSS:.*$`).FindString(string(status))), " ")
}
