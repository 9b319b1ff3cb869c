package bench

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/register"
	"gavrix.org/gavrix/demo"
)

// settings reads a link's words back: field meanings by setting.
func settings(t require.TestingT, l *Link) (words map[string]uint64, read map[string]string) {
	ws, err := l.Words()
	require.NoError(t, err)
	words, read = map[string]uint64{}, map[string]string{}
	for _, w := range ws {
		words[w.Name] = w.Value
		for _, p := range w.Apart(w.Value) {
			for _, c := range w.Choices {
				if c.Field.Name == p.Name {
					read[c.Setting] = p.Meaning
				}
			}
		}
		// All that no setting goes into is as after reset.
		chosen := uint64(0)
		for _, c := range w.Choices {
			chosen |= c.Field.Mask()
		}
		require.Zero(t, (w.Value^w.Reset)&^chosen)
		require.Equal(t, w.Value == w.Reset, w.AtReset)
	}
	return words, read
}

// The words that are given out decode back to the settings, and a change of one
// setting changes its register alone.
func TestWordsDecodeBack(t *testing.T) {
	frames := []string{"7N1", "7E1", "7O2", "8N1", "8E1", "8O1", "8N2", "8N1.5", "9N1"}
	rates := []string{"9600", "28.8k", "57.6k", "115.2k"}
	rapid.Check(t, func(rt *rapid.T) {
		b, faults := Load(demo.Files, demo.Bench)
		require.Empty(rt, faults)
		set := func(key, value string) {
			require.NoError(rt, b.Apply(finding.Edit{Path: []string{"links", "upper-gauge", "mcu", key}, Value: value}))
		}
		set("frame", rapid.SampledFrom(frames).Draw(rt, "frame"))
		set("rate", rapid.SampledFrom(rates).Draw(rt, "rate"))
		l := b.Links[0].Model.(*UART)
		before, read := settings(rt, l.Link)
		f := l.MCU.Frame
		for _, c := range l.written(0) {
			if c.source == "needed" || c.role == "clock" {
				require.Equal(rt, c.word, read[c.setting])
				delete(read, c.setting)
			}
		}
		require.Equal(rt, map[string]string{
			"data": string(rune('0' + f.Data)), "parity": f.Parity.String(), "stop": strings.TrimPrefix(f.Short(), f.Short()[:2]),
			"oversampling": map[int]string{16: "16", 8: "8"}[l.MCU.Oversampling], "rate": read["rate"],
		}, read)
		back, err := l.FromRegisters(func(r *register.Register) uint64 { return before[r.Name] })
		require.NoError(rt, err)
		require.Equal(rt, l.MCU, back)
		s, err := l.Generator().Read(l.Unit.Clock.Freq(), l.Wanted, l.MCU.Oversampling, int(before["S1RATE"]))
		require.NoError(rt, err)
		require.Equal(rt, l.MCU.Rate, s.Rate)
		set("frame", rapid.SampledFrom(frames).Draw(rt, "other frame"))
		after, _ := settings(rt, b.Links[0])
		require.Equal(rt, before["S1RATE"], after["S1RATE"], "the frame is none of the rate's business")
		if f == b.Links[0].Model.(*UART).MCU.Frame {
			require.Equal(rt, before, after)
		}
	})
}

func TestRegistersInABench(t *testing.T) {
	table := "register,address,width,field,bits,meanings\nCTL,0x10,8,LEN,1:0,0=7 1=8\n"
	load := func(control, file, text string) []finding.Finding {
		src := strings.Replace(strings.Replace(good, "  name: M\n", "  name: M\n  registers: "+file+"\n", 1), "plus-one: yes}}", "plus-one: yes}, control: {data: "+control+"}}", 1)
		dir := files(src).(fstest.MapFS)
		dir["r.csv"] = &fstest.MapFile{Data: []byte(text)}
		b, faults := Load(dir, "b.yaml")
		if b != nil {
			ws, err := b.Links[0].Words()
			require.NoError(t, err)
			require.Len(t, ws, 1)
			assert.True(t, ws[0].AtReset, "seven data bits are 0, as after reset")
		}
		return faults
	}
	assert.Empty(t, load("CTL.LEN", "r.csv", table))
	for _, c := range []struct{ control, file, text, want string }{
		{"CTL.LEN", "none.csv", table, "can't be read"},
		{"CTL.LEN", "r.csv", "x", `no column "register"`},
		{"CTR.LEN", "r.csv", table, "did you mean CTL?"},
		{"CTL.LENG", "r.csv", table, `no field "LENG"`},
		{"CTL", "r.csv", table, "names no field"},
	} {
		faults := load(c.control, c.file, c.text)
		if !assert.Len(t, faults, 1, c.want) {
			continue
		}
		assert.Contains(t, faults[0].String(), c.want)
	}
}

