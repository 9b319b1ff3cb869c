package sim

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/capture/pcapng"
	"gavrix.org/gavrix/core/diagnose"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/prove"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/demo"
)

// lock7 is the demo, for tests of one goroutine: where races are looked for there is
// nothing in them.
func lock7(t testing.TB) *bench.Bench {
	if testing.Short() {
		t.Skip("one goroutine: there is nothing to race with")
	}
	return live7(t)
}

// live7 is the demo, for tests with a pacer.
func live7(t testing.TB) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// traffic gives the bytes of a direction, with the marks of all of them.
func traffic(s *capture.Snapshot, link uint16, from, seen record.End, after quantity.Time) (data []byte, flags record.Flags) {
	each := func(r *record.Record) {
		if r.Kind == record.Chars && r.Link == link && r.From == from && r.Seen == seen && r.Start >= after {
			data = append(data, r.Data...)
			flags |= r.AllFlags()
		}
	}
	for i := range s.Len() {
		each(s.At(i))
	}
	for i := range s.Running {
		each(&s.Running[i])
	}
	return data, flags
}

func set(t testing.TB, b *bench.Bench, value string, path ...string) {
	require.NoError(t, b.Apply(finding.Edit{Path: path, Value: value}))
}

// quiet is Lock 7 without the firmware's own asking.
func quiet(t testing.TB) *bench.Bench {
	b := lock7(t)
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "lower-gauge", "mcu", "ask"}}))
	return b
}

func TestTheFaultOnPurpose(t *testing.T) {
	b := quiet(t)
	lower := b.Link("lower-gauge")
	require.Empty(t, lower.Lint())
	set(t, b, "8N1", "links", "lower-gauge", "mcu", "frame")
	lower = b.Link("lower-gauge")
	notes := lower.Lint()
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0].Seen, "frames disagree: lower-gauge 7E1, MCU 8N1")
	assert.Contains(t, notes[0].Why, "'4' (34) is stored as B4 without an error flag")

	h := NewHeadless(b)
	send := func(text string) ([]byte, record.Flags, *capture.Snapshot) {
		from := h.Now()
		require.NoError(t, h.World.Do(h.World.names[lower.Index], link.Send{Data: []byte(text)}, nil))
		h.World.RunTo(from + 80*quantity.Millisecond)
		snap := h.Store().Snapshot()
		data, flags := traffic(snap, lower.Index, record.Device, record.MCU, from)
		return data, flags, snap
	}
	data, flags, _ := send("SNAP\n")
	assert.Equal(t, "33 2E B4 B1 B7 0A", fmt.Sprintf("% X", data))
	assert.Zero(t, flags)

	data, _, snap := send("TEMP\n")
	assert.Empty(t, data, "T is of odd weight")
	d := diagnose.Link(snap, lower)
	require.Len(t, d, 1)
	assert.Equal(t, "no-answer", d[0].Code)
	assert.Contains(t, d[0].Why, "parity error in 'T' (54): 3 ones")

	// Each of the two fixes mends it, in the running world; undo brings it back.
	for _, fix := range notes[0].Fixes {
		require.NoError(t, b.Apply(fix.Edits...), fix.Label)
		require.NoError(t, h.World.Apply(b))
		assert.Empty(t, b.Link("lower-gauge").Lint(), fix.Label)
		data, flags, _ = send("SNAP\n")
		assert.Equal(t, "3.417\n", string(data))
		assert.Zero(t, flags)
		require.True(t, b.Undo())
		require.NoError(t, h.World.Apply(b))
		data, _, _ = send("SNAP\n")
		assert.Equal(t, "33 2E B4 B1 B7 0A", fmt.Sprintf("% X", data))
	}
}

