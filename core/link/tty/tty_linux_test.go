package tty

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

func newStore() *capture.Store {
	return capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "l", Kind: "uart", Real: true}}})
}

func eventually(t *testing.T, what string, f func() bool) {
	t.Helper()
	require.Eventually(t, f, 20*time.Second, 2*time.Millisecond, what)
}

func cfg(path string) Config {
	return Config{Path: path, Rate: 115200 * quantity.Baud, Frame: uart.Frame{Data: 8, Stop: 1}, Flow: "none"}
}

// received gives all bytes from the far end, and the kinds of other records.
func received(s *capture.Store) (data []byte, kinds []record.Kind) {
	snap := s.Snapshot()
	each := func(r *record.Record) {
		if r.Kind != record.Chars {
			kinds = append(kinds, r.Kind)
		} else if r.From == record.Device {
			data = append(data, r.Data...)
		}
	}
	for i := range snap.Len() {
		each(snap.At(i))
	}
	for i := range snap.Running {
		each(&snap.Running[i])
	}
	return
}

func TestPseudoTerminalCarriesEverything(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	path := slave.Name()
	require.NoError(t, slave.Close())
	store := newStore()
	p := New(cfg(path), store, 0, time.Now())
	go p.Run()
	defer p.Close()
	eventually(t, "open", func() bool { return p.Info(0).Open })

	// Every byte value, both ways.
	var every []byte
	for i := range 256 {
		every = append(every, byte(i))
	}
	rng := rand.New(rand.NewPCG(1, 2))
	big := make([]byte, 200_000)
	for i := range big {
		big[i] = byte(rng.Uint32())
	}
	down := append(append([]byte{}, every...), big...)
	fromPort := make(chan []byte, 1)
	go func() {
		got := make([]byte, len(down))
		_, _ = io.ReadFull(master, got)
		fromPort <- got
	}()
	go func() { _, _ = master.Write(down) }()
	for rest := down; len(rest) > 0; {
		n := min(len(rest), 4000)
		eventually(t, "the port takes it", func() bool { return send(context.Background(), p, rest[:n]) == nil })
		rest = rest[n:]
	}
	assert.True(t, bytes.Equal(down, <-fromPort), "what was sent came out at the far end")
	eventually(t, "all came in", func() bool { d, _ := received(store); return len(d) >= len(down) })
	data, _ := received(store)
	assert.True(t, bytes.Equal(down, data))
	var codes []string
	for _, f := range p.Info(0).Findings {
		codes = append(codes, f.Code)
	}
	assert.Equal(t, []string{"no-format-on-pseudo-terminal"}, codes)
}

func TestUnplugAndReturnUnderAnotherName(t *testing.T) {
	dir := t.TempDir()
	link := filepath.Join(dir, "gauge")
	store := newStore()
	p := New(cfg(link), store, 0, time.Now())
	go p.Run()
	defer p.Close()
	eventually(t, "absent is said", func() bool { return p.Info(0).Problem != "" && len(p.Info(0).Findings) == 1 })
	assert.Equal(t, "port-absent", p.Info(0).Findings[0].Code)
	assert.Error(t, send(canceled(), p, []byte("x")))

	plug := func() *os.File {
		master, slave, err := pty.Open()
		require.NoError(t, err)
		require.NoError(t, os.Symlink(slave.Name(), link+".new"))
		require.NoError(t, os.Rename(link+".new", link))
		eventually(t, "open", func() bool { return p.Info(0).Open })
		require.NoError(t, slave.Close())
		return master
	}
	say := func(f *os.File, text string) {
		before, _ := received(store)
		_, err := f.WriteString(text)
		require.NoError(t, err)
		eventually(t, text, func() bool { d, _ := received(store); return len(d) == len(before)+len(text) })
	}
	first := plug()
	say(first, "before")
	require.NoError(t, first.Close())
	eventually(t, "lost", func() bool { return !p.Info(0).Open })
	assert.Contains(t, p.Info(0).Problem, link)
	require.NoError(t, os.Remove(link))
	second := plug()
	say(second, "after")
	data, kinds := received(store)
	assert.Equal(t, "beforeafter", string(data))
	assert.Equal(t, []record.Kind{record.Lost, record.Gap, record.Returned, record.Lost, record.Gap, record.Returned}, kinds)
	second.Close()
}

