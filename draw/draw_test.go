// Package draw_test holds the renderers against each other: each must draw
// every fact of a scene, and none may let a control character through.
package draw_test

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/picture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/draw/cells"
	"gavrix.org/gavrix/draw/paper"
	"gavrix.org/gavrix/draw/pdf"
	"gavrix.org/gavrix/draw/svg"
)

func frame(f uart.Frame, rate float64, os int) uart.Settings {
	return uart.Settings{Rate: quantity.FromBd(rate), Frame: f, Oversampling: os}
}

// anyWave is a picture with a time axis, cursors, and stretches too busy to
// draw.
func anyWave(rt *rapid.T) *scene.Scene {
	s := &scene.Scene{Title: "levels", To: 1000}
	time := scene.Lane{Name: "time"}
	for range rapid.IntRange(0, 8).Draw(rt, "ticks") {
		at := quantity.Time(rapid.Int64Range(0, 999).Draw(rt, "tick"))
		time.Ticks = append(time.Ticks, scene.Mark{At: at, Label: at.String()})
	}
	levels := scene.Lane{Detail: "line", Levels: &scene.Levels{High: rapid.Bool().Draw(rt, "high")}}
	high := levels.Levels.High
	for at := quantity.Time(0); at < 900; {
		at += 1 + quantity.Time(rapid.Int64Range(0, 200).Draw(rt, "step"))
		if rapid.IntRange(0, 3).Draw(rt, "busy") == 0 {
			high = rapid.Bool().Draw(rt, "behind")
			b := scene.Busy{From: at, To: at + 50, Edges: 9, High: high}
			levels.Levels.Busy = append(levels.Levels.Busy, b)
			at += 50
		} else {
			high = !high
			levels.Levels.Toggles = append(levels.Levels.Toggles, at)
		}
	}
	cells := scene.Lane{Name: "sent", Cells: []scene.Cell{{From: -200, To: 300, Label: "reaches in"}, {From: 400, To: 2000, Label: "reaches out", Tone: scene.Differ}}}
	s.Lanes = []scene.Lane{time, cells, levels}
	for _, name := range []string{"A", "B"} {
		s.Cursors = append(s.Cursors, scene.Mark{At: quantity.Time(rapid.Int64Range(-100, 1100).Draw(rt, name)), Label: name})
	}
	return s
}

// anySeries is a picture of values over time, and of values against each other.
func anySeries(rt *rapid.T) *scene.Scene {
	s := &scene.Scene{Title: "values", To: 1000}
	number := func(name string) float64 { return rapid.Float64Range(-1e6, 1e6).Draw(rt, name) }
	low, high := number("low"), number("high")
	scale := scene.Scale{Low: min(low, high), High: max(low, high), Unit: rapid.SampledFrom([]string{"", "bar"}).Draw(rt, "unit")}
	lane := scene.Lane{Name: "pressure", Scale: &scale}
	for k := range rapid.IntRange(0, 3).Draw(rt, "series") {
		x := scene.Series{Name: fmt.Sprint("value ", k), Hue: k, Steps: rapid.Bool().Draw(rt, "steps"), Dots: rapid.Bool().Draw(rt, "dots")}
		for at := quantity.Time(0); at < 900; at += 1 + quantity.Time(rapid.IntRange(0, 400).Draw(rt, "step")) {
			a, b := number("a"), number("b")
			p := scene.Point{At: at, To: at, First: a, Last: a, Least: a, Most: a, N: 1, Gap: rapid.Bool().Draw(rt, "gap")}
			if rapid.Bool().Draw(rt, "many") {
				p = scene.Point{At: at, To: at, First: a, Last: b, Least: min(a, b), Most: max(a, b), N: 7}
			}
			x.Points = append(x.Points, p)
		}
		lane.Series = append(lane.Series, x)
	}
	s.Lanes = []scene.Lane{lane}
	c := scene.Chart{Title: "one against the other", XName: "sent", YName: "seen", X: scale, Y: scale}
	for range rapid.IntRange(0, 5).Draw(rt, "points") {
		c.Points = append(c.Points, scene.XY{X: number("x"), Y: number("y")})
	}
	for range rapid.IntRange(0, 3).Draw(rt, "bars") {
		x := number("bar")
		c.Bars = append(c.Bars, scene.Bar{X: x, To: x + 5, N: rapid.IntRange(0, 9).Draw(rt, "n")})
	}
	if rapid.Bool().Draw(rt, "line") {
		c.Line, c.LineText = &[2]scene.XY{{X: scale.Low, Y: scale.Low}, {X: scale.High, Y: scale.High}}, "the line that fits best"
	}
	if rapid.Bool().Draw(rt, "chart") {
		s.Charts = []scene.Chart{c}
	}
	return s
}

