package bench

import (
	"fmt"
	"io/fs"
	"math"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/demo"
)

func demoBench(t require.TestingT) *Bench {
	b, faults := Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

func put(t require.TestingT, b *Bench, value string, path ...string) {
	require.NoError(t, b.Apply(finding.Edit{Path: path, Value: value}))
}

// Each wrong setting of a bus gives its finding, and the fix mends it.
func TestWrongSettingsOfBuses(t *testing.T) {
	for _, c := range []struct{ path, value, code string }{
		{"links.gate.devices.leaf-angle.mcu.mode", "0", "mode-differs"},
		{"links.gate.devices.leaf-angle.mcu.word", "9", "word-differs"},
		{"links.gate.devices.valve-bank.mcu.order", "lsb", "bit-order-differs"},
		{"links.gate.devices.leaf-angle.mcu.divider", "4", "clock-too-fast-for-device"},
		{"links.gate.devices.valve-bank.mcu.lead", "100 ns", "select-lead-too-short"},
		{"links.gate.devices.valve-bank.mcu.lag", "100 ns", "select-lag-too-short"},
		{"links.gate.devices.trim.mcu.idle", "10 ns", "select-idle-too-short"},
		{"links.hull.pull-up", "4.7 kΩ", "rise-too-slow"},
		{"links.hull.pull-up", "470 Ω", "pull-up-too-strong"},
		{"links.hull.mcu.rate", "1 Mbit/s", "bus-too-fast-for-device"},
		{"links.pump.mcu.rate", "500 kbit/s", "bit-rate-differs"},
		{"links.pump.mcu.sample", "75 %", "sample-points-far-apart"},
		{"links.gate.mcu.startup", "clock, port-clock, clock-pin, in-pin, out-pin, select-pin, rate, frame, dma-clock, dma-channel, dma-request", "startup-step-missing"},
		{"links.hull.mcu.startup", "rate, clock, port-clock, clock-pin, data-pin, interrupt-line, enable, receive-interrupt", "startup-out-of-order"},
		{"links.winch.mcu.startup", "clock, port-clock, transmit-pin, receive-pin, configuration, join, rate, interrupt-line, receive-interrupt", "startup-out-of-order"},
	} {
		b := demoBench(t)
		require.Empty(t, b.Lint())
		put(t, b, c.value, strings.Split(c.path, ".")...)
		fs := b.Lint()
		require.Contains(t, codes(fs), c.code, c.path)
		for i := 0; i < 6 && len(fs) > 0; i++ {
			fixed := false
			for _, f := range fs {
				if len(f.Fixes) > 0 {
					require.NoError(t, b.Apply(f.Fixes[0].Edits...), "%s: %s", c.path, f.Fixes[0].Label)
					fixed = true
					break
				}
			}
			require.True(t, fixed, "%s: nothing fixes %v", c.path, codes(fs))
			fs = b.Lint()
		}
		assert.Empty(t, codes(fs), c.path)
	}
}

// Every path that is offered can be set, or says why not.
func TestSettable(t *testing.T) {
	b := demoBench(t)
	for _, want := range []string{"links.gate.devices.trim.mcu.divider", "links.hull.pull-up", "links.hull.mcu.asks.tilt.every", "links.pump.mcu.data-timing", "links.upper-gauge.mcu.ask.every"} {
		name, _, _ := strings.Cut(strings.TrimPrefix(want, "links."), ".")
		assert.Contains(t, b.Link(name).Settable(), want)
	}
	assert.NotContains(t, b.Link("gate").Settable(), "links.gate.pull-up")
	for _, path := range b.Link("pump").Settable() {
		err := b.Apply(finding.Edit{Path: strings.Split(path, "."), Value: "1 %"})
		if err == nil {
			require.True(t, b.Undo())
		}
	}
}

// What has no fix by a single value is found all the same.
func TestOtherFaultsOfBuses(t *testing.T) {
	for _, c := range []struct{ path, value, code string }{
		{"links.pump.length", "400 m", "bus-too-long"},
		{"links.pump.devices.pump-drive.clock-off", "1.2 %", "clocks-too-far-apart"},
		{"links.pump.mcu.tolerance", "0.5 %", "node-does-not-conform"},
		{"links.pump.mcu.messages.pump command.every", "200 us", "bus-overloaded"},
		{"links.hull.capacitance", "900 pF", "no-pull-up-serves"},
		{"links.winch.mcu.delay", "450 ns", "delay-compensation-needed"},
	} {
		b := demoBench(t)
		put(t, b, c.value, strings.Split(c.path, ".")...)
		assert.Contains(t, codes(b.Lint()), c.code, c.path)
	}
	b := demoBench(t)
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "hull", "pull-up"}}))
	assert.Equal(t, []string{"pull-up-missing"}, codes(b.Lint()))
}