func TestSameInputsGiveTheSameCapture(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(t)
		w := New(b, capture.NewStore(MetaOf(b)))
		for range rapid.IntRange(1, 8).Draw(rt, "inputs") {
			w.RunTo(w.now + quantity.Time(rapid.Int64Range(0, int64(90*quantity.Millisecond)).Draw(rt, "gap")))
			l := b.Links[rapid.IntRange(0, 1).Draw(rt, "link")]
			if rapid.Bool().Draw(rt, "send") {
				require.NoError(rt, w.Do(l.Name, link.Send{Data: []byte("SNAP\n")}, nil))
				continue
			}
			e := EndsOf(l)
			e.MCU.Frame = uart.Frame{Data: rapid.IntRange(7, 9).Draw(rt, "data"), Parity: uart.Even, Stop: 1}
			e.ClockOff = quantity.PPM(rapid.IntRange(-50000, 50000).Draw(rt, "ppm"))
			require.NoError(rt, w.Do(l.Name, link.Configure{State: packed(e)}, nil))
			if rapid.Bool().Draw(rt, "wire?") {
				require.NoError(rt, w.Do(l.Name, link.Cut{End: rapid.SampledFrom([]string{"mcu", "device"}).Draw(rt, "side"), Joined: rapid.Bool().Draw(rt, "joined")}, nil))
			}
		}
		end := w.now + 100*quantity.Millisecond
		w.RunTo(end)

		// Replayed from the text of the inputs, and watched at other times.
		inputs, err := Inputs(w.store.Snapshot())
		require.NoError(rt, err)
		again := New(b, capture.NewStore(MetaOf(b)))
		for _, in := range inputs {
			for again.now < in.At {
				again.RunTo(min(in.At, again.now+quantity.Time(rapid.Int64Range(1, int64(30*quantity.Millisecond)).Draw(rt, "slice"))))
			}
			require.NoError(rt, again.Do(in.Link, in.Intent, nil))
		}
		again.RunTo(end)
		a, c := w.store.Snapshot(), again.store.Snapshot()
		require.Equal(rt, a.Len(), c.Len())
		for i := range a.Len() {
			require.Equal(rt, *a.At(i), *c.At(i))
		}
		var x, y bytes.Buffer
		require.NoError(rt, pcapng.Save(&x, a))
		require.NoError(rt, pcapng.Save(&y, c))
		require.Equal(rt, x.Bytes(), y.Bytes(), "byte for byte")
		for l := range uint16(2) {
			for line := range 2 {
				x, _ := a.Window(l, line, 0, end)
				y, _ := c.Window(l, line, 0, end)
				require.Equal(rt, x, y)
			}
		}
	})
}

// TestClockOff holds the predicted limits against the simulated bench: with
// the device's clock off, every byte of its answers is right inside both
// limits and some byte fails outside.
func TestClockOff(t *testing.T) {
	type result struct{ clean, all int }
	run := func(frame string, ppm quantity.PPM, os string, seed uint64) (result, bench.Direction) {
		text := fmt.Sprintf(`bench: x
seed: %d
mcu:
  name: M
  clocks: {c: {source: 16 MHz}}
  units: {s: {kind: uart, clock: c, oversampling: [%s], divider: {most: 9999}}}
links:
  l: {kind: uart, unit: s, mcu: {rate: 10000, frame: %s}, device: {file: d.yaml, clock-off: %.3f ppm}}
`, seed, os, frame, float64(ppm))
		dev := fmt.Sprintf(`device: d
kind: uart
end: {rate: 10000, frame: %s}
behaviour:
  stream: {every: 50 ms, lines: 2, text: "0123456789@PO"}
`, frame)
		fs := fstest.MapFS{"b.yaml": {Data: []byte(text)}, "d.yaml": {Data: []byte(dev)}}
		b, faults := bench.Load(fs, "b.yaml")
		require.Empty(t, faults)
		h := NewHeadless(b)
		h.World.RunTo(quantity.Second)
		var r result
		snap := h.Store().Snapshot()
		data, flags := traffic(snap, 0, record.Device, record.MCU, 0)
		for _, line := range strings.SplitAfter(string(data), "\n") {
			r.all++
			if line == "0123456789@PO\n" {
				r.clean++
			}
		}
		if flags != 0 {
			r.clean = 0 // a byte with an error mark is no good byte
		}
		return r, b.Links[0].Model.(*bench.UART).Directions()[1]
	}
	rng := rand.New(rand.NewPCG(5, 6))
	for _, frame := range []string{"8N1", "7E1", "8E1", "7O1"} {
		for _, os := range []string{"16", "8", "4"} {
			_, d := run(frame, 0, os, 1)
			l := d.Limits
			ppmFor := func(e float64) quantity.PPM { return quantity.PPM(e * 1e6) }
			for range 3 {
				inside := l.Early + 1e-4 + rng.Float64()*(l.Late-l.Early-2e-4)
				r, d := run(frame, ppmFor(inside), os, rng.Uint64()%1000)
				assert.Equal(t, uart.Fits, d.Judgement)
				assert.GreaterOrEqual(t, r.clean, r.all-1, "%s ×%s %+.3f %% is inside", frame, os, 100*inside)
			}
			r, d := run(frame, ppmFor(l.LateBest+2e-4), os, rng.Uint64()%1000)
			assert.Equal(t, uart.TooLate, d.Judgement)
			assert.Zero(t, r.clean, "%s ×%s outside the late limit", frame, os)
			r, d = run(frame, ppmFor(l.EarlyBest-2e-4), os, rng.Uint64()%1000)
			assert.Equal(t, uart.TooEarly, d.Judgement)
			assert.Zero(t, r.clean, "%s ×%s outside the early limit", frame, os)
		}
	}
}

