package tui

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/vcd"
	"gavrix.org/gavrix/demo"
	"gavrix.org/gavrix/tui/ui"
)

// TestUnknownLinesAreProposed: of the demo's capture, whose lines have no names,
// all five buses are proposed and decoded at once when they are accepted.
func TestUnknownLinesAreProposed(t *testing.T) {
	a, load := showing(t, demo.CaptureName, demo.Capture)
	a.Update(load())
	press(a, "6")
	text := screenText(a)
	assert.Contains(t, text, "10 lines without a link")
	assert.Contains(t, text, "in5  idle low")
	assert.Contains(t, text, "in9")
	press(a, "y")
	assert.Contains(t, screenText(a), "nothing is proposed")

	propose := func() {
		cmd := a.propose("")
		assert.Contains(t, screenTextAfter(a), "reading levels")
		a.Update(cmd())
	}
	propose()
	text = screenText(a)
	for _, want := range []string{"5 proposals", "clock=in1 out=in6 in=in3 select=in8", "clock=in9 data=in0", "rate=250kbit/s", "frame=7E1", "the same on the wire"} {
		assert.Contains(t, text, want)
	}
	// The second one alone, then all that are left.
	press(a, "P")
	cmd := a.accept(false)
	assert.Contains(t, screenTextAfter(a), "accepted: --link 'spi spi clock=in1")
	a.Update(cmd())
	assert.Contains(t, screenText(a), "6 lines without a link")
	propose()
	a.Update(a.accept(true)())
	text = screenText(a)
	assert.Contains(t, text, "1 line without a link")
	require.Len(t, a.levels.described(), 5)
	press(a, "0", "r", "+", "+", "+", "+", "+")
	assert.Contains(t, screenText(a), "2A0")
	// Forgotten, its lines are unknown again.
	a.Update(a.forget("")())
	require.Len(t, a.levels.described(), 4)
	press(a, "5", "2", "6", "?", "esc")
}

// screenTextAfter draws and gives the screen.
func screenTextAfter(a *App) string {
	a.draw()
	return screenText(a)
}

// TestProposalsCanBeStopped: Esc ends the search.
func TestProposalsCanBeStopped(t *testing.T) {
	a, load := showing(t, demo.CaptureName, demo.Capture)
	a.Update(load())
	cmd := a.propose("")
	press(a, "esc")
	a.Update(cmd())
	assert.Contains(t, screenText(a), "stopped; nothing is proposed")
	assert.Nil(t, a.proposed)
}

// planted gives a file of five spi transactions, one of which has a bit turned
// round on the wire.
func planted(t *testing.T) []byte {
	var ws [4]wire.Window
	at := 10 * quantity.Microsecond
	for i := range 5 {
		l, end := spi.Encode(spi.Mode(1), at, quantity.Microsecond, []uint32{0x83, 0x00, 0x5A}, []uint32{0x40, 0x12, 0x34})
		if i == 3 {
			// Bit 4 of the third word is a 1 as well: two edges fewer or more.
			flip := at + quantity.Microsecond + 2*quantity.Microsecond*19
			l.Out = toggled(toggled(l.Out, flip), flip+2*quantity.Microsecond)
		}
		for k, x := range [][]quantity.Time{l.Clock, l.Out, l.In, l.Select} {
			ws[k].Toggles = append(ws[k].Toggles, x...)
		}
		at = end + 20*quantity.Microsecond
	}
	var b bytes.Buffer
	w, err := vcd.NewWriter(&b, []string{"sck", "mosi", "miso", "cs"})
	require.NoError(t, err)
	for k := range ws {
		ws[k].To, ws[k].High = at, k == 3
	}
	require.NoError(t, w.Write(ws[:]))
	require.NoError(t, w.Close(at))
	return b.Bytes()
}

// toggled adds a toggle, or takes it away.
func toggled(ts []quantity.Time, t quantity.Time) []quantity.Time {
	var out []quantity.Time
	placed := false
	for _, x := range ts {
		if !placed && x >= t {
			placed = true
			if x == t {
				continue
			}
			out = append(out, t)
		}
		out = append(out, x)
	}
	if !placed {
		out = append(out, t)
	}
	return out
}

// TestAWrongBitIsShown: of five transactions as planned but for one bit, that
// bit is found, listed, gone to and marked; before, the plan is drawn alone.
func TestAWrongBitIsShown(t *testing.T) {
	raw := planted(t)
	src, err := decode.Open("a.vcd", bytes.NewReader(raw), 0)
	require.NoError(t, err)
	link, err := decode.ParseLink("angle spi clock=sck out=mosi in=miso select=cs mode=1", src.Names())
	require.NoError(t, err)
	a, load := showing(t, "a.vcd", raw, link)
	press(a, "6")
	a.runCommand("plan out 83 00")
	assert.Contains(t, screenTextAfter(a), "no transaction like it is in the capture")
	press(a, "o")
	assert.Contains(t, screenText(a), "planned, nothing sent")
	assert.Contains(t, screenText(a), "83")
	press(a, "o")
	a.Update(load())
	a.runCommand("plan out 83 00 5A in 40 12 ..")
	text := screenTextAfter(a)
	assert.Contains(t, text, "4 as planned; d goes to the first of 1 differences")
	assert.Contains(t, text, "bit 20, b4 of 5A, is 0 instead of 1")
	press(a, "d")
	for range 4 {
		press(a, "+")
	}
	text = screenText(a)
	assert.Contains(t, text, "out planned")
	assert.Contains(t, text, "in planned")
	assert.Contains(t, text, "b4")
	press(a, "d")
	assert.Contains(t, screenText(a), "no difference after the cursor")
	// The plan in all four modes, one key each.
	for _, want := range []string{"mode 2", "mode 3, unlike the link: ", "mode 0, unlike the link: one end samples at the instant", "mode 1, as the link"} {
		press(a, "M")
		assert.Contains(t, screenText(a), want)
	}
	press(a, "o")
	a.runCommand("plan out nonsense")
	assert.Contains(t, screenTextAfter(a), "8 bits in hex")
	a.runCommand("plan")
	assert.NotContains(t, screenTextAfter(a), "PLANNED")
}