// A node that knows only classic frames is named on a bus with flexible ones, unless
// it just listens.
func TestMixedBus(t *testing.T) {
	for _, listens := range []string{"no", "yes"} {
		text := strings.Replace(string(demoBench(t).Text()), "      winch-drive: {file: devices/winch-drive.yaml}\n", "      winch-drive: {file: devices/winch-drive.yaml}\n      old: {file: devices/pump-drive.yaml, rate: 500 kbit/s, timing: \"2, 1+12+3, 2\", listen-only: "+listens+"}\n", 1)
		b, faults := Parse(demo.Files, "lock7.yaml", []byte(text))
		require.Empty(t, faults)
		assert.Equal(t, listens == "no", strings.Contains(strings.Join(codes(b.Lint()), " "), "node-without-flexible-format"))
	}
}

// Two units that claim one field are told of without a description of the
// registers too.
func TestForeignFieldWithoutRegisters(t *testing.T) {
	text := strings.Replace(string(demoBench(t).Text()), "  registers: marlow40.csv\n", "", 1)
	text = strings.Replace(text, "receive-interrupt: S2CTL.RXIE", "receive-interrupt: S1CTL.RXIE", 1)
	b, faults := Parse(demo.Files, "lock7.yaml", []byte(text))
	require.Empty(t, faults)
	assert.Equal(t, []string{"field-of-another-unit"}, codes(b.Lint()))
}

// A third node at another rate is named as the odd one out, once.
func TestOddNode(t *testing.T) {
	text := string(demoBench(t).Text())
	text = strings.Replace(text, "      pump-drive: {file: devices/pump-drive.yaml}\n", "      pump-drive: {file: devices/pump-drive.yaml}\n      spare:      {file: devices/pump-drive.yaml}\n      stranger:   {file: devices/pump-drive.yaml, rate: 125 kbit/s, timing: \"8, 1+13+2, 1\"}\n", 1)
	b, faults := Parse(demo.Files, "lock7.yaml", []byte(text))
	require.Empty(t, faults)
	fs := b.Lint()
	require.Equal(t, []string{"node-at-another-rate"}, codes(fs))
	assert.Contains(t, fs[0].Seen, "stranger runs at 125 kbit/s, all others at 250 kbit/s")
	assert.Len(t, ModelOf[*CAN](b, "pump").Pairs, 6)
	require.Len(t, fs[0].Fixes, 1)
	require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
	assert.Empty(t, b.Lint())
}

