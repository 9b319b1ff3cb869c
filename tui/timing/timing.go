// Package timing is the view of clocks, dividers, frames and margins of a link, of
// its start-up and its control registers.
package timing

import (
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/safe"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/tui/ui"
)

// View is the timing view.
type View struct {
	fromMCU    bool
	value      uint16
	editDevice bool // the frame keys change the device's end
	entry      *ui.Entry

	page page
	step int  // the step under the cursor, in the order of the picture
	data bool // of can: the data phase
	dev  int  // the device on a bus
	top  int  // first row shown of a page that is longer than the screen
	room int  // rows of the view
	// heights are the rows of the lanes of the picture that was drawn last.
	heights []int
	of      string // the link that was shown last
}

// page is what the view is about.
type page uint8

const (
	framePage page = iota // clock, margin and frame
	startPage             // the start-up chain
)

// New gives the view.
func New() *View { return &View{value: '4'} }

// Name implements ui.View.
func (v *View) Name() string { return "Timing" }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.entry != nil }

// Scene implements ui.Pictured: what is shown now.
func (v *View) Scene(h ui.Host) *scene.Scene {
	c := h.Link()
	if c == nil {
		return nil
	}
	switch v.page {
	case startPage:
		vs, from := v.judged(h, c)
		return picture.Startup(c, vs, from)
	}
	return picture.Timing(c, v.look(c))
}

// look is what the picture shows.
func (v *View) look(l *bench.Link) picture.Look {
	return picture.Look{Device: v.device(l), Data: v.data, FromMCU: v.fromMCU, Value: v.value}
}

// device gives the index of the device that is looked at.
func (v *View) device(l *bench.Link) int { return min(v.dev, max(len(l.Devices())-1, 0)) }

// kind is how links of one kind are shown and worked on: a file and a row in kinds.
type kind struct {
	draw     func(v *View, a cells.Area, l *bench.Link)
	commands func(v *View, h ui.Host, l *bench.Link) []ui.Command
	// why says about which device, or which way, the derivations are.
	why func(v *View, l *bench.Link) int
}

// kinds are the kinds of links by the name of their bus.
var kinds = map[string]kind{
	"uart": {(*View).drawFrame, (*View).frameCommands, func(v *View, _ *bench.Link) int {
		if v.fromMCU {
			return 1
		}
		return 0
	}},
	"spi":   {(*View).drawSPI, (*View).spiCommands, (*View).device},
	"i2c":   {(*View).drawI2C, (*View).i2cCommands, (*View).device},
	"pulse": {(*View).drawPulse, (*View).pulseCommands, (*View).device},
	"can":   {(*View).drawCAN, (*View).canCommands, (*View).device},
}

// turn begins anew with another link: when it is drawn, or when a key comes before that.
func (v *View) turn(c *bench.Link) {
	if v.of != c.Name {
		v.of, v.top, v.page, v.step = c.Name, 0, framePage, 0
	}
}

// Draw implements ui.View.
func (v *View) Draw(a cells.Area, h ui.Host) {
	c := h.Link()
	if c == nil {
		a.Text(1, 1, cells.Head, "TIMING")
		a.Paragraph(1, 3, cells.Plain, "This capture came without a bench, so nothing is known about clocks and settings.", 0)
		a.Paragraph(1, 5, cells.Quiet, "Open the bench itself, or look at the traffic: 5.", 0)
		return
	}
	v.turn(c)
	v.room = a.H
	switch {
	case v.page == startPage:
		v.drawStart(a, h, c)
	default:
		v.scrolled(a, c)
	}
	if v.entry != nil {
		x := a.Text(0, a.H-1, cells.Strong, "character to draw, itself or in hex: ")
		v.entry.Draw(a, x, a.H-1, "  Enter draws, Esc leaves")
	}
}

// longest bounds the rows of a page.
const longest = 120

// tight says whether there is no room for empty rows.
func (v *View) tight() bool { return v.room < 30 }

