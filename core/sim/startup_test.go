package sim

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/demo"
)

// part is a random MCU: where its fields lie, which steps it wants.
type part struct {
	csv, unit, mcu string
}

// drawPart makes a part up. Every field lies somewhere in one of a few registers,
// on is 0 or 1, and reset is off.
func drawPart(rng *rand.Rand) part {
	var rows []string
	var control []string
	free := map[string]int{}
	registers := map[string]string{"system": "0x10", "pins": "0x20", "unit": "0x30", "lines": "0x40", "dma": "0x50"}
	resets := map[string]uint64{}
	field := func(role, register string, bits int, meanings string, on, off uint64, word string) {
		at := free[register]
		at += rng.IntN(2)
		free[register] = at + bits
		resets[register] |= off << at
		name := strings.ToUpper(strings.ReplaceAll(role, "-", "_"))
		rows = append(rows, fmt.Sprintf("%s,%s,,,%s,%d:%d,,%s,", register, registers[register], name, at+bits-1, at, meanings))
		if word != "" {
			word = " = " + word
		}
		control = append(control, fmt.Sprintf("%s: %s.%s%s", role, register, name, word))
	}
	onOff := func(role, register string) {
		if rng.IntN(2) == 0 {
			field(role, register, 1, "0=off 1=on", 1, 0, "")
			return
		}
		field(role, register, 1, "1=off 0=on", 0, 1, "")
	}
	method := []string{startup.Interrupt, startup.DMA}[rng.IntN(2)]
	roles := []string{"clock", "port-clock", "enable"}
	maybe := func(names ...string) {
		for _, n := range names {
			if rng.IntN(4) > 0 {
				roles = append(roles, n)
			}
		}
	}
	maybe("transmit-pin", "receive-pin", "transmit-enable", "receive-enable", "interrupt-line", "receive-interrupt", "dma-clock", "dma-channel", "dma-request")
	rng.Shuffle(len(roles), func(i, j int) { roles[i], roles[j] = roles[j], roles[i] })
	for _, r := range roles {
		switch {
		case strings.HasSuffix(r, "-pin"):
			field(r, "pins", 2, "0=in 1=out 2=serial", 2, 0, "serial")
		case strings.HasSuffix(r, "clock"):
			onOff(r, "system")
		case r == "interrupt-line":
			onOff(r, "lines")
		case r == "dma-channel":
			onOff(r, "dma")
		default:
			onOff(r, "unit")
		}
	}
	// After reset the frame is another one, and the rate far too high.
	data := rng.IntN(2)
	field("data", "unit", 2, "0=7 1=8 2=9", 0, uint64(1+data), "")
	field("parity", "unit", 2, "0=none 1=odd 2=even", 2, uint64(rng.IntN(2)), "")
	left := ""
	if rng.IntN(2) == 0 {
		rows = append(rows, "flags,0x60,,,WAITING,3,write-1-to-clear,,")
		control = append(control, "clear: flags.WAITING")
		left = "\n      left-over: 5A"
		registers["flags"] = "0x60"
	}
	csv := "register,address,width,reset,field,bits,access,meanings,about\n"
	for _, r := range slices.Sorted(maps.Keys(registers)) {
		if free[r] > 0 || r == "flags" {
			csv += fmt.Sprintf("%s,%s,32,0x%X,,,,,\n", r, registers[r], resets[r])
		}
	}
	csv += strings.Join(rows, "\n") + "\nRATE,0x70,32,0x0001,,,,,\nRATE,0x70,,,DIV,15:0,,,\n"
	locked := []string{"yes", "no"}[rng.IntN(2)]
	return part{
		csv:  csv,
		unit: fmt.Sprintf("locked: %s\n      control: {%s}", locked, strings.Join(control, ", ")),
		mcu:  fmt.Sprintf("receive: %s%s", method, left),
	}
}

func (p part) bench(t require.TestingT) *bench.Bench {
	text := fmt.Sprintf(`bench: drawn
mcu:
  name: M
  registers: m.csv
  clocks: {crystal: {source: 40 MHz}}
  units:
    serial:
      kind: uart
      clock: crystal
      divider: {most: 65535, register: RATE, field: DIV}
      %s
links:
  gauge:
    kind: uart
    unit: serial
    mcu:
      rate: 28.8k
      frame: 7E1
      %s
    device: {file: devices/lower-gauge.yaml}
`, p.unit, p.mcu)
	gauge, err := demo.Files.ReadFile("devices/lower-gauge.yaml")
	require.NoError(t, err)
	dir := fstest.MapFS{"devices/lower-gauge.yaml": {Data: gauge}, "m.csv": {Data: []byte(p.csv)}}
	b, faults := bench.Parse(dir, "b.yaml", []byte(text))
	require.Empty(t, faults, "%s\n%s", text, p.csv)
	return b
}