func TestOverrunWhenTheHandlerIsLate(t *testing.T) {
	b := lock7(t)
	require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: []string{"links", "upper-gauge", "transfers"}}))
	set(t, b, "400 us", "links", "upper-gauge", "mcu", "service")
	h := NewHeadless(b)
	h.World.RunTo(quantity.Second)
	_, flags := traffic(h.Store().Snapshot(), 0, record.Device, record.MCU, 0)
	assert.Equal(t, record.Overrun, flags)
	var codes []string
	for _, f := range append(b.Links[0].Lint(), diagnose.Link(h.Store().Snapshot(), b.Links[0])...) {
		codes = append(codes, f.Code)
	}
	assert.Equal(t, []string{"handler-too-slow", "overrun"}, codes)
}

func TestLastByteIsThereAtTheEndOfItsStopBit(t *testing.T) {
	b := quiet(t)
	h := NewHeadless(b)
	l := b.Link("lower-gauge")
	require.NoError(t, h.World.Do(h.World.names[l.Index], link.Send{Data: []byte("SNAP\n")}, nil))
	h.World.RunTo(200 * quantity.Millisecond)
	snap := h.Store().Snapshot()
	var end quantity.Time
	for i := range snap.Len() {
		if r := snap.At(i); r.Kind == record.Chars && r.From == record.Device && r.Link == l.Index && r.Seen == record.Tap {
			end = r.End
		}
	}
	require.Positive(t, end)
	again := NewHeadless(b)
	require.NoError(t, again.World.Do(l.Name, link.Send{Data: []byte("SNAP\n")}, nil))
	again.World.RunTo(end - quantity.Microsecond)
	data, _ := traffic(again.Store().Snapshot(), l.Index, record.Device, record.Tap, 0)
	assert.Equal(t, "3.417", string(data))
	again.World.RunTo(end)
	data, _ = traffic(again.Store().Snapshot(), l.Index, record.Device, record.Tap, 0)
	assert.Equal(t, "3.417\n", string(data), "no edge comes any more, yet the byte is there")
}

