// Package terminal drives the real program in a real terminal (tmux) by keys,
// and reads its screen.
package terminal

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/record"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "gavrix-terminal")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "gavrix")
	// The tag adds a goroutine that panics on SIGUSR1.
	build := exec.Command("go", "build", "-tags", "forcedfault", "-o", binary, "gavrix.org/gavrix/cmd/gavrix")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n%v\n", out, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// term is a terminal of its own with a shell in it.
type term struct {
	t      *testing.T
	socket string
	limit  time.Duration // how long the screen is waited for
}

func start(t *testing.T, w, h int) *term {
	s := &term{t, filepath.Join(t.TempDir(), "tmux"), 30 * time.Second}
	s.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h), "env PS1='ready$ ' TERM=screen-256color LC_ALL=C.UTF-8 XDG_CONFIG_HOME="+t.TempDir()+" sh")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	s.wait("ready$")
	return s
}

func (s *term) tmux(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...).CombinedOutput()
	require.NoError(s.t, err, "tmux %v: %s", args, out)
	return string(out)
}

func (s *term) screen() string { return s.tmux("capture-pane", "-p") }

// keys sends keys by their tmux names; text sends a text as it is.
func (s *term) keys(keys ...string) { s.tmux(append([]string{"send-keys"}, keys...)...) }
func (s *term) text(text string)    { s.tmux("send-keys", "-l", text) }

// wait reads the screen until all of the texts stand on it.
func (s *term) wait(texts ...string) string {
	s.t.Helper()
	return s.until(func(screen string) bool {
		for _, x := range texts {
			if !strings.Contains(screen, x) {
				return false
			}
		}
		return true
	}, "%q", texts)
}

func (s *term) gone(text string) {
	s.t.Helper()
	s.until(func(screen string) bool { return !strings.Contains(screen, text) }, "without %q", text)
}

