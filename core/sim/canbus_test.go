package sim

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/machine"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/demo"
)

// frames are what a tap sees of a can bus.
type frames struct {
	fromMCU, fromDevices int // good ones
	bad                  int // frames with error marks, error flags
	unacknowledged       int
	notes                string
	came                 []uint32 // identifiers of what devices sent
}

func busTraffic(t require.TestingT, b *bench.Bench, name string, long quantity.Time) frames {
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(long)
	return framesOf(w.store.Snapshot(), b.Link(name).Index, 0)
}

func framesOf(s *capture.Snapshot, link uint16, from quantity.Time) (out frames) {
	for i := range s.Len() {
		r := s.At(i)
		if r.Link != link || r.Start < from {
			continue
		}
		switch {
		case r.Kind == record.Changed:
			out.notes += r.Text + "\n"
		case r.Kind != record.Frame:
		case r.AllFlags()&record.NotAcknowledged != 0:
			out.unacknowledged++
		case r.AllFlags() != 0:
			out.bad++
		case r.From == record.MCU:
			out.fromMCU++
		default:
			out.fromDevices++
			out.came = append(out.came, r.ID)
		}
	}
	return out
}

func TestHealthyCANBuses(t *testing.T) {
	b := lock7(t)
	f := busTraffic(t, b, "pump", quantity.Second)
	// Ten of 100 ms and a hundred of 10 ms; fifty of 20 ms and two of 500 ms.
	assert.InDelta(t, 110, f.fromDevices, 3)
	assert.InDelta(t, 52, f.fromMCU, 3)
	assert.Zero(t, f.bad+f.unacknowledged)
	assert.Contains(t, f.notes, "the MCU takes part: it saw 11 recessive bits, 43.50 µs")
	f = busTraffic(t, b, "winch", quantity.Second)
	assert.InDelta(t, 50, f.fromDevices, 3)
	assert.InDelta(t, 50, f.fromMCU, 3)
	assert.Zero(t, f.bad+f.unacknowledged)
}

// Each step of a can unit's start-up that is left out is named, alone, and the
// bus shows it.
func TestEveryStepOfANodeIsNeeded(t *testing.T) {
	b := lock7(t)
	c, err := b.Link("pump").Chain()
	require.NoError(t, err)
	for _, gone := range c.Needed() {
		b := lock7(t)
		l := b.Link("pump")
		require.NoError(t, b.Apply(l.StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == gone }))))
		fs := errorsOf(b)
		require.Len(t, fs, 1, gone)
		assert.Contains(t, fs[0].Seen, "startup step "+gone+" ")
		f := busTraffic(t, b, "pump", 200*quantity.Millisecond)
		switch gone {
		case "clock", "join":
			// Nobody acknowledges the pump drive.
			assert.Zero(t, f.fromMCU+f.fromDevices, gone)
			assert.Positive(t, f.unacknowledged, gone)
			assert.Contains(t, f.notes, "pump-drive is error passive", gone)
			w := New(b, capture.NewStore(MetaOf(b)))
			w.RunTo(200 * quantity.Millisecond)
			found := diagnose.Link(w.store.Snapshot(), l)
			require.Len(t, found, 1, gone)
			assert.Contains(t, found[0].Seen, "of pump-drive without acknowledge")
		case "port-clock", "transmit-pin", "receive-pin":
			assert.Zero(t, f.fromMCU, gone)
			assert.Contains(t, f.notes, "MCU is ", gone)
		case "configuration", "rate":
			assert.Zero(t, f.fromMCU, gone)
			assert.Positive(t, f.bad+f.unacknowledged, gone)
		case "interrupt-line", "receive-interrupt":
			assert.Positive(t, f.fromMCU, gone)
			assert.Contains(t, f.notes, "receive queue of 3 is full", gone)
		default:
			t.Errorf("no symptom is stated for %s", gone)
		}
		require.NoError(t, b.Apply(fs[0].Fixes[0].Edits...))
		assert.Empty(t, errorsOf(b), gone)
	}
}

