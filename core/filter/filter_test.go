package filter

import (
	"bytes"
	"cmp"
	"context"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/records"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// scene is a second of Lock 7, made once.
func scene(t require.TestingT) (*bench.Bench, *capture.Snapshot) {
	b := lock7(t)
	h := sim.NewHeadless(b)
	h.World.RunTo(1500 * quantity.Millisecond)
	return b, h.Store().Snapshot()
}

// model is a clause, and what it means, written without the package.
type model struct {
	text  string
	holds func(rs []*record.Record, i int) bool
}

func idOf(rs []*record.Record, i int) uint32 {
	if rs[i].Kind != record.Frame {
		return 0xffffffff
	}
	return rs[i].ID
}

// pressure is bytes 2 and 3 of the pump's status, the low one first, in tenths.
func pressure(r *record.Record) int { return int(r.Data[2]) | int(r.Data[3])<<8 }

func clausesOf(link map[string]uint16) []model {
	is := func(name string) func(rs []*record.Record, i int) bool {
		return func(rs []*record.Record, i int) bool { return rs[i].Link == link[name] }
	}
	return []model{
		{"pump", is("pump")},
		{"winch", is("winch")},
		{"gate", is("gate")},
		{"frames", func(rs []*record.Record, i int) bool { return rs[i].Kind == record.Frame }},
		{"characters", func(rs []*record.Record, i int) bool { return rs[i].Kind == record.Chars }},
		{"transactions", func(rs []*record.Record, i int) bool { return rs[i].Kind == record.Transaction }},
		{"errors", func(rs []*record.Record, i int) bool { return len(rs[i].Marks) > 0 }},
		{"identifier 1A5", func(rs []*record.Record, i int) bool { return idOf(rs, i) == 0x1a5 }},
		{"identifier 0x100 to 0x2FF", func(rs []*record.Record, i int) bool { return idOf(rs, i) >= 0x100 && idOf(rs, i) <= 0x2ff }},
		{"bytes 01 .. 9C", func(rs []*record.Record, i int) bool {
			for _, d := range [][]byte{rs[i].Data, rs[i].Back} {
				for k := 0; k+2 < len(d); k++ {
					if d[k] == 1 && d[k+2] == 0x9c && (rs[i].Kind != record.Frame || &d[0] == &rs[i].Data[0]) {
						return true
					}
				}
			}
			return false
		}},
		{"begins 01 5A", func(rs []*record.Record, i int) bool { return bytes.HasPrefix(rs[i].Data, []byte{1, 0x5a}) }},
		{`text "5.2"`, func(rs []*record.Record, i int) bool {
			return bytes.Contains(rs[i].Data, []byte("5.2")) || strings.Contains(rs[i].Text, "5.2")
		}},
		{"length over 8", func(rs []*record.Record, i int) bool { return traffic(rs[i]) && rs[i].Len() > 8 }},
		{"length 2", func(rs []*record.Record, i int) bool { return traffic(rs[i]) && rs[i].Len() == 2 }},
		{"after 700 ms", func(rs []*record.Record, i int) bool { return rs[i].Start > 700*quantity.Millisecond }},
		{"before 300ms", func(rs []*record.Record, i int) bool { return rs[i].Start < 300*quantity.Millisecond }},
		{"from pump-drive", func(rs []*record.Record, i int) bool {
			return rs[i].Link == link["pump"] && rs[i].From == record.Device && rs[i].Kind == record.Frame
		}},
		{"pump-drive.pump-status.pressure > 118.4 bar", func(rs []*record.Record, i int) bool {
			return idOf(rs, i) == 0x1a5 && rs[i].Link == link["pump"] && pressure(rs[i]) > 1184
		}},
		{"pump-status.pressure between 118.2 bar and 118.6 bar", func(rs []*record.Record, i int) bool {
			return idOf(rs, i) == 0x1a5 && rs[i].Link == link["pump"] && pressure(rs[i]) >= 1182 && pressure(rs[i]) <= 1186
		}},
		{"pump-status.pressure changes", func(rs []*record.Record, i int) bool {
			if idOf(rs, i) != 0x1a5 || rs[i].Link != link["pump"] {
				return false
			}
			for k := i - 1; k >= 0; k-- {
				if idOf(rs, k) == 0x1a5 && rs[k].Link == rs[i].Link {
					return pressure(rs[k]) != pressure(rs[i])
				}
			}
			return false
		}},
		{"pump-command.mode = hold", func(rs []*record.Record, i int) bool { return idOf(rs, i) == 0x2a5 && rs[i].Data[0]&15 == 1 }},
		{"pump-command.mode != hold", func(rs []*record.Record, i int) bool { return idOf(rs, i) == 0x2a5 && rs[i].Data[0]&15 != 1 }},
		{"gap over 4 ms", func(rs []*record.Record, i int) bool {
			if !counted(rs[i]) {
				return false // what another receiver saw of the same is looked at below
			}
			end, any := quantity.Time(0), false
			for k := 0; k < i; k++ {
				if rs[k].Link == rs[i].Link && counted(rs[k]) {
					end, any = max(end, rs[k].End), true
				}
			}
			return any && rs[i].Start-end > 4*quantity.Millisecond
		}},
	}
}

func traffic(r *record.Record) bool {
	return r.Kind == record.Chars || r.Kind == record.Frame || r.Kind == record.Transaction || r.Kind == record.Flow
}

func counted(r *record.Record) bool {
	return traffic(r) && r.Kind != record.Flow && (r.Kind != record.Chars || r.Seen == record.Tap) && !(r.Kind == record.Transaction && r.Seen == record.MCU)
}

// A filter of random clauses gives what a scan by the model gives, in random stretches of a
// capture that is spoilt at random, and so do its clauses alone.
func TestAgainstAScan(t *testing.T) {
	b, s := scene(t)
	link := map[string]uint16{}
	for i, l := range s.Meta().Links {
		link[l.Name] = uint16(i)
	}
	models := clausesOf(link)
	nouns := NounsOf(b, s.Meta())
	rapid.Check(t, func(rt *rapid.T) {
		first := rapid.IntRange(0, s.Len()-20).Draw(rt, "first")
		n := rapid.IntRange(1, 300).Draw(rt, "n")
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		var rs []*record.Record
		for i := first; i < min(first+n, s.Len()); i++ {
			r := s.At(i).Clone()
			switch rng.IntN(20) {
			case 0:
				continue // lost
			case 1:
				if len(r.Data) > 0 && r.Kind == record.Frame {
					r.Data[rng.IntN(len(r.Data))] ^= 1 << rng.IntN(8)
				}
			case 2:
				if r.Kind == record.Chars {
					r.Marks = append(r.Marks, record.Mark{Flags: record.Parity})
				}
			}
			rs = append(rs, &r)
		}
		// Up to three clauses, each perhaps turned round, joined by one word.
		join := rapid.SampledFrom([]string{" ", " and ", ", ", " or "}).Draw(rt, "join")
		var texts []string
		var holds []func(i int) bool
		for range rapid.IntRange(1, 3).Draw(rt, "clauses") {
			m := rapid.SampledFrom(models).Draw(rt, "clause")
			not := rapid.Bool().Draw(rt, "not")
			text := m.text
			if not {
				text = "not " + text
			}
			if rapid.Bool().Draw(rt, "parentheses") {
				text = "(" + text + ")"
			}
			texts = append(texts, text)
			holds = append(holds, func(i int) bool { return m.holds(rs, i) != not })
		}
		f, err := Parse(strings.Join(texts, join), nouns)
		if err != nil {
			shown, caret := err.Lines()
			rt.Fatalf("%v\n%s\n%s", err, shown, caret)
		}
		x := f.Matcher(b, s.Meta())
		for i, r := range rs {
			if strings.Contains(f.Text, "gap") && !counted(r) {
				x.Take(r)
				continue
			}
			want := join != " or "
			for _, h := range holds {
				if join == " or " {
					want = want || h(i)
				} else {
					want = want && h(i)
				}
			}
			require.Equal(rt, want, x.Take(r), "%s: record %d %+v", f.Text, i, r)
		}
	})
}

// A record behind another one, in time: against a look back over all records.
func TestThen(t *testing.T) {
	b, s := scene(t)
	nouns := NounsOf(b, s.Meta())
	rapid.Check(t, func(rt *rapid.T) {
		within := quantity.Time(rapid.IntRange(1, 40).Draw(rt, "ms")) * quantity.Millisecond
		f, err := Parse("identifier 2A5, then identifier 1A5 within "+within.String(), nouns)
		require.Nil(rt, err)
		x := f.Matcher(b, s.Meta())
		from := rapid.IntRange(0, s.Len()/2).Draw(rt, "from")
		for i := from; i < min(from+400, s.Len()); i++ {
			r := s.At(i)
			want := false
			if r.Kind == record.Frame && r.ID == 0x1a5 {
				for k := i - 1; k >= from; k-- {
					if o := s.At(k); o.Kind == record.Frame && o.ID == 0x2a5 && o.End <= r.Start {
						want = r.Start-o.End <= within
						break
					}
				}
			}
			require.Equal(rt, want, x.Take(r), "record %d", i)
		}
	})
}

func TestAnswers(t *testing.T) {
	b, s := scene(t)
	count := func(text string) int {
		f, err := Parse(text, NounsOf(b, s.Meta()))
		require.Nil(t, err, text)
		x := f.Matcher(b, s.Meta())
		for i := range s.Len() {
			x.Take(s.At(i))
		}
		return x.Matches
	}
	assert.Equal(t, 1, count("lower-gauge answers"))
	assert.Equal(t, 1, count("lower-gauge answers later than 1.7 ms"))
	assert.Equal(t, 0, count("lower-gauge answers later than 1.9 ms"))
	assert.Equal(t, 1, count("lower-gauge answers within 1.9 ms"))
	assert.Equal(t, count("pump frames"), count("pump from MCU")+count("pump from pump-drive"))
	assert.Equal(t, count("gate transactions"), count("leaf-angle or valve-bank or trim"))
	assert.Positive(t, count("leaf-angle.angle rises"))
	assert.Positive(t, count("boat-lamps.LAMPS written"))
	assert.Equal(t, 0, count("boat-lamps.LAMPS read"))
}

// Each mistake gets one message, at its place, and says what to write.
func TestMistakes(t *testing.T) {
	b := lock7(t)
	meta := sim.MetaOf(b)
	n := NounsOf(b, &meta)
	for text, want := range map[string]struct {
		at      int
		message string
	}{
		"":                                   {0, "nothing is asked for"},
		"   ":                                {3, "nothing is asked for"},
		"pmup":                               {0, "did you mean pump?"},
		"pump and":                           {8, "missing at the end"},
		"pump or or errors":                  {8, "not expected"},
		"not":                                {3, "missing at the end"},
		"(pump":                              {0, "not closed"},
		"pump)":                              {4, "not expected"},
		"()":                                 {1, "not expected"},
		"error":                              {5, "of which kind"},
		"error framming":                     {6, "did you mean framing?"},
		"from":                               {4, "whom"},
		"from nobody":                        {5, "no end"},
		"to leaf-angel":                      {3, "did you mean leaf-angle?"},
		"identifier":                         {10, "no identifier"},
		"identifier xyz":                     {11, "no identifier"},
		"identifier 1A0 to 100":              {15, "is empty"},
		"identifier 3FFFFFFFF":               {11, "no identifier"},
		"bytes":                              {5, "missing"},
		"bytes zz":                           {6, "no byte"},
		"text":                               {4, "missing"},
		`text "abc`:                          {5, "not closed"},
		"matches":                            {7, "missing"},
		"matches /a(/":                       {8, "missing closing"},
		"matches /a":                         {8, "not closed"},
		"gap":                                {3, "how long"},
		"gap over":                           {8, "a time is missing"},
		"gap over soon":                      {9, "no time"},
		"answers later":                      {13, "later than what"},
		"answers later than":                 {18, "a time is missing"},
		"answers within fast":                {15, "no time"},
		"length":                             {6, "no length"},
		"length over many":                   {12, "no length"},
		"after":                              {5, "a time is missing"},
		"before 5 bar":                       {7, "unit"},
		"leaf-angle.angel changes":           {0, "did you mean"},
		"leaf-angle.angle >":                 {18, "compared with"},
		"leaf-angle.angle > 5 bar":           {19, "unit of the field"},
		"leaf-angle.angle > much":            {19, "no value"},
		"leaf-angle.angle between 3 °":       {29, "and what"},
		"pump-command.mode > raise":          {18, "by = or !="},
		"pump-command.mode = risen":          {20, "known are"},
		"mode = raise":                       {0, "can be"},
		"pump within 5 ms":                   {5, "behind `then"},
		"pump, then":                         {10, "missing at the end"},
		"pump, then errors within":           {24, "a time is missing"},
		"then pump":                          {0, "not expected"},
		"= 5":                                {0, "not expected"},
		"pump = 5":                           {0, "nothing that is known"},
		strings.Repeat("(", 60) + "pump":     {50, "too deep"},
		strings.Repeat("errors ", 101):       {700, "at most 100"},
		"pump-status.pressure between 1 and": {34, "compared with"},
	} {
		f, err := Parse(text, n)
		if !assert.NotNil(t, err, "%q gave %+v", text, f) {
			continue
		}
		assert.Contains(t, err.Error(), want.message, text)
		assert.Equal(t, want.at, err.At, "%q: %v", text, err)
		shown, caret := err.Lines()
		if len(text) <= around {
			assert.Equal(t, text, shown)
			assert.Equal(t, len([]rune(text[:want.at])), strings.Index(caret, "^"))
		}
	}
}

// Whatever is typed, there is a filter that runs or a mistake with a place inside the text.
func FuzzParse(f *testing.F) {
	for _, m := range clausesOf(nil) {
		f.Add(m.text)
	}
	f.Add("pump, then errors within 5 ms or (not gap over 3 s)")
	b := lock7(f)
	meta := sim.MetaOf(b)
	n := NounsOf(b, &meta)
	r := &record.Record{Kind: record.Frame, ID: 0x1a5, Link: 2, Data: []byte{1, 2, 3, 4, 5, 6, 7, 8}, From: record.Device, Seen: record.Tap}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := Parse(text, n)
		if err != nil {
			require.True(t, err.At >= 0 && err.At <= len(text))
			require.NotEmpty(t, err.Message)
			return
		}
		x.Matcher(b, &meta).Take(r)
		Complete(text, n)
	})
}

