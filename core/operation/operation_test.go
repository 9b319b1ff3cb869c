package operation_test

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/access"
	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/objects"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
	"gavrix.org/gavrix/core/sim"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	text, err := demo.Files.ReadFile(demo.Bench)
	require.NoError(t, err)
	b, faults := bench.Parse(demo.Files, demo.Bench, text)
	require.Empty(t, faults)
	return b
}

func parsed(t require.TestingT, b *bench.Bench, link, text string) *operation.Operation {
	op, err := operation.Parse(text, b.Link(link).Parts())
	require.NoError(t, err, text)
	return op
}

// TestEveryNameIsAnOperation: each value of each part is read, and written where that is
// not refused; the steps are in words that the link's bus can plan.
func TestEveryNameIsAnOperation(t *testing.T) {
	b := lock7(t)
	n := 0
	for _, l := range b.Links {
		for _, p := range l.Parts() {
			if p.Map == nil {
				continue
			}
			for _, name := range p.Map.Names() {
				verb := "read"
				if p.Map.Value(name) == nil && p.Map.TextNamed(name) == nil && p.Map.Memory.Area(name) == nil {
					verb = "do"
				}
				op := parsed(t, b, l.Name, verb+" "+p.Name+"."+name)
				steps, err := op.Fixed()
				if err != nil {
					continue
				}
				for _, s := range steps {
					require.NotEmpty(t, s.Texts)
					for _, text := range s.Texts {
						_, err := l.Kind.Plan(l.Model.Tap(), text, l.BitWith(p.Index), false)
						assert.NoError(t, err, "%s: %s", name, text)
						n++
					}
					for _, r := range s.Rows() {
						assert.NotEmpty(t, r.Meaning)
						assert.GreaterOrEqual(t, r.From, 0)
					}
				}
			}
		}
	}
	assert.Greater(t, n, 40)
}

// TestParseNeverPanics puts words of the language together at random.
func TestParseNeverPanics(t *testing.T) {
	b := lock7(t)
	words := []string{"read", "write", "prove", "do", "raw", "scan", "fill", "compare", "load", "save", "force", "count", "sub", "to", "=", "0x10", "3", "FF", "LABEL", "PLATE", "LEVEL", "leaf-tilt", "leaf-tilt.tilt", "log-memory", "pump-drive.MODE", "raise", "0x2101", "''", "a.hex", "reading"}
	rapid.Check(t, func(t *rapid.T) {
		l := b.Links[rapid.IntRange(0, len(b.Links)-1).Draw(t, "link")]
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 0, 6).Draw(t, "words"), " ")
		op, err := operation.Parse(text, l.Parts())
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		if op.Verb != operation.Scan {
			_, _ = op.Fixed()
			op.About()
		}
	})
}

// joined puts the rows of a side together: they follow each other without a gap.
func joined(t *testing.T, rows []operation.Row, line access.Line) []byte {
	at := 0
	var bits strings.Builder
	for _, r := range rows {
		if r.Line != line || r.Bits == 0 {
			continue
		}
		require.Equal(t, at, r.From, "%+v", rows)
		at += r.Bits
		if raw, err := hex.DecodeString(strings.ReplaceAll(r.Sent, " ", "")); err == nil && len(raw)*8 == r.Bits {
			for _, b := range raw {
				fmt.Fprintf(&bits, "%08b", b)
			}
		} else {
			bits.WriteString(r.Sent)
		}
	}
	var out []byte
	for s := bits.String(); len(s) >= 8; s = s[8:] {
		v := byte(0)
		for i := range 8 {
			v = v<<1 | (s[i] - '0')
		}
		out = append(out, v)
	}
	return out
}

// TestRowsAreWhatIsSent: the bits that a plan explains are those of the frames.
func TestRowsAreWhatIsSent(t *testing.T) {
	b := lock7(t)
	for text, want := range map[string]string{
		"write pump-drive.MODE raise":       "2F 01 21 00 02",
		"read pump-drive.PRESSURE":          "40 00 21 01",
		"write pump-drive.LABEL lock gates": "21 10 21 00 0A 00 00 00 00 6C 6F 63 6B 20 67 61 19 74 65 73",
	} {
		steps, err := parsed(t, b, "pump", text).Fixed()
		require.NoError(t, err)
		assert.Equal(t, want, fmt.Sprintf("% X", joined(t, steps[0].Rows(), access.Out)), text)
	}
	steps, err := parsed(t, b, "winch", "write winch-drive.LIMIT 100 rpm").Fixed()
	require.NoError(t, err)
	assert.Equal(t, "57 11 C8 00", fmt.Sprintf("% X", joined(t, steps[0].Rows(), access.Out)))
}

