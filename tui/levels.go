package tui

import (
	"context"
	"slices"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
)

// mostUndescribed bounds the lines without a link that are kept and shown.
const mostUndescribed = 64

// undescribed is the name of the link that takes lines which no link does.
const undescribed = "other lines"

// File is a file of levels being read.
type File struct {
	decode.Source
	// Share gives how much of the file is read, 0 to 1.
	Share func() float64
	Close func()
}

// Levels is a file of levels to be shown while it is read.
type Levels struct {
	Name string
	// Open begins to read the file from its start.
	Open  func() (*File, error)
	Links []decode.Link
	// Bench is what the first of the links are from; nil: from none.
	Bench *bench.Bench

	names  []string
	rest   []int // lines that no link takes
	store  *capture.Store
	file   *File
	cancel context.CancelFunc
	done   atomic.Bool
}

// loadedMsg says that a file of levels is read, or as far as it can be.
type loadedMsg struct {
	levels *Levels
	err    error
}

// begin opens the file and makes a store for what is in it.
func (l *Levels) begin() error {
	f, err := l.Open()
	if err != nil {
		return err
	}
	l.file, l.names = f, f.Names()
	l.rest = decode.Unlinked(l.Links, l.names)
	all := l.Links
	if len(l.rest) > 0 {
		shown := l.rest[:min(len(l.rest), mostUndescribed)]
		all = append(all[:len(all):len(all)], decode.Rest(undescribed, shown, l.names))
	}
	l.Links = all
	l.store = capture.NewStore(decode.Meta(all))
	return nil
}

// described gives the links without that of the lines nobody has described.
func (l *Levels) described() []decode.Link {
	if n := len(l.Links); n > 0 && len(l.rest) > 0 {
		return l.Links[:n-1]
	}
	return l.Links
}

// load decodes the file into the store.
func (l *Levels) load() tea.Cmd {
	ctx, cancel := context.WithCancel(context.Background())
	l.cancel = cancel
	return func() tea.Msg {
		defer l.file.Close()
		err := decode.Load(ctx, l.file, l.Links, l.store)
		l.done.Store(true)
		return loadedMsg{l, err}
	}
}

// reload reads the file again with other links.
func (a *App) reload(links []decode.Link, text string) tea.Cmd {
	old := a.levels
	l := &Levels{Name: old.Name, Open: old.Open, Links: links, Bench: old.Bench}
	if err := l.begin(); err != nil {
		a.Warn("%s can't be read again: %v", l.Name, err)
		return nil
	}
	old.cancel()
	a.levels, a.store, a.version = l, l.store, 0
	a.link = max(len(links)-1, 0)
	if a.proposed != nil {
		a.proposed.cancel()
		a.proposed, a.cancel = nil, nil
	}
	a.Say("%s", text)
	return l.load()
}

// decodeAnew reads the file with the settings that the bench has now.
func (a *App) decodeAnew() tea.Cmd {
	l := a.levels
	links := slices.Clone(l.described())
	own, _ := decode.FromBench(l.Bench, l.names)
	for i := range l.Bench.Links {
		if links[i].Absent() && !own[i].Absent() {
			own[i].Lines = links[i].Lines // it was forgotten
		}
		links[i] = own[i]
	}
	at := a.link
	cmd := a.reload(links, "the file is decoded with the settings as they are now")
	a.link = at
	return cmd
}

// sought is how far the search for what lines may be has come.
type sought struct {
	cancel context.CancelFunc
	at     atomic.Int64 // time in the capture up to which levels were read
	// weighed is the number of the line that is weighed now; 0 while levels are
	// still read.
	weighed atomic.Int64
	guesses
	selected int
	busy     bool
}

// reached is the time up to which levels were read.
func (s *sought) reached() quantity.Time { return quantity.Time(s.at.Load()) }