// TestSettingsThatAreRefused: a port that was open and can't be opened with
// other settings is not open, and says why; with good ones it goes on.
func TestSettingsThatAreRefused(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	defer slave.Close()
	store := newStore()
	good := cfg(slave.Name())
	p := New(good, store, 0, time.Now())
	go p.Run()
	defer p.Close()
	eventually(t, "open", func() bool { return p.Info(0).Open })
	bad := good
	bad.Frame.Data = 9
	p.set(bad)
	eventually(t, "refused", func() bool { return !p.Info(0).Open })
	assert.Contains(t, p.Info(0).Problem, "5 to 8 data bits")
	assert.Error(t, send(canceled(), p, []byte("x")))
	p.set(good)
	var kinds []record.Kind
	eventually(t, "open again", func() bool { _, kinds = received(store); return len(kinds) == 4 })
	assert.Equal(t, []record.Kind{record.Opened, record.Lost, record.Gap, record.Returned}, kinds)
	assert.True(t, p.Info(0).Open)
}

func TestPortsThatCannotBeUsed(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	require.NoError(t, unix.Flock(int(slave.Fd()), unix.LOCK_EX|unix.LOCK_NB))
	_, _, err = open(cfg(slave.Name()))
	assert.ErrorContains(t, err, "held by")
	require.NoError(t, slave.Close())

	plain := filepath.Join(t.TempDir(), "tty1")
	require.NoError(t, os.WriteFile(plain, nil, 0o600))
	_, _, err = open(cfg(plain))
	assert.ErrorContains(t, err, "no serial port")
	_, _, err = open(cfg(plain + "7"))
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "nearest", "a plain file is no port")
	assert.ErrorContains(t, permission(plain), "group root")

	for _, bad := range []Config{{}, {Path: "x"}, {Path: "x", Rate: 1, Frame: uart.Frame{Data: 9, Stop: 1}},
		{Path: "x", Rate: 1, Frame: uart.Frame{Data: 8, Stop: 1}, DTR: "up"}, {Path: "x", Rate: 1, Frame: uart.Frame{Data: 8, Stop: 1}, Flow: "magic"}} {
		assert.Error(t, bad.Check())
	}
	assert.NoError(t, cfg("x").Check())
}

func TestSettingsAreReadBack(t *testing.T) {
	c := cfg("p")
	c.Frame = uart.Frame{Data: 7, Parity: uart.Even, Stop: 2}
	c.Flow = "rts-cts"
	good := &unix.Termios{Cflag: wantedBits(c), Ospeed: 115200}
	assert.Equal(t, uint32(unix.CS7|unix.PARENB|unix.CSTOPB|unix.CRTSCTS), wantedBits(c))
	assert.Empty(t, compare(c, 115200, good, false))
	other := *good
	other.Ospeed = 119047
	f := compare(c, 115200, &other, false)
	require.Len(t, f, 1)
	assert.Equal(t, "rate-not-taken", f[0].Code)
	assert.Contains(t, f[0].Seen, "119.047 kBd")
	other = *good
	other.Cflag = unix.CS8
	assert.Equal(t, "frame-not-taken", compare(c, 115200, &other, false)[0].Code)
}

// send hands bytes to a port, which may refuse them.
func send(ctx context.Context, p *Port, data []byte) error {
	_, err := p.Do(ctx, 0, link.Send{Data: data})
	return err
}

// TestSendingWaitsForThePort: what is sent before the port is there goes out when it
// is.
func TestSendingWaitsForThePort(t *testing.T) {
	for i := range 5 {
		master, slave, err := pty.Open()
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "gauge")
		store := capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "x"}}})
		p := New(Config{Path: path, Rate: 9600 * quantity.Baud, Frame: uart.Frame{Data: 8, Stop: 1}}, store, 0, time.Now())
		guard.Go(p.Run)
		sent := make(chan error, 1)
		go func() { sent <- send(context.Background(), p, []byte("early")) }()
		eventually(t, "it is refused at first", func() bool { return p.Info(0).Problem != "not opened yet" })
		require.NoError(t, os.Symlink(slave.Name(), path))
		require.NoError(t, <-sent, i)
		got := make([]byte, 5)
		_, err = io.ReadFull(master, got)
		require.NoError(t, err)
		assert.Equal(t, "early", string(got))
		p.Close()
		master.Close()
		slave.Close()
	}
	short, stop := context.WithTimeout(context.Background(), 10*time.Millisecond)
	defer stop()
	p := New(Config{Path: "/nowhere"}, capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "x"}}}), 0, time.Now())
	assert.ErrorIs(t, send(short, p, []byte("x")), context.DeadlineExceeded)
	_, err := p.Do(context.Background(), 0, link.Cut{End: "mcu"})
	assert.ErrorContains(t, err, "by hand")
	p.Close()
	p.Close()
}

// canceled is a context for who does not want to wait.
func canceled() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}
