package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/wire"
	"gavrix.org/gavrix/demo"
)

const ms = quantity.Millisecond

func lower(t *testing.T, frame string) *bench.Link {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	if frame != "" {
		require.NoError(t, b.Apply(finding.Edit{Path: []string{"links", "lower-gauge", "mcu", "frame"}, Value: frame}))
	}
	return b.Link("lower-gauge")
}

// seen builds a capture of what an engineer could have seen.
type seen struct{ *capture.Store }

func newSeen() seen {
	return seen{capture.NewStore(capture.Meta{Links: []capture.Link{{Name: "a"}, {Name: "b"}}})}
}

func (s seen) sent(at quantity.Time, text string) {
	s.Put(&record.Record{Link: 1, From: record.MCU, Seen: record.Tap, Start: at, End: at + ms, Data: []byte(text)})
	s.Advance(at + ms)
}

func (s seen) came(at quantity.Time, text string, flags record.Flags) {
	r := &record.Record{Link: 1, From: record.Device, Seen: record.MCU, Start: at, End: at + ms, Data: []byte(text)}
	if flags != 0 {
		for i := range text {
			r.Marks = append(r.Marks, record.Mark{Index: i, Flags: flags})
		}
	}
	s.Put(r)
	s.Advance(at + ms)
}

func codes(s seen, l *bench.Link) []string {
	var out []string
	for _, f := range Link(s.Snapshot(), l) {
		out = append(out, f.Code)
	}
	return out
}

func TestExchangesArePaired(t *testing.T) {
	s := newSeen()
	s.came(ms, "stray", 0)
	s.sent(10*ms, "A\n")
	s.came(15*ms, "one\n", 0)
	s.came(18*ms, "two\n", record.Parity)
	s.sent(30*ms, "B\n")
	x := Recent(s.Snapshot(), 1)
	require.Len(t, x, 2)
	assert.Equal(t, "one\ntwo\n", string(x[0].Answer))
	assert.Equal(t, 15*ms, x[0].AnswerAt)
	assert.Equal(t, record.Parity, x[0].Marks)
	assert.Empty(t, x[1].Answer)
}

func TestNoAnswer(t *testing.T) {
	l := lower(t, "")
	s := newSeen()
	s.sent(10*ms, "SNAP\n")
	s.Advance(20 * ms)
	assert.Empty(t, codes(s, l), "not yet")
	s.Advance(200 * ms)
	f := Link(s.Snapshot(), l)
	require.Len(t, f, 1)
	assert.Equal(t, "no-answer", f[0].Code)
	assert.Contains(t, f[0].Change, "levels on its line")
	// The same message, answered later, takes the finding away; another does not.
	s.sent(300*ms, "SNAP\n")
	s.came(305*ms, "3.417\n", 0)
	assert.Empty(t, codes(s, l))
	s.sent(400*ms, "SNOP\n")
	s.Advance(900 * ms)
	f = Link(s.Snapshot(), l)
	require.Len(t, f, 1)
	assert.Contains(t, f[0].Change, "one of its commands: SNAP, TEMP")
	s.sent(1000*ms, "SNAP")
	s.Advance(1500 * ms)
	assert.Contains(t, Link(s.Snapshot(), l)[0].Change, "end the command with ↵")
	// A change of settings begins anew; old silence is forgotten.
	s.Put(&record.Record{Kind: record.Changed, Link: 1, Start: 1600 * ms, End: 1600 * ms})
	assert.Empty(t, codes(s, l))
	s.sent(2000*ms, "SNAP\n")
	s.Advance(2000*ms + memory + 10*ms)
	assert.Empty(t, codes(s, l))
}

func TestWhyACommandIsDropped(t *testing.T) {
	l := lower(t, "8N1")
	s := newSeen()
	s.sent(10*ms, "TEMP\n")
	s.Advance(200 * ms)
	f := Link(s.Snapshot(), l)
	require.Len(t, f, 1)
	assert.Contains(t, f[0].Why, "finds a parity error in 'T' (54): 3 ones")
	assert.Equal(t, "make the frames agree", f[0].Change)
}

// TestErrorsEndWhenSettingsChange: what was seen before the last change may be mended.
func TestErrorsEndWhenSettingsChange(t *testing.T) {
	l := lower(t, "")
	s := newSeen()
	s.came(100*ms, "3.417\n", record.Parity)
	s.Advance(200 * ms)
	require.Contains(t, codes(s, l), "parity-only")
	s.Put(&record.Record{Kind: record.Changed, Link: 1, Start: 300 * ms, End: 300 * ms})
	s.Advance(400 * ms)
	assert.NotContains(t, codes(s, l), "parity-only")
	s.came(500*ms, "3.417\n", record.Parity)
	s.Advance(600 * ms)
	assert.Contains(t, codes(s, l), "parity-only")
}

// TestStuckLow: a line that stays low is said to, on either side, and a break is not.
func TestStuckLow(t *testing.T) {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	l := b.Link("lower-gauge")
	for side := range 2 {
		meta := sim.MetaOf(b)
		s := capture.NewStore(meta)
		line := meta.Line(l.Index, side)
		s.Levels(line, &wire.Window{To: 10 * ms, High: true, Toggles: []quantity.Time{9 * ms}})
		s.Advance(10 * ms)
		assert.NotContains(t, findingCodes(Link(s.Snapshot(), l)), "line-stuck-low")
		s.Levels(line, &wire.Window{From: 10 * ms, To: 40 * ms})
		s.Advance(40 * ms)
		assert.Contains(t, findingCodes(Link(s.Snapshot(), l)), "line-stuck-low")
	}
}

func findingCodes(fs []finding.Finding) (out []string) {
	for _, f := range fs {
		out = append(out, f.Code)
	}
	return out
}

func TestFromMarksToCauses(t *testing.T) {
	l := lower(t, "")
	for _, c := range []struct {
		good, bad int
		flags     record.Flags
		want      string
	}{
		{0, 5, record.Framing, "framing-on-most"},
		{50, 2, record.Framing, "framing-on-some"},
		{10, 3, record.Parity, "parity-only"},
		{10, 3, record.Overrun, "overrun"},
		{10, 1, record.Break | record.Framing, "break-seen"},
	} {
		s := newSeen()
		at := ms
		for range c.good {
			s.came(at, "x", 0)
			at += 2 * ms
		}
		for range c.bad {
			s.came(at, "x", c.flags)
			at += 2 * ms
		}
		assert.Equal(t, []string{c.want}, codes(s, l), c.flags.String())
		s.Advance(at + 11*quantity.Second)
		assert.Empty(t, codes(s, l), "what is long past is no finding")
	}
}
