package capture

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// typed is a record of characters, one a millisecond.
func typed(at quantity.Time, data []byte, marks ...record.Mark) *record.Record {
	r := &record.Record{Kind: record.Chars, From: record.Device, Seen: record.MCU, Start: at, Data: data, Each: quantity.Millisecond, Marks: marks}
	for i := range data {
		r.Offsets = append(r.Offsets, quantity.Time(i)*quantity.Millisecond)
	}
	r.End = at + quantity.Time(len(data))*quantity.Millisecond
	return r
}

// A trigger for bytes fires when they first stand in a row behind its arming, at
// the end of the last of them, as a search through all characters finds it.
func TestTriggerAgainstSearch(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		letters := rapid.SliceOfN(rapid.SampledFrom([]byte("ab")), 1, 12)
		s := NewStore(Meta{Links: []Link{{Name: "x"}}})
		want := rapid.SliceOfN(rapid.SampledFrom([]byte("ab")), 1, 3).Draw(rt, "want")
		armAt := rapid.IntRange(0, 4).Draw(rt, "armed after")
		var tr *Trigger
		at := quantity.Time(0)
		expected := quantity.Time(-1)
		for i := range 8 {
			if i == armAt {
				s.Advance(at)
				tr = NewTrigger(s.Snapshot(), Condition{Bytes: want})
			}
			data := letters.Draw(rt, "data")
			r := typed(at, data)
			if k := bytes.Index(data, want); k >= 0 && i >= armAt && expected < 0 {
				expected = at + quantity.Time(k+len(want))*quantity.Millisecond
			}
			s.Put(r)
			at = r.End + 10*quantity.Millisecond
			s.Advance(at)
			if tr == nil {
				continue
			}
			link, fired, ok := tr.Fired(s.Snapshot())
			require.Equal(rt, expected >= 0, ok)
			if ok {
				require.Equal(rt, expected, fired)
				require.Zero(rt, link)
				return
			}
		}
	})
}

func TestTriggerOnErrors(t *testing.T) {
	s := NewStore(Meta{Links: []Link{{Name: "x"}}})
	s.Put(typed(0, []byte("ab"), record.Mark{Index: 1, Flags: record.Parity}))
	s.Advance(quantity.Second)
	tr := NewTrigger(s.Snapshot(), Condition{Any: true})
	_, _, ok := tr.Fired(s.Snapshot())
	assert.False(t, ok, "what was there before does not count")
	s.Put(typed(2*quantity.Second, []byte("cd")))
	_, _, ok = tr.Fired(s.Snapshot())
	assert.False(t, ok)
	// A run that is not finished counts too.
	s.Open(typed(3*quantity.Second, []byte("ef"), record.Mark{Index: 0, Flags: record.Framing}))
	_, at, ok := tr.Fired(s.Snapshot())
	require.True(t, ok)
	assert.Equal(t, 3*quantity.Second+quantity.Millisecond, at)
	// In an unfinished run bytes are found as well, those before the arming not.
	s.Advance(3*quantity.Second + quantity.Millisecond)
	tr = NewTrigger(s.Snapshot(), Condition{Bytes: []byte("e")})
	_, _, ok = tr.Fired(s.Snapshot())
	assert.False(t, ok)
	_, _, ok = NewTrigger(s.Snapshot(), Condition{Bytes: []byte("f")}).Fired(s.Snapshot())
	assert.True(t, ok)
}

// Records of other buses count as traffic of their link: frames without data too.
func TestCountersOfFrames(t *testing.T) {
	s := NewStore(Meta{Links: []Link{{Name: "x"}}})
	s.Put(&record.Record{Kind: record.Frame, Seen: record.Tap, End: 5 * quantity.Millisecond})
	s.Put(&record.Record{Kind: record.Transaction, Seen: record.Tap, End: 9 * quantity.Millisecond, Data: []byte{1, 2}, Marks: []record.Mark{{Flags: record.Short}}})
	c := s.Snapshot().Counters(Direction{Seen: record.Tap})
	assert.Equal(t, uint64(2), c.Runs)
	assert.Equal(t, uint64(2), c.Chars)
	assert.Equal(t, uint64(1), c.Bad)
	assert.Equal(t, 9*quantity.Millisecond, c.Last)
}