func anyScene(rt *rapid.T) *scene.Scene {
	var s *scene.Scene
	switch rapid.IntRange(0, 3).Draw(rt, "what") {
	case 3:
		s = anySeries(rt)
	case 0:
		s = anyWave(rt)
	case 1:
		s = anyFrame(rt)
	default:
		s = &scene.Scene{Title: "hops only"}
	}
	text := rapid.StringMatching(`[a-z]{1,9}( [a-z×÷]{1,9}){0,3}`)
	for range rapid.IntRange(0, 5).Draw(rt, "hops") {
		s.Hops = append(s.Hops, scene.Hop{
			Mark: rapid.SampledFrom([]string{"", "×", "12 ●"}).Draw(rt, "mark"), Name: text.Draw(rt, "name"), Value: text.Draw(rt, "value"), Detail: text.Draw(rt, "detail"),
			Under: text.Draw(rt, "under"), Tone: scene.Tone(rapid.IntRange(0, 3).Draw(rt, "tone")), Heading: rapid.Bool().Draw(rt, "heading"),
		})
	}
	return s
}

// anyFrame is the picture of a character.
func anyFrame(rt *rapid.T) *scene.Scene {
	f := func(name string) uart.Frame {
		return uart.Frame{Data: rapid.IntRange(7, 9).Draw(rt, name), Parity: uart.ParityRule(rapid.IntRange(0, 2).Draw(rt, name)), Stop: rapid.IntRange(1, 2).Draw(rt, name)}
	}
	rate := rapid.Float64Range(300, 1e6).Draw(rt, "rate")
	other := rate * rapid.Float64Range(0.9, 1.1).Draw(rt, "off")
	e := picture.FrameEnds{
		Sender: "gauge\x1b[31m", Receiver: "MCU\x00\xff", SenderSet: frame(f("sender"), rate, 16), ReceiverSet: frame(f("receiver"), other, 16),
		SenderRate: quantity.FromBd(rate), ReceiverRate: quantity.FromBd(other), Inverted: rapid.Bool().Draw(rt, "inverted"),
	}
	return picture.Frame(e, rapid.Uint16().Draw(rt, "value"))
}

func sorted(in []string) []string {
	out := append([]string{}, in...)
	sort.Strings(out)
	return out
}

// titles reads the facts back from an SVG file.
func titles(t require.TestingT, text []byte) (facts []string, all string) {
	dec := xml.NewDecoder(bytes.NewReader(text))
	depth, inTitle := 0, false
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return facts, all
		}
		require.NoError(t, err)
		switch x := tok.(type) {
		case xml.StartElement:
			depth++
			inTitle = x.Name.Local == "title" && depth == 3
		case xml.EndElement:
			depth--
			inTitle = false
		case xml.CharData:
			all += string(x)
			if inTitle {
				facts = append(facts, string(x))
			}
		}
	}
}

func TestEveryRendererDrawsEveryFact(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anyScene(rt)
		width := rapid.IntRange(70, 200).Draw(rt, "width")
		g := cells.New(width, cells.SceneHeight(s, width))
		require.Equal(rt, sorted(s.Facts()), sorted(cells.Scene(g.All(), s)))
		shown := strings.Fields(g.String())
		for _, h := range s.Hops {
			for _, w := range strings.Fields(h.Name + " " + h.Under) {
				require.Contains(rt, strings.Join(shown, " "), w, "clipped")
			}
		}
		for _, r := range g.String() {
			require.True(rt, r == '\n' || unicode.IsPrint(r))
		}
	})
}

func TestSVGHoldsTheFacts(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anyScene(rt)
		for i := range s.Lanes {
			s.Lanes[i].Name = fmt.Sprint("lane ", i) // XML itself can't carry control characters
		}
		var b bytes.Buffer
		require.NoError(rt, svg.Write(&b, s))
		facts, _ := titles(rt, b.Bytes())
		require.Equal(rt, sorted(s.Facts()), sorted(facts))
	})
}

func TestNoControlCharacterGetsThrough(t *testing.T) {
	s := &scene.Scene{Title: "\x1b]0;x\x07 \x9b \xff", To: 10, Notes: []string{"\x00\x08"}}
	var all string
	for i := range 0x20 {
		all += string(rune(i))
	}
	for i := 0x7f; i < 0xa0; i++ {
		all += string(rune(i))
	}
	s.Lanes = []scene.Lane{{Name: all, Detail: all, Cells: []scene.Cell{{To: 5, Label: "A" + all}}, Marks: []scene.Mark{{At: 3, Label: all}}}}
	var b bytes.Buffer
	require.NoError(t, svg.Write(&b, s))
	for _, r := range b.String() {
		require.True(t, r == '\n' || unicode.IsPrint(r), "%U in SVG", r)
	}
	_, text := titles(t, b.Bytes())
	assert.Contains(t, text, "¤")
	g := cells.New(80, 4)
	cells.Scene(g.All(), s)
	for _, r := range g.String() {
		require.True(t, r == '\n' || unicode.IsPrint(r), "%U on screen", r)
	}
	assert.ErrorIs(t, svg.Write(failing{}, s), io.ErrShortWrite)
	onlyText(t, s)
}