func (s *term) until(ok func(string) bool, what string, args ...any) string {
	s.t.Helper()
	end := time.Now().Add(s.limit)
	for {
		screen := s.screen()
		if ok(screen) {
			return screen
		}
		if time.Now().After(end) {
			s.t.Fatalf("the screen never showed %s:\n%s", fmt.Sprintf(what, args...), screen)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// clean checks that the shell has its terminal back: the alternate screen is
// left, lines are edited and echoed, and what stood there before stands there.
func (s *term) clean() {
	s.t.Helper()
	s.until(func(screen string) bool { return strings.HasSuffix(strings.TrimSpace(screen), "ready$") }, "the prompt")
	s.text("clear; stty -a | tr ';' '\\n' | grep -c -w -e '^icanon' -e 'echo$' ; stty -a | grep -o -w -e '-*icanon' -e '-*echo'; echo end''ed")
	s.keys("Enter")
	screen := s.wait("ended")
	assert.Contains(s.t, screen, "icanon")
	assert.NotContains(s.t, screen, "-icanon")
	assert.NotContains(s.t, screen, "-echo\n")
	assert.Equal(s.t, "0", strings.TrimSpace(s.tmux("display-message", "-p", "#{alternate_on}")))
	assert.Equal(s.t, "0", strings.TrimSpace(s.tmux("display-message", "-p", "#{mouse_any_flag}")))
}

func (s *term) pid() string { return pidOf(s, binary) }

func pidOf(s *term, program string) string {
	s.t.Helper()
	pane := strings.TrimSpace(s.tmux("display-message", "-p", "#{pane_pid}"))
	var pid string
	s.until(func(string) bool {
		// Not with pgrep: a small machine has none.
		all, _ := filepath.Glob("/proc/[0-9]*")
		for _, p := range all {
			stat, _ := os.ReadFile(filepath.Join(p, "stat"))
			line, _ := os.ReadFile(filepath.Join(p, "cmdline"))
			_, behind, _ := strings.Cut(string(stat), ") ")
			if f := strings.Fields(behind); len(f) > 1 && f[1] == pane && strings.Contains(string(line), program) {
				pid = filepath.Base(p)
			}
		}
		return pid != ""
	}, "the program's process")
	return pid
}

// readable reads a recorded capture and gives its number of character runs, and what is wrong
// with it.
func readable(t *testing.T, path string) (int, error) {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	store, err := pcapng.Read(f)
	require.NotNil(t, store, err)
	snap, n := store.Snapshot(), 0
	for i := range snap.Len() {
		if snap.At(i).Kind == record.Chars {
			n++
		}
	}
	return n, err
}

func TestBringUpByKeys(t *testing.T) {
	s := start(t, 160, 47)
	file := filepath.Join(t.TempDir(), "demo.pcapng")
	s.text(binary + " demo --record " + file)
	s.keys("Enter")
	s.wait("Lock 7", "SIMULATED", "upper-gauge", "TRAFFIC", "5.2")

	// Select the other link, send a command, read the answer.
	s.keys("J")
	s.wait("TRAFFIC  lower-gauge")
	s.keys("i")
	s.wait("MCU sends", "1 byte, 348.0 µs on the line: 0A")
	s.text("TEMP")
	s.wait("5 bytes, 1.740 ms on the line: 54 45 4D 50 0A")
	s.keys("Enter")
	s.wait("TEMP↵", "11.4↵", "31 31 2E 34 0A")
	s.keys("Escape")
	s.gone("MCU sends")

	// Change a setting on the drawn frame: the ends disagree, and it shows.
	s.keys("2")
	s.wait("TIMING  lower-gauge", "S2RATE DIV 86", "28 735.6 Bd", "-0.22 %")
	s.keys("+")
	for range 4 {
		s.keys("p") // even, odd, mark, space, none
	}
	s.wait("frames disagree: lower-gauge 7E1,", "edited", "≠b7", "MCU stores B4, no error flag.", "lower-gauge to 8N1")
	s.keys("5")
	s.wait("33 2E B4 B1 B7 0A")
	s.keys(":")
	s.text("send TEMP\\n")
	s.keys("Enter")
	s.wait("TEMP↵ got no answer", "no answer", "▲ parity")

	// One key mends it, the next reply is clean; undo brings it back.
	s.keys("f")
	s.wait("no problems found")
	s.keys("c")
	s.wait("3 checks passed")
	s.wait("✓ snap gives the level", "✓ temp gives degrees")
	s.keys("u")
	s.wait("frames disagree")
	s.keys("c")
	s.wait("3 of 3 checks failed", "expected 34 '4',", "seen B4 '·'")
	s.keys("F")
	s.wait("no problems found")

	// Time stops, steps and goes on.
	s.keys("Space")
	s.wait("stopped")
	s.keys(".")
	s.keys("Space")
	s.gone("stopped")

	// Small windows, the help, and back.
	s.tmux("resize-window", "-x", "80", "-y", "24")
	s.until(func(screen string) bool {
		return !strings.Contains(screen, "LINKS") && strings.Contains(screen, "TRAFFIC")
	}, "only the view")
	s.keys("Tab")
	s.wait("NO PROBLEMS FOUND", "CHECKS")
	s.keys("Tab")
	s.wait("LINKS", "Marlow 40")
	s.keys("?")
	s.wait(":page-older")
	s.keys("x")
	s.gone(":page-older")
	s.tmux("resize-window", "-x", "160", "-y", "47")
	s.wait("LINKS", "TRAFFIC")

	// The demo has no file of its own for the edits.
	s.keys("q")
	s.wait("the demo has edits")
	s.keys("q")
	s.clean()
	n, err := readable(t, file)
	assert.NoError(t, err)
	assert.Greater(t, n, 20)
}

// TestSilentLinkByKeys: why a link is silent, found and mended by keys alone, and
// the picture saved as PDF.
func TestSilentLinkByKeys(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, exec.Command(binary, "new", filepath.Join(dir, "lock")).Run())
	bench := filepath.Join(dir, "lock", "lock7.yaml")
	text, err := os.ReadFile(bench)
	require.NoError(t, err)
	silent := strings.Replace(string(text), "      rate:  57.6 kBd\n", "      rate:  57.6 kBd\n      startup: clock, transmit-pin, receive-pin, rate, frame, dma-clock, dma-channel, transmit-enable, receive-enable, enable, dma-request\n", 1)
	silent = strings.Replace(silent, "      sample: 87.5 %\n", "      sample: 87.5 %\n      startup: clock, port-clock, transmit-pin, receive-pin, configuration, rate, interrupt-line, receive-interrupt\n", 1)
	require.NoError(t, os.WriteFile(bench, []byte(silent), 0o600))
	s := start(t, 160, 47)
	s.text("cd " + dir + " && " + binary + " " + bench)
	s.keys("Enter")
	// The list shows where; the notes say what and how to mend it.
	s.wait("2 errors", "▲ U upper-gauge", "startup step port-clock", "f  do: clock of the pins' port")
	s.keys("2", "s")
	s.wait("STARTUP  upper-gauge", "judged from the steps", "✗ set up", "✓ enabled", "✓ started", "✗ clock of the pins' port", "waits for clock of")
	s.text(":draw silent.pdf")
	s.keys("Enter")
	s.wait("wrote silent.pdf")
	pdf, err := os.ReadFile(filepath.Join(dir, "silent.pdf"))
	require.NoError(t, err)
	assert.Equal(t, "%PDF", string(pdf[:4]))
	s.keys("f")
	s.wait("✓ set up    ✓ enabled    ✓ started", "NO PROBLEMS FOUND")
	s.keys("5")
	s.wait("TRAFFIC  upper-gauge", "5.2")

	// The node on can that never left its configuration.
	s.keys("J", "J")
	s.wait("TRAFFIC  pump", "startup step join", "of pump-drive", "without", "1A5  8 bytes", "not acknowledged")
	s.keys("[", "[") // else what it says is off the screen in a quarter of a second
	s.keys("f")
	s.wait("the MCU takes part")
	s.keys("]", "]")
	s.wait("2A5  2 bytes  01 5A")
	s.gone("without")

	// A dump, pasted and loaded, judges the same chain.
	s.keys("2", "s")
	s.wait("STARTUP  pump")
	s.text(":dump")
	s.keys("Enter")
	s.wait("judged from the registers of the simulated MCU", "✓ set up    ✓ enabled    ✓ started")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "dump.txt"), []byte("CLKON 20000800\nC1CTL 0200\nC1BIT 0\n"), 0o600))
	s.text(":dump dump.txt")
	s.keys("Enter")
	s.wait("judged from the dump dump.txt", "✗ rate", "? line in the interrupt controller", "not seen")
	s.text(":dump none.txt")
	s.keys("Enter")
	s.wait("the dump can't be read")
	s.tmux("set-buffer", "CLKON 20000000\n")
	s.tmux("paste-buffer", "-p")
	s.wait("judged from the pasted dump, 1 line", "✗ clock of the unit")
	s.keys("q")
	s.wait("unsaved edits")
	s.keys("q")
	s.clean()
}