// Without its acceptance filters a node acknowledges and stores nothing.
func TestFiltersNotSet(t *testing.T) {
	csv, err := demo.Files.ReadFile("marlow40.csv")
	require.NoError(t, err)
	text := strings.Replace(string(lock7(t).Text()), "configuration: C1CTL.CONFIG\n", "configuration: C1CTL.CONFIG\n        filters: C1FILT.ON\n", 1)
	dir := fstest.MapFS{"marlow40.csv": {Data: append(csv, "C1FILT,0x40015010,16,0x0000,,,,,filters\nC1FILT,0x40015010,,,ON,0,,0=off 1=on,\n"...)}}
	files, err := fs.Glob(demo.Files, "devices/*.yaml")
	require.NoError(t, err)
	for _, f := range files {
		data, err := demo.Files.ReadFile(f)
		require.NoError(t, err)
		dir[f] = &fstest.MapFile{Data: data}
	}
	b, faults := bench.Parse(dir, "b.yaml", []byte(text))
	require.Empty(t, faults)
	f := busTraffic(t, b, "pump", 100*quantity.Millisecond)
	assert.NotContains(t, f.notes, "filter")
	l := b.Link("pump")
	c, err := l.Chain()
	require.NoError(t, err)
	require.NoError(t, b.Apply(l.StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == "filters" }))))
	fs := errorsOf(b)
	require.Len(t, fs, 1)
	assert.Contains(t, fs[0].Seen, "startup step filters ")
	f = busTraffic(t, b, "pump", 100*quantity.Millisecond)
	assert.Contains(t, f.notes, "was acknowledged and not stored")
	assert.Positive(t, f.fromDevices)
}

// A node at another rate makes error frames as long as it is active, and none
// when it only listens.
func TestNodeAtAnotherRate(t *testing.T) {
	for _, listens := range []string{"no", "yes"} {
		text := strings.Replace(string(lock7(t).Text()), "      pump-drive: {file: devices/pump-drive.yaml}\n",
			"      pump-drive: {file: devices/pump-drive.yaml}\n      stranger:   {file: devices/pump-drive.yaml, rate: 125 kbit/s, timing: \"8, 1+13+2, 1\", listen-only: "+listens+"}\n", 1)
		b, faults := bench.Parse(demo.Files, "lock7.yaml", []byte(text))
		require.Empty(t, faults)
		f := busTraffic(t, b, "pump", 100*quantity.Millisecond)
		if listens == "yes" {
			assert.Zero(t, f.bad+f.unacknowledged)
			assert.Positive(t, f.fromMCU)
			assert.Empty(t, errorsOf(b))
			continue
		}
		assert.Positive(t, f.bad)
		assert.Equal(t, "node-at-another-rate", errorsOf(b)[0].Code)
	}
}

// A node that knows only classic frames answers flexible ones with error frames,
// unless it just listens.
func TestOldNodeOnAFlexibleBus(t *testing.T) {
	for _, listens := range []string{"no", "yes"} {
		text := strings.Replace(string(lock7(t).Text()), "      winch-drive: {file: devices/winch-drive.yaml}\n", "      winch-drive: {file: devices/winch-drive.yaml}\n      old: {file: devices/pump-drive.yaml, rate: 500 kbit/s, timing: \"2, 1+12+3, 2\", listen-only: "+listens+"}\n", 1)
		b, faults := bench.Parse(demo.Files, "lock7.yaml", []byte(text))
		require.Empty(t, faults)
		f := busTraffic(t, b, "winch", 100*quantity.Millisecond)
		assert.Equal(t, listens == "no", f.bad > 0, "%+v", f)
	}
}

// On a bus that is held dominant no node joins; let go, it does.
func TestHeldBus(t *testing.T) {
	b := lock7(t)
	w := New(b, capture.NewStore(MetaOf(b)))
	w.RunTo(50 * quantity.Millisecond)
	require.NoError(t, w.Do("pump", link.Hold{Role: "line"}, nil))
	w.RunTo(200 * quantity.Millisecond)
	f := framesOf(w.store.Snapshot(), b.Link("pump").Index, 50*quantity.Millisecond)
	assert.Zero(t, f.fromMCU+f.fromDevices)
	assert.NotContains(t, f.notes, "takes part")
	found := diagnose.Link(w.store.Snapshot(), b.Link("pump"))
	require.Len(t, found, 1)
	assert.Equal(t, "line-held-dominant", found[0].Code)
	require.NoError(t, w.Do("pump", link.Hold{Role: "line", Release: true}, nil))
	w.RunTo(300 * quantity.Millisecond)
	f = framesOf(w.store.Snapshot(), b.Link("pump").Index, 200*quantity.Millisecond)
	assert.Positive(t, f.fromMCU)
	assert.Contains(t, f.notes, "takes part")
}

