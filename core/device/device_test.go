package device

import (
	"math"
	"math/rand/v2"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/record"
)

const gauge = `device: test-gauge
kind: uart
end: {rate: 9600, frame: 7E1, tolerance: 1 %}
behaviour:
  values: {level: 2 + t / 10, slope: 0.5}
  limit: 6
  stream: {every: 80 ms, lines: 1 to 3, text: "L{level .2}"}
  answers:
    - {to: ASK, after: 2 ms, text: "{slope .1} m"}
  otherwise: "WHAT"
`

func load(t *testing.T, text string) *Device {
	d, faults := Load(fstest.MapFS{"g.yaml": {Data: []byte(text)}}, "g.yaml")
	require.Empty(t, faults)
	return d
}

func hear(r *Running, at quantity.Time, text string, bad int) {
	for i := range len(text) {
		c := uart.Char{Value: uint16(text[i]), End: at}
		if i == bad {
			c.Flags = record.Parity
		}
		r.Receive(c)
	}
}

func TestAnswers(t *testing.T) {
	d := load(t, gauge)
	assert.Equal(t, quantity.PPM(10000), d.End.(uart.End).Tolerance)
	r, _ := d.Start(quantity.Second, rand.New(rand.NewPCG(1, 1)), nil)
	r.next = quantity.Forever // quiet
	hear(r, 3*quantity.Second, "ASK\n", -1)
	assert.Equal(t, 3*quantity.Second+2*quantity.Millisecond, r.Wake())
	assert.Empty(t, r.Step(3*quantity.Second))
	assert.Equal(t, "0.5 m\n", string(r.Step(r.Wake())))
	assert.Equal(t, quantity.Forever, r.Wake())
	// One bad character spoils the command, up to its end.
	hear(r, 4*quantity.Second, "ASK\n", 1)
	assert.Equal(t, quantity.Forever, r.Wake())
	hear(r, 4*quantity.Second, "NOPE\n", -1)
	assert.Equal(t, "WHAT\n", string(r.Step(r.Wake())))
	// A command that is too long spoils itself, and the next one works.
	hear(r, 5*quantity.Second, "AAAAAAAAAAAASK\n", -1)
	assert.Equal(t, quantity.Forever, r.Wake())
	hear(r, 6*quantity.Second, "ASK\n", -1)
	assert.NotEqual(t, quantity.Forever, r.Wake())
}

func TestStream(t *testing.T) {
	r, _ := load(t, gauge).Start(0, rand.New(rand.NewPCG(3, 4)), nil)
	counts := map[int]int{}
	last := quantity.Time(0)
	for i := range 200 {
		at := r.Wake()
		if i > 0 {
			require.Equal(t, 80*quantity.Millisecond, at-last)
		}
		last = at
		n := 0
		for _, b := range r.Step(at) {
			if b == '\n' {
				n++
			}
		}
		counts[n]++
	}
	assert.Len(t, counts, 3)
	for n := 1; n <= 3; n++ {
		assert.Greater(t, counts[n], 30)
	}
	assert.InDelta(t, 3.0, r.dev.Value("level", 10*quantity.Second), 1e-12)
	assert.True(t, math.IsNaN(r.dev.Value("none", 0)))
}

func TestBadDeviceFiles(t *testing.T) {
	for text, want := range map[string]string{
		"device: a\nkind: uart\n":                                "key-missing",
		"device: a\nkind: uart\nend: {rate: 9600, frame: 9X1}\n": "bad-value",
		gauge + "extra: 1\n":                                     "unknown-key",
		gauge[:len(gauge)-len("otherwise: \"WHAT\"\n")] + "otherwise: \"{levle}\"\n":                              "did you mean {level}?",
		gauge[:len(gauge)-len("otherwise: \"WHAT\"\n")] + "otherwise: \"{a\"\n":                                   "brace stands alone",
		"device: a\nkind: uart\nend: {rate: 9600}\nbehaviour:\n  values: {x: 1 +}\n":                              "column 3",
		"device: a\nkind: uart\nend: {rate: 9600}\nbehaviour:\n  values: {x: os.exit()}\n":                        "only numbers",
		"device: a\nkind: uart\nend: {rate: 9600}\nbehaviour:\n  stream: {every: 0 ms, text: a}\n":                "stream-too-fast",
		"device: a\nkind: uart\nend: {rate: 9600}\nbehaviour:\n  stream: {every: 5 ms, lines: 3 to 1, text: a}\n": "no number or range",
	} {
		_, faults := Load(fstest.MapFS{"g.yaml": {Data: []byte(text)}}, "g.yaml")
		require.NotEmpty(t, faults, text)
		assert.Contains(t, faults[0].String(), want)
		assert.Positive(t, faults[0].Where.Line)
	}
	_, faults := Load(fstest.MapFS{}, "none.yaml")
	assert.Contains(t, faults[0].String(), "can't be read")
}