// onlyText reads a scene's PDF back and gives its text, in which nothing is
// unprintable.
func onlyText(t *testing.T, s *scene.Scene) string {
	var b bytes.Buffer
	require.NoError(t, pdf.Write(&b, s))
	tool, err := exec.LookPath("pdftotext")
	if err != nil {
		t.Skip("pdftotext is not installed; make test installs it")
	}
	file := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	text, err := exec.Command(tool, "-layout", file, "-").Output()
	require.NoError(t, err)
	for _, r := range string(text) {
		require.True(t, strings.ContainsRune("\n\f ", r) || unicode.IsPrint(r), "%U in PDF", r)
	}
	return string(text)
}

type failing struct{}

func (failing) Write([]byte) (int, error) { return 0, io.ErrShortWrite }

func TestPDFReadsBack(t *testing.T) {
	s := picture.Frame(picture.FrameEnds{
		Sender: "gauge", Receiver: "MCU", SenderSet: frame(uart.Frame{Data: 7, Parity: uart.Even, Stop: 1}, 28800, 16),
		ReceiverSet: frame(uart.Frame{Data: 8, Stop: 1}, 28735.6, 16), SenderRate: 28800 * quantity.Baud, ReceiverRate: quantity.FromBd(28735.6),
	}, '\n')
	text := onlyText(t, s)
	for _, want := range []string{"gauge sends '‹LF›' (0A) to MCU", "7E1", "8N1", "≠ b7", "parity", "µs", "stores 0A"} {
		assert.Contains(t, text, want)
	}
}

func TestColumnsAreTrueToScale(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anyFrame(rt)
		w := rapid.IntRange(90, 200).Draw(rt, "width")
		g := cells.New(w, cells.SceneHeight(s, w))
		cells.Scene(g.All(), s)
		// The line's row: after each toggle the level at its column is the new one.
		const left = 18
		high := s.Lanes[1].Levels.High
		for i, at := range s.Lanes[1].Levels.Toggles {
			high = !high
			x := left + int(float64(at-s.From)/float64(s.To-s.From)*float64(w-left-1))
			next := left + w
			if i+1 < len(s.Lanes[1].Levels.Toggles) {
				n := s.Lanes[1].Levels.Toggles[i+1]
				next = left + int(float64(n-s.From)/float64(s.To-s.From)*float64(w-left-1))
			}
			if next == x {
				continue // closer than a column
			}
			want := '▁'
			if high {
				want = '▔'
			}
			require.Equal(rt, want, g.At(x, 1).Rune)
		}
	})
}

// TestWordsStandBesideValues: what is said of a lane of values ends where its picture begins.
func TestWordsStandBesideValues(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		word := rapid.StringMatching("[a-z]{1,12}(-[a-z]{1,12}){0,3}")
		n := scene.Lane{
			Name: strings.Join(rapid.SliceOfN(word, 1, 3).Draw(rt, "names"), ", "), Detail: strings.Join(rapid.SliceOfN(word, 0, 4).Draw(rt, "details"), "  "),
			Scale: &scene.Scale{Low: 0, High: 1}, Series: []scene.Series{{Points: []scene.Point{{At: 0, To: 9}}}},
		}
		p := paper.Layout(&scene.Scene{To: 10, Lanes: []scene.Lane{n, n}}, 800)
		from := math.Inf(1)
		for _, l := range p.Lines {
			from = min(from, l.X1)
		}
		said := ""
		for _, x := range p.Texts {
			if x.X < from {
				said += x.Text + " "
				require.LessOrEqual(rt, x.X+0.6*x.Size*float64(utf8.RuneCountInString(x.Text)), from, "%q", x.Text)
			}
		}
		for _, part := range strings.FieldsFunc(n.Name+", "+n.Detail, func(r rune) bool { return r == ',' || r == ' ' }) {
			require.Contains(rt, said, part)
		}
	})
}

// TestNothingRunsOffThePage: no text begins or ends outside of the page, however long it is.
func TestNothingRunsOffThePage(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := anyScene(rt)
		long := rapid.StringMatching(`[a-z]{1,20}( [a-z]{1,9}){0,40}`)
		s.Title, s.Notes = long.Draw(rt, "title"), append(s.Notes, long.Draw(rt, "note"))
		for i := range s.Hops {
			s.Hops[i].Detail, s.Hops[i].Under = long.Draw(rt, "detail"), long.Draw(rt, "under")
		}
		p := paper.Layout(s, 760)
		for _, x := range p.Texts {
			from, wide := x.X, 0.6*x.Size*float64(runewidth.StringWidth(x.Text))
			if x.Anchor == paper.Middle {
				from -= wide / 2
			}
			require.GreaterOrEqual(rt, from, 0.0, "%q", x.Text)
			require.LessOrEqual(rt, from+wide, p.W+0.01, "%q", x.Text)
			require.Less(rt, x.Y, p.H, "%q", x.Text)
		}
	})
}