// frames gives what a drive answers to an operation, as the records of a tap.
func answers(t require.TestingT, b *bench.Bench, text string) (operation.Asking, []*record.Record) {
	op := parsed(t, b, "pump", text)
	steps, err := op.Fixed()
	require.NoError(t, err)
	d := op.Part.Map.Dialogue
	node, _ := op.Part.OnCAN(0, nil)
	var out []*record.Record
	at := quantity.Second
	put := func(id uint32, data []byte) {
		out = append(out, &record.Record{Kind: record.Frame, Link: 2, Seen: record.Tap, ID: id, Data: bytes.Clone(data), Bits: uint8(len(data)), Start: at, End: at + quantity.Millisecond})
		at += 2 * quantity.Millisecond
	}
	x := op.Part.Ask(steps[0].Plan)
	for {
		words, has := x.Next()
		if !has {
			break
		}
		f, err := can.ParseFrame(words)
		require.NoError(t, err)
		put(f.ID, f.Data)
		x.Take(out[len(out)-1])
		answers, _ := node.Take(at, f)
		for _, answer := range answers {
			put(d.Response.ID, answer.Data)
			x.Take(out[len(out)-1])
		}
	}
	return op.Part.Ask(steps[0].Plan), out
}

// TestAnswersThatAreHit: one frame of a dialogue is changed in one bit, is lost, or a
// stranger comes first: what is taken for the answer is the right one, or none, unless the
// content itself was hit.
func TestAnswersThatAreHit(t *testing.T) {
	b := lock7(t)
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom([]string{"read pump-drive.TARGET", "read pump-drive.PLATE"}).Draw(t, "operation")
		x, records := answers(t, b, text)
		which := rapid.IntRange(0, len(records)/2-1).Draw(t, "frame")*2 + 1
		how := rapid.SampledFrom([]string{"command", "object", "lost", "stranger", "flags"}).Draw(t, "how")
		bit := rapid.IntRange(0, 23).Draw(t, "bit")
		noted := 0
		for i, next := range records {
			if i%2 == 0 {
				words, has := x.Next()
				if !has {
					break
				}
				f, err := can.ParseFrame(words)
				require.NoError(t, err)
				r := *next
				r.Data = f.Data
				x.Take(&r)
				continue
			}
			r := *next
			r.Data = bytes.Clone(r.Data)
			if i == which {
				switch how {
				case "command":
					r.Data[0] ^= 0x10 << (bit % 4)
				case "object":
					if which > 1 {
						continue // segments carry no object
					}
					r.Data[1+bit/8] ^= 1 << (bit % 8)
				case "lost":
					continue
				case "flags":
					r.Marks = []record.Mark{{Flags: record.CheckSequence}}
				case "stranger":
					s := r
					s.Data = []byte{0x4B, 0x00, 0x21, 0x09, 1, 2, 0, 0}
					x.Take(&s)
					noted = len(x.Notes())
				}
			}
			x.Take(&r)
		}
		a, good := x.Answer()
		switch {
		case how == "stranger":
			require.True(t, good, "a stranger must not spoil it")
			assert.Equal(t, 1, noted)
		case good && !a.Refused:
			if strings.HasSuffix(text, "PLATE") {
				assert.Equal(t, "hydraulic pump drive C", string(a.Chars))
			} else {
				assert.Equal(t, uint64(1200), a.Values[0])
			}
		case !good:
			assert.True(t, !x.Over() || x.Problem() != "")
		}
	})
}

// TestAWrongToggleIsTold: the requester ends the transfer, says so, and gives no text.
func TestAWrongToggleIsTold(t *testing.T) {
	b := lock7(t)
	x, records := answers(t, b, "read pump-drive.PLATE")
	for i := range 6 {
		r := *records[i]
		r.Data = bytes.Clone(r.Data)
		if i%2 == 0 {
			_, has := x.Next()
			require.True(t, has)
		}
		if i == 5 {
			r.Data[0] ^= 0x10
		}
		x.Take(&r)
	}
	words, has := x.Next()
	require.True(t, has)
	abort := objects.Aborting(objects.Object{Index: 0x1008}, objects.NoToggle)
	assert.Equal(t, fmt.Sprintf("605 % X", abort[:]), words)
	_, good := x.Answer()
	assert.False(t, good)
	assert.Contains(t, x.Problem(), "the toggle bit did not alternate")
}

