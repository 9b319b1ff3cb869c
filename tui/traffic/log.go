package traffic

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/guard"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/regular"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/textlog"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// textLog is a file to which traffic is written as lines of text.
type textLog struct {
	path, of string
	stop     context.CancelFunc
	ended    chan struct{}

	mu    sync.Mutex
	lines int
	over  bool
	err   error
}

// draw shows it in a line.
func (l *textLog) draw(a cells.Area, y int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	x := a.Text(0, y, cells.Head, "LOG")
	x = a.Text(x+2, y, cells.Plain, fmt.Sprintf("%s to %s", l.of, safe.Text(filepath.Base(l.path))))
	switch lines := fmt.Sprintf("%d lines", l.lines); {
	case l.err != nil:
		a.Text(x+2, y, cells.Bad, fmt.Sprintf("ended after %s: %s", lines, safe.Text(l.err.Error())))
	case l.over:
		a.Text(x+2, y, cells.Plain, "closed: "+lines)
	default:
		a.Text(x+2, y, cells.Strong, lines+"; :end-log closes it")
	}
}

// logTo writes what comes on the links that are shown, as it is shown, to a file.
func (v *View) logTo(h ui.Host, path string) {
	if path == "" {
		h.Warn("name a file: log dialogue.txt")
		return
	}
	if v.log != nil && v.log.going() {
		h.Say("%s is being written; :end-log closes it", filepath.Base(v.log.path))
		return
	}
	out, err := regular.Create(path, 0o600)
	if err != nil {
		h.Warn("nothing is logged: %v", err)
		return
	}
	link, all, tap := h.LinkIndex(), v.all, v.tap
	l := &textLog{path: path, of: "all links", ended: make(chan struct{})}
	if !all {
		l.of = h.Snapshot().Meta().Links[link].Name
	}
	wants := func(r *record.Record) bool {
		return r.Kind != record.Input && (all || r.Link == link) && (r.Kind != record.Chars || r.Seen == record.Nobody || (r.Seen == record.Tap) == tap)
	}
	var ctx context.Context
	ctx, l.stop = context.WithCancel(context.Background())
	v.log = l
	store, meanings := h.Session().Store(), h.Bench().Still().Meanings()
	guard.Go(func() {
		defer close(l.ended)
		err := out.End(textlog.Follow(ctx, out, store.Snapshot, meanings, wants, func(lines int) {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.lines = lines
		}))
		l.mu.Lock()
		defer l.mu.Unlock()
		l.over, l.err = true, err
	})
}

// Close implements ui.Closer: what came until now is in the log.
func (v *View) Close() {
	if v.log != nil {
		v.log.stop()
		<-v.log.ended
	}
}

func (l *textLog) going() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.over
}

// logCommands are those about the log.
func (v *View) logCommands(h ui.Host) []ui.Command {
	return []ui.Command{
		{Name: "log", Args: "FILE", Help: "write what comes on the links shown as text, from now on", Complete: ui.Files, Run: func(path string) tea.Cmd { v.logTo(h, path); return nil }},
		{Name: "end-log", Help: "close the log", Run: func(string) tea.Cmd {
			switch {
			case v.log == nil:
				h.Say("nothing is logged")
			case v.log.going():
				v.log.stop()
			default:
				v.log = nil
			}
			return nil
		}},
	}
}