// Register values of a bus decode back to what was chosen.
func TestWordsOfBusesDecodeBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := demoBench(rt)
		put(rt, b, rapid.SampledFrom([]string{"100 kbit/s", "125 kbit/s", "250 kbit/s", "500 kbit/s", "1 Mbit/s"}).Draw(rt, "rate"), "links", "pump", "mcu", "rate")
		put(rt, b, fmt.Sprintf("%d %%", rapid.IntRange(60, 90).Draw(rt, "sample")), "links", "pump", "mcu", "sample")
		put(rt, b, fmt.Sprint(rapid.IntRange(0, 3).Draw(rt, "mode")), "links", "gate", "devices", "leaf-angle", "mcu", "mode")
		divider := rapid.SampledFrom([]int{2, 4, 8, 16, 32, 64, 128, 256}).Draw(rt, "divider")
		put(rt, b, fmt.Sprint(divider), "links", "gate", "devices", "leaf-angle", "mcu", "divider")
		field := func(words []Word, register, name string) int {
			for _, w := range words {
				if w.Name == register {
					return int(w.Field(name).Of(w.Value))
				}
			}
			require.Fail(rt, "no "+register)
			return 0
		}
		words, err := b.Link("pump").Words()
		require.NoError(rt, err)
		own := ModelOf[*CAN](b, "pump").Nodes[0].Nominal
		get := func(name string) int { return field(words, "C1BIT", name) + 1 }
		rate := 40e6 / float64(get("PRESCALER")) / float64(1+get("SEG1")+get("SEG2"))
		require.InEpsilon(rt, own.Rate.Bd(), rate, 1e-9)
		require.InDelta(rt, own.Sample, float64(1+get("SEG1"))/float64(1+get("SEG1")+get("SEG2")), 1e-9)
		require.Less(rt, math.Abs(rate/own.Wanted.Bd()-1), 1e-9)

		words, err = b.Link("gate").Words()
		require.NoError(rt, err)
		require.Equal(rt, divider, 2<<field(words, "P1CTL", "DIVIDE"))
		require.Equal(rt, ModelOf[*SPI](b, "gate").Devices[0].MCU.Mode(), 2*field(words, "P1CTL", "IDLE")+field(words, "P1CTL", "EDGE"))

		words, err = b.Link("hull").Words()
		require.NoError(rt, err)
		i := ModelOf[*I2C](b, "hull")
		// Each count less one, with two periods of the filter.
		low, high := field(words, "I1CLK", "LOW")+3, field(words, "I1CLK", "HIGH")+3
		require.InDelta(rt, 1e12/i.Timing.Rate.Bd(), float64(low+high)*25e3+float64(i.Rise+i.Fall), 2)
	})
}

// The words of a device on spi are those of its own settings.
func TestWordsForADevice(t *testing.T) {
	b := demoBench(t)
	gate := b.Link("gate")
	seen := map[uint64]bool{}
	for i, name := range gate.Devices() {
		words, err := gate.WordsFor(i)
		require.NoError(t, err)
		require.NotEmpty(t, words, name)
		for _, w := range words {
			if w.Name == "P1CTL" {
				seen[w.Value] = true
				assert.Equal(t, gate.Model.(*SPI).Devices[i].MCU.Word, int(w.Field("WORD").Of(w.Value))+1, name)
			}
		}
	}
	assert.Len(t, seen, 3)
}