// scrolled draws the page of a link; what is longer than its room can be scrolled.
func (v *View) scrolled(a cells.Area, l *bench.Link) {
	if v.entry != nil {
		a = a.Part(0, 0, a.W, a.H-1)
	}
	g := cells.New(a.W, longest)
	kinds[l.Kind.Name].draw(v, g.All(), l)
	rows := g.Used()
	room := a.H
	if rows > a.H {
		room--
		text := "↓ more"
		if v.top = max(min(v.top, rows-room), 0); v.top == rows-room {
			text = "↑ more"
		}
		a.Right(a.W, a.H-1, cells.Quiet, text)
	} else {
		v.top = 0
	}
	a.Part(0, 0, a.W, room).Copy(g, v.top)
}

// scrollCommands move what does not fit.
func (v *View) scrollCommands() []ui.Command {
	by := func(n int) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			v.top = max(v.top+n, 0)
			return nil
		}
	}
	page := max(v.room-2, 1)
	return []ui.Command{
		{Name: "up", Keys: []string{"up", "k"}, Help: "a row up, where the page is longer", Run: by(-1)},
		{Name: "down", Keys: []string{"down", "j"}, Help: "a row down", Run: by(1)},
		{Name: "page-up", Keys: []string{"pgup"}, Help: "a page up", Run: by(-page)},
		{Name: "page-down", Keys: []string{"pgdown"}, Help: "a page down", Run: by(page)},
	}
}

// Why implements ui.View.
func (v *View) Why(h ui.Host) []finding.Derivation {
	if v.page != framePage {
		return nil
	}
	l := h.Link()
	if l == nil {
		return nil
	}
	return l.Model.Derivations(kinds[l.Kind.Name].why(v, l))
}

// Click implements ui.View: a click on nothing does nothing.
func (v *View) Click(int, int, ui.Host) {}

// Wheel implements ui.View.
func (v *View) Wheel(down bool, _ ui.Host) {
	if v.page == framePage && down {
		v.top += 3
	} else if v.page == framePage {
		v.top = max(v.top-3, 0)
	}
}

// Type implements ui.View.
func (v *View) Type(k tea.KeyPressMsg, h ui.Host) tea.Cmd {
	switch k.String() {
	case "esc":
		v.entry = nil
	case "enter":
		if c, err := Character(v.entry.Text()); err != nil {
			h.Warn("%v", err)
		} else {
			v.value = c
			v.entry = nil
		}
	default:
		v.entry.Key(k)
	}
	return nil
}

// Character reads a character, given as itself or as two or three hex digits.
func Character(s string) (uint16, error) {
	if r := []rune(s); len(r) == 1 && r[0] < 0x80 {
		return uint16(r[0]), nil
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(strings.TrimSpace(s)), "0x"), 16, 16)
	if err != nil || n > 0x1ff {
		return 0, fmt.Errorf("%q: type one character, or hex from 00 to 1FF", safe.Text(s))
	}
	return uint16(n), nil
}

// Commands implements ui.View.
func (v *View) Commands(h ui.Host) []ui.Command {
	if c := h.Link(); c != nil {
		v.turn(c)
	}
	to := func(p page) func(string) tea.Cmd {
		return func(string) tea.Cmd {
			if v.page == p {
				p = framePage
			}
			v.page, v.top = p, 0
			return nil
		}
	}
	cs := []ui.Command{
		{Name: "startup", Keys: []string{"s"}, Help: "startup steps, or back to the frame", Short: "startup", Run: to(startPage)},
		{Name: "control-registers", Keys: []string{"r"}, Help: "the MCU's registers, in Registers (3)", Short: "registers", Run: func(string) tea.Cmd { h.Controls(); return nil }},
		{Name: "dump", Args: "[FILE]", Help: "judge from a dump; alone: the simulated", Run: v.loadDump(h)},
	}
	if v.page == startPage {
		return append(v.startCommands(h), cs...)
	}
	l := h.Link()
	if l == nil {
		return cs
	}
	return append(append(kinds[l.Kind.Name].commands(v, h, l), cs...), v.scrollCommands()...)
}
