package operate_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/capture"
	"gavrix.org/gavrix/core/ledger"
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// words are those that operations on a link may be made of.
func words(l *bench.Link) []string {
	out := []string{"count", "3", "sub", "1", "0x10", "0x40", "0x2001", "FF", "A5", "00", "0", "-1", "3.5", "1e9", "°C", "default", "to", "=", "\"x\"", "'?'", "\\n", "reading", "start", "stop", "ack", "nack", "..", "96", "97", "restart", "select", "2A5", "612", "40 00 20 01 00 00 00 00", "mcu", "7E 03 01 02", "\"NOPE\\n\"", "WHAT", "é", "\x00"}
	for _, p := range l.Parts() {
		out = append(out, p.Name)
		if p.Map != nil {
			out = append(out, p.Map.Names()...)
			out = append(out, p.Map.Commands()...)
			for _, pat := range p.Map.Patterns {
				out = append(out, pat.Asks())
			}
		}
	}
	return out
}

// told reports whether something came of an operation that a person can see.
func told(r *operate.Result) bool {
	return len(r.Says)+len(r.Values)+len(r.Bytes)+len(r.Found)+len(r.Changes) > 0 || len(r.Exchanges) > 0 && r.Exchanges[0].Outcome != ""
}

// TestAnyOperation does operations of any words on links of every kind: each is refused
// with a sentence or tells what came of it, and what was seen can be read by whoever
// reads traffic.
func TestAnyOperation(t *testing.T) {
	verbs := []string{"read", "write", "prove", "do", "raw", "scan", "fill", "compare", "free"}
	rapid.Check(t, func(t *rapid.T) {
		var h *sim.Headless
		if rapid.Bool().Draw(t, "demo") {
			h = session(t)
		} else {
			h, _ = anyBench(t)
		}
		l := rapid.SampledFrom(h.Bench.Links).Draw(t, "link")
		known := words(l)
		on := operate.On(h, h.Bench, l)
		led, means := ledger.New(h.Bench), h.Bench.Meanings()
		for range rapid.IntRange(1, 5).Draw(t, "operations") {
			text := rapid.SampledFrom(verbs).Draw(t, "verb")
			if rapid.IntRange(0, 3).Draw(t, "force") == 0 {
				text = "force " + text
			}
			for range rapid.IntRange(0, 4).Draw(t, "words") {
				if rapid.IntRange(0, 9).Draw(t, "any") == 0 {
					text += " " + rapid.String().Draw(t, "text")
				} else {
					text += " " + rapid.SampledFrom(known).Draw(t, "word")
				}
			}
			op, err := operation.Parse(text, l.Parts())
			if err != nil {
				require.NotEmpty(t, err.Error())
				continue
			}
			if op.Verb == operation.Load || op.Verb == operation.Save {
				continue
			}
			r, err := on.Do(context.Background(), text, op)
			if err != nil {
				require.NotEmpty(t, err.Error(), text)
				continue
			}
			require.True(t, told(r), "%s: %v", text, r)
			snap := h.Store().Snapshot()
			led.Update(snap)
			for i := max(snap.Len()-50, 0); i < snap.Len(); i++ {
				rec := snap.At(i)
				bench.Sentences(means.Of(h.Bench.Links[rec.Link].Name, rec))
			}
		}
	})
}

// TestAHeldBusIsSaid: an operation on a bus that is held ends, and says so.
func TestAHeldBusIsSaid(t *testing.T) {
	for _, c := range []struct{ role, says string }{{"data", "data is held low"}, {"clock", "the clock is held low"}} {
		for _, text := range []string{"read leaf-tilt.WHO", "scan", "raw start 96 ack 12 ack stop", "write boat-lamps.LAMPS 0x1"} {
			h := session(t)
			name := "hull"
			plant(t, h, name, link.Hold{Role: c.role})
			before := h.Now()
			l := h.Bench.Link(name)
			op, err := operation.Parse(text, l.Parts())
			if err != nil {
				op, err = operation.Parse(strings.Replace(text, "WHO", l.Parts()[0].Map.Registers[0].Name, 1), l.Parts())
			}
			require.NoError(t, err)
			r, err := operate.On(h, h.Bench, l).Do(context.Background(), text, op)
			require.NoError(t, err, text)
			require.Equal(t, operate.Fault, r.Verdict, text)
			require.Contains(t, says(r), c.says, text)
			require.Less(t, h.Now()-before, quantity.Second, text)
			plant(t, h, name, link.Hold{Role: c.role, Release: true})
			require.NoError(t, h.Wait(context.Background(), h.Now()+quantity.Millisecond, func(*capture.Snapshot) bool { return false }))
			require.Equal(t, operate.OK, do(t, h, name, "prove leaf-tilt").Verdict, fmt.Sprint("afterwards, ", text))
		}
	}
}
