// Package ui holds what the shell and its views share: commands, the entry
// line, and what a view may ask of the shell. Views know nothing of each
// other.
package ui

import (
	"context"
	"fmt"
	"math"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
)

// Ago says in words how long something is past: `now`, `3 s ago`.
func Ago(t quantity.Time) string {
	s := t.Seconds()
	switch {
	case s < 0.5:
		return "now"
	case s < 100:
		return fmt.Sprintf("%.0f s ago", math.Ceil(s))
	case s < 6000:
		return fmt.Sprintf("%.0f min ago", s/60)
	}
	return fmt.Sprintf("%.0f h ago", s/3600)
}

// Host is what a view may ask of the shell.
type Host interface {
	Bench() *bench.Bench // nil when a capture without a bench is shown
	Link() *bench.Link   // the selected one; nil as above
	LinkIndex() uint16
	Snapshot() *capture.Snapshot
	Session() link.Session // nil when a capture is shown
	// Settings gives the frame settings of a link's ends, the MCU's first; none where
	// they are not known.
	Settings(link int) []bus.Settings
	Now() quantity.Time
	// Do asks something of the selected link, in the background; what came of it is
	// said, or told to then, which may be nil.
	Do(i link.Intent, then func(link.Outcome)) tea.Cmd
	// Work does something that takes time in the background; what it gives is carried
	// out within the interface. The context ends when Esc is pressed. Nil where something
	// else is on its way.
	Work(f func(ctx context.Context) Done) tea.Cmd
	// Ledger is what the traffic tells of the registers of parts.
	Ledger() *ledger.Ledger
	// Moment is the time at which Ledger stands: the present, or what was selected in a view.
	Moment() quantity.Time
	// Meanings says what the records of the snapshot mean; nil: nothing is known.
	Meanings() *bench.Meanings
	// Dump is what the MCU's registers were seen to hold; never nil.
	Dump() *Dump
	// Controls shows the MCU's registers.
	Controls()
	// Edit changes the bench as one step and brings it into the simulation.
	Edit(edits ...finding.Edit)
	// Say shows a message in the footer until the next key.
	Say(format string, args ...any)
	// Warn is Say for what went wrong.
	Warn(format string, args ...any)
}

// Hue gives the style of a kind of bus: its letter and its lines have it everywhere.
func Hue(k *bus.Kind) cells.Style {
	if k == nil || k.Hue < 1 || k.Hue > 5 {
		return cells.Quiet
	}
	return cells.Hue1 + cells.Style(k.Hue-1)
}

// Command is one thing that can be done, by key or by name.
type Command struct {
	Name string // as typed behind the colon
	Args string // what may follow, for the help; "" takes nothing
	Keys []string
	Help string
	// Short is the footer's word; commands without one are not shown there.
	Short string
	Run   func(arg string) tea.Cmd
	// Complete lists what may stand behind the name, the part that is typed so far being
	// given; nil where nothing is known.
	Complete func(arg string) []string
}

// View is one of the shell's views.
type View interface {
	Name() string
	Draw(a cells.Area, h Host)
	Commands(h Host) []Command
	// Typing says whether the view has an entry line open, which then takes
	// all keys through Type.
	Typing() bool
	Type(k tea.KeyPressMsg, h Host) tea.Cmd
	// Click is a press of the mouse at a place in the view's area.
	Click(x, y int, h Host)
	Wheel(down bool, h Host)
	// Why gives the derivations of what the view shows.
	Why(h Host) []finding.Derivation
}

// Done is the end of work outside the interface, carried out within it.
type Done func(h Host) tea.Cmd

// Ticker is a view that does something by itself while it is shown.
type Ticker interface {
	Tick(h Host) tea.Cmd
}

// Stopper is a view with work of its own that Esc stops.
type Stopper interface {
	// Stop says whether there was any.
	Stop(h Host) bool
}

// Closer is a view with something to be finished when the program is left.
type Closer interface {
	Close()
}

// Paster is a view that takes pasted text.
type Paster interface {
	Paste(text string, h Host)
}

// LinePaster is a view that takes several pasted lines while one is typed.
type LinePaster interface {
	// PasteLines says whether it took them; else they are typed, one behind the other.
	PasteLines(text string, h Host) (cmd tea.Cmd, taken bool)
}

// Finder is a view that can go to a time on the selected link.
type Finder interface {
	Find(at quantity.Time, h Host)
}

// Selector is a view in which a moment can be chosen: the other views go to it.
type Selector interface {
	// Selected gives when what is selected begins and ends; ok is false where the view
	// follows the present.
	Selected() (from, to quantity.Time, ok bool)
}

// Linked is a view in which what is selected may be on another link than the one that is
// selected on the left.
type Linked interface {
	SelectedLink() (link uint16, ok bool)
}

// Controller is a view that can show the MCU's registers.
type Controller interface {
	ShowControls(h Host)
}

// Pictured is a view whose picture can be saved.
type Pictured interface {
	// Scene gives the picture as it is shown; nil where there is none.
	Scene(h Host) *scene.Scene
}