// The levels that are kept decode to the records that were seen, over changes at
// any time: in the middle of a frame too.
func TestKeptLevelsDecodeAgain(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		w := New(b, capture.NewStore(MetaOf(b)))
		pump := b.Link("pump")
		for range 4 {
			w.RunTo(w.now + quantity.Time(rapid.Int64Range(0, 6e9).Draw(rt, "wait")))
			n := NodesOf(pump)
			n.Length = float64(rapid.IntRange(1, 60).Draw(rt, "length"))
			require.NoError(rt, w.Do("pump", link.Configure{State: packed(n)}, nil))
		}
		w.RunTo(w.now + 12*quantity.Millisecond)
		s := w.store.Snapshot()
		kept, ok := s.Kept(pump.Index, 0)
		require.True(rt, ok)
		levels, ok := s.Window(pump.Index, 0, kept.From, kept.To)
		require.True(rt, ok)
		again := capture.NewStore(*s.Meta())
		d := can.NewDecoder(pump.Model.(*bench.CAN).Nodes[0].Timing(), pump.Index)
		d.Feed([]wire.Window{levels}, again)
		want, got := map[quantity.Time]uint32{}, map[quantity.Time]uint32{}
		for i := range s.Len() {
			if r := s.At(i); r.Link == pump.Index && r.Kind == record.Frame && r.AllFlags() == 0 {
				want[r.Start] = r.ID
			}
		}
		x := again.Snapshot()
		for i := range x.Len() {
			if r := x.At(i); r.Kind == record.Frame && r.AllFlags() == 0 {
				got[r.Start] = r.ID
			}
		}
		require.Equal(rt, want, got)
		require.NotEmpty(rt, want)
	})
}

// Bench, seed and inputs give the same capture again, however it is watched.
func TestCANIsReproducible(t *testing.T) {
	for _, c := range []struct{ rate, off string }{{"250 kbit/s", "-1.1 %"}, {"500 kbit/s", "0.2 %"}, {"125 kbit/s", "0 %"}} {
		b := lock7(t)
		w := New(b, capture.NewStore(MetaOf(b)))
		w.RunTo(10 * quantity.Millisecond)
		set(t, b, c.rate, "links", "pump", "mcu", "rate")
		set(t, b, c.off, "links", "pump", "devices", "pump-drive", "clock-off")
		require.NoError(t, w.Apply(b))
		w.RunTo(30 * quantity.Millisecond)
		inputs, err := Inputs(w.store.Snapshot())
		require.NoError(t, err)
		require.NotEmpty(t, inputs)
		first := lock7(t)
		again := New(first, capture.NewStore(MetaOf(first)))
		rng := rand.New(rand.NewPCG(1, 2))
		for _, in := range inputs {
			for again.now < in.At {
				again.RunTo(min(in.At, again.now+quantity.Time(rng.Int64N(1e9))))
			}
			require.NoError(t, again.Do(in.Link, in.Intent, nil))
		}
		again.RunTo(30 * quantity.Millisecond)
		x, y := w.store.Snapshot(), again.store.Snapshot()
		require.Equal(t, x.Len(), y.Len())
		for i := range x.Len() {
			require.Equal(t, x.At(i), y.At(i))
		}
	}
}