// seen is what an engineer sees of one exchange.
type seen struct {
	sent, heard, answered, read string
	marks                       record.Flags
	floats                      bool
	notes                       string
}

func exchange(t require.TestingT, b *bench.Bench) seen {
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(quantity.Millisecond)
	require.NoError(t, w.Do("gauge", link.Send{Data: []byte("SNAP\n")}, nil))
	w.RunTo(200 * quantity.Millisecond)
	s := w.store.Snapshot()
	var out seen
	get := func(from, seen record.End) string {
		data, flags := traffic(s, 0, from, seen, 0)
		if from == record.Device && seen == record.MCU || from == record.MCU && seen == record.Device {
			out.marks |= flags
		}
		return string(data)
	}
	out.sent, out.heard = get(record.MCU, record.Tap), get(record.MCU, record.Device)
	out.answered, out.read = get(record.Device, record.Tap), get(record.Device, record.MCU)
	out.floats = w.links[0].(*uartLink).line[mcuSide].Open()
	for i := range s.Len() {
		if r := s.At(i); r.Kind == record.Changed {
			out.notes += r.Text + "\n"
		}
	}
	return out
}

const snap, level = "SNAP\n", "3.417\n"

// symptom says whether a link without a step shows what it should.
func symptom(step string, s seen) bool {
	silent := s.sent == "" && s.heard == "" && s.answered == "" && s.read == ""
	switch step {
	case "clock", "enable", "transmit-enable":
		return silent && !s.floats
	case "port-clock", "transmit-pin":
		return s.heard == "" && s.answered == "" && s.read == "" && s.floats
	case "receive-pin", "receive-enable":
		return s.heard == snap && s.answered == level && s.read == ""
	case "rate":
		return s.heard != snap && s.read != level
	case "frame":
		return s.marks&(record.Parity|record.Framing) != 0 || s.heard != snap || s.read != level
	case "clear":
		return s.read == level && s.marks == 0 && strings.Contains(s.notes, "(5A) was handed to the first message")
	case "interrupt-line", "receive-interrupt", "dma-clock", "dma-channel", "dma-request":
		// The first character waits, all others are lost.
		return s.answered == level && s.marks&record.Overrun != 0
	}
	return false
}

func verdicts(t require.TestingT, b *bench.Bench) (startup.Chain, []startup.Verdict, []startup.Verdict) {
	l := b.Links[0]
	c, err := l.Chain()
	require.NoError(t, err)
	judged, dumped := verdictsOf(t, b, l)
	return c, judged, dumped
}

// verdictsOf judges a link's start-up from the bench, and from a dump of the
// simulated MCU.
func verdictsOf(t require.TestingT, b *bench.Bench, l interface {
	Chain() (startup.Chain, error)
	Steps(startup.Chain) []string
}) (judged, dumped []startup.Verdict) {
	c, err := l.Chain()
	require.NoError(t, err)
	return c.Judge(l.Steps(c)), c.FromDump(Dump(b))
}

