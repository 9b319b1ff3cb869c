package tui

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/decode"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/vcd"
	"gavrix.org/gavrix/demo"
)

func demoBench(t testing.TB) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// shown gives an app over a capture, without a session.
func shown(t testing.TB, b *bench.Bench, span quantity.Time) *App {
	alone(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(span)
	a := newApp(b, "", nil, h.Store())
	a.source = "test"
	return a
}

func press(a *App, keys ...string) {
	for _, k := range keys {
		a.Update(keyNamed(k))
	}
}

var sgr = regexp.MustCompile("\x1b\\[[0-9;:]*m")

// TestNothingRawReachesTheTerminal shows every byte value from the wire, and
// names with control characters and broken UTF-8, in every form.
func TestNothingRawReachesTheTerminal(t *testing.T) {
	store := capture.NewStore(capture.Meta{Links: []capture.Link{
		{Name: "evil\x1b[2J\x9b\xff", Ends: []string{"a\x07", "b\x00"}, Kind: "uart"},
	}})
	var all []byte
	for i := range 256 {
		all = append(all, byte(i))
	}
	for i := 0; i < 256; i += 24 {
		store.Put(&record.Record{From: record.Device, Seen: record.MCU, Start: quantity.Time(i) * 1e9, End: quantity.Time(i)*1e9 + 1e6, Data: all[i:min(i+24, 256)]})
	}
	store.Put(&record.Record{Kind: record.Lost, Start: 1e12, Text: string(all)})
	store.Advance(2e12)
	a := newApp(nil, "", nil, store)
	a.source = "x\x1b]0;title\x07"
	for _, size := range [][2]int{{160, 47}, {80, 24}, {20, 5}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for _, keys := range [][]string{{}, {"up"}, {"up", "up", "enter"}, {"d"}, {"a"}, {"2"}, {"6"}, {"?"}, {"esc"}, {"tab"}, {"tab"}} {
			press(a, keys...)
			rest := sgr.ReplaceAllString(a.frame, "")
			for _, r := range rest {
				require.True(t, r == '\n' || unicode.IsPrint(r), "%U on the screen", r)
			}
			for line := range strings.SplitSeq(rest, "\n") {
				require.LessOrEqual(t, len([]rune(line)), size[0])
			}
		}
	}
}

// TestNoKeyAndNoSizeBreaksIt presses random keys at random sizes.
func TestNoKeyAndNoSizeBreaksIt(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		a := shown(t, demoBench(t), 500*quantity.Millisecond)
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			if rapid.IntRange(0, 3).Draw(rt, "resize") == 0 {
				a.Update(tea.WindowSizeMsg{Width: rapid.IntRange(0, 200).Draw(rt, "w"), Height: rapid.IntRange(0, 60).Draw(rt, "h")})
			}
			press(a, rapid.SampledFrom([]string{
				"2", "5", "4", "enter", "d", "s", "m", "o", "e", "esc", "+", "5", "J", "K", "tab", "enter", "up", "down", "6", "6", "n", "b", "r", "R", "E", "m", "x", "0", "left", "right", "pgup", "pgdown", "home", "end", "d", "a", "t", "e", "+", "-", "p", "o", "O", "I", "<", ">", "v", "f", "F", "u", "U", "w", "?", ":", "x", "esc", "h", "G", "z", "s", "s", "m", "J", "J", "y", "c", "i", "i", "enter", "esc",
			}).Draw(rt, "key"))
			require.Len(rt, strings.Split(a.frame, "\n"), max(a.h, 1))
		}
	})
}

// alone leaves a test out when races are looked for: it has one goroutine.
func alone(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("one goroutine: there is nothing to race with")
	}
}

// raced leaves a test out when races are looked for: what it runs beside the screen TestStorm runs too.
func raced(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("TestStorm races the same")
	}
}

// TestTinyScreens presses each key in each view, and in the help, on screens of a few
// rows and columns, and makes the screen large and small again.
func TestTinyScreens(t *testing.T) {
	for _, h := range []int{1, 2, 4} {
		a := shown(t, demoBench(t), 500*quantity.Millisecond)
		a.Update(tea.WindowSizeMsg{Width: 3 * h, Height: h})
		for _, view := range []string{"2", "3", "4", "5", "6", "7", "?"} {
			var keys []string
			for _, c := range a.allCommands() {
				if c.Name != "quit" {
					keys = append(keys, c.Keys...)
				}
			}
			for _, k := range append(keys, "pgdown", "pgup", "up", "down") {
				press(a, "esc", "esc", view, k, k)
				require.Len(t, strings.Split(a.frame, "\n"), h)
				a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
				a.Update(tea.WindowSizeMsg{Width: 3 * h, Height: h})
			}
		}
	}
}

