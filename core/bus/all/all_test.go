package all

import (
	"math/rand/v2"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/wire"
)

// examples are settings of each kind, in the words of a bench.
var examples = map[string][]string{
	"uart":  {"{rate: 1 MBd}", "{rate: 1 MBd, frame: 9E2 address-bit}", "{rate: 1 MBd, frame: 5O1.5 inverted msb-first, idle-gap: 1000000 bits}"},
	"spi":   {"{}", "{mode: 3, word: 32, order: lsb, active: high}", "{active: none, gap: 1 s}", "{wires: 1, turn: 5, word: 5}"},
	"i2c":   {"{}", "{filter: 50 ns, stretch: 1 us, stuck: 2 us, error-code: yes}"},
	"can":   {"{rate: 1 MBd}", "{rate: 500 kBd, data-rate: 5 MBd, quanta: 20}"},
	"pulse": {"{zero: 0.2 to 0.5 us, one: 0.6 to 1 us, low: 0.3 to 5 us, latch: 50 us, element: 12}", "{zero: 0.2 to 0.5 us, one: 0.6 to 1 us, low: 0.3 to 5 us, latch: 50 s, element: 32, order: lsb}"},
}

func parsed(t *testing.T, k *bus.Kind, text string) bus.Settings {
	file, faults := doc.Parse("x", []byte(text))
	require.Empty(t, faults)
	require.Empty(t, k.Schema.Validate(file.Root), "%s %s", k.Name, text)
	s, err := k.Parse(file.Root)
	require.NoError(t, err)
	return s
}

// bounded is a sink that sees to it that records stay small, and that all that
// a kind says of them can be asked.
type bounded struct {
	t       *testing.T
	kind    *bus.Kind
	set     bus.Settings
	records int
	last    record.Record
}

func (b *bounded) Put(r *record.Record) {
	b.records++
	if len(r.Data) > 1<<15 || len(r.Back) > 1<<15 || len(r.Offsets) > 1<<13 || len(r.Marks) > 1<<13 {
		b.t.Fatalf("%s: a record with %d bytes, %d offsets, %d marks", b.kind.Name, len(r.Data), len(r.Offsets), len(r.Marks))
	}
	if r.End < r.Start {
		b.t.Fatalf("%s: ends %s, before it begins at %s", b.kind.Name, r.End, r.Start)
	}
	for _, o := range r.Offsets {
		if o < 0 {
			b.t.Fatalf("%s: an offset of %s", b.kind.Name, o)
		}
	}
	if b.records%97 == 1 {
		_, _ = b.kind.Sentence(r), b.kind.Fields(r)
		b.last = r.Clone()
	}
}

func (b *bounded) Open(*record.Record) {}

// TestEndlessLevelsStayBounded: whatever the levels, and however long nothing
// ends a transaction, decoders go on, put out records of bounded size and keep
// bounded memory; and any record can be labelled.
func TestEndlessLevelsStayBounded(t *testing.T) {
	for _, k := range Kinds {
		for i, text := range examples[k.Name] {
			set := parsed(t, k, text)
			for frozen := -1; frozen < len(k.Lines); frozen++ {
				rng := rand.New(rand.NewPCG(uint64(i), uint64(frozen+1)))
				d := k.Decoder(0, []bus.Settings{set})
				out := &bounded{t: t, kind: k, set: set}
				high := make([]bool, len(k.Lines))
				for l := range high {
					high[l] = k.Lines[l].High
				}
				if frozen >= 0 {
					high[frozen] = !high[frozen] // as a select line that is never released
				}
				at := quantity.Time(0)
				var ws []wire.Window
				var before, after runtime.MemStats
				for round := range 60 {
					ws = ws[:0]
					end := at + 2*quantity.Millisecond
					for l := range k.Lines {
						w := wire.Window{From: at, To: end, High: high[l]}
						step := []int64{3e5, 1.2e6, 4e6}[rng.IntN(3)]
						for x := at; l != frozen; {
							if x += 1 + quantity.Time(rng.Int64N(step)); x >= end {
								break
							}
							w.Toggles = append(w.Toggles, x)
						}
						high[l] = w.EndsHigh()
						ws = append(ws, w)
					}
					d.Feed(ws, out)
					require.Greater(t, d.Wake(), end-1)
					at = end
					if round == 20 {
						runtime.GC()
						runtime.ReadMemStats(&before)
					}
				}
				if len(out.last.Data) > 0 {
					for _, l := range k.Labels([]bus.Settings{set}, &out.last, ws) {
						require.LessOrEqual(t, l.From, l.To)
						require.Less(t, l.Line, len(k.Lines))
					}
				}
				d.Flush(out)
				runtime.GC()
				runtime.ReadMemStats(&after)
				assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(4<<20), "%s %s, line %d held", k.Name, text, frozen)
			}
		}
	}
}

// TestKindsAreComplete: every kind fills all of its description, and no name or
// mark stands for two.
func TestKindsAreComplete(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds {
		assert.False(t, seen[k.Name] || seen[k.Mark])
		seen[k.Name], seen[k.Mark] = true, true
		assert.Same(t, k, ByName(k.Name))
		assert.NotNil(t, k.Schema)
		assert.NotNil(t, k.Compare)
		assert.NotNil(t, k.Labels)
		assert.NotEmpty(t, k.Lines)
		for _, text := range examples[k.Name] {
			s := parsed(t, k, text)
			assert.NotEmpty(t, s.Describe())
			assert.Empty(t, k.Compare(s, s, "A", "B"), "%s: an end differs from itself", k.Name)
		}
	}
	assert.Nil(t, ByName("smoke signals"))
}