// TestPacketsOverRecords: however a stream of messages is cut into records, and whichever
// bit is hit, the others come whole.
func TestPacketsOverRecords(t *testing.T) {
	b := lock7(t)
	part := b.Link("lower-gauge").Parts()[0]
	rapid.Check(t, func(t *rapid.T) {
		var stream []byte
		var want []string
		lines := []string{"3.417", "11.4", "WHAT", "GAUGE 117", "8"}
		hit := rapid.IntRange(-1, 5).Draw(t, "hit")
		n := rapid.IntRange(1, 6).Draw(t, "lines")
		var spoilt []int
		for i := range n {
			line := rapid.SampledFrom(lines).Draw(t, "line")
			if i == hit {
				spoilt = append(spoilt, len(stream)+rapid.IntRange(0, len(line)-1).Draw(t, "byte"))
			} else {
				want = append(want, line)
			}
			stream = append(stream, line+"\n"...)
		}
		talk := part.Talk()
		var got []string
		for at := 0; at < len(stream); {
			size := rapid.IntRange(1, len(stream)-at).Draw(t, "size")
			r := record.Record{Kind: record.Chars, From: record.Device, Seen: record.MCU, Start: quantity.Time(at) * quantity.Millisecond, Each: quantity.Millisecond, Data: stream[at : at+size]}
			for i := range size {
				r.Offsets = append(r.Offsets, quantity.Time(i)*quantity.Millisecond)
				for _, s := range spoilt {
					if at+i == s {
						r.Marks = append(r.Marks, record.Mark{Index: i, Flags: record.Parity})
					}
				}
			}
			r.End = r.Start + quantity.Time(size)*quantity.Millisecond
			for _, m := range talk.Take(&r) {
				if m.Dropped == "" {
					got = append(got, string(m.Content))
					assert.Equal(t, byte('\n'), r.Data[m.To-1])
					assert.Equal(t, quantity.Time(len(m.Content)+1)*quantity.Millisecond, m.End-m.Start)
				} else {
					assert.Contains(t, m.Dropped, "damaged")
				}
			}
			at += size
		}
		assert.Equal(t, want, got)
	})
}

// TestPositions: taken apart and put together again each transaction of a second of the demo
// is as it was; on a full-duplex bus each position is named, those without a meaning too.
func TestPositions(t *testing.T) {
	b := lock7(t)
	w := sim.NewHeadless(b)
	require.NoError(t, w.Wait(context.Background(), quantity.Second, func(*capture.Snapshot) bool { return false }))
	snap := w.Store().Snapshot()
	n := 0
	for i := range snap.Len() {
		r := snap.At(i)
		if r.Kind != record.Transaction && r.Kind != record.Frame {
			continue
		}
		l := b.Links[r.Link]
		m, _ := operation.Of(l.Parts(), r, nil)
		var out, in []string
		for k, p := range operation.Positions(l.Kind.Name, r, m) {
			require.Equal(t, k, p.Index)
			if p.Out != "" {
				out = append(out, p.Out)
			}
			if p.In != "" {
				in = append(in, p.In)
			}
			if m != nil {
				require.NotEmpty(t, p.Meaning, "%s %d", l.Kind.Sentence(r), k)
			}
		}
		switch l.Name {
		case "gate":
			require.Equal(t, l.Kind.Sentence(r), "out "+strings.Join(out, " ")+"  in "+strings.Join(in, " "))
		case "hull":
			words := strings.Fields(strings.NewReplacer("start", "", "restart", "", "stop", "", "nack", "", "ack", "").Replace(l.Kind.Sentence(r)))
			require.ElementsMatch(t, words, append(out, in...))
		}
		n++
	}
	require.Greater(t, n, 50)
	d, faults := device.Parse("a.yaml", []byte("device: a\nkind: spi\nend: {mode: 0, most: 2 MHz, valid: 40 ns}\naccess:\n  read: {out: reg.7 1 | skip.8 | skip.8, in: STATUS.8 | skip.8 | value.8}\nregisters:\n  STATUS: {number: 0x01, access: read-only}\n  ID: {number: 0x2E, access: read-only}\n"))
	require.Empty(t, faults)
	r := &record.Record{Kind: record.Transaction, From: record.Device, Bits: 8, Data: []byte{0x5D, 0, 0}, Back: []byte{0x80, 0xFF, 0xC5}, Offsets: make([]quantity.Time, 3)}
	m, is := operation.Of([]*operation.Part{{Name: "a", Device: d}}, r, nil)
	require.True(t, is)
	var said []string
	for _, p := range operation.Positions("spi", r, m) {
		said = append(said, p.Forms()+"  "+p.Meaning)
	}
	assert.Equal(t, []string{"128  10000000  '·'  register ID, 0x2E; back: STATUS", "255  11111111  '·'  ignored", "197  11000101  '·'  content of ID, 0x2E"}, said)
}