func TestChecks(t *testing.T) {
	b := lock7(t)
	h := NewHeadless(b)
	for _, l := range b.Links {
		rs, err := prove.Link(context.Background(), h, l)
		require.NoError(t, err)
		require.Len(t, rs, len(l.Checks))
		for _, r := range rs {
			assert.True(t, r.Pass, "%s", r.Summary())
			assert.True(t, r.Simulated)
		}
	}
	// An answer after the time is none, though the capture holds it later.
	lower := b.Link("lower-gauge")
	short := lower.Checks[0]
	short.Within = 3 * quantity.Millisecond
	r, err := prove.One(context.Background(), h, lower, short)
	require.NoError(t, err)
	assert.False(t, r.Pass)
	assert.Less(t, len(r.Seen), 6)
	h.World.RunTo(h.Now() + quantity.Second)
	set(t, b, "8N1", "links", "lower-gauge", "mcu", "frame")
	require.NoError(t, h.World.Apply(b))
	rs, err := prove.Link(context.Background(), h, b.Link("lower-gauge"))
	require.NoError(t, err)
	assert.Contains(t, rs[0].Summary(), "first difference at byte 2: expected 34 '4', seen B4 '·'")
	assert.Len(t, rs[0].Differences, 3)
	assert.Equal(t, "no answer within 30 ms", rs[1].Problem)
	set(t, b, "19200", "links", "upper-gauge", "mcu", "rate")
	require.NoError(t, h.World.Apply(b))
	rs, err = prove.Link(context.Background(), h, b.Link("upper-gauge"))
	require.NoError(t, err)
	assert.False(t, rs[0].Pass)
	cancelled, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = prove.Link(cancelled, h, b.Link("upper-gauge"))
	assert.ErrorIs(t, err, context.Canceled)
}

// TestEveryTransferIsCounted: 1000 exchanges are 1000 runs each way, with not a
// character lost, and the levels hold what the records say.
func TestEveryTransferIsCounted(t *testing.T) {
	b := quiet(t)
	h := NewHeadless(b)
	l := b.Link("lower-gauge")
	for range 1000 {
		require.NoError(t, h.World.Do(h.World.names[l.Index], link.Send{Data: []byte("SNAP\n")}, nil))
		h.World.RunTo(h.Now() + 10*quantity.Millisecond)
	}
	snap := h.Store().Snapshot()
	for _, d := range []struct {
		from, seen record.End
		chars      uint64
	}{{record.MCU, record.Device, 5000}, {record.MCU, record.Tap, 5000}, {record.Device, record.MCU, 6000}, {record.Device, record.Tap, 6000}} {
		c := snap.Counters(capture.Direction{Link: l.Index, From: d.from, Seen: d.seen})
		assert.Equal(t, uint64(1000), c.Runs)
		assert.Equal(t, d.chars, c.Chars)
		assert.Zero(t, c.Bad)
	}
	end := h.Now()
	w, ok := snap.Window(l.Index, deviceSide, 0, end)
	require.True(t, ok)
	again := &record.List{}
	dec := uart.NewReceiver(uart.Config{Frame: l.Model.(*bench.UART).DeviceEnd.Frame, Period: quantity.PeriodOf(l.Model.(*bench.UART).DeviceRate())})
	dec.Feed(&w, again)
	dec.Flush(again)
	assert.Len(t, again.Done, 1000)
	h.Store().Zero(l.Index, end)
	h.World.RunTo(end + quantity.Second)
	snap = h.Store().Snapshot()
	assert.Zero(t, snap.Counters(capture.Direction{Link: l.Index, From: record.Device, Seen: record.MCU}).Chars)
	assert.Equal(t, end, snap.Counters(capture.Direction{Link: l.Index, From: record.Device, Seen: record.MCU}).Zeroed)
}

// TestABrokenWire: the command leaves and no answer comes back; mended, the
// next one is clean.
func TestABrokenWire(t *testing.T) {
	b := quiet(t)
	h := NewHeadless(b)
	l := b.Link("lower-gauge")
	ask := func() ([]byte, record.Flags) {
		from := h.Now()
		require.NoError(t, h.World.Do(h.World.names[l.Index], link.Send{Data: []byte("SNAP\n")}, nil))
		h.World.RunTo(from + 100*quantity.Millisecond)
		return traffic(h.Store().Snapshot(), l.Index, record.Device, record.MCU, from)
	}
	for _, end := range []string{"mcu", "lower-gauge"} {
		require.NoError(t, h.World.Do(l.Name, link.Cut{End: end}, nil))
		data, _ := ask()
		assert.Empty(t, data)
		d := diagnose.Link(h.Store().Snapshot(), l)
		require.NotEmpty(t, d)
		assert.Equal(t, "no-answer", d[0].Code)
		assert.Contains(t, d[0].Why, "one can't tell these apart from here")
		require.NoError(t, h.World.Do(l.Name, link.Cut{End: end, Joined: true}, nil))
		data, flags := ask()
		assert.Equal(t, "3.417\n", string(data))
		assert.Zero(t, flags)
	}
}