// TestEveryEndLeavesTerminalAndCaptureWhole: signals, and panics on the main goroutine,
// in a command of the interface, in a goroutine of the core and at the start.
func TestEveryEndLeavesTerminalAndCaptureWhole(t *testing.T) {
	type end struct {
		fault string
		sig   syscall.Signal
	}
	for name, end := range map[string]end{
		"fault": {"", syscall.SIGUSR1}, "update": {"update", syscall.SIGUSR1}, "view": {"view", syscall.SIGUSR1}, "command": {"command", syscall.SIGUSR1}, "init": {"init", syscall.SIGUSR1},
		"TERM": {"", syscall.SIGTERM}, "HUP": {"", syscall.SIGHUP}, "INT": {"", syscall.SIGINT}, "QUIT": {"", syscall.SIGQUIT}, "ABRT": {"", syscall.SIGABRT},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := start(t, 100, 30)
			file := filepath.Join(t.TempDir(), "demo.pcapng")
			s.text("GAVRIX_FAULT=" + end.fault + " " + binary + " demo --record " + file)
			s.keys("Enter")
			if end.fault != "init" {
				s.wait("TRAFFIC", "5.2")
				pid, err := strconv.Atoi(s.pid())
				require.NoError(t, err)
				require.NoError(t, syscall.Kill(pid, end.sig))
			}
			if end.sig == syscall.SIGUSR1 {
				s.wait("The capture was saved as far as it went.")
				assert.Contains(t, s.tmux("capture-pane", "-p", "-S", "-200"), "a fault inside the program: forced")
			}
			s.clean()
			if end.fault != "init" {
				n, err := readable(t, file)
				assert.NoError(t, err)
				assert.Greater(t, n, 0)
			}
		})
	}
}

