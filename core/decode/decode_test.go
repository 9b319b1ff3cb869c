package decode

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/pulse"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/jsonl"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/core/wire/csv"
	"gavrix.org/gavrix/core/wire/vcd"
	"gavrix.org/gavrix/core/wire/wiretest"
)

// mixed is the levels of all buses at once, and what went over them.
type mixed struct {
	names []string
	high  []bool
	tog   [][]quantity.Time
	end   quantity.Time

	text  []byte
	words [][2][]uint32
	i2c   [][]i2c.Byte
	can   []can.Frame
	strip []uint32
}

var links = []string{
	"gauge uart device=rx rate=57.6k frame=7E1",
	"angle spi clock=sck out=mosi in=miso select=cs mode=1 word=16",
	"tilt i2c clock=scl data=sda",
	`pump can line=can rate="250 kbit/s" sample=80%`,
	// Made from two lines, of which one lets the other through.
	`strip pulse line="enable and not raw" zero="0.2 to 0.5 us" one="0.6 to 1 us" low="0.3 to 5 us" latch=50us element=12`,
}

func newMixed(seed uint64) *mixed {
	rng := rand.New(rand.NewPCG(seed, 3))
	m := &mixed{
		names: []string{"rx", "sck", "mosi", "miso", "cs", "scl", "sda", "can", "enable", "raw"},
		high:  []bool{true, false, false, false, true, true, true, true, false, true},
		tog:   make([][]quantity.Time, 10),
	}
	at := quantity.Time(quantity.Millisecond)
	for range 40 {
		c := byte(rng.IntN(128))
		m.text = append(m.text, c)
		m.tog[0], at = uart.Encode(m.tog[0], uart.Frame{Data: 7, Parity: uart.Even, Stop: 1}, quantity.PeriodOf(57600*quantity.Baud), at, uint16(c))
	}
	m.end = at
	set := spi.Mode(1)
	set.Word = 16
	at = quantity.Millisecond
	for range 20 {
		o, b := []uint32{rng.Uint32() & 0xffff, rng.Uint32() & 0xffff}, []uint32{rng.Uint32() & 0xffff, rng.Uint32() & 0xffff}
		l, end := spi.Encode(set, at, 500_000, o, b)
		m.tog[1], m.tog[2], m.tog[3], m.tog[4] = append(m.tog[1], l.Clock...), append(m.tog[2], l.Out...), append(m.tog[3], l.In...), append(m.tog[4], l.Select...)
		m.words = append(m.words, [2][]uint32{o, b})
		at = end + 100*quantity.Microsecond
	}
	m.end = max(m.end, at)
	at = quantity.Millisecond
	for range 20 {
		bs := []i2c.Byte{{Value: 0x96, Acked: true, Start: true}, {Value: byte(rng.Uint32()), Acked: rng.IntN(2) == 0}}
		c, d, end := i2c.Encode(at, 2_500_000, bs, true)
		m.tog[5], m.tog[6] = append(m.tog[5], c...), append(m.tog[6], d...)
		m.i2c = append(m.i2c, bs)
		at = end + 50*quantity.Microsecond
	}
	m.end = max(m.end, at)
	at = quantity.Millisecond
	timing := can.UsualTiming(250*quantity.Kilobaud, 0)
	for range 20 {
		f := can.Frame{ID: rng.Uint32() & 0x7ff, Data: []byte{byte(rng.Uint32()), byte(rng.Uint32())}, DLC: 2}
		m.tog[7], at = can.Encode(m.tog[7], can.Build(f, true), timing, at)
		m.can = append(m.can, f)
		at += 20 * quantity.Microsecond
	}
	m.end = max(m.end, at)
	at = 2 * quantity.Millisecond
	m.tog[8] = []quantity.Time{at - 1000}
	set2, err := ParseSettings(pulse.Kind, `{zero: 0.2 to 0.5 us, one: 0.6 to 1 us, low: 0.3 to 5 us, latch: 50us, element: 12}`)
	if err != nil {
		panic(err)
	}
	for range 36 {
		m.strip = append(m.strip, rng.Uint32()&0xfff)
	}
	m.tog[9], at = pulse.Encode(nil, set2.(pulse.Settings), at, m.strip...)
	m.end = max(m.end, at) + quantity.Millisecond
	return m
}