// TestConditions of each kind fire at what they name, and at nothing before it.
func TestConditions(t *testing.T) {
	frame := func(at quantity.Time, id uint32, marks ...record.Mark) *record.Record {
		return &record.Record{Kind: record.Frame, Link: 1, Seen: record.Tap, Start: at, End: at + quantity.Millisecond, ID: id, Data: []byte{1}, Marks: marks}
	}
	read := func(at quantity.Time, back ...byte) *record.Record {
		return &record.Record{Kind: record.Transaction, Link: 2, From: record.MCU, Seen: record.Tap, Start: at, End: at + quantity.Millisecond, Data: []byte{0x97, 1, 2}[:len(back)], Back: back}
	}
	const ms = quantity.Millisecond
	fine := []*record.Record{typed(10*ms, []byte("abc")), frame(20*ms, 0x2a0), read(30*ms, 3, 1, 0), typed(40*ms, []byte("abc"))}
	for text, hit := range map[string]*record.Record{
		"parity":           typed(60*ms, []byte("xyz"), record.Mark{Index: 1, Flags: record.Parity}),
		"framing":          typed(60*ms, []byte("xyz"), record.Mark{Index: 0, Flags: record.Framing}),
		"not acknowledged": frame(60*ms, 0x2a0, record.Mark{Index: 1, Flags: record.NotAcknowledged}),
		"id 3C0":           frame(60*ms, 0x3c0),
		"gap 30 ms":        typed(75*ms, []byte("abc")),
		"zz":               typed(60*ms, []byte("azza")),
		"error":            typed(60*ms, []byte("x"), record.Mark{Index: 0, Flags: record.Noise}),
	} {
		want, err := ParseCondition(text, func(s string) ([]byte, error) { return []byte(s), nil })
		require.NoError(t, err)
		s := NewStore(Meta{Links: []Link{{Name: "a"}, {Name: "b"}, {Name: "c"}}})
		tr := NewTrigger(s.Snapshot(), want)
		for _, r := range fine {
			s.Put(r)
			_, _, ok := tr.Fired(s.Snapshot())
			require.False(t, ok, "%s at %+v", text, r)
		}
		s.Put(hit)
		link, at, ok := tr.Fired(s.Snapshot())
		require.True(t, ok, text)
		require.Equal(t, hit.Link, link)
		require.GreaterOrEqual(t, at, hit.Start)
		require.LessOrEqual(t, at, hit.End)
	}
	s := NewStore(Meta{Links: []Link{{Name: "a"}, {Name: "b"}, {Name: "c"}}})
	tr := NewTrigger(s.Snapshot(), Condition{Unacked: true})
	s.Put(read(10*ms, 2, 0))
	_, _, ok := tr.Fired(s.Snapshot())
	require.True(t, ok, "an address that nobody acknowledged")
	for _, bad := range []string{"", "gap x", "gap 0 s", "id xyz", "gap -1 s"} {
		_, err := ParseCondition(bad, func(s string) ([]byte, error) { return []byte(s), nil })
		require.Error(t, err, bad)
	}
}

// TestTriggerOnLevels: edges and pulses of a line are found when they come, as a search through
// all its edges finds them, however the levels come in pieces.
func TestTriggerOnLevels(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		s := NewStore(Meta{Lines: []string{"l"}, Links: []Link{{Name: "x", Kind: "i2c", Roles: []string{"clock"}, Lines: []int{0}}}})
		want := Condition{Line: "x.clock", High: rapid.Bool().Draw(rt, "high")}
		limit := quantity.Time(rapid.IntRange(1, 20).Draw(rt, "limit"))
		switch rapid.IntRange(0, 2).Draw(rt, "what") {
		case 0:
			want.Edge = true
		case 1:
			want.Under = limit
		default:
			want.Over = limit
		}
		armed := rapid.IntRange(0, 3).Draw(rt, "armed after")
		var tr *Trigger
		var arming quantity.Time
		level, at := false, quantity.Time(0)
		var edges []quantity.Time // all, rising ones at even places
		var got []quantity.Time
		for piece := range 8 {
			if piece == armed {
				s.Advance(at)
				tr, arming = NewTrigger(s.Snapshot(), want), at
			}
			w := wire.Window{From: at, High: level}
			for range rapid.IntRange(0, 6).Draw(rt, "edges") {
				at += quantity.Time(rapid.IntRange(1, 30).Draw(rt, "step"))
				w.Toggles = append(w.Toggles, at)
				edges, level = append(edges, at), !level
			}
			at += quantity.Time(rapid.IntRange(1, 30).Draw(rt, "rest"))
			w.To = at
			s.Levels(0, &w)
			s.Advance(at)
			for tr != nil {
				link, when, ok := tr.Fired(s.Snapshot())
				if !ok {
					break
				}
				require.Zero(rt, link)
				got = append(got, when)
			}
		}
		var expected []quantity.Time
		for i, e := range edges {
			rises := i%2 == 0
			switch {
			case e < arming:
			case want.Edge:
				if rises == want.High {
					expected = append(expected, e)
				}
			case rises != want.High: // a pulse does not begin here
			default:
				end, over := at, false
				if i+1 < len(edges) {
					end, over = edges[i+1], true
				}
				if want.Under > 0 && over && end-e < want.Under {
					expected = append(expected, end)
				}
				if want.Over > 0 && end-e > want.Over {
					expected = append(expected, e+want.Over)
				}
			}
		}
		// A long pulse is told when it was long enough, or, where it ended meanwhile, at its end.
		require.Len(rt, got, len(expected))
		for i := range got {
			require.GreaterOrEqual(rt, got[i], expected[i])
			if want.Over == 0 {
				require.Equal(rt, expected[i], got[i])
			}
		}
	})
}

func TestConditionsOnLines(t *testing.T) {
	text := func(s string) ([]byte, error) { return []byte(s), nil }
	for in, want := range map[string]Condition{
		"rises hull.clock":             {Line: "hull.clock", Edge: true, High: true},
		"falls gate.select":            {Line: "gate.select", Edge: true},
		"high under 2 us on pump.line": {Line: "pump.line", High: true, Under: 2 * quantity.Microsecond},
		"low over 5 ms on hull.data":   {Line: "hull.data", Over: 5 * quantity.Millisecond},
		"high tide":                    {Bytes: []byte("high tide")},
		"rises and falls":              {Bytes: []byte("rises and falls")},
	} {
		got, err := ParseCondition(in, text)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
	}
	for _, in := range []string{"high under 2 us", "low over on hull.data", "low over 0 s on hull.data", "high under 2 parrots on x.y"} {
		_, err := ParseCondition(in, text)
		assert.Error(t, err, in)
	}
	m := Meta{Lines: []string{"a"}, Links: []Link{{Name: "hull", Roles: []string{"clock", "data"}, Lines: []int{0, -1}}, {Name: "port"}}}
	_, role, err := m.Find("hull.clock")
	require.NoError(t, err)
	assert.Zero(t, role)
	for in, says := range map[string]string{"hull.data": "there are hull.clock", "port.x": "no lines", "none": "the links are hull, port"} {
		_, _, err := m.Find(in)
		assert.ErrorContains(t, err, says)
	}
}
