package sending

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/filter"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT, without ...string) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	for _, w := range without {
		require.NoError(t, b.Apply(finding.Edit{Op: finding.Delete, Path: strings.Fields(w)}))
	}
	return b
}

// sent gives what the MCU put on a link.
func sent(s *capture.Snapshot, l uint16) []*record.Record {
	var out []*record.Record
	for i := range s.Len() {
		if r := s.At(i); r.Traffic() && r.Link == l && r.Seen == record.Tap && (r.From == record.MCU || r.Kind == record.Transaction) {
			out = append(out, r)
		}
	}
	return out
}

// 200 times every 50 ms: all go out, each at its time.
func TestEverySoLong(t *testing.T) {
	b := lock7(t, "links lower-gauge mcu ask")
	h := sim.NewHeadless(b)
	l := b.Link("lower-gauge").Index
	p := &Plan{Items: []Item{{Link: l, Intent: link.Send{Data: []byte{0x3a, 0x0d}}, Text: "3A 0D"}}, Times: 200, Every: 50 * quantity.Millisecond}
	told := 0
	done, err := Run(context.Background(), h, b, p, func(Progress) { told++ })
	require.NoError(t, err)
	h.World.RunTo(h.Now() + 20*quantity.Millisecond)
	assert.Equal(t, 200, done.Sent)
	assert.Equal(t, 200, told)
	assert.Zero(t, done.Failed)
	assert.Zero(t, done.Late.Most)
	rs := sent(h.Store().Snapshot(), l)
	require.Equal(t, 200, len(rs))
	for i, r := range rs {
		assert.Equal(t, []byte{0x3a, 0x0d}, r.Data)
		assert.Equal(t, quantity.Time(i)*50*quantity.Millisecond, r.Start)
	}
}

// Whenever something is seen it fires once for each, and not for what was before.
func TestOnEvent(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(300 * quantity.Millisecond) // one answer is past
	f, bad := filter.Parse("lower-gauge answers", filter.NounsOf(b, &h.Store().Meta))
	require.Nil(t, bad)
	pump := b.Link("pump").Index
	p := &Plan{Items: []Item{{Link: pump, Intent: link.Transact{Text: "123 0A"}, Text: "x"}}, Times: 3, When: f}
	done, err := Run(context.Background(), h, b, p, nil)
	require.NoError(t, err)
	assert.Equal(t, 3, done.Sent)
	var at []quantity.Time
	for _, r := range sent(h.Store().Snapshot(), pump) {
		if r.ID == 0x123 {
			at = append(at, r.Start)
		}
	}
	require.Len(t, at, 3)
	for i, a := range at { // the firmware asks every 2 s, from 250 ms on
		assert.InDelta(t, 2.25+2*float64(i), a.Seconds(), 0.02)
	}
}

// A capture of 1000 frames, uneven and of two kinds, is sent again in its order and with its
// gaps, but for the time that the bus was taken; then again from what that gave.
func TestReplayKeepsOrderAndGaps(t *testing.T) {
	b := lock7(t, "links pump mcu messages")
	quiet := fstest.MapFS{}
	for name, text := range b.Files() {
		// The drive sends nothing by itself: the bus is free.
		if strings.HasSuffix(name, "pump-drive.yaml") {
			at := strings.Index(text, "  messages:")
			text = text[:at] + text[strings.Index(text, "layouts:"):]
			for strings.Contains(text, ", holds:") {
				i := strings.Index(text, ", holds:")
				text = text[:i] + text[i+strings.Index(text[i:], "}"):]
			}
		}
		quiet[name] = &fstest.MapFile{Data: []byte(text)}
	}
	b, faults := bench.Parse(quiet, "lock7.yaml", b.Text())
	require.Empty(t, faults)
	pump := b.Link("pump").Index
	h := sim.NewHeadless(b)
	h.World.RunTo(quantity.Millisecond)
	rng := rand.New(rand.NewPCG(7, 7))
	var items []Item
	at := quantity.Time(0)
	for i := range 1000 {
		at += 700*quantity.Microsecond + quantity.Time(rng.Int64N(int64(4*quantity.Millisecond)))
		items = append(items, Item{After: at, Link: pump, Intent: link.Transact{Text: fmt.Sprintf("%03X %02X %02X", 0x300+rng.IntN(2), i>>8, i&255)}})
	}
	_, err := Run(context.Background(), h, b, &Plan{Items: items, Times: 1}, nil)
	require.NoError(t, err)
	h.World.RunTo(h.Now() + quantity.Millisecond)
	was := sent(h.Store().Snapshot(), pump)
	require.Equal(t, 1000, len(was))

	again := sim.NewHeadless(b)
	again.World.RunTo(quantity.Millisecond)
	list, err := OfCapture(h.Store().Snapshot(), &again.Store().Meta, func(r *record.Record) bool { return r.Link == pump }, 0, quantity.Forever, false, nil)
	require.NoError(t, err)
	require.Equal(t, 1000, len(list))
	done, err := Run(context.Background(), again, b, &Plan{Items: list, Times: 1}, nil)
	require.NoError(t, err)
	assert.Zero(t, done.Failed)
	again.World.RunTo(again.Now() + quantity.Millisecond)
	is := sent(again.Store().Snapshot(), pump)
	require.Equal(t, 1000, len(is))
	const tolerance = 8 * quantity.Microsecond // two bits at 250 kbit/s
	for i := range is {
		require.Equal(t, was[i].Data, is[i].Data, "frame %d", i)
		require.Equal(t, was[i].ID, is[i].ID)
		if i > 0 {
			d := (is[i].Start - is[i-1].Start) - (was[i].Start - was[i-1].Start)
			require.LessOrEqual(t, max(d, -d), tolerance, "gap %d", i)
		}
	}
}