// States of buses that make no sense are refused, and never run.
func TestBadStatesAreRefused(t *testing.T) {
	b := lock7(t)
	for _, change := range []func(n *Nodes){
		func(n *Nodes) { n.Ends = nil },
		func(n *Nodes) { n.Ends[0].Nominal.Clock = 0 },
		func(n *Nodes) { n.Ends[0].Nominal.Seg1 = -3 },
		func(n *Nodes) { n.Ends[1].Nominal.Rate++ },
		func(n *Nodes) { n.Ends[1].Nominal.Jump = 9 },
		func(n *Nodes) { n.Tap.Nominal.Prescaler = 0 },
		func(n *Nodes) { n.Ends[0].Messages[0].Period = 0 },
		func(n *Nodes) { n.Ends[0].Messages[0].Frame.Data = make([]byte, 9) },
	} {
		n := NodesOf(b.Link("pump"))
		_, err := parseNodes(packed(n))
		require.NoError(t, err)
		n.Ends[0].Messages = slices.Clone(n.Ends[0].Messages)
		change(&n)
		_, err = parseNodes(packed(n))
		assert.Error(t, err)
	}
	for _, change := range []func(n *I2C){
		func(n *I2C) { n.Bit = 0 }, func(n *I2C) { n.Rise = -1 }, func(n *I2C) { n.Asks[0].Every = 0 },
	} {
		n := I2COf(b.Link("hull"))
		_, err := parseI2C(packed(n))
		require.NoError(t, err)
		change(&n)
		_, err = parseI2C(packed(n))
		assert.Error(t, err)
	}
	for _, change := range []func(e *Ends){
		func(e *Ends) { e.MCU.Rate = 0 }, func(e *Ends) { e.Device.Frame.Data = 99 }, func(e *Ends) { e.MCU.Oversampling = 1 }, func(e *Ends) { e.Depth = 0 },
		func(e *Ends) { e.Service = -1 }, func(e *Ends) { e.ClockOff = -600_000 },
	} {
		e := EndsOf(b.Link("lower-gauge"))
		_, err := parseEnds(packed(e))
		require.NoError(t, err)
		change(&e)
		_, err = parseEnds(packed(e))
		assert.Error(t, err)
	}
}

// TestDepthOfAUnit: so many frames are kept while nobody takes them, and units that
// hold nothing have no such key.
func TestDepthOfAUnit(t *testing.T) {
	text := string(lock7(t).Text())
	for i, n := range []int{1, 5, 1, 4, 1, 3} {
		policy := machine.Policy(i / 2)
		deeper := strings.Replace(text, "kind: can\n", fmt.Sprintf("kind: can\n      depth: %d\n      on-full: %s\n", n, policy), 1)
		b, faults := bench.Parse(demo.Files, "lock7.yaml", []byte(deeper))
		require.Empty(t, faults)
		c, err := b.Link("pump").Chain()
		require.NoError(t, err)
		require.NoError(t, b.Apply(b.Link("pump").StartEdit(slices.DeleteFunc(c.Needed(), func(s string) bool { return s == "interrupt-line" }))))
		f := busTraffic(t, b, "pump", 200*quantity.Millisecond)
		require.Greater(t, len(f.came), n)
		lost := map[machine.Policy]uint32{machine.KeepOldest: f.came[n], machine.KeepNewest: f.came[0], machine.ReplaceLast: f.came[n-1]}[policy]
		assert.Contains(t, f.notes, fmt.Sprintf("receive queue of %d is full and nobody empties it: frame %X", n, lost))
	}
	for kind, key := range map[string]string{"spi": "depth: 4", "i2c": "depth: 4", "pulse": "depth: 4", "can": "latched: yes"} {
		_, faults := bench.Parse(demo.Files, "lock7.yaml", []byte(strings.Replace(text, "      kind: "+kind, "      "+key+"\n      kind: "+kind, 1)))
		require.NotEmpty(t, faults, kind)
		assert.Contains(t, faults[0].Seen, "unknown key", kind)
	}
}

