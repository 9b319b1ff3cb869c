package tui

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/core/sim"
)

// live is an app over a running session; what its commands yield is put in at once.
type live struct {
	*App
	t *testing.T
}

func running(t *testing.T) *live { return runningOn(t, demoBench(t)) }

// runningOn is the shell over a bench.
func runningOn(t *testing.T, b *bench.Bench) *live {
	s := session.Open(b)
	t.Cleanup(s.Close)
	a := newApp(b, "", s, s.Store())
	t.Cleanup(func() {
		if a.recorder != nil {
			_ = a.recorder.Close()
		}
	})
	l := &live{a, t}
	l.put(tea.WindowSizeMsg{Width: 160, Height: 47})
	return l
}

func (l *live) put(m tea.Msg) {
	l.after(l.App.second(m))
}

// second is Update without the model.
func (a *App) second(m tea.Msg) tea.Cmd {
	_, cmd := a.Update(m)
	return cmd
}

func (l *live) after(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch m := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range m {
			l.after(c)
		}
	default:
		l.put(m)
	}
}

// says runs a command as it is typed, and gives the message below.
func (l *live) says(command string) string {
	l.message = ""
	l.after(l.runCommand(command))
	return l.message
}

// until waits for something in the capture.
func (l *live) until(cond func(*capture.Snapshot) bool) {
	l.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(l.t, l.session.Wait(ctx, quantity.Forever, cond))
}

// stopped waits until time stands.
func (l *live) stopped() {
	l.t.Helper()
	require.Eventually(l.t, func() bool { return !l.session.World.Pace().Running }, 20*time.Second, time.Millisecond)
}

// inputs gives what was put into the world.
func (l *live) inputs() []string {
	in, err := sim.Inputs(l.store.Snapshot())
	require.NoError(l.t, err)
	var out []string
	for _, i := range in {
		out = append(out, i.Link+" "+link.Text(i.Intent))
	}
	return out
}

// TestWhatIsAskedOfLinks: every intent by its command, on a link of every kind; those
// that a link can't take are refused with the reason.
func TestWhatIsAskedOfLinks(t *testing.T) {
	l := running(t)
	for _, c := range []struct{ link, command, says, input string }{
		{"lower-gauge", "cut mcu", "done", "lower-gauge cut on mcu"},
		{"lower-gauge", "reconnect mcu", "done", "lower-gauge cut off mcu"},
		{"lower-gauge", "power-off lower-gauge", "done", "lower-gauge power off lower-gauge"},
		{"lower-gauge", "power-on lower-gauge", "done", "lower-gauge power on lower-gauge"},
		{"lower-gauge", "hold-line mcu", "none can be held", ""},
		{"pump", "transact 2A0 10 00", "acknowledged", "pump transact 2A0 10 00"},
		{"pump", "cut mcu", "share one pair", ""},
		{"hull", "transact start 3A ack 07 ack stop", "", "hull transact start 3A ack 07 ack stop"},
		{"hull", "hold-line data", "done", "hull hold on data"},
		{"hull", "release-line data", "done", "hull hold off data"},
		{"hull", "hold-line nothing", "there are clock and data", ""},
		{"hull", "power-off nobody", "no device on it", ""},
		{"depth-strip", "transact 3C0 3C1", "sent", "depth-strip transact 3C0 3C1"},
		{"depth-strip", "cut mcu", "done", "depth-strip cut on mcu"},
		{"gate", "cut mcu", "there are clock, out, in", ""},
		{"gate", "cut in", "done", "gate cut on in"},
		{"gate", "hold-line in", "done", "gate hold on in"},
		{"gate", "power-off trim", "done", "gate power off trim"},
		{"gate", "transact 6B", "out 6B", "gate transact 6B"},
		{"pump", "cut", "write whose wire", ""},
		{"pump", "transact", "2A", ""},
	} {
		before := len(l.inputs())
		require.Empty(t, l.says("link "+c.link))
		said := l.says(c.command)
		assert.Contains(t, said, c.says, "%s: %s", c.link, c.command)
		in := l.inputs()
		if c.input == "" {
			assert.Len(t, in, before, "%s: %s was refused", c.link, c.command)
		} else {
			require.Len(t, in, before+1, "%s: %s says %q", c.link, c.command, said)
			assert.Equal(t, c.input, in[before])
		}
	}
}