// A setting that the unit's registers have no value for is a finding, and the
// link can still be simulated.
func TestSettingWithoutAValue(t *testing.T) {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: "7M1"}))
	text := ""
	for _, f := range b.Links[1].Lint() {
		text += f.String()
	}
	assert.Contains(t, text, `unit serial2 can't be set so: parity: PARITY: "mark" is no value of the field; write a number, or one of even, none, odd`)
	_, err := b.Links[1].Words()
	assert.Error(t, err)
}

// TestSavedElsewhere: a bench saved into another folder can be opened there: what
// it refers to goes with it, and what is there already is left alone.
func TestSavedElsewhere(t *testing.T) {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "devices"), 0o755))
	mine, err := demo.Files.ReadFile("devices/upper-gauge.yaml")
	require.NoError(t, err)
	mine = append(mine, "# mine\n"...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "devices", "upper-gauge.yaml"), mine, 0o644))
	_, err = b.Save(filepath.Join(dir, "mine.yaml"))
	require.NoError(t, err)
	again, faults := Load(os.DirFS(dir), "mine.yaml")
	require.Empty(t, faults)
	assert.NotNil(t, again.MCU.Registers)
	kept, err := os.ReadFile(filepath.Join(dir, "devices", "upper-gauge.yaml"))
	require.NoError(t, err)
	assert.Equal(t, mine, kept)
}

// Each value is listed with the source beside or above it, and found by text.
func TestSources(t *testing.T) {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	all := b.Sources()
	by := map[string]Sourced{}
	for _, s := range all {
		by[s.Path] = s
		assert.NotContains(t, s.Path, "checks")
	}
	assert.Equal(t, "Marlow 40 manual p. 112", by["mcu.units.serial1.divider.most"].Source)
	assert.Equal(t, "board drawing 3", by["mcu.clocks.crystal.source"].Source)
	assert.Equal(t, "10 MHz", by["mcu.clocks.crystal.source"].Value)
	assert.Equal(t, "gauge sheet L, page 4", by["links.lower-gauge.device: lower-gauge"].Source)
	assert.Empty(t, by["links.lower-gauge.mcu.rate"].Source)
	assert.Positive(t, by["links.lower-gauge.mcu.rate"].Line)
	found := Find(all, "DIVIDER")
	copied := 0
	for _, s := range found {
		if s.Origin == IsCopied {
			copied++
			assert.Contains(t, s.Source, "p. 112")
		}
	}
	assert.Equal(t, 4, copied)
	assert.Equal(t, IsChosen, by["links.lower-gauge.mcu.rate"].Origin)
	assert.Equal(t, IsDerived, by["links.gate.devices: trim divider"].Origin)
	assert.Equal(t, Sourced{"links.pump.mcu.messages.heartbeat.jitter", "0 ms", "", IsDefault, 0}, by["links.pump.mcu.messages.heartbeat.jitter"])
	assert.Len(t, Find(all, "gauge sheet L"), 1)
	assert.Empty(t, Find(all, "nowhere"))
}

// A copied field that belongs to another unit gives one finding, and its fix
// changes that field alone.
func TestFieldOfAnotherUnit(t *testing.T) {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	before := string(b.Text())
	path := []string{"mcu", "units", "serial2", "control", "receive-interrupt"}
	require.NoError(t, b.Apply(finding.Edit{Path: path, Value: "S1CTL.RXIE"}))
	fs := b.Lint()
	require.Len(t, fs, 1)
	assert.Equal(t, "field-of-another-unit", fs[0].Code)
	assert.Equal(t, "lower-gauge", fs[0].Link)
	require.Len(t, fs[0].Fixes, 1)
	require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
	assert.Empty(t, b.Lint())
	assert.Equal(t, before, string(b.Text()))
}

// TestPlacesOfSteps: where a start-up step goes is read, or refused at its place.
func TestPlacesOfSteps(t *testing.T) {
	text, err := fs.ReadFile(demo.Files, demo.Bench)
	require.NoError(t, err)
	for value, want := range map[string]string{
		"A = b.c":       "names no field",
		"S1CTL.TXON =":  "no meaning comes after",
		"= on":          "names no field",
		"S1CTL.":        "names no field",
		"..":            "names no field",
		"S1CTL.NOWHERE": "NOWHERE",
		"NOWHERE.TXON":  `no register "NOWHERE"`,
	} {
		b, faults := Parse(demo.Files, "b.yaml", bytes.Replace(text, []byte("transmit-enable: S1CTL.TXON"), []byte("transmit-enable: "+value), 1))
		require.Nil(t, b, value)
		require.NotEmpty(t, faults, value)
		assert.Contains(t, faults[0].Seen, want, value)
		assert.NotZero(t, faults[0].Where.Line, value)
	}
	b, faults := Parse(demo.Files, "b.yaml", bytes.Replace(text, []byte("S1CTL.TXON"), []byte("S1CTL.TXON = x"), 1))
	require.Empty(t, faults)
	fs := b.Link("upper-gauge").Lint()
	require.NotEmpty(t, fs)
	assert.Contains(t, fs[0].Seen, `"x" is no value of the field`)
}
