package operate_test

import (
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
	"gavrix.org/gavrix/core/link"
	"gavrix.org/gavrix/core/operate"
	"gavrix.org/gavrix/core/operation"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/sim"
)

// withFile gives a bench with one part on I2C.
func withFile(t require.TestingT, file string) *sim.Headless {
	files := fstest.MapFS{
		"p.yaml": {Data: []byte(file)},
		"b.yaml": {Data: []byte("bench: b\nmcu:\n  name: M\n  clocks: {crystal: {source: 16 MHz}}\n  units: {i: {kind: i2c, clock: crystal, counters: {most: 255}}}\nlinks:\n  l: {kind: i2c, unit: i, mcu: {rate: 100 kbit/s}, supply: 3.3 V, pull-up: 4.7 kΩ, capacitance: 30 pF, devices: {p: {file: p.yaml}}}\n")},
	}
	b, faults := bench.Parse(files, "b.yaml", files["b.yaml"].Data)
	require.Empty(t, faults)
	return sim.NewHeadless(b)
}

const registersOnI2C = "device: p\nkind: i2c\nend: {address: 0x31, most: 400 kbit/s}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8 ...}\n  write: {out: reg.8 | value.8 ...}\n"

// late is a session in which the supply of a part comes behind a number of transactions.
type late struct {
	*sim.Headless
	left  int
	asked int
}

func (s *late) Do(ctx context.Context, l uint16, i link.Intent) (link.Outcome, error) {
	if _, is := i.(link.Transact); is {
		if s.asked++; s.asked == s.left+1 {
			if _, err := s.Headless.Do(ctx, l, link.Power{Device: "p", On: true}); err != nil {
				return link.Outcome{}, err
			}
		}
	}
	return s.Headless.Do(ctx, l, i)
}

// TestRetries: a part that comes late is asked as often as its file says, and no more; the
// result says how often.
func TestRetries(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		times, silent := rapid.IntRange(1, 6).Draw(t, "times"), rapid.IntRange(0, 8).Draw(t, "silent")
		verb := rapid.SampledFrom([]string{"read p.A", "read p.FLAGS"}).Draw(t, "operation")
		h := &late{Headless: withFile(t, registersOnI2C+fmt.Sprintf("retry: {times: %d, after: 1 ms}\nregisters:\n  A: {number: 2, reset: 0x5A}\n  FLAGS: {number: 3, access: clear-on-read}\n", times)), left: silent}
		l := h.Bench.Link("l")
		_, err := h.Headless.Do(context.Background(), l.Index, link.Power{Device: "p"})
		require.NoError(t, err)
		op, err := operation.Parse(verb, l.Parts())
		require.NoError(t, err)
		began := h.Now()
		r, err := operate.On(h, h.Bench, l).Do(context.Background(), verb, op)
		require.NoError(t, err)
		require.Equal(t, min(silent, times)+1, h.asked, "nobody acknowledged the address: asking again does no harm")
		require.GreaterOrEqual(t, h.Now()-began, quantity.Time(min(silent, times))*quantity.Millisecond)
		switch {
		case silent > times:
			require.Equal(t, operate.Fault, r.Verdict)
		case silent > 0:
			require.Equal(t, []string{fmt.Sprintf("p answered at attempt %d of %d", silent+1, times+1)}, r.Says)
		default:
			require.Equal(t, operate.OK, r.Verdict)
		}
	})
}

// TestAreas: what an area holds is told from its bytes alone: random ones, erased ones, and
// those that begin as they should.
func TestAreas(t *testing.T) {
	h := withFile(t, "device: p\nkind: i2c\nend: {address: 0x50, most: 400 kbit/s}\nmemory: {size: 256, page: 16, write: 1 ms, areas: {set: {at: 0x10, length: 4, mark: A5 5A, default: A5 5A 01}, free: {at: 0x20, length: 4}}}\naccess:\n  read: {out: reg.8 | restart | _, in: _ | restart | value.8 ...}\n  write: {out: reg.8 | value.8 ...}\n")
	assert.Contains(t, says(do(t, h, "l", "read p.set")), "set was never written")
	assert.Contains(t, says(do(t, h, "l", "write p.set default", "read p.set")), "set was written and is valid: it begins with A5 5A")
	r := do(t, h, "l", "read p 0x10 count 32")
	assert.Contains(t, says(r), "set was written")
	assert.Contains(t, says(r), "free was never written")
	assert.NotContains(t, says(do(t, h, "l", "read p 0x11 count 3")), "set", "a part of it says nothing of it")
	rng := rand.New(rand.NewPCG(1, 1))
	for range 60 {
		held := []byte{0xA5, 0x5A, 0xFF, 0xFF}
		for i := range held {
			if rng.IntN(3) == 0 {
				held[i] = byte(rng.Uint32())
			}
		}
		want := "set is damaged"
		if strings.HasPrefix(string(held), "\xA5\x5A") {
			want = "set was written"
		}
		assert.Contains(t, says(do(t, h, "l", fmt.Sprintf("write p.set % X", held), "read p.set")), want, "% X", held)
	}
	for text, want := range map[string]string{
		"write p.free default":           "its file states no default",
		"write p.set 1 2":                "write bytes in hex",
		"write p.set 01 02 03 04 05":     "set has 4",
		"read p.set count 3":             "leave count out",
		"read p.sett":                    "or an area: set, free",
		"fill p.set count 2 00":          "leave count out",
		"save p.set":                     "name the bytes and the file",
		"write p.set default and more 1": "write bytes in hex",
	} {
		_, err := operation.Parse(text, h.Bench.Link("l").Parts())
		assert.ErrorContains(t, err, want, text)
	}
}