func TestTimeStopsWhereItIsToldTo(t *testing.T) {
	l := running(t)
	l.says("faster")
	assert.Contains(t, screenTextAfter(l.App), "×10")
	for _, bad := range []string{"", "fast", "0", "-3", "NaN", "1e9"} {
		assert.Contains(t, l.says("speed "+bad), "as speed 20")
	}
	l.says("speed 2.5")
	assert.Contains(t, screenTextAfter(l.App), "×2.5")
	assert.Contains(t, l.says("stop-at xyzzy\\q"), "stop-at")
	assert.Contains(t, l.says("stop-at 3."), "time stops at 3.")
	l.stopped()
	l.look()
	l.halted()
	assert.Contains(t, l.message, "stopped at")
	at := l.Now()
	assert.NotZero(t, at)
	assert.Contains(t, l.says("stop-at"), "nothing is waited for any more")
	assert.Contains(t, l.says("stop-at pump-status.presure > 3 bar"), "did you mean")
	assert.Contains(t, l.says("stop-at pump-status.pressure > 3 bar"), "time stops at pump-status")
	l.stopped()
	l.look()
	l.halted()
	assert.Contains(t, l.message, "on pump; space goes on")
	assert.Contains(t, l.says(`stop-at "3.4"`), `time stops at "3.4"`)
	l.stopped()
	l.look()
	l.halted()
	assert.Contains(t, l.message, "on lower-gauge; space goes on")
	at = l.Now()
	l.says("step")
	l.stopped()
	assert.Greater(t, l.session.Now(), at)
	at = l.session.Now()
	l.says("step-bit")
	assert.Greater(t, l.session.Now(), at)
	l.says("slower")
	l.says("run")
	assert.True(t, l.session.World.Pace().Running)
	// An error stops it too: here the rates disagree.
	l.says("link lower-gauge")
	assert.Contains(t, l.says("stop-at error"), "time stops at error")
	l.says("faster")
	l.says("faster")
	require.NotContains(t, l.says("set links.lower-gauge.mcu.rate 19200 Bd"), "not")
	l.says(`send SNAP\n`)
	l.stopped()
	h, ok := l.session.World.Halted()
	require.True(t, ok)
	assert.Equal(t, l.bench.Link("lower-gauge").Index, h.Link)
}

func TestFilesThatAreWritten(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	l := running(t)
	assert.Contains(t, l.says("save"), "no file of its own")
	assert.Contains(t, l.says("save work/lock7.yaml"), "saved work/lock7.yaml")
	b, faults := bench.Load(os.DirFS(filepath.Join(dir, "work")), "lock7.yaml")
	require.Empty(t, faults)
	assert.Len(t, b.Links, len(l.bench.Links), "with the device files")
	l.says("set links.lower-gauge.mcu.rate 19200")
	assert.Contains(t, l.says("save"), "saved work/lock7.yaml")
	text, err := os.ReadFile("work/lock7.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(l.bench.Text()), string(text))
	require.NoError(t, os.WriteFile("work/lock7.yaml", []byte("# mine\n"), 0o600))
	l.says("set links.lower-gauge.mcu.rate 9600")
	assert.Contains(t, l.says("save"), "changed by somebody else")
	assert.Contains(t, l.says("save /proc/none/x.yaml"), "not saved")
	assert.Contains(t, l.says("undo"), "taken back")
	assert.Contains(t, l.says("redo"), "made again")

	assert.Contains(t, l.says("record"), "name a file")
	assert.Contains(t, l.says("record live.pcapng"), "recording to live.pcapng")
	assert.Contains(t, l.says("record other.pcapng"), "recording already")
	l.until(func(s *capture.Snapshot) bool { return s.Len() > 50 })
	require.NoError(t, l.recorder.Close())
	l.look()
	assert.Contains(t, l.says("keep"), "name a file")
	assert.Contains(t, l.says("keep so-far.pcapng"), "wrote so-far.pcapng")
	assert.Contains(t, l.says("keep so-far.pcapng"), "can't be written")
	for _, name := range []string{"live.pcapng", "so-far.pcapng"} {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		s, err := pcapng.Read(bytes.NewReader(raw))
		require.NoError(t, err, name)
		assert.Greater(t, s.Snapshot().Len(), 50, name)
		assert.Equal(t, len(l.bench.Links), len(s.Meta.Links))
	}

	for _, view := range []string{"timing", "waves"} {
		for _, link := range l.bench.Links {
			l.says("link " + link.Name)
			l.says(view)
			said := l.says("draw " + view + ".svg")
			assert.Contains(t, said, "wrote "+view+".svg", "%s of %s", view, link.Name)
			raw, err := os.ReadFile(view + ".svg")
			require.NoError(t, err)
			assert.Contains(t, string(raw), "<svg")
			assert.Contains(t, string(raw), link.Name, view)
		}
	}
	assert.Contains(t, l.says("draw a.pdf"), "wrote a.pdf")
	assert.Contains(t, l.says("draw a.bmp"), "must end in .svg or .pdf")
	assert.Contains(t, l.says("draw"), "name a file")
	assert.Contains(t, l.says("draw-here"), "wrote waves-1.svg")
	assert.Contains(t, l.says("draw-here"), "wrote waves-2.svg")
}

func (l *live) typed(text string) {
	for _, r := range text {
		l.put(tea.KeyPressMsg{Text: string(r), Code: r})
	}
}

func (l *live) hit(k tea.KeyPressMsg) { l.put(k) }

func TestTheSendLine(t *testing.T) {
	l := running(t)
	l.says("link lower-gauge")
	l.says("traffic")
	l.says("send")
	require.True(t, l.current().Typing())
	l.typed("SNAP")
	assert.Contains(t, screenTextAfter(l.App), "53 4E 41 50 0A")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.message, "sent SNAP")
	l.hit(tea.KeyPressMsg{Code: 'x', Mod: tea.ModCtrl})
	l.typed("4")
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.message, "not sent")
	l.typed("1")
	l.hit(tea.KeyPressMsg{Code: tea.KeyTab})
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	l.hit(tea.KeyPressMsg{Code: tea.KeyUp})
	l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
	require.False(t, l.current().Typing())
	assert.Equal(t, []string{"lower-gauge send 534e41500a", "lower-gauge send 41"}, l.inputs())
	l.until(func(s *capture.Snapshot) bool {
		for i := s.First(); i < s.Len(); i++ {
			if r := s.At(i); r.From == record.Device && r.Link == l.bench.Link("lower-gauge").Index && strings.Contains(string(r.Data), ".") {
				return true
			}
		}
		return false
	})
	assert.Contains(t, l.says("send 07\\x"), "not sent")
	for name, want := range map[string]string{"pump": "transact", "hull": "transact", "depth-strip": "transact", "gate": "words are exchanged"} {
		l.says("link " + name)
		said := l.says("send PING") + screenTextAfter(l.App)
		assert.Contains(t, said, want, name)
	}
	assert.Len(t, l.inputs(), 2)
}

