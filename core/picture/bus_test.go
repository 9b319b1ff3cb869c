package picture

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gavrix.org/gavrix/core/bench"
	"gavrix.org/gavrix/core/bus/spi"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
	"gavrix.org/gavrix/core/scene"
	"gavrix.org/gavrix/core/startup"
	"gavrix.org/gavrix/demo"
)

func lock7(t require.TestingT) *bench.Bench {
	b, faults := bench.Load(demo.Files, demo.Bench)
	require.Empty(t, faults)
	return b
}

func change(t require.TestingT, b *bench.Bench, value string, path ...string) {
	require.NoError(t, b.Apply(finding.Edit{Path: path, Value: value}))
}

func lanes(s *scene.Scene, name, detail string) *scene.Lane {
	for i := range s.Lanes {
		if s.Lanes[i].Name == name && s.Lanes[i].Detail == detail {
			return &s.Lanes[i]
		}
	}
	return nil
}

// In the picture of spi a read is good just where the margin reckons it so, for
// every mode of both ends that agree, and bad for every pair that disagrees about
// the edge.
func TestSPIPictureAgreesWithTheMargins(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		u := spi.Unit{Clock: 40 * quantity.Megahertz, Dividers: []int{2, 4, 8, 16, 32, 64}, SetUp: quantity.Time(rapid.IntRange(1, 20).Draw(rt, "set-up")) * quantity.Nanosecond}
		mode := rapid.IntRange(0, 3).Draw(rt, "mode")
		d := &bench.SPIDevice{Name: "d", MCU: spi.Mode(mode), End: spi.End{Settings: spi.Mode(mode), Part: spi.Part{Name: "d", Most: quantity.Gigahertz, Valid: quantity.Time(rapid.IntRange(1, 200).Draw(rt, "valid")) * quantity.Nanosecond, SetUp: quantity.Time(rapid.IntRange(1, 60).Draw(rt, "wants")) * quantity.Nanosecond}}}
		ms, err := u.Margins(d.End.Part)
		require.NoError(rt, err)
		d.Margin = rapid.SampledFrom(ms).Draw(rt, "margin")
		d.Lead = quantity.Time(1e12/d.Margin.Rate.Hz()) / 2
		s := SPITiming(&bench.Link{Name: "gate"}, d, u)
		good := func(l *scene.Lane) bool {
			ok := true
			// The last of the bits that are drawn stands until the picture ends.
			for _, m := range l.Marks[1:] {
				ok = ok && m.Tone == scene.Plain
			}
			return ok
		}
		require.Equal(rt, d.Margin.Read >= 0, good(lanes(s, "MCU", "reads")), "read margin %s", d.Margin.Read)
		require.Equal(rt, d.Margin.Write >= 0, good(lanes(s, "d", "reads")), "write margin %s", d.Margin.Write)

		// Every mark lies on an edge of the clock.
		clock := s.Lanes[1].Levels.Toggles
		for _, m := range lanes(s, "MCU", "reads").Marks {
			require.Contains(rt, clock, m.At)
		}
		other := rapid.IntRange(0, 3).Draw(rt, "other")
		d.End.Settings = spi.Mode(other)
		s = SPITiming(&bench.Link{Name: "gate"}, d, u)
		if spi.Mode(other).SampleSecond != spi.Mode(other).ClockIdleHigh != (spi.Mode(mode).SampleSecond != spi.Mode(mode).ClockIdleHigh) {
			require.False(rt, good(lanes(s, "d", "reads")), "modes %d and %d sample at different edges", mode, other)
		}
	})
}

// The picture of a period adds up to the period, and marks what the class forbids.
func TestI2CPictureAddsUp(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(rt)
		change(rt, b, fmt.Sprintf("%d Ω", rapid.IntRange(500, 6000).Draw(rt, "pull-up")), "links", "hull", "pull-up")
		i := bench.ModelOf[*bench.I2C](b, "hull")
		s := I2CTiming("hull", i)
		is := lanes(s, "is", "")
		require.Len(rt, is.Cells, 5)
		period := is.Cells[4].To - is.Cells[0].To
		require.InDelta(rt, float64(i.Timing.Time), float64(period), 2)
		for k, c := range is.Cells[1:] {
			require.Equal(rt, is.Cells[k].To, c.From)
		}
		require.Equal(rt, i.Rise > i.Class.Rise, is.Cells[2].Tone == scene.Differ)
	})
}