// Bad descriptions of buses are told with their place.
func TestBadBuses(t *testing.T) {
	good := string(demoBench(t).Text())
	for _, c := range []struct{ from, to, want string }{
		{"kind: spi\n    unit: spi1", "kind: spi\n    unit: serial1", "unit serial1 is for UART, the link is SPI"},
		{"leaf-tilt:  {file: devices/leaf-tilt.yaml}", "leaf-tilt:  {file: devices/trim.yaml}", "trim is for SPI, the link is I2C"},
		{"kind: can\n    unit: can1", "kind: cam\n    unit: can1", `kind: "cam"; expected one of uart, spi, i2c, can`},
		{"pull-up: 2.2 kΩ", "pull-up: 2.2 kV", "pull-up: "},
		{"sample: 87.5 %", "sample: 187.5 %", "at most 100 %"},
		{"length: 40 m", "length: 40 km", "write a number above 0"},
		{"identifier: 0x2A5", "identifier: 0x2A5ZZ", "is no identifier"},
		{"      rate: 400 kbit/s\n", "      rate: 400 kbit/s\n      low: 12\n", "only one of the two counts"},
		{"rate: 400 kbit/s", "rate: 4 Mbit/s", "reach 1 Mbit/s"},
		{"do: read leaf-tilt.tilt", "do: read leaf-tlt.tilt", "did you mean leaf-tilt?"},
		{"do: read leaf-tilt.tilt", "do: read leaf-tilt.tlt", "did you mean tilt?"},
		{"do: read leaf-tilt.tilt", "do: write leaf-tilt.CTRL.RANGE 5°", "must be read first"},
		{"do: read leaf-tilt.tilt", "do: raw start 96", "ends with stop"},
		{"do: write trim.POSITION 37.5 %", "do: raw out .. ..", "is not open"},
		{"do: read boat-lamps.FLOATS, every: 50 ms", "do: read boat-lamps.FLOATS, every: 50 us", "at least 1 ms"},
		{"data: 01 5A, every: 20 ms", "data: 01 5A, every: 1 ns", "must be at least 10 µs"},
		{"    bus:     {from: core, divide: 2}", "    bus:     {from: core, divide: 2, select: CLKSEL.CORE}", "names a field for its choice, and no clocks"},
		{"crystal: {source: 10 MHz,", "crystal: {source: 10 MHz, of: [pll, core],", "can't multiply, divide or select"},
		{"data: 01 5A,", "data: 01 5, ", "bytes in hex"},
		{"data: 01 5A,", "data: 01 5A, length: 1,", "length says 1 bytes, data has 2"},
		{"trim:       {file: devices/trim.yaml}", "trim:       {file: devices/trim.yaml, mcu: {divider: 3}}", "can't divide by 3"},
		{"      rate: 250 kbit/s\n", "      rate: 250 kbit/s\n      timing: 1, 1+40+2, 1\n", "unit can1 can't have 1, 1+40+2, 1"},
		{"      rate: 250 kbit/s\n", "      rate: 250 kbit/s\n      data-rate: 1 Mbit/s\n", "unit can1 has no data phase"},
		{"register: P1CTL, field: DIVIDE", "register: P1CTL, field: DIVIDES", `no field "DIVIDES"`},
		{"data-pin: PBFUN.PIN8 = i2c", "data-pin: PBFUN.PIN38 = i2c", `no field "PIN38"`},
	} {
		require.Contains(t, good, c.from)
		b, faults := Parse(demo.Files, "bad.yaml", []byte(strings.Replace(good, c.from, c.to, 1)))
		assert.Nil(t, b, c.to)
		if assert.NotEmpty(t, faults, c.to) {
			assert.Contains(t, faults[0].String(), c.want)
			assert.Positive(t, faults[0].Where.Line, c.to)
			assert.Len(t, faults, 1, "%s: one fault is said once: %v", c.to, faults)
		}
	}
	end := func(kind, text, want string) {
		dir := fstest.MapFS{"d.yaml": {Data: []byte("device: d\nkind: " + kind + "\nend:\n" + text)}}
		src := strings.Replace(good, "devices/trim.yaml", "d.yaml", 1)
		for _, n := range []string{"marlow40.csv"} {
			text, err := demo.Files.ReadFile(n)
			require.NoError(t, err)
			dir[n] = &fstest.MapFile{Data: text}
		}
		_, faults := Parse(dir, "bad.yaml", []byte(src))
		all := ""
		for _, f := range faults {
			all += f.String() + "\n"
		}
		assert.Contains(t, all, want)
	}
	end("spi", "  most: 1 MHz\n", "give the mode, or clock-idle and samples")
	end("spi", "  most: 1 MHz\n  clock-idle: low\n", "clock-idle and samples go together")
	end("can", "  clock: 16 MHz\n  rate: 250k\n  timing: 4, 13, 2\n", "is no bit timing")
	end("can", "  clock: 16 MHz\n  rate: 250k\n  timing: 4, 1+13+2, 3\n", "the jump width is at most as long")
	end("can", "  clock: 16 MHz\n  rate: 250k\n  timing: 4, 1+13+2, 1\n  data-rate: 1M\n", "go together")
}

// On can the configuration is entered and left again: the chain knows both.
func TestConfigurationOfANode(t *testing.T) {
	l := demoBench(t).Link("pump")
	c, err := l.Chain()
	require.NoError(t, err)
	assert.Nil(t, startup.First(c.Judge(c.Needed())))
	gone := func(name string) []startup.Verdict {
		var steps []string
		for _, s := range c.Needed() {
			if s != name {
				steps = append(steps, s)
			}
		}
		return c.Judge(steps)
	}
	for _, s := range c.Needed() {
		v := startup.First(gone(s))
		require.NotNil(t, v, s)
		assert.Equal(t, s, v.Name)
		assert.Equal(t, startup.Missing, v.State)
	}
	// Without configuration the timing takes no writes, and there is nothing to leave.
	for _, v := range gone("configuration") {
		if v.Name == "rate" || v.Name == "join" {
			assert.Equal(t, startup.Waits, v.State, v.Name)
		}
	}
}