// TestReadersThatTakeNoMore: a reader of watch's output that stalls or goes away costs
// the recorded file nothing, and does not keep the program from ending.
func TestReadersThatTakeNoMore(t *testing.T) {
	for _, closed := range []bool{false, true} {
		file := filepath.Join(t.TempDir(), "x.pcapng")
		r, w, err := os.Pipe()
		require.NoError(t, err)
		cmd := exec.Command(binary, "watch", "demo", "--json", "--save", file)
		if !closed {
			// Faster than any reader.
			cmd = exec.Command(binary, "watch", "demo", "--fast", "--for", "100000s", "--json", "--save", file)
		}
		cmd.Stdout = w
		require.NoError(t, cmd.Start())
		w.Close()
		_, err = io.ReadFull(r, make([]byte, 30_000))
		require.NoError(t, err)
		if closed {
			r.Close()
		} else {
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		}
		_ = cmd.Wait()
		r.Close()
		n, err := readable(t, file)
		assert.NoError(t, err)
		assert.Greater(t, n, 0)
	}
}

// TestFullOutput: what can't be written is no success.
func TestFullOutput(t *testing.T) {
	for _, args := range [][]string{{"lint", "demo"}, {"help"}, {"calc", "baud", "--clock", "40MHz", "--rate", "28800"}, {"decode", "demo"}, {"watch", "demo", "--fast", "--for", "100ms"}, {"schema"}, {"ports"}, {"sources", "demo"}} {
		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		require.NoError(t, err)
		var said bytes.Buffer
		cmd := exec.Command(binary, args...)
		cmd.Stdout, cmd.Stderr = full, &said
		require.Error(t, cmd.Run(), args)
		require.Equal(t, 2, cmd.ProcessState.ExitCode(), args)
		require.Contains(t, said.String(), "no space is left")
		full.Close()
	}
}

func TestCapturesOpen(t *testing.T) {
	s := start(t, 160, 40)
	dir := t.TempDir()
	file := filepath.Join(dir, "kept.pcapng")
	s.text(binary + " watch demo --for 3s --fast --save " + file + " >/dev/null; " + binary + " open " + file)
	s.keys("Enter")
	s.wait("CAPTURE kept.pcapng", "Lock 7", "5.2", "TRAFFIC")
	s.keys("J")
	s.wait("SNAP↵", "3.417↵")
	s.keys("Up", "Enter")
	s.wait("sent 6 bytes to MCU", "binary 00110011")
	s.keys("2")
	s.wait("TIMING  lower-gauge")
	s.keys("q")
	s.clean()

	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.pcapng"), []byte("no capture"), 0o600))
	s.text("clear; " + binary + " open " + filepath.Join(dir, "bad.pcapng") + "; echo status $?")
	s.keys("Enter")
	s.wait("no pcapng file", "status 2")
}

func TestLostPortIsSaid(t *testing.T) {
	dir := t.TempDir()
	out, err := exec.Command(binary, "new", filepath.Join(dir, "lock")).CombinedOutput()
	require.NoError(t, err, string(out))
	s := start(t, 160, 40)
	s.text(binary + " " + filepath.Join(dir, "lock", "lock7.yaml") + " --set links.lower-gauge.port.path=" + filepath.Join(dir, "nowhere"))
	s.keys("Enter")
	s.wait("REAL + SIMULATED", "✕ U lower-gauge", "TRAFFIC")
	s.keys("J")
	s.wait("is not there", "plug the adapter in")
	s.keys("i")
	s.wait("MCU sends")
	s.text("x")
	s.keys("Enter")
	s.wait("not sent: the port is not open")
	s.keys("Escape")
	s.gone("MCU sends")
	s.keys("q")
	s.wait("unsaved edits")
	s.keys("q")
	s.clean()
}

// TestWavesByKeys: from running traffic to two edges measured and the picture
// saved, by keys alone.
func TestWavesByKeys(t *testing.T) {
	s := start(t, 160, 47)
	dir := t.TempDir()
	s.text(binary + " demo")
	s.keys("Enter")
	s.wait("SIMULATED", "upper-gauge")
	s.keys("J")
	s.wait("TRAFFIC  lower-gauge", "SNAP", "3.417")
	s.keys("6")
	s.wait("WAVES", "following")
	s.keys("R")
	s.wait("m sets B here")
	s.keys("+", "+", "+", "+", "+", "+", "+", "+", "+")
	s.wait("lower-gauge bits", "b0")
	s.keys("n", "m", "n")
	s.wait("Δt 34.7222 µs", "1/Δt 28.8000 kHz", "2 edges")
	picture := filepath.Join(dir, "wave.svg")
	s.text(":draw " + picture)
	s.keys("Enter")
	s.wait("wrote " + picture)
	raw, err := os.ReadFile(picture)
	require.NoError(t, err)
	require.Contains(t, string(raw), "cursor A at")
	s.keys("q")
	s.clean()
}

