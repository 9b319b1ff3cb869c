package terminal

import (
	"bufio"
	"encoding/json"
	"math/rand/v2"
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
	"gavrix.org/gavrix/core/quantity"
)

// TestKilledWhileRecording: killed at any moment, the program leaves a file that opens, with
// all that was seen up to a second before.
func TestKilledWhileRecording(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	for n := range 20 {
		life := time.Duration(rng.Int64N(int64(2500 * time.Millisecond)))
		t.Run(strconv.Itoa(n), func(t *testing.T) {
			t.Parallel()
			killed(t, life)
		})
	}
}

// killed records until it is killed, and looks at the file.
func killed(t *testing.T, life time.Duration) {
	file := filepath.Join(t.TempDir(), "x.pcapng")
	c := exec.Command(binary, "watch", "demo", "--save", file, "--json")
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	type seen struct {
		end  quantity.Time
		came time.Time
	}
	var all []seen
	var killed time.Time
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var x struct {
			End int64 `json:"end_ps"`
		}
		if json.Unmarshal(lines.Bytes(), &x) != nil {
			continue // the last line may be cut
		}
		all = append(all, seen{quantity.Time(x.End), time.Now()})
		if killed.IsZero() && time.Since(all[0].came) >= life {
			killed = time.Now()
			require.NoError(t, c.Process.Signal(syscall.SIGKILL))
		}
	}
	_ = c.Wait()
	require.NotEmpty(t, all)
	f, err := os.Open(file)
	require.NoError(t, err)
	// The very last block may be cut; what stands before it is read.
	store, err := pcapng.Read(f)
	f.Close()
	if store == nil {
		require.ErrorContains(t, err, "ends before its links are described", "killed after %s", life)
		require.Less(t, life, time.Second)
		return
	}
	snap := store.Snapshot()
	kept := map[quantity.Time]bool{}
	for i := range snap.Len() {
		kept[snap.At(i).End] = true
	}
	// A machine with other work may let the program stand still for longer than that.
	missing, idle := 0, killed.Sub(all[len(all)-1].came)
	for i := range all[1:] {
		idle = max(idle, all[i+1].came.Sub(all[i].came))
	}
	for _, x := range all {
		if killed.Sub(x.came) > time.Second+idle {
			require.True(t, kept[x.end], "killed after %s: what ended at %s is not in the file, which came %s before", life, x.end, killed.Sub(x.came))
		} else if !kept[x.end] {
			missing++
		}
	}
	t.Logf("killed after %s: %d of %d seen are not in the file", life.Round(time.Millisecond), missing, len(all))
}

// TestFullDisk: when the disk is full recording stops with a message, watching goes on, and
// the file can be read.
func TestFullDisk(t *testing.T) {
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=300k"); err != nil {
		t.Skipf("a small disk can't be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	file := filepath.Join(disk, "x.pcapng")
	s := start(t, 160, 47)
	s.text(binary + " demo --record " + file)
	s.keys("Enter")
	s.wait("Lock 7", "● recording")
	s.keys("]")
	screen := s.wait("recording stopped: ", "no space left on device")
	assert.NotContains(t, screen, "● recording")
	at := func(screen string) string {
		_, after, _ := strings.Cut(screen, "t = ")
		return strings.Fields(after)[0]
	}
	s.until(func(later string) bool {
		return at(later) != at(screen) && strings.Contains(later, "recording stopped")
	}, "time going on")
	n, err := readable(t, file)
	assert.Positive(t, n)
	assert.ErrorIs(t, err, pcapng.ErrNoEnd)
	s.keys("q")
	s.clean()
}