// write gives the levels to a sink in stretches.
func (m *mixed) write(t *testing.T, s Sink) {
	wiretest.Feed(m.tog, m.high, m.end, wiretest.Steps(777*quantity.Microsecond), func(ws []wire.Window) { require.NoError(t, s.Write(ws)) })
	require.NoError(t, s.Close(m.end))
}

func run(t *testing.T, src Source, o Options) []record.Record {
	var ls []Link
	for _, words := range links {
		l, err := ParseLink(words, src.Names())
		require.NoError(t, err)
		ls = append(ls, l)
	}
	out := &record.List{}
	require.NoError(t, Run(context.Background(), src, ls, o, out))
	return out.Done
}

func TestAllBusesInOnePass(t *testing.T) {
	for seed := range uint64(5) {
		m := newMixed(seed)
		var v, c bytes.Buffer
		vw, err := vcd.NewWriter(&v, m.names)
		require.NoError(t, err)
		m.write(t, vw)
		cw, err := csv.NewWriter(&c, m.names)
		require.NoError(t, err)
		m.write(t, cw)
		for name, text := range map[string]string{"a.vcd": v.String(), "a.csv": c.String()} {
			src, err := Open(name, strings.NewReader(text), 0)
			require.NoError(t, err)
			var text []byte
			var nSPI, nI2C, nCAN int
			for _, r := range run(t, src, Options{}) {
				require.Zero(t, r.AllFlags(), r.Text)
				switch r.Link {
				case 0:
					text = append(text, r.Data...)
				case 1:
					require.Equal(t, m.words[nSPI], [2][]uint32{spi.Words(&r, r.Data), spi.Words(&r, r.Back)})
					nSPI++
				case 2:
					require.Equal(t, m.i2c[nI2C][1].Value, r.Data[1])
					require.Equal(t, m.i2c[nI2C][1].Acked, r.Back[1]&record.Acked != 0)
					nI2C++
				case 4:
					require.Equal(t, m.strip, pulse.Elements(&r))
				case 3:
					require.Equal(t, m.can[nCAN].ID, r.ID)
					require.Equal(t, m.can[nCAN].Data, r.Data)
					nCAN++
				}
			}
			assert.Equal(t, m.text, text)
			assert.Equal(t, []int{20, 20, 20}, []int{nSPI, nI2C, nCAN})
		}
		// Converted there and back, the levels are the same.
		src, err := Open("a.csv", bytes.NewReader(c.Bytes()), 0)
		require.NoError(t, err)
		var again bytes.Buffer
		w, err := vcd.NewWriter(&again, src.Names())
		require.NoError(t, err)
		require.NoError(t, Copy(src, w))
		a, b := levels(t, "a.vcd", v.String()), levels(t, "a.vcd", again.String())
		assert.Equal(t, a, b)
	}
}

// asVCD gives the levels as a file.
func (m *mixed) asVCD(t *testing.T) []byte {
	var v bytes.Buffer
	w, err := vcd.NewWriter(&v, m.names)
	require.NoError(t, err)
	m.write(t, w)
	return v.Bytes()
}

// opened gives a source of the file and the links in it.
func opened(t *testing.T, text []byte) (Source, []Link) {
	src, err := Open("a.vcd", bytes.NewReader(text), 0)
	require.NoError(t, err)
	var ls []Link
	for _, words := range links {
		l, err := ParseLink(words, src.Names())
		require.NoError(t, err)
		ls = append(ls, l)
	}
	return src, ls
}

func levels(t *testing.T, name, text string) [][]quantity.Time {
	src, err := Open(name, strings.NewReader(text), 0)
	require.NoError(t, err)
	var all []int
	for i := range src.Names() {
		all = append(all, i)
	}
	src.Select(all...)
	out := make([][]quantity.Time, len(all))
	for {
		ws, err := src.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		for i, w := range ws {
			out[i] = append(out[i], w.Toggles...)
		}
	}
}

func TestFromAndTo(t *testing.T) {
	text := newMixed(1).asVCD(t)
	src, _ := opened(t, text)
	from, to := 2*quantity.Millisecond, 3*quantity.Millisecond
	part := run(t, src, Options{From: from, To: to})
	require.NotEmpty(t, part)
	for _, r := range part {
		assert.True(t, r.End >= from && r.Start < to)
	}
	src, _ = opened(t, text)
	n := 0
	for _, r := range run(t, src, Options{}) {
		if r.End >= from && r.Start < to {
			n++
		}
	}
	assert.Len(t, part, n)
}