// TestLinesAreArranged: hidden, moved, named, derived.
func TestLinesAreArranged(t *testing.T) {
	raw := planted(t)
	a, load := showing(t, "a.vcd", raw)
	a.Update(load())
	press(a, "6")
	rows := func() (out []string) {
		for _, l := range bytes.Split([]byte(screenText(a)), []byte("\n")) {
			for _, n := range []string{"sck", "mosi", "miso", "cs", "gauge", "busy"} {
				if bytes.Contains(l, []byte(" "+n+"  ")) {
					out = append(out, n)
				}
			}
		}
		return out
	}
	require.Equal(t, []string{"sck", "mosi", "miso", "cs"}, rows())
	a.runCommand("hide mosi")
	a.runCommand("first-line cs")
	a.runCommand("name miso gauge")
	a.runCommand("derive busy = not cs and gauge")
	a.draw()
	require.Equal(t, []string{"cs", "sck", "gauge", "busy"}, rows())
	a.runCommand("derive busy =")
	a.runCommand("show-all")
	a.runCommand("hide nobody")
	text := screenTextAfter(a)
	assert.Contains(t, text, `no line "nobody"; the link has sck, mosi, gauge, cs`)
	press(a, "esc")
	require.Equal(t, []string{"sck", "mosi", "gauge", "cs"}, rows())
}

// TestDrawACapture: the picture of a capture without a bench can be saved.
func TestDrawACapture(t *testing.T) {
	a, load := showing(t, demo.CaptureName, demo.Capture)
	a.Update(load())
	press(a, "6")
	path := filepath.Join(t.TempDir(), "w.svg")
	a.Update(a.runCommand("draw " + path)())
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "in9")
	// By key under a free name, which is told.
	t.Chdir(t.TempDir())
	for _, name := range []string{"waves-1.svg", "waves-2.svg"} {
		a.Update(a.drawHere("")())
		assert.Contains(t, screenText(a), "wrote "+name)
		assert.FileExists(t, name)
	}
	// Where there is no picture, that is said.
	press(a, "2")
	assert.Nil(t, a.runCommand("draw "+path))
	assert.Contains(t, screenTextAfter(a), "no picture")
}

// TestArrangementsFollowTheirLink: when links come and go, a plan and hidden lines
// stay with the link that they were made for.
func TestArrangementsFollowTheirLink(t *testing.T) {
	a, load := showing(t, demo.CaptureName, demo.Capture)
	a.Update(load())
	press(a, "6")
	cmd := a.propose("")
	a.Update(cmd())
	a.Update(a.accept(true)())
	named := func(name string) {
		for i, l := range a.levels.Links {
			if l.Name == name {
				a.link = i
			}
		}
		a.draw()
	}
	named("spi")
	a.runCommand("plan out 83 00 00 00")
	a.runCommand("hide in")
	a.runCommand("derive busy = not select")
	assert.Contains(t, screenTextAfter(a), "29 as planned")
	derived := func() *scene.Scene {
		s := a.current().(ui.Pictured).Scene(a)
		for i := range s.Lanes {
			if s.Lanes[i].Detail == "busy" {
				return &scene.Scene{Lanes: s.Lanes[i : i+1]}
			}
		}
		return nil
	}
	before := derived()
	require.NotNil(t, before)
	// The link before it goes: all others move up.
	named("in7")
	a.Update(a.forget("")())
	for _, l := range a.levels.Links {
		named(l.Name)
		text := screenText(a)
		if l.Name == "spi" {
			assert.Contains(t, text, "29 as planned", "once, not twice")
			assert.NotContains(t, text, " in sent")
			assert.Equal(t, before, derived(), "made from the same lines")
		} else {
			assert.NotContains(t, text, "PLANNED")
		}
	}
}

// TestLevelsOfABench: the levels of a bench alone show in each view what the recorded capture
// of the same bench does.
func TestLevelsOfABench(t *testing.T) {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	h := sim.NewHeadless(b)
	h.World.RunTo(1500 * quantity.Millisecond)
	snap := h.Store().Snapshot()
	recorded := newApp(b, "", nil, h.Store())
	opened := func() (*File, error) {
		return &File{Source: decode.OfCapture(snap), Share: func() float64 { return 1 }, Close: func() {}}, nil
	}
	names := decode.OfCapture(snap).Names()
	links, _ := decode.FromBench(b, names)
	l := &Levels{Name: "lock.vcd", Open: opened, Links: links, Bench: b}
	require.NoError(t, l.begin())
	levels := newApp(b, "", nil, l.store)
	levels.source, levels.levels = l.Name, l
	levels.Update(l.load()())
	for _, a := range []*App{recorded, levels} {
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 50})
	}
	for _, key := range []string{"2", "3", "4"} {
		for i := range b.Links {
			for _, a := range []*App{recorded, levels} {
				a.link = i
				press(a, key)
			}
			view := func(a *App) (out []string) {
				lines := strings.Split(screenText(a), "\n")
				for _, l := range lines[1 : len(lines)-1] {
					_, text, _ := strings.Cut(l, "╎")
					// Of levels nobody knows what was before them.
					out = append(out, strings.Join(strings.Fields(strings.ReplaceAll(text, "≥ ", "")), " "))
				}
				return out
			}
			require.Equal(t, view(recorded), view(levels), "view %s of %s", key, b.Links[i].Name)
		}
	}
}