// An arbitration is told with its deciding bit, which is the first in which the frames
// differ, and the loser with how long it was held back.
func TestArbitrationIsTold(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	told, held := 0, 0
	for range 12 {
		b := lock7(t)
		id := rng.IntN(0x600) + 1
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "winch", "mcu", "messages", "winch set-point", "identifier"}, Value: fmt.Sprintf("0x%X", id)}))
		w := New(b, capture.NewStore(MetaOf(b)))
		w.RunTo(300 * quantity.Millisecond)
		snap := w.store.Snapshot()
		model := b.Link("winch").Model.(*bench.CAN)
		frameOf := func(id uint32) can.Frame {
			for _, n := range model.Nodes {
				for _, m := range n.Messages {
					if m.Frame.ID == id {
						return m.Frame
					}
				}
			}
			t.Fatalf("nobody sends %X", id)
			return can.Frame{}
		}
		var since quantity.Time
		var loser uint32
		for i := range snap.Len() {
			r := snap.At(i)
			if r.Link != b.Link("winch").Index || r.Kind != record.Frame {
				continue
			}
			if v, ok := r.Fact(record.HeldBack, 0); ok {
				held++
				require.Equal(t, loser, r.ID)
				require.Equal(t, r.Start-since, quantity.Time(v))
			}
			for _, f := range r.Facts {
				if f.What != record.WonOver {
					continue
				}
				told++
				loser, since = uint32(f.Value), r.Start
				mine, other := can.Build(frameOf(r.ID), true).Bits, can.Build(frameOf(loser), true).Bits
				k := 0
				for mine[k].Recessive == other[k].Recessive {
					k++
				}
				require.False(t, mine[k].Recessive, "dominant wins")
				require.Equal(t, k+1, f.Index)
			}
		}
	}
	assert.Greater(t, told, 50)
	assert.Equal(t, told, held, "who lost is sent after it")
}

// The counters that records tell of are those that the nodes keep; states and their
// ends are told with their times.
func TestCountersAreTold(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		l := b.Link("winch")
		w := New(b, capture.NewStore(MetaOf(b)))
		bus := w.links[l.Index].(*canBus)
		at := quantity.Time(0)
		for range rapid.IntRange(1, 4).Draw(rt, "events") {
			at += quantity.Time(rapid.Int64Range(1, 40).Draw(rt, "ms")) * quantity.Millisecond
			w.RunTo(at)
			var i link.Intent = link.Power{Device: "winch-drive", On: rapid.Bool().Draw(rt, "on")}
			if rapid.Bool().Draw(rt, "hold") {
				i = link.Hold{Role: "line", Release: rapid.Bool().Draw(rt, "release")}
			}
			require.NoError(rt, bus.do(i, func(link.Outcome) {}))
		}
		w.RunTo(at + 25*quantity.Millisecond)
		snap := w.store.Snapshot()
		last := map[int]int64{}
		for i := range snap.Len() {
			r := snap.At(i)
			if r.Link != l.Index {
				continue
			}
			if r.Kind == record.Changed && (strings.Contains(r.Text, "supply") || strings.Contains(r.Text, "the line")) {
				clear(last) // all nodes start anew
			}
			if r.Kind == record.Frame {
				clear(last)
			}
			for _, f := range r.Facts {
				if f.What == record.ErrorCounts {
					last[f.Index] = f.Value
				}
			}
		}
		for i := range bus.books {
			k := &bus.books[i]
			want := last[i]
			if len(k.counts) > 0 {
				continue // a record of it is still to come
			}
			require.Equal(rt, want, k.told)
			if n := bus.nodes[i]; n != nil {
				tec, rec := n.Counters()
				require.Equal(rt, want, int64(tec)<<16|int64(rec))
			}
		}
	})
}

// A frame of the flexible data rate that nobody acknowledges is told as that, with its
// error flag, as one of the classic format is.
func TestNobodyAcknowledges(t *testing.T) {
	for _, c := range []struct{ link, device string }{{"winch", "winch-drive"}, {"pump", "pump-drive"}} {
		b := lock7(t)
		w := New(b, capture.NewStore(MetaOf(b)))
		l := b.Link(c.link)
		require.NoError(t, w.links[l.Index].do(link.Power{Device: c.device}, func(link.Outcome) {}))
		w.RunTo(100 * quantity.Millisecond)
		f := framesOf(w.store.Snapshot(), l.Index, 0)
		assert.Zero(t, f.bad+f.fromMCU+f.fromDevices, c.link)
		assert.Greater(t, f.unacknowledged, 100, c.link)
		assert.Contains(t, f.notes, "MCU has counted many errors: transmit errors 96")
		assert.Contains(t, f.notes, "MCU is error passive: transmit errors 128")
	}
}