// A lasting option that divides a clock by more than is wanted shows every rate
// behind it before any run; a selector's choice goes into its register.
func TestClockOptionsAndSelectors(t *testing.T) {
	good := string(demoBench(t).Text())
	change := func(pairs ...string) (*Bench, []finding.Finding) {
		text := good
		for i := 0; i < len(pairs); i += 2 {
			require.Contains(t, text, pairs[i])
			text = strings.Replace(text, pairs[i], pairs[i+1], 1)
		}
		csv, err := demo.Files.ReadFile("marlow40.csv")
		require.NoError(t, err)
		dir := fstest.MapFS{"marlow40.csv": {Data: append(csv, "FUSE,0x1FFF0000,8,0x00,,,,,lasting options\nFUSE,0x1FFF0000,,,SLOW,1:0,,0=1 1=2 2=4 3=odd,divider\n"...)}}
		for _, l := range demoBench(t).file.Root.Get("links").All() {
			names := []string{l.Text("device", "file")}
			for _, d := range l.Get("devices").All() {
				names = append(names, d.Text("file"))
			}
			for _, n := range names {
				if n != "" {
					data, err := demo.Files.ReadFile(n)
					require.NoError(t, err)
					dir[n] = &fstest.MapFile{Data: data}
				}
			}
		}
		return Parse(dir, "b.yaml", []byte(text))
	}
	options := "  clocks:\n"
	b, faults := change(options, "  options: {fuse: {register: FUSE, programmed: 2, wanted: 0}}\n  clocks:\n", "bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: fuse.SLOW}")
	require.Empty(t, faults)
	assert.Equal(t, "20 MHz", b.MCU.Units["serial1"].Clock.Freq().String())
	named := map[string]bool{}
	for _, f := range b.Lint() {
		if f.Code == "option-not-as-wanted" {
			named[f.Link] = true
			assert.Contains(t, f.Seen, "divides clock bus by 4, wanted is 1: 20 MHz instead of 80 MHz")
			assert.Contains(t, f.Why, "one quarter")
		}
	}
	assert.Equal(t, map[string]bool{"upper-gauge": true, "lower-gauge": true, "pump": true, "gate": true, "hull": true, "depth-strip": true}, named, "all links after that clock")

	fuse := "  options: {fuse: {register: FUSE, programmed: 0x86, wanted: 0x04}}\n  clocks:\n"
	b, faults = change(options, fuse, "bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: fuse.SLOW}", "rate:  57.6 kBd", "rate:  57.6 kBd\n      divisor: 87")
	require.Empty(t, faults)
	byCode := map[string]finding.Finding{}
	for _, f := range b.Links[0].Lint() {
		byCode[f.Code] = f
	}
	assert.Contains(t, byCode["option-not-as-wanted"].Why, "fuse is programmed 0x86, wanted is 0x04: SLOW (bits 1:0) 2 (4) instead of 0 (1), reserved bits 0x80")
	assert.Contains(t, byCode["rate-not-reached"].Why, "divisor 87 was found for 80 MHz, where it gives 57 471.3 Bd")
	assert.Empty(t, byCode["rate-not-reached"].Fixes, "another divisor would be wrong once the option is fixed")
	assert.NotContains(t, byCode, "divisor-no-longer-best")

	// What nobody chose is found for the wanted word, so that the rates are at one quarter.
	b, faults = change(options, "  options: {fuse: {register: FUSE, programmed: 2, wanted: 0}}\n  clocks:\n", "bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: fuse.SLOW}")
	require.Empty(t, faults)
	right, faults := change(options, "  options: {fuse: {register: FUSE, programmed: 0}}\n  clocks:\n", "bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: fuse.SLOW}")
	require.Empty(t, faults)
	for i, l := range b.Links {
		if !named[l.Name] {
			continue
		}
		switch m := l.Model.(type) {
		case *UART:
			assert.InDelta(t, right.Links[i].Model.(*UART).Setting.Rate.Bd()/4, m.Setting.Rate.Bd(), 0.01, l.Name)
			assert.Equal(t, right.Links[i].Model.(*UART).Setting.Values, m.Setting.Values, l.Name)
		case *SPI:
			for j, d := range m.Devices {
				assert.InDelta(t, right.Links[i].Model.(*SPI).Devices[j].Margin.Rate.Hz()/4, d.Margin.Rate.Hz(), 1, l.Name)
			}
		case *I2C:
			assert.Equal(t, right.Links[i].Model.(*I2C).Timing.Low, m.Timing.Low, l.Name)
			assert.Less(t, m.Timing.Rate.Bd(), right.Links[i].Model.(*I2C).Timing.Rate.Bd()/3, l.Name)
		case *CAN:
			assert.InDelta(t, right.Links[i].Model.(*CAN).Nodes[0].Nominal.Rate.Bd()/4, m.Nodes[0].Nominal.Rate.Bd(), 1, l.Name)
		case *Pulse:
			assert.InDelta(t, right.Links[i].Model.(*Pulse).Choice.Rate.Hz()/4, m.Choice.Rate.Hz(), 1, l.Name)
		}
	}

	// A word that decides no clock is told once.
	b, faults = change(options, fuse)
	require.Empty(t, faults)
	differs := 0
	for _, f := range b.Lint() {
		if f.Code == "option-word-differs" {
			differs++
		}
	}
	assert.Equal(t, 1, differs)

	words, err := b.Links[0].Words()
	require.NoError(t, err)
	assert.Equal(t, "CLKSEL", words[0].Name)
	assert.EqualValues(t, 1, words[0].Value)

	for _, c := range []struct{ from, to, want string }{
		{"{from: pll, of: [crystal, pll]", "{from: pll, of: [crystal, bus]", "can't be made from pll"},
		{"bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: fuse.SLOW}", `there is no option "fuse"`},
	} {
		_, faults := change(c.from, c.to)
		if assert.NotEmpty(t, faults, c.want) {
			assert.Contains(t, faults[0].String(), c.want)
		}
	}
	for _, c := range []struct{ option, clock, want string }{
		{"{register: FUSES, programmed: 2}", "fuse.SLOW", `no register "FUSES"`},
		{"{register: FUSE, programmed: 2}", "fuse.SLOWS", `no field "SLOWS"`},
		{"{register: FUSE, programmed: 3}", "fuse.SLOW", `means "odd", which is no factor`},
	} {
		_, faults := change(options, "  options: {fuse: "+c.option+"}\n  clocks:\n", "bus:     {from: core, divide: 2}", "bus:     {from: core, divide-option: "+c.clock+"}")
		if assert.NotEmpty(t, faults, c.want) {
			assert.Contains(t, faults[0].String(), c.want)
		}
	}
}

