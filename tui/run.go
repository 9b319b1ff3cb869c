package tui

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/session"
	"gavrix.org/gavrix/tui/prefs"
	"gavrix.org/gavrix/tui/ui"
)

// Options say what to open.
type Options struct {
	Bench  *bench.Bench
	Path   string // where the bench is saved; "" for the demo
	Record string // file to record the capture to; "" for none
	Limits pcapng.Limits
	Memory int // bytes that records may take
}

func startRecorder(store *capture.Store, path string, l pcapng.Limits) (*pcapng.Recorder, error) {
	r, err := pcapng.RecordLimited(store, path, l)
	if err != nil {
		return nil, err
	}
	guard.OnPanic(func() { _ = r.Close() })
	guard.Go(r.Run)
	return r, nil
}

// Run opens a bench on the screen and returns when the user leaves.
func Run(o Options) error {
	s := session.Open(o.Bench)
	defer s.Close()
	s.Store().Bound(o.Memory)
	a := newApp(o.Bench, o.Path, s, s.Store())
	if o.Record != "" {
		r, err := startRecorder(s.Store(), o.Record, o.Limits)
		if err != nil {
			return err
		}
		a.recorder = r
	}
	err := a.loop()
	if a.recorder != nil {
		if e := a.recorder.Close(); e != nil {
			err = errors.Join(err, fmt.Errorf("the recorded capture is not complete: %w", e))
		}
	}
	return err
}

// Show opens a capture on the screen, and reads meanwhile what is not read yet. The bench may be
// nil.
func Show(o *pcapng.Opening, b *bench.Bench, file, without string) error {
	a := newApp(b, "", nil, o.Store)
	a.source, a.opening = file, o
	switch {
	case b == nil:
		a.Warn("shown without a bench: %s", without)
	case o.Why != nil:
		a.Warn("the index is made anew: %v", o.Why)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	var began atomic.Bool
	a.reading = func() tea.Msg {
		began.Store(true)
		defer close(ended)
		err := o.Load(ctx, nil)
		var damage *pcapng.Damage
		if o.Known && (err == nil || errors.As(err, &damage)) {
			// The records of the index are shown by now; what of them is damaged is met here.
			if err = o.Verify(ctx); err == nil {
				err = o.Damage()
			}
		}
		return readMsg{err}
	}
	err := a.loop()
	cancel()
	if began.Load() {
		<-ended // it uses the file
	}
	return err
}

// readMsg says that a recorded capture is read, or as far as it can be.
type readMsg struct{ err error }

// ShowLevels opens a file of levels on the screen and decodes it meanwhile.
func ShowLevels(l *Levels) error {
	if err := l.begin(); err != nil {
		return err
	}
	a := newApp(l.Bench, "", nil, l.store)
	a.source, a.levels = l.Name, l
	a.show("Waves")
	return a.loop()
}

// without says what works without a screen.
const without = "the commands watch, do, prove, decode and others work without a screen: gavrix --help"

// screenable says why nothing can be drawn on a terminal; nil where it can.
func screenable(term string, out *os.File) error {
	if term == "dumb" {
		return fmt.Errorf("this terminal says of itself that it can't place anything on its screen (TERM=%s): use another one; %s", term, without)
	}
	if s, err := out.Stat(); err == nil && s.Mode()&os.ModeCharDevice == 0 {
		return fmt.Errorf("the output is no terminal, so there is nothing to draw on; %s", without)
	}
	return nil
}

// loop runs the program until the user or a signal ends it. In each case the
// terminal is given back as it was.
func (a *App) loop() error {
	if err := screenable(os.Getenv("TERM"), os.Stdout); err != nil {
		return err
	}
	a.paced = true
	var faults []finding.Finding
	if a.prefers, faults = prefs.Load(); len(faults) > 0 {
		a.Warn("preferences: %s; the defaults hold", faults[0].Seen)
	}
	a.dress()
	if a.prefers.Colours == "full" {
		return a.run(tea.WithColorProfile(colorprofile.TrueColor))
	}
	return a.run()
}

func (a *App) run(more ...tea.ProgramOption) error {
	p := tea.NewProgram(a, append(more, tea.WithoutSignalHandler(), tea.WithoutCatchPanics(), tea.WithFPS(60))...)
	remove := guard.OnPanic(func() { _ = p.ReleaseTerminal() })
	defer remove()
	// Here, while the rescue still stands: it would be taken back on the way up.
	defer guard.Recover()
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGABRT)
	defer signal.Stop(signals)
	ended := make(chan struct{})
	defer close(ended)
	guard.Go(func() {
		select {
		case <-signals:
			p.Quit()
		case <-ended:
		}
	})
	_, err := p.Run()
	if a.levels != nil && a.levels.cancel != nil {
		a.levels.cancel()
	}
	for _, v := range a.views {
		if c, is := v.view.(ui.Closer); is {
			c.Close()
		}
	}
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.EIO) {
		return nil // the terminal itself went away
	}
	if at := (*fs.PathError)(nil); errors.As(err, &at) {
		return fmt.Errorf("there is no terminal to draw on and read keys from: %s: %w; %s", at.Path, at.Err, without)
	}
	return err
}