// TestRecordsThatWentAreSaid: in the header, and where they would stand.
func TestRecordsThatWentAreSaid(t *testing.T) {
	alone(t)
	b := demoBench(t)
	h := sim.NewHeadless(b)
	h.Store().Bound(1 << 20)
	h.World.RunTo(40 * quantity.Second)
	require.Less(t, h.Store().Memory(), 3*(400<<10)+(1<<20))
	n, before := h.Store().Snapshot().Gone()
	require.Positive(t, n)
	a := newApp(b, "", nil, h.Store())
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	require.Contains(t, screenText(a), fmt.Sprintf("records before %.1f s discarded", before.Seconds()))
	press(a, "5", "home")
	require.Contains(t, screenText(a), fmt.Sprintf("%d records before these were discarded", n))
}

// TestOneBitIsOneTime: wherever Timing says how long a bit is, in both directions and
// with a divider that somebody pinned.
func TestOneBitIsOneTime(t *testing.T) {
	for _, divisor := range []string{"", "87", "260"} {
		b := demoBench(t)
		if divisor != "" {
			require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "upper-gauge", "mcu", "divisor"}, Value: divisor}))
		}
		a := newApp(b, "", nil, capture.NewStore(sim.MetaOf(b)))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 60})
		press(a, "2")
		for range 2 {
			press(a, "d")
			said := regexp.MustCompile(`1 bit =? ?([0-9.]+ [µm]?s)`).FindAllStringSubmatch(screenText(a), -1)
			// A drawn frame, and what is said of it.
			require.NotEmpty(t, said)
			require.Zero(t, len(said)%2)
			for i := 0; i < len(said); i += 2 {
				require.Equal(t, said[i][1], said[i+1][1], divisor)
			}
		}
	}
}

// Every rate behind a hop that is only assumed carries the mark, on all kinds of links.
func TestUnprovenRates(t *testing.T) {
	b := demoBench(t)
	marks := func() map[string]int {
		a := newApp(b, "", nil, capture.NewStore(sim.MetaOf(b)))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 60})
		press(a, "2")
		out := map[string]int{}
		for _, l := range b.Links {
			a.linkNamed(l.Name)
			press(a, "2")
			out[l.Name] = len(regexp.MustCompile(`\S  \? \S`).FindAllString(screenText(a), -1))
		}
		return out
	}
	for _, n := range marks() {
		require.Zero(t, n)
	}
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"mcu", "clocks", "crystal", "unproven"}, Value: "yes"}))
	for name, n := range marks() {
		l := b.Link(name)
		require.Greater(t, n, len(l.Unit.Clock), "%s: the hops, and what they lead to", name)
	}
}

// With a real port beside simulated links each link says which it is.
func TestMixedLinksSayWhatTheyAre(t *testing.T) {
	b := demoBench(t)
	for _, reals := range []int{0, 1, 3, len(b.Links)} {
		meta := sim.MetaOf(b)
		for i := range reals {
			meta.Links[i].Real = true
		}
		a := newApp(b, "", nil, capture.NewStore(meta))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 60})
		press(a, "2")
		simulated := len(b.Links) - reals
		if reals == 0 {
			simulated = 0
		}
		rows := regexp.MustCompile(`(?m)^ {5}(SIMULATED|REAL)`).FindAllString(screenText(a), -1)
		require.Len(t, rows, reals+simulated)
	}
}

// Escape pressed twice between two looks at the keyboard comes as Escape with Alt; it
// leaves the entry line all the same.
func TestEscapeTwiceAtOnce(t *testing.T) {
	b := demoBench(t)
	a := newApp(b, "", nil, capture.NewStore(sim.MetaOf(b)))
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 60})
	press(a, ":")
	require.NotNil(t, a.command)
	a.Update(tea.KeyPressMsg{Code: tea.KeyEscape, Mod: tea.ModAlt})
	require.Nil(t, a.command)
}

func screenText(a *App) string { return sgr.ReplaceAllString(a.frame, "") }

func TestEditsAreShownAndTakenBack(t *testing.T) {
	a := shown(t, demoBench(t), quantity.Second)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press(a, "J", "2", "e", "o", "o")
	assert.Contains(t, screenText(a), "frames disagree: lower-gauge 7E2")
	assert.Contains(t, screenText(a), "links.lower-gauge.device.frame: 7E2")
	text := string(a.bench.Text())
	assert.Contains(t, text, "frame: 7E2")
	press(a, "u")
	assert.NotContains(t, string(a.bench.Text()), "frame: 7E2")
	press(a, "U")
	assert.Equal(t, text, string(a.bench.Text()))
	press(a, ":")
	for _, r := range "set links.lower-gauge.mcu.rate 57600 kBd" {
		press(a, string(r))
	}
	press(a, "enter")
	assert.Contains(t, screenText(a), "did you mean 57600 Bd?")
	press(a, ":")
	for _, r := range "sev" {
		press(a, string(r))
	}
	press(a, "enter")
	assert.Contains(t, screenText(a), `no command "sev"`)
	press(a, "v")
	for _, r := range "5a" {
		press(a, string(r))
	}
	press(a, "enter")
	assert.Contains(t, screenText(a), "sends 'Z' (5A)")
}

func BenchmarkFrame(b *testing.B) {
	a := shown(b, demoBench(b), 20*quantity.Second)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	b.ReportAllocs()
	for b.Loop() {
		a.draw()
	}
}