// Everything that the MCU sent on each kind of link can be sent again.
func TestEveryKindAgain(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(600 * quantity.Millisecond)
	items, err := OfCapture(h.Store().Snapshot(), &h.Store().Meta, func(*record.Record) bool { return true }, 0, quantity.Forever, false, nil)
	require.NoError(t, err)
	links := map[uint16]int{}
	for _, it := range items {
		links[it.Link]++
	}
	assert.Len(t, links, 6, "all but upper-gauge, which is never asked")
	to := sim.NewHeadless(lock7(t))
	done, err := Run(context.Background(), to, b, &Plan{Items: items, Times: 1}, nil)
	require.NoError(t, err)
	assert.Equal(t, len(items), done.Sent)
	assert.Zero(t, done.Failed, done.Why)
}

func TestPlansThatAreNone(t *testing.T) {
	item := Item{Intent: link.Send{Data: []byte("x")}}
	for want, p := range map[string]Plan{
		"nothing to send":  {Times: 1},
		"every 0 s: write": {Items: []Item{item}, Times: 2},
		"go back":          {Items: []Item{{After: 5, Intent: item.Intent}, item}, Times: 1},
		"no end":           {Items: []Item{item}, Times: -1},
	} {
		_, err := Run(context.Background(), sim.NewHeadless(lock7(t)), nil, &p, nil)
		require.ErrorContains(t, err, want)
	}
	ctx, stop := context.WithCancel(context.Background())
	b := lock7(t)
	n := 0
	_, err := Run(ctx, sim.NewHeadless(b), b, &Plan{Items: []Item{{Link: b.Link("lower-gauge").Index, Intent: item.Intent}}, Every: quantity.Millisecond}, func(Progress) {
		if n++; n == 5 {
			stop()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 5, n)
}

// A list is refused with its line, or each of its items is of the bench and in order.
func FuzzList(f *testing.F) {
	b := lock7(f)
	f.Add("0 ms pump 2A5 01 60\n# a remark\n20ms lower-gauge SNAP\\n\n")
	f.Add("1e9 s pump\n\x00 x\n-1ms pump 1")
	f.Add("5 ms  weir 1\t2\n")
	f.Fuzz(func(t *testing.T, text string) {
		items, err := List(b, "moves.txt", text)
		if err != nil {
			require.Regexp(t, `^moves\.txt:(\d+:)? `, err.Error())
			return
		}
		require.NotEmpty(t, items)
		for i, it := range items {
			require.Less(t, int(it.Link), len(b.Links))
			require.NotNil(t, it.Intent)
			require.GreaterOrEqual(t, it.After, quantity.Time(0))
			require.True(t, i == 0 || it.After >= items[i-1].After)
			require.Contains(t, text, it.Text)
		}
	})
}

// What can't be read ends the plan and is named; what came before it was sent.
func TestWhatCannotBeReadEnds(t *testing.T) {
	b := lock7(t)
	for kind, bad := range map[string]string{"pump": "2A5 bogus", "gate": "select 9 out 00", "hull": "start 96 maybe", "depth-strip": "FFFFF"} {
		h := sim.NewHeadless(b)
		l := b.Link(kind)
		good := map[string]string{"pump": "3A6 01", "gate": "select 1 out 02 00", "hull": "start 96 ack 12 ack stop", "depth-strip": "00F"}[kind]
		items := []Item{{Link: l.Index, Intent: link.Transact{Text: good}, Text: good}, {After: quantity.Millisecond, Link: l.Index, Intent: link.Transact{Text: bad}, Text: bad}}
		done, err := Run(context.Background(), h, b, &Plan{Items: items, Times: 5, Every: 20 * quantity.Millisecond}, nil)
		require.ErrorContains(t, err, bad+": ", kind)
		assert.Equal(t, 1, done.Sent, kind)
	}
}

// What was to be sent later is not, once the plan was ended.
func TestNothingIsSentAfterTheEnd(t *testing.T) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	pump := b.Link("pump").Index
	ctx, end := context.WithCancel(context.Background())
	items := []Item{
		{Link: pump, Intent: link.Transact{Text: "3A6 01"}},
		{After: 40 * quantity.Millisecond, Link: pump, Intent: link.Transact{Text: "3A7 02"}},
	}
	_, err := Run(ctx, h, b, &Plan{Items: items, Times: 1}, func(Progress) { end() })
	require.ErrorIs(t, err, context.Canceled)
	h.World.RunTo(200 * quantity.Millisecond)
	ids := map[uint32]int{}
	for _, r := range sent(h.Store().Snapshot(), pump) {
		ids[r.ID]++
	}
	assert.Equal(t, 1, ids[0x3A6])
	assert.Zero(t, ids[0x3A7])
}

// Where one comes late the next ones keep their distance, if that is wanted; else they catch up.
func TestSpacedItemsKeepTheirDistance(t *testing.T) {
	for _, spaced := range []bool{false, true} {
		b := lock7(t, "links lower-gauge mcu ask")
		h := sim.NewHeadless(b)
		l := b.Link("lower-gauge").Index
		p := &Plan{Times: 1, Spaced: spaced}
		for i := range 8 {
			p.Items = append(p.Items, Item{After: quantity.Time(i) * 10 * quantity.Millisecond, Link: l, Intent: link.Send{Data: []byte{'a', byte('0' + i), '\n'}}})
		}
		done, err := Run(context.Background(), h, b, p, func(x Progress) {
			if x.Sent == 3 {
				h.World.RunTo(h.Now() + 35*quantity.Millisecond)
			}
		})
		require.NoError(t, err)
		require.Equal(t, 8, done.Sent)
		h.World.RunTo(h.Now() + 50*quantity.Millisecond)
		rs := sent(h.Store().Snapshot(), l)
		least := quantity.Forever
		at := []quantity.Time{}
		for _, r := range rs {
			for i, c := range r.Data {
				if c == 'a' {
					at = append(at, r.Start+r.Offsets[i])
				}
			}
		}
		require.Len(t, at, 8)
		for i := 1; i < len(at); i++ {
			least = min(least, at[i]-at[i-1])
		}
		assert.Equal(t, spaced, least >= 10*quantity.Millisecond-quantity.Microsecond, "least %s", least)
	}
}

// What is said by its name goes out on each kind of link, and is done as often as it is asked.
func TestByName(t *testing.T) {
	b := lock7(t)
	for _, c := range []struct {
		link, text string
		says       string // in the words of the records
	}{
		{"pump", "message pump-command mode = raise, wanted = 33 bar", "02 21"},
		{"pump", "do write pump-drive.RAMP 2.5 s", "RAMP"},
		{"winch", "message winch-set-point load-limit = 40 %", "120"},
		{"gate", "do read leaf-angle.angle", "angle"},
		{"hull", "do read leaf-tilt.STATUS", "STATUS"},
	} {
		t.Run(c.text, func(t *testing.T) {
			h := sim.NewHeadless(b)
			h.World.RunTo(100 * quantity.Millisecond)
			it, err := What(b.Link(c.link), c.text)
			require.NoError(t, err)
			done, err := Run(context.Background(), h, b, &Plan{Items: []Item{it}, Times: 3, Every: 20 * quantity.Millisecond}, nil)
			require.NoError(t, err)
			assert.Equal(t, 3, done.Sent)
			assert.Zero(t, done.Failed, done.Why)
			h.World.RunTo(h.World.Now() + 5*quantity.Millisecond)
			s, meanings := h.Store().Snapshot(), b.Meanings()
			seen := 0
			for i := range s.Len() {
				if r := s.At(i); r.Link == it.Link && r.Traffic() && r.Start > 99*quantity.Millisecond &&
					(strings.Contains(b.Link(c.link).Kind.Sentence(r), c.says) || strings.Contains(meanings.Text(c.link, r), c.says)) {
					seen++
				}
			}
			assert.GreaterOrEqual(t, seen, 3)
		})
	}
	for _, c := range [][3]string{
		{"pump", "do wriet pump-drive.RAMP 1 s", "wriet"},
		{"lower-gauge", "do it", `as a text it is written \x64o it`},
		{"lower-gauge", "message LEVEL", `as a text it is written \x6dessage LEVEL`},
	} {
		_, err := What(b.Link(c[0]), c[1])
		assert.ErrorContains(t, err, c[2])
	}
	it, err := What(b.Link("lower-gauge"), `\x64o it`)
	require.NoError(t, err)
	assert.Equal(t, link.Send{Data: []byte("do it")}, it.Intent)
}