// BenchmarkLint: the screen asks for all findings with each new picture.
func BenchmarkLint(b *testing.B) {
	bench := demoBench(b)
	for b.Loop() {
		bench.Lint()
	}
}

// BenchmarkEdit: a change of the bench, bound anew with all its solvers.
func BenchmarkEdit(b *testing.B) {
	bench := demoBench(b)
	for b.Loop() {
		for _, mode := range []string{"1", "2"} {
			put(b, bench, mode, "links", "gate", "devices", "leaf-angle", "mcu", "mode")
		}
	}
}

// TestWhatWearsOut: what the firmware writes to lasting storage again and again is held
// against how often that may be done.
func TestWhatWearsOut(t *testing.T) {
	file, err := demo.Files.ReadFile("devices/log-memory.yaml")
	require.NoError(t, err)
	for every, want := range map[string]string{
		"83.3333333 ms": "done every 83.3333333 ms and may be done 500000 times: that lasts 11.6 h",
		"3600 s":        "",
		"600 s":         "that lasts 10 years",
		"20 s":          "that lasts 116 days",
	} {
		dir := fstest.MapFS{}
		require.NoError(t, fs.WalkDir(demo.Files, ".", func(p string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				text, _ := fs.ReadFile(demo.Files, p)
				dir[p] = &fstest.MapFile{Data: text}
			}
			return err
		}))
		dir["devices/log-memory.yaml"].Data = regexp.MustCompile(`endurance: \d+`).ReplaceAll(file, []byte("endurance: 500000"))
		text := strings.Replace(string(dir["lock7.yaml"].Data), "do: read leaf-tilt.tilt", "do: write log-memory 0x40 05", 1)
		text = regexp.MustCompile(`(do: write log-memory 0x40 05, every: )[^}]*`).ReplaceAllString(text, "${1}"+every)
		b, faults := Parse(dir, "lock7.yaml", []byte(text))
		require.Empty(t, faults)
		seen := ""
		for _, f := range b.Link("hull").Lint() {
			if f.Code == "wears-out" {
				seen += f.Seen
				assert.Positive(t, f.Where.Line)
			}
		}
		if want == "" {
			assert.Empty(t, seen)
		}
		assert.Contains(t, seen, want)
	}
}
