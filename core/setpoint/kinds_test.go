package setpoint

import (
	"io/fs"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/core/values"
	"gavrix.org/gavrix/demo"
)

// orders are layouts of what the MCU sends, by the device file to which they are added.
var orders = map[string]string{
	"lower-gauge.yaml": `
layouts:
  order:
    from: mcu
    text: "SET {level} m {mode}"
    legend:
      level: {form: number, scale: 0.001 m}
      mode: {form: word, codes: {0: slow, 1: fast}}
`,
	"valve-bank.yaml": `
layouts:
  order:
    from: mcu
    rows: {0: aaaabbbb, 1: cccccccc}
    legend: {a: {name: left}, b: {name: right}, c: {name: share, scale: 0.5 %}}
`,
	"boat-lamps.yaml": `
layouts:
  order:
    from: mcu
    rows: {0: aaaabbbb, 1: cccccccc}
    legend: {a: {name: left}, b: {name: right}, c: {name: share, scale: 0.5 %}}
`,
	"depth-strip.yaml": `
layouts:
  order:
    from: mcu
    rows: {0: aaaabbbbcccc}
    legend: {a: {name: red}, b: {name: green}, c: {name: share}}
`,
}

// ordered is Lock 7 with those layouts.
func ordered(t *testing.T) *bench.Bench {
	files := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(demo.Files, ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			text, _ := fs.ReadFile(demo.Files, path)
			files[path] = &fstest.MapFile{Data: text}
		}
		return err
	}))
	for name, text := range orders {
		f := files["devices/"+name]
		f.Data = append(slices.Clone(f.Data), text...)
	}
	b, faults := bench.Load(files, demo.Bench)
	require.Empty(t, faults)
	return b
}

// asked does an intent, and gives what the MCU put on the link for it.
func asked(t *testing.T, b *bench.Bench, l *bench.Link, i link.Intent) *record.Record {
	h := sim.NewHeadless(b)
	h.World.RunTo(3 * quantity.Millisecond)
	from := h.World.Now()
	done := false
	require.NoError(t, h.World.Do(l.Name, i, func(link.Outcome) { done = true }))
	for n := 0; n < 2000; n++ {
		h.World.RunTo(h.World.Now() + 20*quantity.Microsecond)
		s := h.Store().Snapshot()
		for k := range s.Len() {
			r := s.At(k)
			if r.Link == l.Index && r.Traffic() && r.Start >= from && r.Seen == record.Tap && (done || r.Kind == record.Chars) && (r.Kind == record.Transaction || r.From == record.MCU) {
				return r
			}
		}
	}
	t.Fatalf("nothing of %T was seen on %s", i, l.Name)
	return nil
}

// On each kind of bus: a message by its name is on the wire what it says, and what was on the
// wire is sent again with one value changed and the others as they were.
func TestMessagesOnEachKind(t *testing.T) {
	b := ordered(t)
	for _, c := range []struct{ link, part, text, name, to string }{
		{"lower-gauge", "lower-gauge", "order level = 2.345 m, mode = fast", "level", "0.125 m"},
		{"gate", "valve-bank", "valve-bank.order left = 3, right = 12, share = 40.5 %", "share", "12 %"},
		{"hull", "boat-lamps", "order left = 3, right = 12, share = 40.5 %", "right", "7"},
		{"depth-strip", "depth-strip", "order red = 3, green = 5, share = 9", "green", "14"},
		{"pump", "pump-drive", "pump-command mode = raise, wanted = 33 bar", "wanted", "11 bar"},
	} {
		t.Run(c.link, func(t *testing.T) {
			l := b.Link(c.link)
			meta := sim.MetaOf(b)
			i, err := Message(l, c.text)
			require.NoError(t, err)
			said := func(r *record.Record) map[string]string {
				out := map[string]string{}
				for _, x := range values.NewReader(b, &meta).Take(r) {
					if x.Message != "" && x.Part == c.part {
						out[x.Value] = x.Text
					}
				}
				return out
			}
			r := asked(t, b, l, i)
			was := said(r)
			require.NotEmpty(t, was)
			for name, v := range was {
				assert.Contains(t, c.text, name+" = "+v)
			}
			message := "order"
			if c.link == "pump" {
				message = "pump-command"
			}
			ch, err := ReadChange(b, &meta, []string{c.part + "." + message + "." + c.name + " = " + c.to})
			require.NoError(t, err)
			i, err = ch.Intent(l.Name, r)
			require.NoError(t, err)
			require.NotNil(t, i)
			assert.Equal(t, 1, ch.Changed)
			is := said(asked(t, b, l, i))
			was[c.name] = c.to
			assert.Equal(t, was, is)
		})
	}
}

func TestChangesThatAreNone(t *testing.T) {
	b := ordered(t)
	meta := sim.MetaOf(b)
	for text, why := range map[string]string{
		"pump-command.wanted":               "write NAME = QUANTITY",
		"pump-command.wantd = 3 bar":        "wantd",
		"pump-status.pressure = 3 bar":      "the MCU can't set it",
		"pump-drive.TARGET = 3 bar":         "held by a register",
		"pump-command.wanted = 200 bar":     "180 bar",
		"pump.rate = 5":                     "what the link does",
		"depth-strip.order.green = blueish": "number",
	} {
		_, err := ReadChange(b, &meta, []string{text})
		assert.ErrorContains(t, err, why, text)
	}
	// What holds none of it stays as it is.
	ch, err := ReadChange(b, &meta, []string{"pump-command.wanted = 3 bar"})
	require.NoError(t, err)
	i, err := ch.Intent("pump", &record.Record{Kind: record.Frame, Link: b.Link("pump").Index, ID: 0x1a5, Data: make([]byte, 8)})
	require.NoError(t, err)
	assert.Nil(t, i)
	// Several lines in one piece are not changed unseen.
	ch, err = ReadChange(b, &meta, []string{"lower-gauge.order.level = 1 m"})
	require.NoError(t, err)
	text := []byte("SET 0.500 m fast\nSET 0.600 m fast\n")
	_, err = ch.Intent("lower-gauge", &record.Record{Kind: record.Chars, Link: b.Link("lower-gauge").Index, From: record.MCU, Seen: record.Tap, Data: text, End: quantity.Millisecond, Each: 347 * quantity.Microsecond})
	assert.ErrorContains(t, err, "2 messages")
}