// Of random parts, started in a random order that works, any one step is left
// out: just this one is named, and the link shows it; the same from a dump.
func TestEveryStepIsNeeded(t *testing.T) {
	left := map[string]int{}
	rapid.Check(t, func(rt *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		b := drawPart(rng).bench(rt)
		c, healthy, dumped := verdicts(rt, b)
		require.Nil(rt, startup.First(healthy))
		require.Nil(rt, startup.First(dumped))
		require.Empty(rt, errorsOf(b))
		want := "handed"
		if len(b.Links[0].LeftOver) > 0 {
			want = "took away 1 stale character"
		}
		s := exchange(rt, b)
		require.Equal(rt, seen{sent: snap, heard: snap, answered: level, read: level, notes: s.notes}, s)
		require.Equal(rt, want == "took away 1 stale character", strings.Contains(s.notes, "took away 1 stale character"))

		// Any order that the judge finds good works on the wire.
		order := slices.Clone(c.Needed())
		rng.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
		good := startup.First(c.Judge(order)) == nil
		require.NoError(rt, b.Apply(b.Links[0].StartEdit(order)))
		works := exchange(rt, b)
		require.Equal(rt, good, works.read == level && works.marks == 0 && !strings.Contains(works.notes, "handed"), "%v", order)
		for n := 0; !good; n++ {
			require.Less(rt, n, 3*len(order), "mending does not end")
			order, _ = c.Mended(order)
			good = startup.First(c.Judge(order)) == nil
		}
		require.NoError(rt, b.Apply(b.Links[0].StartEdit(order)))
		require.Equal(rt, level, exchange(rt, b).read, "fixed, %v", order)

		gone := order[rng.IntN(len(order))]
		left[gone]++
		rest := slices.DeleteFunc(slices.Clone(order), func(s string) bool { return s == gone })
		require.NoError(rt, b.Apply(b.Links[0].StartEdit(rest)))
		_, vs, dumped := verdicts(rt, b)
		for _, judged := range [][]startup.Verdict{vs, dumped} {
			for _, v := range judged {
				if v.Name == "clear" && gone == "clear" && v.State == startup.Done {
					continue // the handler took it: a dump can't show that
				}
				require.Equal(rt, v.Name == gone, v.Broken(), "%s left out: %s is %s (%s)", gone, v.Name, v.State, v.Why)
			}
		}
		fs := errorsOf(b)
		require.Len(rt, fs, 1, "%v", fs)
		require.Contains(rt, fs[0].Seen, "startup step "+gone+" ")
		s = exchange(rt, b)
		require.True(rt, symptom(gone, s), "%s left out of %v: %+v", gone, order, s)

		// The fix mends it.
		require.NoError(rt, b.Apply(fs[0].Fixes[0].Edits...))
		require.Empty(rt, errorsOf(b))
		require.Equal(rt, level, exchange(rt, b).read)
	})
	t.Log(left)
}

func errorsOf(b *bench.Bench) (out []finding.Finding) {
	for _, f := range b.Lint() {
		if f.Severity == finding.Error {
			out = append(out, f)
		}
	}
	return out
}

// The demo's part: each step of the chain, from the list and from the dump, with
// the register values as text.
func TestDumpOfTheDemo(t *testing.T) {
	b := lock7(t)
	var text strings.Builder
	for _, s := range Dump(b) {
		fmt.Fprintf(&text, "%s %X\n", s.Name, s.Value)
	}
	back, err := b.MCU.Registers.ReadDump(strings.NewReader(text.String()))
	require.NoError(t, err)
	for _, l := range b.Links {
		c, err := l.Chain()
		require.NoError(t, err)
		vs := c.FromDump(back)
		require.Nil(t, startup.First(vs))
		want := "set up: yes, enabled: yes, started: yes"
		if l.Name == "depth-strip" {
			want = "set up: yes, enabled: yes" // it receives nothing, so nothing is started
		}
		assert.Equal(t, want, startup.Progress(vs), l.Name)
		for _, v := range c.FromDump(nil) {
			assert.Equal(t, startup.NotSeen, v.State, v.Name)
		}
	}
}

// What is left over from an earlier run and that nobody fetches waits; with a start
// that clears it, it is gone.
func TestLeftOver(t *testing.T) {
	for startup, want := range map[string]string{
		"": "took away 1 stale character (5A)",
		"clock, port-clock, transmit-pin, receive-pin, rate, frame, interrupt-line, transmit-enable, receive-enable, enable, receive-interrupt": "(5A) was handed to the first message",
		"clock, port-clock, transmit-pin, receive-pin, rate, frame, transmit-enable, receive-enable, enable":                                    "(5A) waits in the receive register",
	} {
		b := lock7(t)
		require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "upper-gauge", "transfers"}}))
		set(t, b, "5A", "links", "upper-gauge", "mcu", "left-over")
		if startup != "" {
			set(t, b, startup, "links", "upper-gauge", "mcu", "startup")
		}
		w := New(b, capture.NewStore(MetaOf(b)))
		w.RunTo(quantity.Millisecond)
		assert.Contains(t, framesOf(w.store.Snapshot(), 0, 0).notes, want)
	}
}

// A handler of another unit: the receive register is never emptied; the fix is
// about the handler alone.
func TestHandlerOfAnotherUnit(t *testing.T) {
	b := lock7(t)
	set(t, b, "serial1", "links", "lower-gauge", "mcu", "handler")
	fs := errorsOf(b)
	require.Len(t, fs, 1)
	assert.Equal(t, "handler-of-another-unit", fs[0].Code)
	assert.True(t, EndsOf(b.Links[1]).Unit.Unserved)
	require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
	assert.Empty(t, errorsOf(b))
	assert.Equal(t, Unit{}, EndsOf(b.Links[1]).Unit)
}