// A bit's segments fill it, and the sample mark lies where the sample point says.
func TestCANPictureIsToScale(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b := lock7(rt)
		name := rapid.SampledFrom([]string{"pump", "winch"}).Draw(rt, "bus")
		change(rt, b, fmt.Sprintf("%d %%", rapid.IntRange(55, 90).Draw(rt, "sample")), "links", name, "mcu", "sample")
		c := bench.ModelOf[*bench.CAN](b, name)
		data := name == "winch" && rapid.Bool().Draw(rt, "data")
		s := CANTiming(name, c, data)
		for n, e := range c.Nodes {
			timing := &e.Nominal
			if data {
				timing = e.Data
			}
			segments, samples := s.Lanes[2*n], s.Lanes[2*n+1]
			bit := quantity.PeriodOf(timing.Rate).Times(1)
			require.Zero(rt, segments.Cells[0].From)
			require.InDelta(rt, float64(bit), float64(segments.Cells[len(segments.Cells)-1].To), 1e-3*float64(bit))
			require.InDelta(rt, timing.Sample*float64(bit), float64(samples.Marks[0].At), 1e-3*float64(bit))
			for k := 1; k < len(segments.Cells); k++ {
				require.Equal(rt, segments.Cells[k-1].To, segments.Cells[k].From)
			}
		}
		// The wedge is as wide as ten bits of both clocks' errors.
		drift := s.Lanes[2*len(c.Nodes)].Cells[0]
		own := &c.Nodes[0].Nominal
		if data {
			own = c.Nodes[0].Data
		}
		want := 10 * c.Pairs[0].Sum * float64(quantity.PeriodOf(own.Rate).Times(1))
		require.InDelta(rt, want, float64(drift.To), math.Max(1, 0.01*want))
	})
	assert.Nil(t, Timing(lock7(t).Link("pump"), Look{Data: true}), "no data phase")
	assert.NotNil(t, Timing(lock7(t).Link("gate"), Look{Device: 2}))
}

// The chain is shown in the order in which it is done, what is missing where it
// belongs, and what reset does at the end; all registers are taken apart.
func TestPicturesOfStartupAndRegisters(t *testing.T) {
	b := lock7(t)
	change(t, b, "clock, rate, frame, receive-pin, enable, interrupt-line, transmit-enable, receive-enable, receive-interrupt", "links", "upper-gauge", "mcu", "startup")
	l := b.Links[0]
	c, err := l.Chain()
	require.NoError(t, err)
	steps := l.Steps(c)
	vs := Chain(c.Judge(steps), steps)
	var order []string
	for _, v := range vs {
		order = append(order, v.Name)
	}
	assert.Equal(t, "clock port-clock transmit-pin rate frame receive-pin dma-clock dma-channel enable transmit-enable receive-enable dma-request clear", strings.Join(order, " "))
	s := Startup(l, vs, "a test")
	require.Len(t, s.Hops, len(vs))
	facts := strings.Join(s.Facts(), "\n")
	assert.Contains(t, facts, "clock of the pins' port: CLKON PORTB on: missing: the pins stay inputs")
	assert.Contains(t, facts, "receive pin: PBFUN PIN4 serial: waits for clock of the pins' port (depends)")
	for st := startup.Done; st <= startup.NotSeen; st++ {
		assert.NotEmpty(t, Glyph(st))
	}
	words, err := b.Words()
	require.NoError(t, err)
	text := strings.Join(Registers("all", words).Facts(), "\n")
	for _, w := range words {
		assert.Contains(t, text, w.Hex(w.Value))
		for _, c := range w.Choices {
			assert.Contains(t, text, c.Field.Name)
		}
	}
}