// TestUnknownLinesByKeys: a capture of five buses whose lines have no names, from
// opening it to a decoded transaction measured and saved, by keys alone.
func TestUnknownLinesByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " open demo")
	s.keys("Enter")
	s.wait("CAPTURE lock7.vcd", "10 lines without a link", "in5  idle low")
	s.keys("P")
	s.wait("5 proposals", "clock=in1 out=in6 in=in3 select=in8", "frame=7E1")
	s.keys("Y")
	s.wait("5 links accepted", "1 line without a link")
	s.keys("K", "K", "K")
	s.wait("WAVES  spi")
	s.keys("r", "+", "+", "+", "+", "+", "+", "+", "+", "+", "+", "+", "+")
	s.wait("out bits", "b7")
	s.keys("n", "n", "m", "n", "n", "n")
	s.wait("Δt 990.000 ns", "1/Δt 1.01010 MHz")
	s.text(":plan out 83 00 00 00 in 40 48 .. ..")
	s.keys("Enter")
	s.wait("as planned", "≠")
	s.keys("d")
	s.wait("is 1 instead of 0")
	picture := filepath.Join(t.TempDir(), "spi.pdf")
	s.text(":draw " + picture)
	s.keys("Enter")
	s.wait("wrote " + picture)
	s.keys("q")
	s.clean()
}

// TestAPartByKeys: as somebody new would do it: an encoder is proved, a wrong mode seen
// and mended, one field of another part changed and read back.
func TestAPartByKeys(t *testing.T) {
	s := start(t, 160, 47)
	s.text(binary + " demo")
	s.keys("Enter")
	s.wait("Lock 7", "LINKS")
	command := func(text string) {
		s.text(":" + text)
		s.keys("Enter")
	}
	command("link gate")
	s.keys("3")
	s.wait("REGISTERS", "leaf-angle", "part 1 of 3")
	s.keys("p")
	s.wait("ID holds 0xA6", "identity proved")
	command("set links.gate.devices.leaf-angle.mcu.mode 0")
	s.keys("p")
	s.wait("prove leaf-angle: fault")
	s.keys("f")
	s.keys("p")
	s.wait("prove leaf-angle: ok")
	command("link hull")
	s.wait("leaf-tilt", "part 1 of 3")
	s.keys("R")
	s.wait("RANGE")
	command("remove links.hull.mcu.asks.measure") // the firmware writes the same register
	command("write leaf-tilt.CTRL.RANGE 45°")
	s.wait("staged  leaf-tilt.CTRL.RANGE 45°", "→ 0x0")
	s.keys("x")
	s.wait("RANGE is 45°", "CTRL: before 0x0", "wrote 0x0C, after 0x0C, changed bits 2")
	command("do leaf-tilt.measure")
	s.wait("measure is over after", "tilt = 1.")
	// Two pages of a memory outlast its supply.
	command("do write log-memory 0x3E 11 22 33 44")
	s.wait("4 bytes in 2 pages written and read back")
	command("power-off log-memory")
	command("do read log-memory 0x3E count 4")
	s.wait("read log-memory 0x3E count 4: fault")
	command("power-on log-memory")
	command("do compare log-memory 0x3E 11 22 33 44")
	s.wait("4 bytes read back, all alike")
	// Parts that are asked: a gauge in lines of text, a drive in objects.
	command("link lower-gauge")
	s.wait("REGISTERS", "lower-gauge", "answered")
	s.keys("R")
	s.wait("3.417 m", "117")
	s.keys("p")
	s.wait("identity proved")
	command("link pump")
	s.keys("R")
	s.wait("hydraulic pump drive C", "120 bar")
	command("write pump-drive.TARGET 90 bar")
	s.wait("605 2B 00 21 02 84 03 00 00")
	s.keys("x")
	s.wait("TARGET is 90 bar", "before 0x04B0, wrote 0x0384, after 0x0384")
	command("write pump-drive.LABEL south gate")
	s.keys("x")
	s.wait(`LABEL is "south gate"`)
	s.keys("n")
	s.wait("values to write", "C1BIT")
	s.keys("q", "q")
	s.clean()
}
