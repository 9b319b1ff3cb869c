package tui

import (
	"context"
	"flag"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/session"
)

var (
	stormKeys = flag.Int("storm", 1500, "keys of the random-key test")
	stormSeed = flag.Uint64("storm-seed", ownSeed(), "its seed")
)

// ownSeed is that of the property tests, or where these have none another at each run.
func ownSeed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("RAPID_SEED"), 10, 64); err == nil && n != 0 {
		return n
	}
	return uint64(time.Now().UnixNano())
}

// probeMsg asks the program for something between two messages.
type probeMsg func(a *App)

// probed is an app that answers probes.
type probed struct{ *App }

func (p probed) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	if f, ok := m.(probeMsg); ok {
		f(p.App)
		return p, nil
	}
	_, cmd := p.App.Update(m)
	return p, cmd
}

// TestStorm presses random keys, gives random commands, clicks and changes the size
// while a session runs: in all views, on all links. Nothing panics or races, each
// frame has the size of the screen, and memory and goroutines stay.
func TestStorm(t *testing.T) {
	t.Logf("seed %d", *stormSeed)
	rng := rand.New(rand.NewPCG(*stormSeed, 1))
	most := *stormKeys
	if testing.Short() {
		most /= 3 // the race detector makes all of it slow
	}
	t.Chdir(t.TempDir())
	b := demoBench(t)
	s := session.Open(b)
	defer s.Close()
	a := newApp(b, filepath.Join(t.TempDir(), "lock7.yaml"), s, s.Store())
	a.paced = true
	p := tea.NewProgram(probed{a}, tea.WithInput(nil), tea.WithOutput(io.Discard), tea.WithoutSignals(), tea.WithoutCatchPanics(), tea.WithWindowSize(160, 47))
	ended := make(chan error, 1)
	go func() {
		_, err := p.Run()
		ended <- err
	}()
	probe := func(f func(a *App)) {
		done := make(chan struct{})
		p.Send(probeMsg(func(a *App) { defer close(done); f(a) }))
		<-done
	}
	var keys, names []string
	probe(func(a *App) {
		for v := range a.views {
			for i := range a.snap.Meta().Links {
				a.view, a.link = v, i
				for _, c := range a.allCommands() {
					keys = append(keys, c.Keys...)
					names = append(names, c.Name)
				}
			}
		}
	})
	slices.Sort(keys)
	keys = slices.DeleteFunc(slices.Compact(keys), func(k string) bool { return k == "q" || k == "W" })
	keys = append(keys, "esc", "esc", "enter", "x", "7", "é", "\t")
	slices.Sort(names)
	names = slices.DeleteFunc(slices.Compact(names), func(n string) bool { return n == "quit" || n == "draw-here" })
	arguments := []string{
		"", "", "mcu", "data", "hull", "lower-gauge", "pump-drive", "waves", "error", "SNAP\\n", "53 0A", "2A0 10 00", "start 3A ack 07 ack stop", "3C0 3C1",
		"out 6B", "links.lower-gauge.mcu.frame 8N1", "links.depth-strip.mcu.divider 8", "links.hull.pull-up 1 kΩ", "links.pump.mcu.rate 250 kBd", "links.gate", "0.1 s", "-1", "1e99", "x.svg", "y.pcapng", "\x1b[2J",
	}
	heap := func() (bytes uint64, routines int) {
		var out uint64
		// The screen itself takes memory by its size.
		p.Send(tea.WindowSizeMsg{Width: 160, Height: 47})
		probe(func(a *App) {
			// What the capture keeps grows with its time, up to its limit.
			kept := a.store.Memory()
			runtime.GC()
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			out = m.HeapAlloc - min(uint64(kept), m.HeapAlloc)
		})
		return out, runtime.NumGoroutine()
	}
	var early uint64
	var few int
	for n := range most {
		if n == most/4 {
			early, few = heap()
		}
		if n%1000 == 0 {
			probe(func(a *App) {
				t.Logf("%d keys; %d × %d, t = %s, %d kB kept", n, a.w, a.h, a.Now(), a.store.Memory()>>10)
			})
		}
		switch rng.IntN(40) {
		case 0:
			big := 1 + 4*(rng.IntN(5)/4) // one in five is larger than any screen
			p.Send(tea.WindowSizeMsg{Width: 1 + rng.IntN(100*big), Height: 1 + rng.IntN(40*big)})
		case 1:
			p.Send(tea.WindowSizeMsg{Width: 80 + rng.IntN(100), Height: 24 + rng.IntN(30)})
		case 2:
			p.Send(tea.MouseClickMsg{X: rng.IntN(200), Y: rng.IntN(60), Button: tea.MouseLeft})
		case 3:
			p.Send(tea.MouseWheelMsg{X: rng.IntN(200), Y: rng.IntN(60), Button: []tea.MouseButton{tea.MouseWheelUp, tea.MouseWheelDown}[rng.IntN(2)]})
		case 4, 5:
			text := strings.TrimSpace(names[rng.IntN(len(names))] + " " + arguments[rng.IntN(len(arguments))])
			typeCommand(p, text)
		default:
			p.Send(keyNamed(keys[rng.IntN(len(keys))]))
		}
		if n%20 == 0 {
			probe(func(a *App) {
				a.draw()
				require.Len(t, strings.Split(a.frame, "\n"), max(a.h, 1))
			})
		}
		select {
		case err := <-ended:
			t.Fatalf("it ended after %d keys: %v", n, err)
		default:
		}
	}
	late, many := heap()
	t.Logf("beside the capture %d kB, later %d kB; goroutines %d, later %d", early>>10, late>>10, few, many)
	// The renderer keeps two screens of the largest size that there was.
	require.Less(t, late, early+early/2+48<<20, "memory grows")
	require.Less(t, many, few+30, "goroutines are left after")
	probe(func(a *App) {
		if a.recorder != nil {
			_ = a.recorder.Close()
		}
		if a.cancel != nil {
			a.cancel()
		}
	})
	p.Quit()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	select {
	case err := <-ended:
		require.NoError(t, err)
	case <-ctx.Done():
		t.Fatal("it does not end")
	}
}

// typeCommand leaves what is open and types a command.
func typeCommand(p *tea.Program, text string) {
	p.Send(keyNamed("esc"))
	p.Send(keyNamed("esc"))
	p.Send(keyNamed(":"))
	for _, r := range text {
		p.Send(tea.KeyPressMsg{Text: string(r), Code: r})
	}
	p.Send(keyNamed("enter"))
}

// keyNamed is the inverse of the name of a key.
func keyNamed(name string) tea.KeyPressMsg {
	var mod tea.KeyMod
	for {
		before, rest, found := strings.Cut(name, "+")
		if !found || rest == "" || before == "" {
			break
		}
		mod |= map[string]tea.KeyMod{"ctrl": tea.ModCtrl, "shift": tea.ModShift, "alt": tea.ModAlt}[before]
		name = rest
	}
	if code, ok := map[string]rune{
		"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight,
		"pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd, "space": tea.KeySpace,
	}[name]; ok {
		return tea.KeyPressMsg{Code: code, Mod: mod}
	}
	m := tea.KeyPressMsg{Code: []rune(name)[0], Mod: mod}
	if mod == 0 {
		m.Text = name
	}
	return m
}
