package terminal

import (
	"bytes"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/creack/pty"
)

// BenchmarkStart measures from the start of the built program to its first
// screen, and to the first reading of the streaming gauge on it.
func BenchmarkStart(b *testing.B) {
	var screen, records time.Duration
	n := 0
	for b.Loop() {
		cmd := exec.Command(binary, "demo")
		cmd.Env = append(os.Environ(), "TERM=xterm-256color")
		start := time.Now()
		f, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 47, Cols: 160})
		if err != nil {
			b.Fatal(err)
		}
		var seen []byte
		buf := make([]byte, 1<<16)
		first := time.Duration(0)
		for {
			k, err := f.Read(buf)
			if err != nil {
				b.Fatal(err)
			}
			seen = append(seen, buf[:k]...)
			if first == 0 && bytes.Contains(seen, []byte("LINKS")) {
				first = time.Since(start)
			}
			if bytes.Contains(seen, []byte("5.2")) {
				break
			}
		}
		screen += first
		records += time.Since(start)
		n++
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		f.Close()
	}
	b.ReportMetric(float64(screen.Milliseconds())/float64(n), "ms/screen")
	b.ReportMetric(float64(records.Milliseconds())/float64(n), "ms/records")
}