// TestNearGivesWhatFits: what is found beside a place fits the filter when all is looked at,
// in order, and is as much as was wanted where there is as much; with the rest found, nothing
// is there twice or missing.
func TestNearGivesWhatFits(t *testing.T) {
	b, short := scene(t)
	rapid.Check(t, func(rt *rapid.T) {
		// Several segments of it, in some order.
		store := capture.NewStore(*short.Meta())
		for n := range rapid.IntRange(0, 4).Draw(rt, "times") {
			for i := range short.Len() {
				r := *short.At(i)
				r.Start, r.End = r.Start+quantity.Time(n)*2*quantity.Second, r.End+quantity.Time(n)*2*quantity.Second
				store.Put(&r)
			}
		}
		s := store.Snapshot()
		text := rapid.SampledFrom([]string{
			"errors", "pump", "frames", "identifier 1A5", "identifier 100 to 7FF", "not errors", "pump or gate", "frames and not pump", "length over 3", "after 3 s", "before 1 s", "changes", "pump-drive.pressure > 0 bar",
		}).Draw(rt, "filter")
		f, bad := Parse(text, NounsOf(b, s.Meta()))
		if bad != nil {
			rt.Skip(bad)
		}
		whole := f.Find(b, s.Meta())
		for whole.Look(s, 1000) {
		}
		all := whole.Picks().IDs
		near := f.Find(b, s.Meta())
		at, wanted := rapid.IntRange(0, s.Len()).Draw(rt, "at"), rapid.IntRange(1, 20).Draw(rt, "wanted")
		near.Near(context.Background(), s, at, wanted)
		got := near.Picks().IDs
		require.True(rt, slices.IsSortedFunc(got, func(a, b records.ID) int { return cmp.Compare(a.End, b.End) }))
		fits := map[records.ID]bool{}
		for _, id := range all {
			fits[id] = true
		}
		for _, id := range got {
			require.True(rt, fits[id])
		}
		require.GreaterOrEqual(rt, len(got), min(wanted, len(all)))
		for near.Look(s, rapid.IntRange(200, 2000).Draw(rt, "most")) {
			for _, id := range near.Picks().IDs {
				require.True(rt, fits[id])
			}
		}
		require.Equal(rt, all, near.Picks().IDs)
	})
}

// TestLinesOfLongFilters: the caret stands below the same character, whatever is left out.
func TestLinesOfLongFilters(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text := rapid.StringN(1, 5000, -1).Draw(r, "text")
		runes := []rune(text)
		if !utf8.ValidString(text) || strings.ContainsRune(text, '…') {
			return
		}
		at := rapid.IntRange(0, len(runes)-1).Draw(r, "at")
		e := Error{Text: text, At: len(string(runes[:at]))}
		shown, caret := e.Lines()
		assert.LessOrEqual(r, len([]rune(shown)), 4*around+2)
		assert.Equal(r, runes[at], []rune(shown)[strings.Index(caret, "^")])
	})
}
