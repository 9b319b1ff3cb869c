package tui

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
)

// found is what is wrong, by link.
type found struct {
	byBench   [][]finding.Finding // what the bench alone shows; nil: to be found anew
	byTraffic [][]finding.Finding
	all       [][]finding.Finding
	edits     int    // of the bench: findings of traffic that came before one are to be found anew
	version   uint64 // of the capture that was looked at
	busy      bool
	ended     time.Time
	took      time.Duration
}

// edited says that the bench is another now.
func (f *found) edited() {
	f.byBench = nil
	f.edits++
	f.version, f.took = 0, 0
}

// foundMsg brings what traffic shows.
type foundMsg struct {
	byTraffic [][]finding.Finding
	edits     int
	version   uint64
	took      time.Duration
}

// find looks for what is wrong. On a screen it leaves the traffic to findApart.
func (a *App) find() {
	if a.bench == nil {
		return
	}
	f := &a.found
	if f.byBench == nil {
		for _, l := range a.bench.Links {
			f.byBench = append(f.byBench, l.Lint())
		}
	}
	if !a.paced || len(f.byTraffic) != len(a.bench.Links) {
		f.byTraffic, f.version = trafficShows(a.snap, a.bench), a.version
	}
	f.all = f.all[:0]
	for i, l := range a.bench.Links {
		fs := slices.Clone(f.byBench[i])
		if a.session != nil {
			fs = append(fs, a.session.Info(l.Index).Findings...)
		}
		fs = append(fs, f.byTraffic[i]...)
		finding.Sort(fs)
		f.all = append(f.all, fs)
	}
}

func trafficShows(snap *capture.Snapshot, b *bench.Bench) (out [][]finding.Finding) {
	for _, l := range b.Links {
		out = append(out, diagnose.Link(snap, l))
	}
	return out
}

// findApart looks for what traffic shows while pictures and keys go on: for a tenth of the
// time at most.
func (a *App) findApart() tea.Cmd {
	f := &a.found
	if !a.paced || a.bench == nil || f.busy || f.version == a.version || time.Since(f.ended) < 9*f.took {
		return nil
	}
	f.busy = true
	snap, b, edits, version := a.snap, a.bench.Still(), f.edits, a.version
	return func() tea.Msg {
		begun := time.Now()
		return foundMsg{trafficShows(snap, b), edits, version, time.Since(begun)}
	}
}

// foundApart takes what was found.
func (a *App) foundApart(m foundMsg) {
	f := &a.found
	f.busy, f.ended, f.took = false, time.Now(), m.took
	if m.edits == f.edits && len(m.byTraffic) == len(f.byTraffic) {
		f.byTraffic, f.version = m.byTraffic, m.version
		a.find()
	}
}

// findingsAt gives the findings about the link at a place of the list.
func (a *App) findingsAt(i int) []finding.Finding {
	if i < len(a.found.all) {
		return a.found.all[i]
	}
	return nil
}