func TestWhatStandsBeforeAFaultIsDecoded(t *testing.T) {
	text := newMixed(2).asVCD(t)
	src, ls := opened(t, append(text[:len(text)/2:len(text)/2], []byte("\n#oops\n")...))
	out := &record.List{}
	err := Run(context.Background(), src, ls, Options{}, out)
	assert.ErrorContains(t, err, "line ")
	assert.Greater(t, len(out.Done), 20)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	src, _ = opened(t, text)
	assert.ErrorIs(t, Run(ctx, src, ls, Options{}, out), context.Canceled)
}

func TestLinksInWords(t *testing.T) {
	names := []string{"top.rx", "top.sck", "a.cs", "b.cs", "mosi"}
	for text, want := range map[string]string{
		"gauge":                                       "write a name",
		"g uarrt device=rx":                           `no bus "uarrt"; known are uart, spi, i2c, can, pulse`,
		"g uart device":                               "no key=value",
		"g uart device=ry rate=9600":                  `no line "ry"; did you mean`,
		"g uart device=zzzz rate=9600":                "the file has top.rx",
		"g uart rate=9600":                            "which line is it? add mcu=LINE or device=LINE",
		"g uart device=rx":                            `no "rate"`,
		"g uart device=rx rate=9600 frame=9X1":        "parity is N",
		"g uart device=rx rate=57600kBd":              "did you mean 57600 Bd?",
		"g spi clock=sck select=cs":                   "several lines are called",
		"g spi clock=sck":                             "add select=LINE, or active=none",
		"g spi clock=sck active=none":                 "a gap must say",
		"g spi select=a.cs":                           "which line is the clock?",
		"g spi clock=sck select=a.cs mode=4":          "expected one of 0, 1, 2, 3",
		`g uart device="rx`:                           "a quote is not closed",
		"g uart mcu=rx device=rx rate=9600 frame=8N1": "one line plays two roles, mcu and device",
		"g can line=rx rate=250k sample=120%":         "at most 100 %",
		"g i2c clock=sck data=mosi colour=green":      `unknown key "colour"`,
		`g can line="sck and" rate=250k`:              "missing at the end",
		`g can line="sck or nix" rate=250k`:           `no line "nix"`,
		"g uart device=rx rate=9600 idle-gap=x":       "idle-gap",
	} {
		_, err := ParseLink(text, names)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
	l, err := ParseLink(`the-gauge uart device=top.rx rate="28.8 kBd" frame=7E1`, names)
	require.NoError(t, err)
	assert.False(t, l.Lines[0].Present())
	assert.Equal(t, []int{0}, l.Lines[1].inputs)
	assert.Equal(t, "7E1", l.Settings[0].Describe())
	_, err = Open("x.bin", strings.NewReader(""), 0)
	assert.ErrorContains(t, err, ".vcd and .csv")
}

// TestRecordsComeInOrder: of several links within a stretch of the file too.
func TestRecordsComeInOrder(t *testing.T) {
	src, ls := opened(t, newMixed(6).asVCD(t))
	out := &record.List{}
	require.NoError(t, Run(context.Background(), src, ls, Options{}, out))
	require.Greater(t, len(out.Done), 50)
	turns := 0
	for i := 1; i < len(out.Done); i++ {
		if out.Done[i].End < out.Done[i-1].End {
			turns++ // only where a stretch ends
		}
	}
	assert.LessOrEqual(t, turns, 1)
	src, ls = opened(t, newMixed(6).asVCD(t))
	store := capture.NewStore(Meta(ls))
	require.NoError(t, Load(context.Background(), src, ls, store))
	snap := store.Snapshot()
	tapped := 0
	for i := range snap.Len() {
		if snap.At(i).Seen == record.Tap {
			tapped++
		}
	}
	assert.Equal(t, len(out.Done), tapped)
	assert.Greater(t, snap.Len(), tapped, "and what receivers read")
	for i, l := range ls {
		for k := range l.Lines {
			_, ok := snap.Kept(uint16(i), k)
			assert.Equal(t, l.Lines[k].Present(), ok)
		}
	}
}

func TestJSONOfEachBus(t *testing.T) {
	src, ls := opened(t, newMixed(3).asVCD(t))
	meta := Meta(ls)
	seen := map[string]map[string]any{}
	out := &record.List{}
	require.NoError(t, Run(context.Background(), src, ls, Options{}, out))
	for i := range out.Done {
		raw, err := jsonl.Marshal(&meta, &out.Done[i], "")
		require.NoError(t, err)
		var line struct {
			Bus    string
			Text   string
			Detail map[string]any
		}
		require.NoError(t, json.Unmarshal(raw, &line))
		assert.NotEmpty(t, line.Text)
		seen[line.Bus] = line.Detail
	}
	assert.Contains(t, seen["spi"], "word_bits")
	assert.Contains(t, seen["i2c"], "parts")
	assert.Contains(t, seen["can"], "identifier")
	assert.Contains(t, seen, "uart")
}

// benchText describes the same buses as links, in a bench.
const benchText = `
bench: test
mcu:
  name: Marlow 40
  clocks: {bus: {source: 40 MHz}}
  units: {serial1: {kind: uart, clock: bus, divider: {most: 4096}}}
links:
  gauge:
    kind: uart
    unit: serial1
    mcu: {rate: 57.6 kBd, frame: 7E1}
    device: {file: gauge.yaml}
    lines: {device: rx}
observed:
  angle: {kind: spi, lines: {clock: sck, out: mosi, in: miso, select: cs}, settings: {mode: 1, word: 16}}
  tilt:  {kind: i2c, lines: {clock: scl, data: sda}}
  pump:  {kind: can, lines: {line: can}, settings: {rate: 250 kbit/s}}
  winch: {kind: can, lines: {line: elsewhere}, settings: {rate: 250 kbit/s}}
  strip: {kind: pulse, lines: {line: enable and not raw}, settings: {zero: 0.2 to 0.5 us, one: 0.6 to 1 us, low: 0.3 to 5 us, latch: 50us, element: 12}}
`

const gaugeText = "device: gauge\nkind: uart\nend: {rate: 57.6 kBd, frame: 7E1}\nbehaviour: {values: {level: \"1\"}, stream: {every: 1 s, text: \"{level .1}\"}}\n"

// TestLinksFromABench: the links of a bench and the buses that it observes are
// found in a capture, and decode as those given in words.
func TestLinksFromABench(t *testing.T) {
	dir := fstest.MapFS{"b.yaml": {Data: []byte(benchText)}, "gauge.yaml": {Data: []byte(gaugeText)}}
	b, faults := bench.Load(dir, "b.yaml")
	require.Empty(t, faults)
	text := newMixed(4).asVCD(t)
	src, words := opened(t, text)
	want := &record.List{}
	require.NoError(t, Run(context.Background(), src, words, Options{}, want))
	src, err := Open("a.vcd", bytes.NewReader(text), 0)
	require.NoError(t, err)
	links, missing := FromBench(b, src.Names())
	require.Len(t, missing, 1)
	assert.ErrorContains(t, missing[0], `winch: there is no line "elsewhere"`)
	got := &record.List{}
	require.NoError(t, Run(context.Background(), src, links, Options{}, got))
	require.Equal(t, len(want.Done), len(got.Done))
	for i := range want.Done {
		require.Equal(t, want.Done[i], got.Done[i])
	}
}

func TestObservedBusesAreChecked(t *testing.T) {
	for change, seen := range map[string]string{
		"clock: sck":  "no line is the clock",
		"mode: 1":     "mode: 7",
		"kind: can":   "kind: cann",
		"in: miso":    "inn: miso",
		"rate: 250 k": "rate: 250 x",
	} {
		text := strings.Replace(benchText, change, strings.TrimPrefix(seen, "no line is the clock"), 1)
		if strings.HasPrefix(seen, "no") {
			text = strings.Replace(benchText, change+", ", "", 1)
		}
		dir := fstest.MapFS{"b.yaml": {Data: []byte(text)}, "gauge.yaml": {Data: []byte(gaugeText)}}
		_, faults := bench.Load(dir, "b.yaml")
		require.NotEmpty(t, faults, change)
		assert.Positive(t, faults[0].Where.Line, change)
	}
}

// TestEscapedNamesAreFound with and without their backslash.
func TestEscapedNamesAreFound(t *testing.T) {
	names := []string{`top.\bus+sck`, "top.miso", `top.inner.\a.b`}
	for want, at := range map[string]int{`\bus+sck`: 0, "bus+sck": 0, "top.bus+sck": 0, `top.\bus+sck`: 0, "miso": 1, "inner.a.b": 2} {
		got, err := Index(names, want)
		require.NoError(t, err, want)
		require.Equal(t, at, got, want)
	}
}
