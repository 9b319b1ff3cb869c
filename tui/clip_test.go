package tui

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/demo"
)

// cut matches what may end early: rows of bytes, which unfold, labels in a picture, which
// zooming shows, and names.
var cut = regexp.MustCompile(`[0-9A-F]{1,3} ?…|│ .*(written|read) .*…|╎[^╎]*…|[a-z]+-of[a-z -]*…|(gate|upper-gauge|drive)[a-z -]*…|bytes  .*…`)

// TestNothingIsClipped: at each size no sentence ends early in any view of any link, with the
// demo and with names as long as they may be; what is longer than the view says so.
func TestNothingIsClipped(t *testing.T) {
	raced(t)
	long, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	files := fstest.MapFS{}
	entries, err := demo.Files.ReadDir("devices")
	require.NoError(t, err)
	for _, e := range entries {
		text, err := demo.Files.ReadFile("devices/" + e.Name())
		require.NoError(t, err)
		files["devices/"+e.Name()] = &fstest.MapFile{Data: text}
	}
	table, err := demo.Files.ReadFile("marlow40.csv")
	require.NoError(t, err)
	files["marlow40.csv"] = &fstest.MapFile{Data: table}
	text := string(long)
	for _, name := range []string{"upper-gauge", "lower-gauge", "leaf-angle", "valve-bank", "hull", "winch-drive"} {
		text = regexp.MustCompile(`\b`+name+`\b`).ReplaceAllString(text, name+"-of-the-lower-gate")
		text = strings.ReplaceAll(text, "devices/"+name+"-of-the-lower-gate.yaml", "devices/"+name+".yaml")
	}
	named, faults := bench.Parse(files, "b.yaml", []byte(text))
	require.Empty(t, faults)
	for which, l := range map[string]*live{"demo": running(t), "long names": runningOn(t, named)} {
		l.until(func(s *capture.Snapshot) bool { return s.Len() > 60 })
		for _, size := range [][2]int{{160, 47}, {100, 30}, {80, 24}} {
			l.put(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			for _, link := range l.linkNames("") {
				l.says("link " + link)
				for _, v := range []string{"2", "3", "4", "5", "6", "7"} {
					l.typed(v)
					for line := range strings.Lines(l.screen()) {
						if size[0] > midFrom {
							_, line, _ = strings.Cut(line, "╎") // without the list of links
						}
						if strings.Contains(line, "…") && !cut.MatchString(line) {
							assert.Fail(t, "clipped", "%s %v %s, view %s: %s", which, size, link, v, line)
						}
					}
				}
			}
		}
	}
}

// TestHelpIsWhole: no line of any view's help ends early, at any size.
func TestHelpIsWhole(t *testing.T) {
	raced(t)
	l := running(t)
	for _, size := range [][2]int{{160, 47}, {100, 30}, {80, 24}} {
		l.put(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for _, v := range []string{"2", "3", "4", "5", "6", "7"} {
			l.typed(v)
			l.typed("?")
			for range 12 {
				for line := range strings.Lines(l.screen()) {
					assert.NotContains(t, line, "…", "%v view %s", size, v)
				}
				l.hit(tea.KeyPressMsg{Code: tea.KeyPgDown})
			}
			l.typed("x")
		}
	}
}

// TestMain keeps the preferences of whoever runs the tests apart from them.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "gavrix-settings")
	if err == nil {
		err = os.Setenv("XDG_CONFIG_HOME", dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}
