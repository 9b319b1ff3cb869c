package picture

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/bus/can"
	"gavrix.org/gavrix/core/bus/i2c"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/intent"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
)

func plan(t *testing.T, kind, text string) *intent.Plan {
	set := map[string]bus.Settings{
		"uart": uart.Settings{Rate: 9600 * quantity.Baud, Frame: uart.Frame{Data: 8, Stop: 1}}, "spi": spi.Mode(0), "i2c": i2c.Settings{}, "can": can.UsualTiming(250*quantity.Kilobaud, 0),
	}[kind]
	p, err := intent.New(all.ByName(kind), []bus.Settings{set}, text, quantity.Microsecond)
	require.NoError(t, err)
	return p
}

func laneOf(s *scene.Scene, detail string) *scene.Lane {
	for i := range s.Lanes {
		if s.Lanes[i].Detail == detail {
			return &s.Lanes[i]
		}
	}
	return nil
}

// A plan's picture has the bits as planned, marks what is open, and leaves out
// lines of which nothing is planned.
func TestPlanPicture(t *testing.T) {
	s := Plan(plan(t, "i2c", "start 3A ack .. nack stop"), 400)
	l := laneOf(s, "data planned")
	require.NotNil(t, l)
	text := ""
	for _, c := range l.Cells {
		text += c.Label
	}
	assert.Equal(t, "001110100"+"········1", text)
	assert.Contains(t, s.Title, "start 3A ack .. nack stop")

	s = Plan(plan(t, "spi", "out 6B"), 400)
	assert.Nil(t, laneOf(s, "in"), "whatever the device answers is not drawn as a level")
	samples := laneOf(s, "clock samples")
	require.NotNil(t, samples)
	assert.Len(t, samples.Marks, 8)
	assert.Equal(t, "out 6B", s.Lanes[1].Cells[0].Label)

	s = Plan(plan(t, "uart", `mcu "Z"`), 400)
	bits := laneOf(s, "mcu bits")
	require.NotNil(t, bits)
	assert.Equal(t, "start", bits.Cells[0].Label)
	text = ""
	for _, c := range laneOf(s, "mcu planned").Cells {
		text += c.Label
	}
	assert.Equal(t, "0"+"01011010"+"1", text, "5A, least significant bit first")

	s = Plan(plan(t, "can", "2A0 01"), 600)
	assert.NotNil(t, laneOf(s, "line planned"))
	assert.Empty(t, differing(s), "a plan agrees with itself")
}

func differing(s *scene.Scene) (out []string) {
	for i := range s.Lanes {
		for _, c := range s.Lanes[i].Cells {
			if c.Tone == scene.Differ {
				out = append(out, s.Lanes[i].CellFact(c))
			}
		}
	}
	return out
}

// A record that parts from the plan in one bit shows that bit, and from afar that
// one bit is not as planned.
func TestPlanDiffersAtTheBit(t *testing.T) {
	want, is := plan(t, "spi", "out 11 5A 22"), plan(t, "spi", "out 11 4A 22")
	for _, columns := range []int{600, 30} {
		// The levels are those of the other plan.
		w := *want
		w.Record, w.Lines = is.Record, is.Lines
		s := Plan(&w, columns)
		ds := differing(s)
		require.Len(t, ds, 1, "%d columns", columns)
		if columns == 600 {
			assert.Contains(t, ds[0], "out planned: 1 from")
		} else {
			assert.Contains(t, ds[0], "1 not as planned")
		}
		assert.False(t, bytes.Contains([]byte(strings.Join(s.Facts(), "\n")), []byte("in planned")))
	}
}
