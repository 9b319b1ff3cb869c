package session

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/prove"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/demo"
)

// farEnd plays lower-gauge on the master side of a pseudo-terminal.
func farEnd(master *os.File) {
	var line strings.Builder
	beat := "8"
	buf := make([]byte, 64)
	for {
		n, err := master.Read(buf)
		if err != nil {
			return
		}
		for _, b := range buf[:n] {
			if b != '\n' {
				line.WriteByte(b)
				continue
			}
			answer := "WHAT\n"
			switch line.String() {
			case "SNAP":
				answer = "3.417\n"
			case "TEMP":
				answer = "11.4\n"
			case "WHO":
				answer = "GAUGE 118\n"
			case "BEAT?":
				answer = beat + "\n"
			}
			if to, is := strings.CutPrefix(line.String(), "BEAT="); is {
				beat, answer = to, "OK\n"
			}
			line.Reset()
			if _, err := io.WriteString(master, answer); err != nil {
				return
			}
		}
	}
}

// TestOneLinkRealOneSimulated binds lower-gauge to a port and runs its checks
// there, while upper-gauge stays simulated.
func TestOneLinkRealOneSimulated(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	path := slave.Name()
	var wg sync.WaitGroup
	defer wg.Wait()
	defer master.Close()
	defer slave.Close() // open until here: else the master has nobody to talk to before the port opens
	wg.Go(func() { farEnd(master) })

	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	set := func(value string, p ...string) {
		require.NoError(t, b.Apply(finding.Edit{Path: append([]string{"links", "lower-gauge"}, p...), Value: value}))
	}
	set(path, "port", "path")
	for _, c := range b.Link("lower-gauge").Checks {
		set("5 s", "checks", c.Name, "within") // a busy machine is slow to answer
	}
	s := Open(b)
	defer s.Close()
	assert.True(t, s.Real())
	lower := b.Link("lower-gauge")
	require.Eventually(t, func() bool { return s.Info(lower.Index).Open }, 20*time.Second, time.Millisecond)
	assert.False(t, s.Info(lower.Index).Simulated)
	assert.True(t, s.Info(b.Link("upper-gauge").Index).Simulated)

	rs, err := prove.Link(context.Background(), s, lower)
	require.NoError(t, err)
	for _, r := range rs {
		assert.True(t, r.Pass, r.Summary())
		assert.False(t, r.Simulated)
	}
	rs, err = prove.Link(context.Background(), s, b.Link("upper-gauge"))
	require.NoError(t, err)
	assert.True(t, rs[0].Pass && rs[0].Simulated)
	for _, m := range s.Store().Meta.Links {
		assert.Equal(t, m.Name == "lower-gauge", m.Real)
	}

	// Another setting opens the port again with it, without a loss.
	set("19200", "mcu", "rate")
	require.NoError(t, s.Apply(b))
	require.Eventually(t, func() bool {
		snap := s.Store().Snapshot()
		for i := range snap.Len() {
			if r := snap.At(i); r.Kind == record.Changed && strings.Contains(r.Text, "19.2 kBd") {
				return true
			}
		}
		return false
	}, 20*time.Second, time.Millisecond)
	require.Eventually(t, func() bool { return s.Info(lower.Index).Open }, 20*time.Second, time.Millisecond)
	_, err = s.Do(context.Background(), lower.Index, link.Send{Data: []byte("SNAP\n")})
	require.NoError(t, err)
}

func TestPacedSimulation(t *testing.T) {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	s := Open(b)
	defer s.Close()
	assert.False(t, s.Real())
	s.World.SetSpeed(100)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(t, s.Wait(ctx, 5*quantity.Second, func(*capture.Snapshot) bool { return false }))
	assert.GreaterOrEqual(t, s.Now(), 5*quantity.Second)
	s.World.SetRunning(false)
	at := s.Now()
	s.World.StepBit(0)
	assert.Equal(t, quantity.PeriodOf(bench.ModelOf[*bench.UART](b, b.Links[0].Name).MCU.Rate).Times(1), s.Now()-at)
	v := s.Store().Version()
	s.World.StepChar()
	assert.NotEqual(t, v, s.Store().Version())
	assert.False(t, s.World.Pace().Running)
	short, stop := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer stop()
	assert.ErrorIs(t, s.Wait(short, s.Now()+quantity.Second, func(*capture.Snapshot) bool { return false }), context.DeadlineExceeded, "time stands")
}

// TestAPartBehindARealPort: operations on its registers go over the port.
func TestAPartBehindARealPort(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	defer slave.Close()
	go farEnd(master)
	files := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(demo.Files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := demo.Files.ReadFile(name)
		// A busy machine is slow to answer.
		files[name] = &fstest.MapFile{Data: bytes.Replace(text, []byte("within: 30 ms"), []byte("within: 20 s"), 1)}
		return err
	}))
	b, faults := bench.Load(files, demo.Bench)
	require.Empty(t, faults)
	require.NoError(t, b.Apply(
		finding.Edit{Path: []string{"links", "lower-gauge", "port", "path"}, Value: slave.Name()},
		finding.Edit{Op: finding.Delete, Path: []string{"links", "lower-gauge", "mcu", "ask"}},
		finding.Edit{Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: "8N1"},
		finding.Edit{Path: []string{"links", "lower-gauge", "device", "frame"}, Value: "8N1"},
	))
	s := Open(b)
	defer s.Close()
	l := b.Link("lower-gauge")
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	require.NoError(t, s.Wait(ctx, 10*quantity.Second, func(*capture.Snapshot) bool { return s.Info(l.Index).Open }))
	for _, c := range []struct {
		op      string
		verdict operate.Verdict
		says    string
	}{
		{"read LEVEL", operate.OK, ""},
		{"prove lower-gauge", operate.Fault, "0x076 where 0x075 is expected"},
		{"write BEAT 12", operate.OK, "BEAT is 0x0C"},
		{`raw "X\n"`, operate.Fault, `refuses the message "X"`},
	} {
		op, err := operation.Parse(c.op, l.Parts())
		require.NoError(t, err)
		r, err := operate.On(s, b, l).Do(ctx, c.op, op)
		require.NoError(t, err)
		assert.Equal(t, c.verdict, r.Verdict, "%s: %s", c.op, r.Says)
		assert.Contains(t, strings.Join(r.Says, "; "), c.says)
	}
}