// TestTheMouse selects links, goes to records and moves the picture.
func TestTheMouse(t *testing.T) {
	raced(t)
	l := running(t)
	l.until(func(s *capture.Snapshot) bool { return s.Len() > 100 })
	l.says("run")
	l.look()
	l.says("traffic")
	click := func(x, y int) { l.put(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}) }
	wheel := func(x, y int, b tea.MouseButton) { l.put(tea.MouseWheelMsg{X: x, Y: y, Button: b}) }
	lines := strings.Split(screenTextAfter(l.App), "\n")
	for i, name := range []string{"upper-gauge", "hull", "depth-strip"} {
		for y, line := range lines {
			if at := strings.Index(line, name); at >= 0 && at < 30 {
				click(at+1, y)
				assert.Equal(t, name, l.Link().Name, "%d", i)
				break
			}
		}
	}
	l.says("link lower-gauge")
	l.says("set links.lower-gauge.mcu.frame 8E1")
	for _, view := range []string{"timing", "traffic", "waves"} {
		l.says(view)
		for _, link := range l.bench.Links {
			l.says("link " + link.Name)
			click(60, 10)
			before := screenTextAfter(l.App)
			click(100, 10)
			if view == "waves" {
				assert.NotEqual(t, before, screenTextAfter(l.App), link.Name)
			}
			for y := range 47 {
				click(40+y, y)
				wheel(90, y, tea.MouseWheelUp)
				wheel(90, y, tea.MouseWheelDown)
			}
		}
	}
	click(-1, -1)
	click(500, 500)
}

// TestCommandsAreUnique: in each view of each link of each kind, also of files of
// levels, a name and a key mean one thing, and each key is in the help.
func TestCommandsAreUnique(t *testing.T) {
	raw, links := levelsFile(t)
	file, load := showing(t, "a.vcd", raw, links...)
	_ = load
	for _, a := range []*App{running(t).App, shown(t, demoBench(t), quantity.Millisecond), file} {
		for v := range a.views {
			for i := range a.snap.Meta().Links {
				a.view, a.link = v, i
				where := a.current().Name() + " of " + a.captured().Name
				names, keys := map[string]bool{}, map[string]string{}
				for _, c := range append(a.viewCommands(), a.commands()...) {
					assert.False(t, names[c.Name], "%s: two commands are named %s", where, c.Name)
					names[c.Name] = true
					assert.NotEmpty(t, c.Help, c.Name)
					assert.NotContains(t, c.Name, " ")
					for _, k := range c.Keys {
						assert.Empty(t, keys[k], "%s: %s means %s too", where, k, c.Name)
						keys[k] = c.Name
					}
				}
				// A name means the same whichever view it is typed in.
				for _, other := range a.views {
					for _, c := range other.view.Commands(a) {
						if other.view != a.current() && names[c.Name] {
							found := false
							for _, own := range append(a.viewCommands(), a.commands()...) {
								found = found || own.Name == c.Name && own.Help == c.Help
							}
							assert.True(t, found, "%s: %s means something else in %s", where, c.Name, other.view.Name())
						}
					}
				}
			}
		}
	}
}