// TestWaves: the levels of the last answer, with two cursors a bit apart.
func TestWaves(t *testing.T) {
	a := shown(t, demoBench(t), quantity.Second)
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press(a, "J", "6")
	assert.Contains(t, screenText(a), "all of it   1.00 s across")
	press(a, "+")
	assert.Contains(t, screenText(a), "500 ms across")
	press(a, "-", "R", "+", "+", "+", "+", "+", "+", "+", "+", "+")
	text := screenText(a)
	assert.Contains(t, text, "lower-gauge sent")
	assert.Contains(t, text, "MCU read")
	assert.Contains(t, text, "33", "the first digit of the level")
	// The record begins at the gauge's pin, the edge comes 40 ns later.
	press(a, "m", "n")
	assert.Contains(t, screenText(a), "Δt 40.0000 ns")
	press(a, "m", "n")
	// '3' is 33: start bit and then two ones. 28 800 Bd make 34.72 µs.
	assert.Contains(t, screenText(a), "Δt 34.7222 µs")
	press(a, "n")
	assert.Contains(t, screenText(a), "Δt 104.167 µs")
	press(a, "x", "b", "end")
	assert.Contains(t, screenText(a), "all of it")
	press(a, "0")
	assert.Contains(t, screenText(a), "from 0")
	// A link whose traffic came as bytes says what would show levels.
	c := newApp(nil, "", nil, capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "x", Kind: "uart"}}}))
	c.Update(tea.WindowSizeMsg{Width: 100, Height: 30})
	press(c, "6")
	assert.Contains(t, screenText(c), "This link has no levels")
}

// levelsFile is a capture of levels with a uart line and an spi bus.
func levelsFile(t *testing.T) ([]byte, []decode.Link) {
	tog, end := uart.Encode(nil, uart.Frame{Data: 8, Stop: 1}, quantity.PeriodOf(9600*quantity.Baud), quantity.Millisecond, 'o', 'k')
	l, e := spi.Encode(spi.Mode(0), quantity.Millisecond, quantity.Microsecond, []uint32{0xa5}, []uint32{0x3c})
	end = max(end, e) + 10*quantity.Millisecond
	var b bytes.Buffer
	w, err := vcd.NewWriter(&b, []string{"rx", "sck", "mosi", "miso", "cs"})
	require.NoError(t, err)
	var ws []wire.Window
	for i, x := range [][]quantity.Time{tog, l.Clock, l.Out, l.In, l.Select} {
		ws = append(ws, wire.Window{To: end, High: i == 0 || i == 4, Toggles: x})
	}
	require.NoError(t, w.Write(ws))
	require.NoError(t, w.Close(end))
	raw := b.Bytes()
	src, err := decode.Open("a.vcd", bytes.NewReader(raw), 0)
	require.NoError(t, err)
	var links []decode.Link
	for _, text := range []string{"gauge uart device=rx rate=9600", "angle spi clock=sck out=mosi in=miso select=cs"} {
		l, err := decode.ParseLink(text, src.Names())
		require.NoError(t, err)
		links = append(links, l)
	}
	return raw, links
}

// showing opens a file of levels; load reads it.
func showing(t *testing.T, name string, raw []byte, links ...decode.Link) (a *App, load tea.Cmd) {
	levels := &Levels{Name: name, Links: links, Open: func() (*File, error) {
		src, err := decode.Open(name, bytes.NewReader(raw), 0)
		return &File{Source: src, Share: func() float64 { return 0.5 }, Close: func() {}}, err
	}}
	require.NoError(t, levels.begin())
	a = newApp(nil, "", nil, levels.store)
	a.source, a.levels = name, levels
	a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	return a, levels.load()
}

// TestAFileOfLevelsIsShown: opened without a bench, its links stand over each
// other, with their labels once there is room.
func TestAFileOfLevelsIsShown(t *testing.T) {
	raw, links := levelsFile(t)
	a, load := showing(t, "a.vcd", raw, links...)
	press(a, "6")
	assert.Contains(t, screenText(a), "read to 50 %")
	assert.Contains(t, screenText(a), "This link has no levels")
	a.Update(load())
	press(a, "0", "r")
	assert.Contains(t, screenText(a), "device sent")
	assert.Contains(t, screenText(a), "angle")
	assert.NotContains(t, screenText(a), "read to")
	press(a, "J", "r")
	for range 9 {
		press(a, "+")
	}
	text := screenText(a)
	assert.Contains(t, text, "out A5  in 3C")
	assert.Contains(t, text, "out bits")
	// Between two cursors about the transaction: data changes half a clock
	// period before it is sampled.
	press(a, "b", "m", "r", "n", "n", "n", "n", "n", "n", "n", "n", "n", "n")
	assert.Contains(t, screenText(a), "stands still at least 1.000 µs before and 1.000 µs after the sampling edges")
	for _, key := range []string{"5", "2", "K", "5", "enter", "d", "a", "?"} {
		press(a, key)
	}
}
