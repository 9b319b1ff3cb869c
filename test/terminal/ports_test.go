package terminal

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

var portTrials = flag.Int("ports", 12, "ports that appear late, in TestPortsThatAppearLate")

const portBench = `bench: Late
mcu:
  name: M
  clocks: {bus: {source: 40 MHz}}
  units:
    s1: {kind: uart, clock: bus, divider: {most: 65535, plus-one: yes}, oversampling: [16]}
links:
  gauge:
    kind: uart
    unit: s1
    mcu: {rate: 9600, frame: 8N1}
    device: {file: gauge.yaml}
    port: {path: %s}
    checks:
      level: {send: "SNAP\n", expect: "3.417\n", within: 3 s}
      warmth: {send: "TEMP\n", expect: "11.4\n", within: 3 s}
      hello: {expect: "READY\n", within: 3 s}
`

const portDevice = `device: gauge
kind: uart
end: {rate: 9600, frame: 8N1}
behaviour:
  answers:
    - {to: SNAP, text: "3.417"}
    - {to: TEMP, text: "11.4"}
`

// answering plays a device on the far side of a pseudo-terminal: it answers, and says
// by itself that it is ready.
func answering(master *os.File) {
	go func() {
		for {
			if _, err := io.WriteString(master, "READY\n"); err != nil {
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
	}()
	var line []byte
	buf := make([]byte, 64)
	for {
		n, err := master.Read(buf)
		if err != nil {
			return
		}
		for _, b := range buf[:n] {
			if line = append(line, b); b != '\n' {
				continue
			}
			answer := map[string]string{"SNAP\n": "3.417\n", "TEMP\n": "11.4\n"}[string(line)]
			line = nil
			if _, err := io.WriteString(master, answer); err != nil {
				return
			}
		}
	}
}

// TestPortsThatAppearLate: checks and what is sent wait for a port that appears up to
// half a second after the program was started.
func TestPortsThatAppearLate(t *testing.T) {
	for i := range *portTrials {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			master, slave, err := pty.Open()
			require.NoError(t, err)
			defer master.Close()
			defer slave.Close()
			folder := t.TempDir()
			path := filepath.Join(folder, "port")
			go answering(master)
			time.AfterFunc(time.Duration(i*137%500)*time.Millisecond, func() { _ = os.Symlink(slave.Name(), path) })
			args := []string{"watch", "--port", path, "--rate", "9600", "--send", `SNAP\n`, "--for", "1500ms"}
			want := "3.417↵"
			if i%2 == 0 {
				require.NoError(t, os.WriteFile(filepath.Join(folder, "b.yaml"), fmt.Appendf(nil, portBench, path), 0o600))
				require.NoError(t, os.WriteFile(filepath.Join(folder, "gauge.yaml"), []byte(portDevice), 0o600))
				args, want = []string{"prove", filepath.Join(folder, "b.yaml"), "--json"}, `"pass": true`
			}
			var out, said bytes.Buffer
			cmd := exec.Command(binary, args...)
			cmd.Stdout, cmd.Stderr = &out, &said
			err = cmd.Run()
			require.NoError(t, err, "%s\n%s", out.String(), said.String())
			require.Contains(t, out.String(), want)
			require.False(t, strings.Contains(out.String(), "\n     -") || strings.Contains(out.String(), `_ps": -`), "a negative time: %s", out.String())
		})
	}
}

// TestOwnTerminalIsNoPort: neither by its name for everybody, nor by its own.
func TestOwnTerminalIsNoPort(t *testing.T) {
	s := start(t, 100, 30)
	for _, path := range []string{"/dev/tty", "$(tty)"} {
		s.text("clear; " + binary + " watch --port " + path + " --rate 9600 --for 100ms")
		s.keys("Enter")
		s.wait("is the terminal that this program runs in", "the port did not open")
		s.clean()
	}
}