// TestIntentsAreRefused: what a link can't do it says, and does not keep.
func TestIntentsAreRefused(t *testing.T) {
	h := NewHeadless(lock7(t))
	before := h.Store().Snapshot().Len()
	for _, c := range []struct {
		link string
		i    link.Intent
		want string
	}{
		{"nowhere", link.Send{Data: []byte("x")}, "no link"},
		{"gate", link.Send{Data: []byte("x")}, "words are exchanged"},
		{"gate", link.Cut{End: "mcu"}, "there are clock, out, in, select-leaf-angle"},
		{"gate", link.Hold{Role: "clock"}, "only the line in can be held"},
		{"gate", link.Power{Device: "pump"}, "no device on it"},
		{"gate", link.Transact{Text: "select 4 out 00"}, "3 devices"},
		{"gate", link.Transact{Text: "out ZZ"}, "8 bits in hex"},
		{"gate", link.Configure{State: "e30"}, "out of range"},
		{"gate", link.Preset{Device: "trim", Value: "NONE"}, "no value"},
		{"hull", link.Preset{Device: "log-memory", Value: "X"}, "no value \"X\""},
		{"hull", link.Preset{Device: "pump", Value: "X"}, "no device with registers"},
		{"pump", link.Send{Data: []byte("x")}, "a CAN node sends frames"},
		{"hull", link.Send{Data: []byte("x")}, "on an I2C bus transactions are sent"},
		{"pump", link.Cut{End: "mcu"}, "share one pair"},
		{"lower-gauge", link.Hold{Role: "mcu"}, "none can be held"},
		{"lower-gauge", link.Cut{End: "pump"}, "no end of it"},
		{"lower-gauge", link.Power{Device: "pump"}, "no device on it"},
		{"hull", link.Power{Device: "pump"}, "no device on it"},
		{"hull", link.Hold{Role: "line"}, "no line"},
		{"hull", link.Transact{Text: "start 96 ack"}, "ends with stop"},
		{"pump", link.Transact{Text: "XYZ"}, "no identifier"},
		{"hull", link.Configure{State: "e30"}, "out of range"},
		{"pump", link.Configure{State: "!"}, "no base64"},
		{"lower-gauge", link.Configure{State: "e30"}, "rate is 1 Bd"},
	} {
		assert.ErrorContains(t, h.World.Do(c.link, c.i, nil), c.want, "%s: %s", c.link, link.Text(c.i))
	}
	assert.Equal(t, before, h.Store().Snapshot().Len())
}

// TestOutcomes: a transaction says what came of it, on a healthy bus, without the
// device, and on a held line.
func TestOutcomes(t *testing.T) {
	h := NewHeadless(lock7(t))
	do := func(name string, i link.Intent) (link.Outcome, error) {
		return h.Do(context.Background(), h.Bench.Link(name).Index, i)
	}
	out, err := do("hull", link.Transact{Text: "start 96 ack 12 ack restart 97 ack .. ack .. nack stop"})
	require.NoError(t, err)
	assert.True(t, out.OK)
	assert.Equal(t, "done, read 03 1A", out.Text)
	out, err = do("hull", link.Transact{Text: "start A2 ack 00 ack stop"})
	require.NoError(t, err)
	assert.False(t, out.OK)
	assert.Contains(t, out.Text, "the address was not acknowledged: ")
	_, err = do("hull", link.Power{Device: "leaf-tilt"})
	require.NoError(t, err)
	out, err = do("hull", link.Transact{Text: "start 96 ack 12 ack stop"})
	require.NoError(t, err)
	assert.False(t, out.OK)
	_, err = do("hull", link.Hold{Role: "data"})
	require.NoError(t, err)
	out, err = do("hull", link.Transact{Text: "start 96 ack 12 ack stop"})
	require.NoError(t, err)
	assert.False(t, out.OK)
	assert.Contains(t, out.Text, "data is held low")

	out, err = do("pump", link.Transact{Text: "0F0 01 02"})
	require.NoError(t, err)
	assert.True(t, out.OK)
	h.World.RunTo(h.Now() + 10*quantity.Millisecond)
	snap := h.Store().Snapshot()
	seen := false
	for _, head := range snap.After(0, records.Query{Link: int(h.Bench.Link("pump").Index), Kinds: []record.Kind{record.Frame}}) {
		seen = seen || head.ID == 0xf0 && head.From == record.MCU
	}
	assert.True(t, seen)
	inputs, err := Inputs(snap)
	require.NoError(t, err)
	assert.Len(t, inputs, 7)
}