// TestTabCompletes: of each command, and of what follows it.
func TestTabCompletes(t *testing.T) {
	l := running(t)
	complete := func(text string) string {
		l.hit(tea.KeyPressMsg{Text: ":", Code: ':'})
		l.typed(text)
		l.hit(tea.KeyPressMsg{Code: tea.KeyTab})
		defer l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
		return l.command.Text()
	}
	assert.Equal(t, "transact ", complete("transa"))
	assert.Equal(t, "link depth-strip", complete("link dep"))
	assert.Equal(t, "view waves", complete("view w"))
	l.says("link depth-strip")
	assert.Equal(t, "set links.depth-strip.mcu.", complete("set links.depth-strip.mc"))
	assert.Equal(t, "xyzzy", complete("xyzzy"))
	assert.Contains(t, l.says("view nowhere"), "no view")
	assert.Contains(t, l.says("link nowhere"), "no link")
	assert.Contains(t, l.says("hold"), `there is no command "hold"; did you mean hold-line?`)
	assert.Equal(t, `there is no command "xyzzy"`, l.says("xyzzy"))

	// Letters in order are enough, wherever they stand; arrows choose among what is listed.
	assert.Equal(t, "power-off ", complete("pwof"))
	assert.Equal(t, "set links.gate.devices.leaf-angle.mcu.mode 0", func() string {
		l.says("link gate")
		l.hit(tea.KeyPressMsg{Text: ":", Code: ':'})
		l.typed("set links.gate.devices.leaf-angle.mcu.mode ")
		assert.Contains(t, l.screen(), "set links.gate.devices.leaf-angle.mcu.mode 3")
		l.hit(tea.KeyPressMsg{Code: tea.KeyDown})
		l.hit(tea.KeyPressMsg{Code: tea.KeyTab})
		defer l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
		return l.command.Text()
	}())
	assert.Equal(t, "power-off leaf-angle", complete("power-off le"))
	l.hit(tea.KeyPressMsg{Text: ":", Code: ':'})
	assert.Contains(t, l.screen(), "more; type on to narrow them down")
	l.typed("cross ")
	assert.Contains(t, l.screen(), "cross valve-bank")
	l.hit(tea.KeyPressMsg{Code: tea.KeyDown})
	l.hit(tea.KeyPressMsg{Code: tea.KeyDown})
	l.hit(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, l.message, "cross: done")
	assert.Contains(t, l.inputs(), "gate cross on valve-bank")
}

// TestEachOfferIsTaken: whatever is offered is what its command takes further, and nothing
// that is typed makes the list fail.
func TestEachOfferIsTaken(t *testing.T) {
	alone(t)
	l := running(t)
	for _, name := range []string{"upper-gauge", "pump", "gate", "hull", "depth-strip"} {
		l.says("link " + name)
		for _, c := range l.allCommands() {
			l.hit(tea.KeyPressMsg{Text: ":", Code: ':'})
			l.command.Set(c.Name + " ")
			for _, o := range l.offers() {
				assert.True(t, strings.HasPrefix(o.text, c.Name), "%s: %s", c.Name, o.text)
			}
			l.screen()
			l.hit(tea.KeyPressMsg{Code: tea.KeyEscape})
		}
		for _, p := range l.settable() {
			words, what := l.Link().Choices(p)
			assert.NotEmpty(t, what+strings.Join(words, ""), p)
		}
	}
}

// TestPicturesOfTraffic: what is drawn to a file is what the view shows, of each kind of link
// and of all together.
func TestPicturesOfTraffic(t *testing.T) {
	l := running(t)
	l.says("traffic")
	dir := t.TempDir()
	l.until(func(s *capture.Snapshot) bool { return s.Len() > 60 })
	for _, name := range []string{"upper-gauge", "lower-gauge", "pump", "winch", "gate", "hull", "depth-strip", "all"} {
		if name == "all" {
			l.says("all")
		} else {
			l.says("link " + name)
		}
		screen := l.screen()
		file := filepath.Join(dir, name+".svg")
		l.says("draw " + file)
		require.Contains(t, l.message, "wrote", name)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(text), "traffic")
		assert.Contains(t, string(text), "0.0")
		switch name {
		case "gate":
			assert.Contains(t, string(text), "leaf-angle.angle read")
		case "all":
			assert.Contains(t, screen, "S gate")
			assert.Contains(t, string(text), "S gate")
		}
	}
}