// TestPowerOfADevice: without supply a gauge says nothing, with it back it begins
// anew; on can the partner is missed.
func TestPowerOfADevice(t *testing.T) {
	h := NewHeadless(lock7(t))
	upper := h.Bench.Link("upper-gauge")
	bytes := func(from quantity.Time) int {
		data, _ := traffic(h.Store().Snapshot(), upper.Index, record.Device, record.MCU, from)
		return len(data)
	}
	step := func() quantity.Time { from := h.Now(); h.World.RunTo(from + 400*quantity.Millisecond); return from }
	assert.Positive(t, bytes(step()))
	require.NoError(t, h.World.Do("upper-gauge", link.Power{Device: "upper-gauge"}, nil))
	h.World.RunTo(h.Now() + 50*quantity.Millisecond)
	assert.Zero(t, bytes(step()))
	require.NoError(t, h.World.Do("upper-gauge", link.Power{Device: "upper-gauge", On: true}, nil))
	assert.Positive(t, bytes(step()))
	require.NoError(t, h.World.Do("pump", link.Power{Device: "pump-drive"}, nil))
	from := step()
	f := framesOf(h.Store().Snapshot(), h.Bench.Link("pump").Index, from)
	assert.Zero(t, f.fromDevices)
	assert.Positive(t, f.unacknowledged)
}

func BenchmarkWorld(b *testing.B) {
	bench := lock7(b)
	const span = 10 * quantity.Second
	for b.Loop() {
		w := New(bench, capture.NewStore(MetaOf(bench)))
		w.RunTo(span)
	}
	b.ReportMetric(span.Seconds()*float64(b.N)/b.Elapsed().Seconds(), "×real")
}

// TestAskingIsChanged: another interval or text of what the firmware asks takes effect
// at once, on a link that goes on.
func TestAskingIsChanged(t *testing.T) {
	b := lock7(t)
	h := NewHeadless(b)
	asked := func(from, to quantity.Time) (n int, text string) {
		h.World.RunTo(to)
		snap := h.Store().Snapshot()
		for i := snap.First(); i < snap.Len(); i++ {
			if r := snap.At(i); r.Kind == record.Chars && r.Link == b.Link("lower-gauge").Index && r.From == record.MCU && r.Seen == record.Tap && r.Start >= from {
				n, text = n+1, string(r.Data)
			}
		}
		return n, text
	}
	at := func(key string) []string { return []string{"links", "lower-gauge", "mcu", "ask", key} }
	change := func(edits ...finding.Edit) {
		require.NoError(t, b.Apply(edits...))
		require.NoError(t, h.World.Apply(b))
	}
	change(finding.Edit{Path: at("every"), Value: "100 ms"}, finding.Edit{Path: at("text"), Value: "TEMP\n"})
	now := h.World.now
	n, text := asked(now, now+quantity.Second)
	require.InDelta(t, 10, n, 1)
	require.Equal(t, "TEMP\n", text)
	change(finding.Edit{Path: at("every"), Value: "20 ms"})
	now = h.World.now
	n, _ = asked(now, now+quantity.Second)
	require.InDelta(t, 50, n, 2)
}
